"""A ringing print: walls with sharp steps at a known speed; their ripples tell the frequency where
there is no sensor.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from omphalon.prints.advance import Label, prime
from omphalon.prints.job import Job
from omphalon.prints.strokes import Stroke, even


@dataclass(frozen=True)
class Ringing:
    """A hollow square of one wall with a sharp step outwards in each side, `step_mm` deep a third
    along.

    The step in a side along X shakes Y, and ripples stand in that side after it: read Y there, and
    X on the sides along Y. The seam lies at the rear left corner; a bar on the plate shows the
    front.
    """

    side_mm: float = 80.0
    height_mm: float = 12.0
    step_mm: float = 1.6

    def strokes(self, job: Job) -> Iterator[Stroke]:
        x, y = job.middle
        h, s = self.side_mm / 2, self.step_mm
        third = self.side_mm / 6
        yield prime(job, x - h - 8, y - h, self.side_mm)
        for loop in range(3, 0, -1):
            r = h + s + loop * job.width_mm
            yield even(
                job.first_mm_s,
                ((x - r, y + r), (x - r, y - r), (x + r, y - r), (x + r, y + r), (x - r, y + r)),
                job.layer_mm,
                None,
                "ring around the print",
            )
        yield even(
            job.first_mm_s,
            ((x - 5, y - h - s - 5), (x + 5, y - h - s - 5)),
            job.layer_mm,
            None,
            "bar: this is the front",
        )
        places = (
            (x - h, y + h),
            (x - h, y + third),
            (x - h - s, y + third),
            (x - h - s, y - h),
            (x - third, y - h),
            (x - third, y - h - s),
            (x + h, y - h - s),
            (x + h, y - third),
            (x + h + s, y - third),
            (x + h + s, y + h),
            (x + third, y + h),
            (x + third, y + h + s),
            (x - h, y + h + s),
            (x - h, y + h),
        )
        for layer in range(1, max(round(self.height_mm / job.layer_mm), 2) + 1):
            yield even(
                job.first_mm_s if layer == 1 else job.fast_mm_s,
                places,
                layer * job.layer_mm,
                None,
                "walls" if layer == 1 else "",
            )

    def labels(self, job: Job) -> tuple[Label, ...]:
        x, y = job.middle
        return (
            Label(x, y - self.side_mm / 2 + 3, "ripples after the step tell Y"),
            Label(x - self.side_mm / 2 + 3, y, "ripples after the step tell X", True),
        )
