"""The test card: one layer that a picture is read from. Rings in its corners and an odd one, a
strip of cells that names the plan, a frame of long lines, lines for pressure advance, and combs:
lines entered round a sharp corner.
"""

from __future__ import annotations

import json
import math
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, fields, replace
from functools import cached_property
from itertools import pairwise
from typing import Any

from omphalon.base.errors import UsageError, echoed
from omphalon.base.shapes import OneOf, Shape, Some, Within, fits
from omphalon.prints.advance import Label, number, prime
from omphalon.prints.job import Job
from omphalon.prints.strokes import Place, Stroke, even, width_of

PARTS = ("advance", "combs", "frame")
MOST_SPEEDS = 3  # of a ladder's lines
EDGE_MM = 6.0  # from the card's edge to the rings' middles and the strip's
RING_MM, DOT_MM, LOOPS = 3.5, 0.3, 2  # radii, and how many lines thick a ring is
BITS, CHECK_BITS = 32, 8  # of the strips: the plan's number, and its check sum
ROWS = 2  # of cells, below and above: half of the bits each
CELL_MM, CELL_LINES = 6.0, 3  # a cell's height, and how many lines it is wide
FRAME_MM, CORNER_MM = 13.0, 2.0  # from the edge to the frame, and what its lines leave at corners
INNER_MM, GAP_MM = 18.0, 6.0  # from the edge to what lies in the frame, and between parts in it
LEG_MM, LINES, PITCH_MM, SHIFT_MM = 7.0, 6, 2.3, 1.6  # of a comb: see Comb
STILL_S = 0.4  # before each of its lines: what travelling shook has died away
# of the lines for pressure advance: their pitch beside combs, and at the most and least
ROW_MM, MOST_ROW_MM, LEAST_ROW_MM = 2.8, 5.0, 2.4
DIGIT_MM, DIGIT_GAP_MM = 3.2, 2.0
TICK_MM = (1.2, 3.4)  # beside the block of them: where their speed changes
FRAME_MM_S = 40.0
SIDES = 16  # of a ring's polygon


@dataclass(frozen=True, kw_only=True)
class Comb:
    """One line of a comb: its leg, the corner, where it ends; (3, 2) mm in the card. The leg runs
    along the other axis, which the corner makes swing; `speed_mm_s` is that of both.
    """

    axis: str
    places: tuple[Place, Place, Place]
    speed_mm_s: float


@dataclass(frozen=True, kw_only=True)
class Rung:
    """One line for pressure advance: its value, its fast speed, where it starts and which way it
    goes along x (1 or -1), how long its slow and fast stretches are, in turn.
    """

    value_s: float
    fast_mm_s: float
    start: Place
    way: int
    stretches_mm: tuple[float, ...]

    @property
    def places(self) -> tuple[Place, ...]:
        """Where its speed changes, from its start to its end."""
        x, y = self.start
        out = [self.start]
        for length in self.stretches_mm:
            x += self.way * length
            out.append((x, y))
        return tuple(out)


