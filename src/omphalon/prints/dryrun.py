"""Moves without plastic. Dry runs, level by level faster, back to a reference after each: one axis
there and back, two axes through right-angled corners, or the extruder with its filament in and out.
And moves that shake an axis through a range of frequencies, for printers that have no sweep of
their own.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

from omphalon.base.errors import UsageError
from omphalon.prints.job import Bed, feed

WARM_LIFT_MM = 40.0  # above the plate, so that what oozes falls free
MOST_MOVES_S = 400.0
LEAST_STROKE_MM = 0.005
HEADROOM = 1.5  # over a stroke's top speed, so that the speed asked for never caps it


@dataclass(frozen=True, kw_only=True)
class DryRun:
    """One axis over its allowed travel; `levels` are speeds in mm/s, or accelerations in mm/s²
    where set_lines are given.

    `set_lines` has each level's line that sets the acceleration; `first_lines` and `last_lines`
    lift limits and put back what was in force. `strokes` go there and back at each level, and as
    many along both diagonals where `diagonal_mm` is given, the other axis's travel.
    """

    axis: str
    low_mm: float
    high_mm: float
    levels: tuple[float, ...]
    set_lines: tuple[str, ...] = ()
    first_lines: tuple[str, ...] = ()
    last_lines: tuple[str, ...] = ()
    run_speed_mm_s: float = 100.0
    slow_mm_s: float = 20.0
    strokes: int = 5
    rest_s: float = 3.0
    lift_mm: float = 10.0
    diagonal_mm: tuple[float, float] | None = None

    @property
    def other(self) -> str:
        """The axis across."""
        return "Y" if self.axis == "x" else "X"

    @property
    def reference_mm_s(self) -> float:
        """Speed of the return to the reference: slow, and slower than the slowest level of
        speed.
        """
        return self.slow_mm_s if self.set_lines else min(self.slow_mm_s, 0.5 * self.levels[0])

    @property
    def unit(self) -> str:
        """Of the levels."""
        return "mm/s2" if self.set_lines else "mm/s"

    @property
    def name(self) -> str:
        """What runs, for the file's comments."""
        return f"axis {self.axis.upper()}"

    def head(self) -> tuple[str, ...]:
        """What the file says of how it runs, and how a failed level shows."""
        return (
            f"travel {self.low_mm:g} to {self.high_mm:g} mm; nothing is heated, nothing is fed",
            f"after each level the axis comes back slowly to the reference at {self.low_mm:g} mm "
            f"and rests {self.rest_s:g} s:",
            "look whether it stands where it stood before; a level at which it does not has failed",
        )

    def opening(self) -> Iterator[str]:
        """Zero, limits lifted, nozzle out of the way."""
        yield from ("G21", "G90", "G28")
        yield from self.first_lines
        if self.axis != "z":
            yield f"G1 Z{self.lift_mm:.3f} F300"
        if self.diagonal_mm is not None:
            yield f"G1 {self.other}{self.diagonal_mm[0]:.3f} {feed(self.slow_mm_s)}"

    def stroke(self, speed_mm_s: float) -> Iterator[str]:
        """There and back."""
        axis, speed = self.axis.upper(), feed(speed_mm_s)
        yield f"G1 {axis}{self.high_mm:.3f} {speed}"
        yield f"G1 {axis}{self.low_mm:.3f} {speed}"
        if self.diagonal_mm is None:
            return
        start, end = self.diagonal_mm
        span = min(self.high_mm - self.low_mm, end - start)
        near, far = f"{axis}{self.low_mm:.3f}", f"{axis}{self.low_mm + span:.3f}"
        left, right = (f"{self.other}{place:.3f}" for place in (start, start + span))
        one_diagonal = (f"{far} {right}", f"{near} {left}")
        other_diagonal = (f"{far} {left}", f"{near} {right}", f"{far} {left}", f"{near} {left}")
        for place in (*one_diagonal, *other_diagonal):
            yield f"G1 {place} {speed}"

    def reference(self) -> Iterator[str]:
        """Slowly back to the mark, from the same side each time."""
        axis, speed = self.axis.upper(), feed(self.reference_mm_s)
        yield f"G1 {axis}{self.low_mm + 1:.3f} {speed}"
        yield f"G1 {axis}{self.low_mm:.3f} {speed}"

    def closing(self) -> Iterator[str]:
        """What was in force, put back."""
        yield from self.last_lines


