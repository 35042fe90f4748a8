"""Moves that shake an axis through a range of frequencies, for printers that have no sweep of their
own.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

from omphalon.errors import UsageError
from omphalon.prints.job import Bed, feed

MOST_MOVES_S = 400.0
LEAST_STROKE_MM = 0.005
HEADROOM = 1.5  # over a stroke's top speed, so that the speed asked for never caps it


@dataclass(frozen=True)
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