@dataclass(frozen=True, kw_only=True)
class Card:
    """A test card: its size, what is on it, and what it was laid with; all in mm, mm/s, mm/s², s.
    Places are from its lower left corner, which lies at `origin_mm` on the bed. `printer`: whose it
    is, where a bench knows it. `once`: the values stand once and in rising order, for eyes.
    """

    size_mm: float
    origin_mm: Place
    parts: tuple[str, ...]
    drive: str
    values_s: tuple[float, ...]
    stretches_mm: tuple[float, float]
    slow_mm_s: float
    fast_mm_s: float
    acceleration_mm_s2: float
    comb_speeds_mm_s: tuple[float, ...]
    comb_acceleration_mm_s2: float
    width_mm: float
    layer_mm: float
    printer: str = ""
    once: bool = False
    faster_mm_s: tuple[float, ...] = ()  # further fast speeds: each value stands twice at each

    @property
    def fast_speeds_mm_s(self) -> tuple[float, ...]:
        """All fast speeds of the lines for pressure advance, rising."""
        return (self.fast_mm_s, *self.faster_mm_s)

    @property
    def plan(self) -> dict[str, Any]:
        """What a reader of the print must know, and its number."""
        return {"print": "card", **self._own, "number": self.number}

    @property
    def _own(self) -> dict[str, Any]:
        """Its fields; what most cards do not have leaves their numbers as they were."""
        rare = [name for name in ("once", "faster_mm_s") if not getattr(self, name)]
        return {name: value for name, value in asdict(self).items() if name not in rare}

    @cached_property
    def number(self) -> int:
        """By which the strip names the plan."""
        return int(zlib.crc32(json.dumps(self._own, sort_keys=True).encode()) % 2**BITS)

    @property
    def bits(self) -> tuple[tuple[bool, ...], ...]:
        """Both rows of cells: one that is laid, half of the number with its check sum, one that is
        laid.
        """
        word, count = self.number << CHECK_BITS | check_sum(self.number), BITS + CHECK_BITS
        all_bits = [bool(word >> n & 1) for n in reversed(range(count))]
        half = count // ROWS
        return tuple((True, *all_bits[n * half : (n + 1) * half], True) for n in range(ROWS))

    @property
    def rings(self) -> tuple[Place, ...]:
        """Middles of the rings: the corners counter-clockwise from the lower left, then the odd
        one.
        """
        low, high = EDGE_MM, self.size_mm - EDGE_MM
        return (low, low), (high, low), (high, high), (low, high), (low, self.size_mm / 3)

    @property
    def cells(self) -> tuple[tuple[Place, ...], ...]:
        """Middles of the strips' cells, left to right, the lower row first."""
        count = (BITS + CHECK_BITS) // ROWS + 2
        left, right = 3 * EDGE_MM, self.size_mm - 3 * EDGE_MM
        step = (right - left) / (count - 1)
        heights = (EDGE_MM, self.size_mm - EDGE_MM)
        return tuple(tuple((left + n * step, y) for n in range(count)) for y in heights)

    @property
    def frame(self) -> tuple[tuple[Place, Place], ...]:
        """The frame's lines: bottom, right, top, left."""
        low, high = FRAME_MM, self.size_mm - FRAME_MM
        a, b = low + CORNER_MM, high - CORNER_MM
        return (
            ((a, low), (b, low)),
            ((high, a), (high, b)),
            ((b, high), (a, high)),
            ((low, b), (low, a)),
        )

    @property
    def combs(self) -> tuple[Comb, ...]:
        """Their lines, axis by axis, speed by speed. The lines of one speed lie PITCH_MM apart,
        each a little longer than the one below, so that no leg crosses a line.
        """
        if "combs" not in self.parts:
            return ()
        wide = (self.size_mm - 2 * INNER_MM - GAP_MM) / 2
        found = []
        for axis in "xy":
            for group, speed in enumerate(self.comb_speeds_mm_s):
                for row in range(LINES):
                    along = (LINES - 1 - row) * SHIFT_MM
                    up = group * group_mm() + LEG_MM + row * PITCH_MM
                    local = ((along, up - LEG_MM), (along, up), (wide, up))
                    places = [(p, q) if axis == "x" else (q + wide + GAP_MM, p) for p, q in local]
                    first, corner, last = ((p + INNER_MM, q + INNER_MM) for p, q in places)
                    found.append(Comb(axis=axis, places=(first, corner, last), speed_mm_s=speed))
        return tuple(found)

    @property
    def rungs(self) -> tuple[Rung, ...]:
        """The lines for pressure advance, from below: every value twice, far apart, not in rising
        order, neighbours in opposite directions, the fast speeds in turn; for eyes once, from small
        to large, alike.
        """
        if "advance" not in self.parts:
            return ()
        slow, fast = self.stretches_mm
        span = self.size_mm - 2 * INNER_MM - 2 * self._label_mm
        count = max(int((span - slow) / (slow + fast)), 1)
        more = (span - slow - count * (slow + fast)) / (count + 1)
        stretches = (*(slow + more, fast) * count, slow + more)
        left, right = INNER_MM + self._label_mm, self.size_mm - INNER_MM - self._label_mm
        values = self.values_s if self.once else mixed(self.values_s)
        speeds = self.fast_speeds_mm_s
        rows = [(value, speed) for value in values for speed in speeds]
        foot = self.size_mm - INNER_MM - (len(rows) - 1) * self.row_mm
        back = [bool(row % 2) and not self.once for row in range(len(rows))]
        return tuple(
            Rung(
                value_s=value,
                fast_mm_s=speed,
                start=(right if back[row] else left, foot + row * self.row_mm),
                way=-1 if back[row] else 1,
                stretches_mm=stretches,
            )
            for row, (value, speed) in enumerate(rows)
        )

    @property
    def row_mm(self) -> float:
        """Between two lines for pressure advance: as much as the card has room for."""
        if "combs" in self.parts:
            return ROW_MM
        count = (1 if self.once else 2) * len(self.values_s) * len(self.fast_speeds_mm_s)
        room = (self.size_mm - 2 * INNER_MM) / (count - 1)
        return min(room, MOST_ROW_MM)

    @cached_property
    def words(self) -> dict[float, str]:
        """Each value as the card shows it: in thousandths of a second, to a twentieth of a step."""
        shown = [1000 * value for value in self.values_s]
        fine = min((b - a for a, b in zip(shown, shown[1:], strict=False)), default=1.0) / 20
        places = next((p for p in range(4) if all(abs(round(v, p) - v) <= fine for v in shown)), 4)
        return {value: f"{1000 * value:.{places}f}" for value in self.values_s}

    @property
    def _label_mm(self) -> float:
        """Room for a rung's number, at its start."""
        return max(width_of(word, DIGIT_MM) for word in self.words.values()) + DIGIT_GAP_MM

    @property
    def ticks(self) -> tuple[tuple[Place, Place], ...]:
        """Where the lines for pressure advance change their speed, for a person: strokes below and
        above a card of them alone.
        """
        if self.parts != ("advance",):
            return ()
        rungs = self.rungs
        ends = ((rungs[0].start[1], -1), (rungs[-1].start[1], 1))
        low, high = TICK_MM
        turns = [x for x, _ in rungs[0].places[1:-1]]
        return tuple(((x, y + low * up), (x, y + high * up)) for x in turns for y, up in ends)

    def strokes(self, job: Job, before: tuple[str, ...] = ()) -> Iterator[Stroke]:
        """The card as it is laid on the bed.

        `before`: what is sent before the combs.
        """
        x, y = self.origin_mm
        for stroke in self._strokes(job, before):
            yield replace(stroke, places=tuple((x + p, y + q) for p, q in stroke.places))

    def _strokes(self, job: Job, before: tuple[str, ...]) -> Iterator[Stroke]:
        yield prime(job, 1.0, 0.45 * self.size_mm, 0.4 * self.size_mm)
        for x, y in self.rings:
            for loop in range(LOOPS):
                yield self._slow(job, _ring(x, y, RING_MM - loop * job.width_mm), "ring")
            yield self._slow(job, _ring(x, y, DOT_MM), "ring's dot")
        for (x, y), laid in zip(sum(self.cells, ()), sum(self.bits, ()), strict=True):
            for n in range(CELL_LINES if laid else 0):
                at = x + (n - (CELL_LINES - 1) / 2) * job.width_mm
                ends = (at, y - CELL_MM / 2), (at, y + CELL_MM / 2)
                yield self._slow(job, ends if n % 2 else ends[::-1], "cell")
        for side in self.frame:
            yield even(min(FRAME_MM_S, self.fast_mm_s), side, job.layer_mm, None, "frame")
        for rung in self.rungs:
            word, (x, y) = self.words[rung.value_s], rung.start
            at = x - self._label_mm if rung.way > 0 else x + DIGIT_GAP_MM
            yield from number(job, word, at, y - DIGIT_MM / 2, DIGIT_MM, rung.value_s)
            speeds = [self.slow_mm_s, rung.fast_mm_s] * len(rung.stretches_mm)
            speeds = speeds[: len(rung.stretches_mm)]
            yield Stroke(rung.places, tuple(speeds), job.layer_mm, rung.value_s, f"rung {word}")
        for ends in self.ticks:
            yield self._slow(job, ends, "tick")
        for comb in self.combs:
            note = f"comb {comb.axis}, {comb.speed_mm_s:g} mm/s"
            stroke = even(comb.speed_mm_s, comb.places, job.layer_mm, None, note)
            yield replace(stroke, before=(*before, f"G4 P{1000 * STILL_S:.0f}"))
            before = ()

    def _slow(self, job: Job, places: tuple[Place, ...], note: str) -> Stroke:
        return even(job.first_mm_s, places, job.layer_mm, None, note)

    def labels(self, job: Job) -> tuple[Label, ...]:
        """What a picture of the plan says."""
        x, y = self.origin_mm
        combs = {(c.axis, c.speed_mm_s): c for c in self.combs}
        return tuple(
            Label(x + c.places[2][0] - 14, y + c.places[2][1] + 2.0, f"{c.speed_mm_s:g} mm/s")
            for c in combs.values()
            if c.axis == "x"
        )