@dataclass(frozen=True, kw_only=True)
class CornerRun(DryRun):
    """X and Y through right-angled corners, each leg `leg_mm` long, at the level's speed: a
    staircase up and another one down, so that every corner turns by 90°. `across_mm` is the other
    axis's travel.
    """

    across_mm: tuple[float, float]
    leg_mm: float = 10.0
    strokes: int = 3

    @property
    def stairs(self) -> int:
        """Steps of the staircase, two corners each, up and down."""
        low, high = self.across_mm
        return int(min(self.high_mm - self.low_mm, high - low) / self.leg_mm)

    @property
    def corners(self) -> int:
        """Of one level."""
        return 4 * self.stairs * self.strokes

    @property
    def name(self) -> str:
        return "right-angled corners of X and Y"

    def head(self) -> tuple[str, ...]:
        low, high = self.across_mm
        return (
            f"{self.axis.upper()} {self.low_mm:g} to {self.high_mm:g} mm, {self.other} {low:g} to "
            f"{high:g} mm; nothing is heated, nothing is fed",
            f"each level runs {self.corners} corners without slowing down, then "
            f"comes back slowly and rests {self.rest_s:g} s:",
            "look whether both axes stand where they stood before; a level at which one does not "
            "has failed",
        )

    def _place(self, along: float, across: float) -> str:
        return (
            f"{self.axis.upper()}{self.low_mm + along:.3f} "
            f"{self.other}{self.across_mm[0] + across:.3f}"
        )

    def opening(self) -> Iterator[str]:
        yield from super().opening()
        yield f"G1 {self._place(0, 0)} {feed(self.run_speed_mm_s)}"

    def stroke(self, speed_mm_s: float) -> Iterator[str]:
        """Up the stairs and down again."""
        speed, leg = feed(speed_mm_s), self.leg_mm
        for n in range(self.stairs):
            yield f"G1 {self._place((n + 1) * leg, n * leg)} {speed}"
            yield f"G1 {self._place((n + 1) * leg, (n + 1) * leg)} {speed}"
        for n in range(self.stairs, 0, -1):
            yield f"G1 {self._place((n - 1) * leg, n * leg)} {speed}"
            yield f"G1 {self._place((n - 1) * leg, (n - 1) * leg)} {speed}"

    def reference(self) -> Iterator[str]:
        speed = feed(self.reference_mm_s)
        yield f"G1 {self._place(1, 1)} {speed}"
        yield f"G1 {self._place(0, 0)} {speed}"


@dataclass(frozen=True, kw_only=True)
class DryPrint(DryRun):
    """The way of a print, at one height and without plastic: its places (mm), each reached at a
    share of the level's speed. `axis` is x; `across_mm` is the travel that it takes of Y.
    """

    across_mm: tuple[float, float]
    places: tuple[tuple[float, float], ...]
    shares: tuple[float, ...]
    strokes: int = 1

    @property
    def name(self) -> str:
        return "a print's way"

    def head(self) -> tuple[str, ...]:
        low, high = self.across_mm
        return (
            f"X {self.low_mm:.0f} to {self.high_mm:.0f} mm, Y {low:.0f} to {high:.0f} mm; nothing "
            "is heated, nothing is fed",
            f"each level runs {len(self.places)} moves of the print, then comes back slowly and "
            f"rests {self.rest_s:g} s:",
            "look whether both axes stand where they stood before; a level at which one does not "
            "has failed",
        )

    def stroke(self, speed_mm_s: float) -> Iterator[str]:
        for (x, y), share in zip(self.places, self.shares, strict=True):
            yield f"G1 X{x:.3f} Y{y:.3f} {feed(share * speed_mm_s)}"

    def reference(self) -> Iterator[str]:
        speed = feed(self.reference_mm_s)
        for off in (1.0, 0.0):
            yield f"G1 X{self.low_mm + off:.3f} Y{self.across_mm[0] + off:.3f} {speed}"


