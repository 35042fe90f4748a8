"""Dry runs, level by level faster, back to a reference after each: one axis there and back, two
axes through right-angled corners, or the extruder with its filament in and out.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from omphalon.prints.job import feed

WARM_LIFT_MM = 40.0  # above the plate, so that what oozes falls free


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