SPEED, PUSH = Within(0.5, 2000), Within(1, 200_000)  # mm/s, mm/s²
FASTER = Some(SPEED, 0, MOST_SPEEDS - 1)
PLAN: Shape = {
    "print": str,
    "number": int,
    "size_mm": Within(50, 1000),
    "origin_mm": Some(Within(-1000, 1000), 2, 2),
    "parts": Some(OneOf(*PARTS), 1, len(PARTS)),
    "drive": OneOf("direct", "bowden"),
    "values_s": Some(Within(0, 10), 2, 60),
    "stretches_mm": Some(Within(1, 500), 2, 2),
    "slow_mm_s": SPEED,
    "fast_mm_s": SPEED,
    "acceleration_mm_s2": PUSH,
    "comb_speeds_mm_s": Some(SPEED, 1, 8),
    "comb_acceleration_mm_s2": PUSH,
    "width_mm": Within(0.05, 5),
    "layer_mm": Within(0.02, 3),
    "printer": str,
}


def card_in(plan: Mapping[str, Any], name: str) -> Card:
    """The card that a print's plan describes.

    Raises UsageError if it describes none, or was changed.
    """
    faster = plan.get("faster_mm_s", [])
    if plan["print"] == "card" and not (fits(plan, PLAN) and fits(faster, FASTER)):
        raise UsageError(
            f"{name}: its plan is of an earlier version, or was changed by hand",
            "give the file that was printed, or plan the card again",
        )
    if plan["print"] != "card":
        raise UsageError(
            f"{name}: holds {echoed(str(plan['print']))}, no test card and no ladder",
            "give the file that `card plan`, or `advance plan --style ladder`, wrote",
        )
    known = {field.name for field in fields(Card)}
    own: dict[str, Any] = {
        k: tuple(v) if isinstance(v, list) else v for k, v in plan.items() if k in known
    }
    card = Card(**own)
    speeds = (card.slow_mm_s, *card.fast_speeds_mm_s)
    rising = all(a < b for some in (card.values_s, speeds) for a, b in pairwise(some))
    if card.number != plan["number"] or not rising:
        raise UsageError(f"{name}: its plan was changed by hand", "plan the card again")
    return card


def _ring(x: float, y: float, radius: float) -> tuple[Place, ...]:
    """A closed polygon around a place."""
    turns = [2 * math.pi * n / SIDES for n in range(SIDES + 1)]
    return tuple((x + radius * math.cos(t), y + radius * math.sin(t)) for t in turns)


def check_sum(number: int) -> int:
    """What stands behind a plan's number in the strip."""
    return int(zlib.crc32(number.to_bytes(BITS // 8, "big")) % 2**CHECK_BITS)


def group_mm() -> float:
    """Height of the lines of one speed in a comb, with the gap to the next."""
    return LEG_MM + LINES * PITCH_MM + 0.3


def mixed(values: tuple[float, ...]) -> tuple[float, ...]:
    """Every value twice: in steps through the list, and then the other way round, half a list on,
    so that no two that are alike lie near each other, and a tilted bed moves all alike.
    """
    count = len(values)
    step = next(s for s in range(max(count // 3, 2), count + 2) if math.gcd(s, count) == 1)
    first = [values[n * step % count] for n in range(count)]
    return (*first, *(first[(count // 2 - n) % count] for n in range(count)))