@dataclass(frozen=True, kw_only=True)
class FeedRun(DryRun):
    """The extruder, hot: filament drawn back by `high_mm` and given back, `strokes` times a
    level.
    """

    temp_c: float
    axis: str = "e"
    low_mm: float = 0.0
    strokes: int = 20
    slow_mm_s: float = 3.0

    @property
    def name(self) -> str:
        return "the extruder"

    def head(self) -> tuple[str, ...]:
        return (
            f"hot, {self.temp_c:g} C: filament is drawn back by {self.high_mm:g} mm and given "
            f"back, {self.strokes} times a level",
            f"after each level it rests {self.rest_s:g} s: look whether the mark on the filament "
            "stands where it stood before,",
            "at the extruder's inlet; a level at which it does not, or that clicked, has failed",
        )

    def opening(self) -> Iterator[str]:
        yield from ("G21", "G90", "M83", "G28", f"G1 Z{WARM_LIFT_MM:.3f} F600")
        yield f"M109 S{self.temp_c:.0f}"
        yield from self.first_lines

    def stroke(self, speed_mm_s: float) -> Iterator[str]:
        speed = feed(speed_mm_s)
        yield f"G1 E{-self.high_mm:.4f} {speed}"
        yield f"G1 E{self.high_mm:.4f} {speed}"

    def reference(self) -> Iterator[str]:
        """As for a level, once and slowly: the drive's teeth come to lie as they lay."""
        yield from self.stroke(self.reference_mm_s)

    def closing(self) -> Iterator[str]:
        yield from super().closing()
        yield "M104 S0"


def dry_run_lines(run: DryRun, printer: str) -> Iterator[str]:
    """The G-code, with a header that says what it is and how to read it."""
    first, *more = run.head()
    yield (
        f"; dry run of {run.name}: {run.levels[0]:g} to {run.levels[-1]:g} {run.unit}, "
        f"{len(run.levels)} levels"
    )
    yield f"; for {printer}: {first}"
    yield from (f"; {line}" for line in more)
    yield from run.opening()
    yield from _back(run)
    for number, level in enumerate(run.levels, 1):
        yield f"; level {number} of {len(run.levels)}: {level:g} {run.unit}"
        yield f"M117 {number}/{len(run.levels)} {level:g}"
        if run.set_lines:
            yield run.set_lines[number - 1]
        for _ in range(run.strokes):
            yield from run.stroke(run.run_speed_mm_s if run.set_lines else level)
        yield from _back(run)
    yield from run.closing()
    yield "M117 done"
    yield "M84"


def _back(run: DryRun) -> Iterator[str]:
    """At the reference, and a rest to look."""
    yield "M400"
    yield from run.reference()
    yield f"G4 S{run.rest_s:.0f}"


