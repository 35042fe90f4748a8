"""Prints to be measured with a caliper: a hollow cube with walls of one line, and a flat gauge of
nested frames with outside and inside lengths. All as strokes.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from omphalon.prints.advance import Label, number, prime
from omphalon.prints.job import Job
from omphalon.prints.strokes import Stroke, even, layers, square, width_of

BRIM_LOOPS = 5
BAND_MM = 4.0  # of a gauge's frame: stiff, and wide enough for digits
AWAY_MM = 6.0  # from a print to the line that fills the nozzle


@dataclass(frozen=True)
class Cube:
    """A hollow cube of one wall, `side_mm` outside; no floor, no top. The seam lies at the rear
    left corner; a bar on the plate shows the front. The brim touches the wall: its first layers are
    not to be measured.
    """

    side_mm: float = 30.0

    def strokes(self, job: Job) -> Iterator[Stroke]:
        x, y = job.middle
        half = (self.side_mm - job.width_mm) / 2
        out = half + BRIM_LOOPS * job.width_mm
        yield prime(job, x - out - AWAY_MM, y - half, self.side_mm)
        for loop in range(BRIM_LOOPS, 0, -1):
            around = square(x, y, half + loop * job.width_mm)
            yield even(job.first_mm_s, around, job.layer_mm, None, "brim")
        front = y - out - 3
        yield even(
            job.first_mm_s,
            ((x - 5, front), (x + 5, front)),
            job.layer_mm,
            None,
            "bar: this is the front",
        )
        for layer in range(1, layers(self.side_mm, job) + 1):
            yield even(
                job.first_mm_s if layer == 1 else job.fast_mm_s,
                square(x, y, half),
                layer * job.layer_mm,
                None,
                "wall" if layer == 1 else "",
            )

    def labels(self, job: Job) -> tuple[Label, ...]:
        x, y = job.middle
        inside = self.side_mm / 2 - 4
        return (
            Label(x, y - inside, "front"),
            Label(x, y + inside - 2, "back"),
            Label(x - inside, y, "left", True),
            Label(x + inside - 4, y, "right", True),
        )


@dataclass(frozen=True)
class Gauge:
    """Square frames, one in another, `outside_mm` wide each, about BAND_MM thick and `height_mm`
    high: outside and inside lengths in X and in Y. On top of each frame's front side stand its
    outside and its inside length: where they read the right way up, X runs from left to right.
    """

    outside_mm: tuple[float, ...]
    height_mm: float = 3.0
    digit_mm: float = 2.6

    def loops(self, job: Job) -> int:
        """Lines beside each other in a frame."""
        return max(round(BAND_MM / job.width_mm), 2)

    def band_mm(self, job: Job) -> float:
        """A frame's thickness: its lines lie side by side, and it is whole in tenths."""
        return round(self.loops(job) * job.width_mm, 1)

    def inside_mm(self, job: Job) -> tuple[float, ...]:
        """Between the inner faces of each frame."""
        return tuple(round(o - 2 * self.band_mm(job), 1) for o in self.outside_mm)

    def texts(self, job: Job) -> tuple[str, ...]:
        """What stands on each frame: outside, inside."""
        pairs = zip(self.outside_mm, self.inside_mm(job), strict=True)
        return tuple(f"{outside:g} {inside:g}" for outside, inside in pairs)

    def strokes(self, job: Job) -> Iterator[Stroke]:
        x, y = job.middle
        half = max(self.outside_mm) / 2
        yield prime(job, x - half - AWAY_MM, y - half, 2 * half)
        count, band = layers(self.height_mm, job), self.band_mm(job)
        for layer in range(1, count + 1):
            speed = job.first_mm_s if layer == 1 else job.fast_mm_s
            for outside in self.outside_mm:
                for n, reach in enumerate(self._reaches(outside, job)):
                    note = f"frame {outside:g}" if layer == 1 and n == 0 else ""
                    yield even(speed, square(x, y, reach), layer * job.layer_mm, None, note)
        for outside, text in zip(self.outside_mm, self.texts(job), strict=True):
            left = x - width_of(text, self.digit_mm) / 2
            low = y - outside / 2 + (band - self.digit_mm) / 2
            for stroke in number(job, text, left, low, self.digit_mm, None):
                yield replace(stroke, z_mm=(count + 1) * job.layer_mm)

    def _reaches(self, outside_mm: float, job: Job) -> Iterator[float]:
        """Half widths of a frame's loops, from the outer face inwards, evenly: both faces lie where
        they should.
        """
        apart = (self.band_mm(job) - job.width_mm) / (self.loops(job) - 1)
        for n in range(self.loops(job)):
            yield (outside_mm - job.width_mm) / 2 - n * apart

    def labels(self, job: Job) -> tuple[Label, ...]:
        x, y = job.middle
        pairs = zip(self.outside_mm, self.inside_mm(job), strict=True)
        return tuple(
            Label(x, y + outside / 2 - BAND_MM - 4, f"{outside:g} outside, {inside:g} inside")
            for outside, inside in pairs
        )
