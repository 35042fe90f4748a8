"""Test prints for pressure advance: a tower, and a row of corners, as strokes. A ladder of lines is
a card of these alone: prints/card.py.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from omphalon.prints.job import Job
from omphalon.prints.strokes import Stroke, drawn, even, square, width_of

GAP_MM = 3.0
MARK_MM = 0.4
BAND_MM, BAND_MM_S = 3.0, 5.0  # of a tower: see there; slower than it corners


def in_words(values: tuple[float, ...]) -> tuple[str, ...]:
    """Values with as many decimals as all of them need, six at most."""
    for places in range(1, 7):
        if all(abs(round(v, places) - v) < 1e-9 for v in values):
            break
    return tuple(f"{v:.{places}f}" for v in values)


@dataclass(frozen=True)
class Label:
    """A value for the picture, to the right of a place (`beside`) or above it."""

    x_mm: float
    y_mm: float
    text: str
    beside: bool = False


@dataclass(frozen=True, kw_only=True)
class Tower:
    """A hollow square of one wall, `side_mm` wide. The value at height h is start + per_mm · h, a
    layer's that of its middle.

    Each loop starts at the rear left corner: the seam. The front right corner is the clean one,
    shown by a bar on the plate. Every 5 mm two layers bulge out in the middle of the left side,
    every 10 mm in the middle of the rear side too. In two bands the clean corner is passed slowly,
    so that nothing brakes there and any value is right: what a picture's outline is held against.
    """

    start: float
    stop: float
    per_mm: float
    side_mm: float = 36.0
    mark_mm: float = 0.6
    brim_loops: int = 4
    band_leg_mm: float = 32.0

    @property
    def height_mm(self) -> float:
        return (self.stop - self.start) / self.per_mm

    @property
    def bands_mm(self) -> tuple[tuple[float, float], ...]:
        """From and to which height the clean corner is passed slowly."""
        return tuple((low, low + BAND_MM) for low in (BAND_MM, self.height_mm - 1.5 * BAND_MM))

    def plan(self, drive: str, job: Job) -> dict[str, Any]:
        """What a reader of a picture must know."""
        own = {name: getattr(self, name) for name in ("start", "stop", "per_mm", "side_mm")}
        return {
            "print": "tower",
            "drive": drive,
            **own,
            "height_mm": self.layers(job) * job.layer_mm,
            "bands_mm": [list(band) for band in self.bands_mm],
            "width_mm": job.width_mm,
            "layer_mm": job.layer_mm,
        }

    def layers(self, job: Job) -> int:
        return max(math.ceil(self.height_mm / job.layer_mm - 1e-6), 1)

    def strokes(self, job: Job) -> Iterator[Stroke]:
        x, y = job.middle
        half = self.side_mm / 2
        yield prime(job, x - half - self.brim_loops * job.width_mm - GAP_MM, y - half, self.side_mm)
        for loop in range(self.brim_loops, 0, -1):
            r = half + loop * job.width_mm * 0.95
            yield even(job.first_mm_s, square(x, y, r), job.layer_mm, self.start, "brim")
        r = half + (self.brim_loops + 1) * job.width_mm
        yield even(
            job.first_mm_s,
            ((x + r, y - r), (x + r + 4, y - r - 4)),
            job.layer_mm,
            None,
            "bar: the clean corner is here",
        )
        for n in range(self.layers(job)):
            middle = (n + 0.5) * job.layer_mm
            low, high = n * job.layer_mm, (n + 1) * job.layer_mm
            left = tuple(self._side_with_mark(x, y, half, _marked(low, high, 5.0)))
            rear = tuple(self._rear_with_mark(x, y, half, _marked(low, high, 10.0)))
            corner, behind = (x + half, y - half), (x + half, y + half)
            speed = job.first_mm_s if n == 0 else job.fast_mm_s
            if any(a <= middle < b for a, b in self.bands_mm):
                leg = min(self.band_leg_mm, 0.9 * self.side_mm)
                near = (x + half - leg, y - half), (x + half, y - half + leg)
                places = (*left, near[0], corner, near[1], behind, *rear, (x - half, y + half))
                speeds = [speed] * (len(places) - 1)
                at = len(left)
                speeds[at : at + 2] = [min(BAND_MM_S, speed)] * 2
            else:
                places = (*left, corner, behind, *rear, (x - half, y + half))
                speeds = [speed] * (len(places) - 1)
            value = min(self.start + self.per_mm * middle, self.stop)
            note = "tower" if n == 0 else ""
            yield Stroke(places, tuple(speeds), (n + 1) * job.layer_mm, value, note)

    def _side_with_mark(
        self, x: float, y: float, half: float, marked: bool
    ) -> Iterator[tuple[float, float]]:
        """The left side, rear to front, with the mark of each 5 mm."""
        yield x - half, y + half
        if marked:
            yield from (
                (x - half, y + 3),
                (x - half - self.mark_mm, y + 2),
                (x - half - self.mark_mm, y - 2),
                (x - half, y - 3),
            )
        yield x - half, y - half

    def _rear_with_mark(
        self, x: float, y: float, half: float, marked: bool
    ) -> Iterator[tuple[float, float]]:
        """The rear side's mark of each 10 mm, right to left."""
        if marked:
            yield from (
                (x + 3, y + half),
                (x + 2, y + half + self.mark_mm),
                (x - 2, y + half + self.mark_mm),
                (x - 3, y + half),
            )

    def labels(self, job: Job) -> tuple[Label, ...]:
        """Values at the 5 mm marks, for a picture from the side."""
        marks = range(0, int(self.height_mm + 1e-6) + 1, 5)
        return tuple(Label(0.0, float(h), f"{self.start + self.per_mm * h:.4g}") for h in marks)