@dataclass(frozen=True, kw_only=True)
class Shake:
    """A sweep of one axis, `low_hz` to `high_hz` at `rate_hz_s`, about (x, y) mm at a height, by
    strokes there and back.

    A stroke of a/(16 f²) from rest to rest at the acceleration a takes half a period: the drive is
    a square wave of ±a, whose first harmonic is 4a/π at every frequency.
    """

    axis: str
    low_hz: float
    high_hz: float
    rate_hz_s: float
    acceleration_mm_s2: float
    at: tuple[float, float]
    microstep_mm: float = 0.0125
    z_mm: float = 20.0
    pause_s: float = 2.0

    def stroke_mm(self, frequency_hz: float) -> float:
        return self.acceleration_mm_s2 / (16 * frequency_hz**2)

    @property
    def duration_s(self) -> float:
        return (self.high_hz - self.low_hz) / self.rate_hz_s

    @property
    def true_to_hz(self) -> float:
        """The frequency up to which a stroke is a microstep or more: above, the motor shakes less
        than is asked.
        """
        return math.sqrt(self.acceleration_mm_s2 / (16 * self.microstep_mm))

    @property
    def corner_speed_mm_s(self) -> float:
        """The speed a controller may keep through a turn about: below half the top speed of the
        shortest stroke.
        """
        return self.acceleration_mm_s2 / (8 * self.high_hz)

    def check(self, bed: Bed) -> None:
        """Refuse a sweep that leaves the bed, asks for too many moves a second, or for strokes
        below a motor's step.
        """
        if not 0 < self.low_hz < self.high_hz:
            raise UsageError(
                f"--sweep {self.low_hz:g}:{self.high_hz:g}: upside down",
                "give FROM:TO in Hz, for example 8:120",
            )
        if self.low_hz < 2 or 2 * self.high_hz > MOST_MOVES_S:
            raise UsageError(
                f"--sweep {self.low_hz:g}:{self.high_hz:g}: not what moves can do",
                "stay between 2 and 200 Hz",
            )
        if self.stroke_mm(self.high_hz) < LEAST_STROKE_MM:
            raise UsageError(
                f"--acceleration {self.acceleration_mm_s2:g}: strokes of "
                f"{self.stroke_mm(self.high_hz):.4f} mm at "
                f"{self.high_hz:g} Hz are less than a motor's step",
                "give more acceleration, or end the sweep lower",
            )
        reach = self.stroke_mm(self.low_hz) / 2
        for side in (-reach, reach):
            x, y = (
                self.at[0] + (side if self.axis == "x" else 0),
                self.at[1] + (side if self.axis == "y" else 0),
            )
            if not bed.holds(x, y):
                raise UsageError(
                    f"strokes of {2 * reach:.1f} mm about x {self.at[0]:g}, y {self.at[1]:g} leave "
                    f"the margin of a {bed.words}",
                    "start the sweep higher, with less acceleration, or elsewhere (--at)",
                )


def shake_lines(shake: Shake, bed: Bed, acceleration_line: str | None) -> Iterator[str]:
    """The G-code: nothing heated, nothing fed."""
    name = shake.axis.upper()
    yield (
        f"; sweep of axis {name}: {shake.low_hz:g} to {shake.high_hz:g} Hz at "
        f"{shake.rate_hz_s:g} Hz/s, {shake.duration_s:.0f} s"
    )
    yield f"; for a {bed.words}; nothing is heated, nothing is fed"
    yield f"; strokes from rest to rest at {shake.acceleration_mm_s2:g} mm/s2" + (
        ""
        if acceleration_line
        else ": set this acceleration on the printer first, no line here does"
    )
    yield "; start the sensor's log before, stop it after; shapers off"
    yield from (
        "G21",
        "G90",
        "G28",
        f"G1 Z{min(shake.z_mm, bed.height_mm):.3f} F600",
        f"G0 X{shake.at[0]:.3f} Y{shake.at[1]:.3f} F3000",
    )
    if acceleration_line is not None:
        yield acceleration_line
    yield "M400"
    yield f"G4 S{shake.pause_s:.0f}"
    time, side = 0.0, 1
    middle = shake.at[0] if shake.axis == "x" else shake.at[1]
    while time < shake.duration_s:
        frequency = shake.low_hz + shake.rate_hz_s * time
        stroke = shake.stroke_mm(frequency)
        top = shake.acceleration_mm_s2 / (4 * frequency)
        yield f"G1 {name}{middle + side * stroke / 2:.5f} {feed(HEADROOM * top)}"
        side, time = -side, time + 0.5 / frequency
    yield f"G1 {name}{middle:.3f} F3000"
    yield "M400"
    yield f"G4 S{shake.pause_s:.0f}"
    yield "M84"
