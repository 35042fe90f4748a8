"""A stepped print: blocks on top of each other, one value each, that show what a setting does to a
gap, a thin wall and an overhang.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from omphalon.prints.advance import Label, number, prime
from omphalon.prints.job import Job
from omphalon.prints.strokes import Place, Stroke, even

BLOCK_MM = 8.0
WIDE_MM, POST_MM, GAP_MM, FIN_MM = 14.0, 7.0, 30.0, 15.0
RING_MM = 0.6  # how far a ring stands out that tops a block, and how high it is
DIGIT_MM = 3.2
BRIM_LOOPS = 4


@dataclass(frozen=True, kw_only=True)
class Blocks:
    """A column and a post, `GAP_MM` apart, in blocks of `BLOCK_MM`; the first value at the foot.

    The column's front leans out and back in each block by 45°: the overhang. To its left stands a
    fin, a wall of one line. A ring around the post tops each block; the numbers on the plate, front
    to rear, are the blocks from the foot upwards. `vary` is one of the table of trials: a block's
    temperature is the value of its strokes, its retraction, speed and flow are the strokes' own.
    """

    vary: str
    values: tuple[float, ...]

    @property
    def height_mm(self) -> float:
        return BLOCK_MM * len(self.values)

    def strokes(self, job: Job) -> Iterator[Stroke]:
        x, y = job.middle
        left = x - GAP_MM / 2 - WIDE_MM
        yield prime(job, left - FIN_MM - 12, y - WIDE_MM, 2 * WIDE_MM)
        for loop in range(BRIM_LOOPS, 0, -1):
            out = loop * job.width_mm
            yield even(job.first_mm_s, _around(left, x - GAP_MM / 2, y, out), job.layer_mm, None)
            post = _around(x + GAP_MM / 2, x + GAP_MM / 2 + POST_MM, y, out, POST_MM)
            yield even(job.first_mm_s, post, job.layer_mm, None)
        for row, word in enumerate(f"{value:g}" for value in self.values):
            at = y - len(self.values) * DIGIT_MM + 2 * row * DIGIT_MM
            yield from number(job, word, x - 8, at, DIGIT_MM, None)
        for layer in range(1, round(self.height_mm / job.layer_mm) + 1):
            top = layer * job.layer_mm
            middle = top - job.layer_mm / 2
            block = min(int(middle / BLOCK_MM), len(self.values) - 1)
            for places in self._layer(x, y, middle - block * BLOCK_MM, job):
                yield self._laid(places, top, self.values[block], job)

    def _layer(self, x: float, y: float, inside: float, job: Job) -> Iterator[tuple[Place, ...]]:
        """Fin, column and post at a height `inside` their block."""
        left, right, far = x - GAP_MM / 2 - WIDE_MM, x - GAP_MM / 2, x + GAP_MM / 2
        lean = BLOCK_MM / 2 - abs(inside - BLOCK_MM / 2)
        ring = RING_MM if inside > BLOCK_MM - RING_MM else 0.0
        yield (left - FIN_MM, y), (left - job.width_mm, y)
        for inset in (job.width_mm, 0.0):
            yield _around(left, right, y, -inset, lean=lean)
        yield _around(far + POST_MM, far, y, ring, POST_MM)

    def _laid(self, places: tuple[Place, ...], top: float, value: float, job: Job) -> Stroke:
        """A stroke with its block's value."""
        speed = value if self.vary == "speed" else job.fast_mm_s
        stroke = even(job.first_mm_s if top < 1.5 * job.layer_mm else speed, places, top)
        if self.vary == "temperature":
            return replace(stroke, value=value)
        if self.vary == "retraction":
            return replace(stroke, retract_mm=value)
        return replace(stroke, feed=value) if self.vary == "flow" else stroke

    def labels(self, job: Job) -> tuple[Label, ...]:
        x, y = job.middle
        return (
            Label(x - GAP_MM / 2 - WIDE_MM - FIN_MM, y + 2, "thin wall"),
            Label(x - GAP_MM / 2 - WIDE_MM, y - WIDE_MM / 2 - 9, "overhang, each block"),
            Label(x + GAP_MM / 2 - 2, y + POST_MM, "post: a ring tops each block"),
        )


def _around(
    start: float, end: float, y: float, out: float, deep: float = WIDE_MM, lean: float = 0.0
) -> tuple[Place, ...]:
    """A rectangle from one side, x `start`, to the other, `end`, closed; it starts and ends in the
    rear corner at `end`. Its front stands out by `lean`, all of it by `out`.
    """
    sign = 1.0 if end > start else -1.0
    near, far = start - sign * out, end + sign * out
    rear, front = y + deep / 2 + out, y - deep / 2 - out - lean
    return ((far, rear), (near, rear), (near, front), (far, front), (far, rear))