def _marked(low: float, high: float, every: float) -> bool:
    """Whether a layer from low to high belongs to a mark: it lies at least by half in the MARK_MM
    below a multiple, or ends there.
    """
    goal = max(round(high / every), 1) * every
    inside = min(high, goal + 1e-6) - max(low, goal - MARK_MM)
    return inside > 0.5 * (high - low) or low < goal - 1e-6 <= high


@dataclass(frozen=True)
class Corners:
    """Separate right-angled strokes side by side, one value each, several layers high; the value
    printed below each.

    Each comes up its long leg and turns right into its short one; rows are added where one is not
    enough. Layers go through the values forth and back, so that what pressure a neighbour leaves
    behind evens out.
    """

    values: tuple[float, ...]
    leg_mm: float = 20.0
    foot_mm: float = 9.0
    layers: int = 5
    digit_mm: float = 3.2
    columns: int = 0

    @property
    def words(self) -> tuple[str, ...]:
        return in_words(self.values)

    def pitch_mm(self) -> float:
        return max(self.foot_mm + GAP_MM, max(width_of(w, self.digit_mm) for w in self.words) + 2.0)

    def _spots(self, job: Job) -> Iterator[tuple[float, float]]:
        """Lower end of each stroke; the rows are filled evenly, as many as the bed's width asks
        for.
        """
        pitch, high = self.pitch_mm(), self.leg_mm + self.digit_mm + 2 * GAP_MM
        free = job.bed.x_mm * (0.75 if job.bed.round else 1.0) - 2 * job.bed.margin_mm - 4
        columns = self.columns or max(min(int(free / pitch), len(self.values)), 1)
        rows = -(-len(self.values) // columns)
        columns = -(-len(self.values) // rows)
        x, y = job.middle
        for n in range(len(self.values)):
            row, column = divmod(n, columns)
            yield (
                x - columns * pitch / 2 + column * pitch + 1.0,
                y + (rows / 2 - 1 - row) * high + self.digit_mm + GAP_MM,
            )

    def strokes(self, job: Job) -> Iterator[Stroke]:
        spots = tuple(self._spots(job))
        low_x, low_y = min(s[0] for s in spots), min(s[1] for s in spots)
        yield prime(
            job,
            low_x,
            low_y - self.digit_mm - 3 - GAP_MM,
            max(s[0] for s in spots) + self.foot_mm - low_x,
            upright=False,
        )
        for (x, y), value, word in zip(spots, self.values, self.words, strict=True):
            yield from number(job, word, x, y - self.digit_mm - 1.5, self.digit_mm, value)
        for layer in range(1, self.layers + 1):
            speed = job.first_mm_s if layer == 1 else job.fast_mm_s
            row = list(zip(spots, self.values, self.words, strict=True))
            for (x, y), value, word in row if layer % 2 else reversed(row):
                yield even(
                    speed,
                    ((x, y), (x, y + self.leg_mm), (x + self.foot_mm, y + self.leg_mm)),
                    layer * job.layer_mm,
                    value,
                    f"corner {word}, layer {layer}",
                )

    def labels(self, job: Job) -> tuple[Label, ...]:
        return tuple(
            Label(x + 1.5, y + 0.7 * self.leg_mm, word, True)
            for (x, y), word in zip(self._spots(job), self.words, strict=True)
        )


def prime(job: Job, x: float, y: float, length: float, upright: bool = True) -> Stroke:
    """A first line beside the print, so that the nozzle is full when it counts."""
    end = (x, y + length) if upright else (x + length, y)
    return even(job.first_mm_s, ((x, y), end), job.layer_mm, None, "first line: fills the nozzle")


def number(
    job: Job, text: str, x: float, y: float, high_mm: float, value: float | None
) -> Iterator[Stroke]:
    """A text drawn by the nozzle, slowly."""
    for places in drawn(text, x, y, high_mm):
        yield even(job.first_mm_s, places, job.layer_mm, value, f"digits {text}")
