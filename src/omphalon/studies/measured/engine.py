"""From readings to a setting: which of them belong together, the estimate, what may hide in its
interval, change or keep. No sentences: a quantity's row has them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Generic, Literal, TypeVar

import numpy as np

from omphalon.answers.finding import Shown, Verdict
from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.arrays import Array, Mask
from omphalon.physics import scale
from omphalon.physics.scale import Estimate, Spread
from omphalon.recordings.recording import Reading, Readings
from omphalon.tables.constants import MOTOR_STEPS, NORMAL_95

Question = TypeVar("Question")
FURTHEST = 1.6  # no drive and no belt is off by more
TOO_LITTLE = 0.25  # of what matters: an error that is known to be smaller is left alone
SEVERAL = 0.2  # of the longest length: a range that tells a zero error from the scale
GROSS_WITHIN = 0.06  # of such a factor, it is that slip
Wide = Literal["wide-feed", "wide-scale", "wide-walls", "wide-width", "wide-zero"]
Slip = Literal["cm", "inch", "half-steps", "quarter-steps"]
# ratio of measured to commanded → which slip it is
GROSS: tuple[tuple[float, Slip], ...] = (
    (0.1, "cm"),
    (10.0, "cm"),
    (1 / 25.4, "inch"),
    (25.4, "inch"),
    (0.5, "half-steps"),
    (2.0, "half-steps"),
    (0.25, "quarter-steps"),
    (4.0, "quarter-steps"),
)


@dataclass(frozen=True, kw_only=True)
class Sample:
    """Readings of one thing, ready to be judged; arrays are (n,)."""

    name: str = ""
    rows: tuple[Reading, ...]
    measured: Array  # in mm
    commanded: Array | None = None  # lengths; None: one value again and again
    sides: Mapping[str, Array] = field(default_factory=dict)  # errors that do not grow with length
    known: Spread  # of one reading, beforehand
    column: str  # the number that a transcription error would be in
    sign: float = 1.0  # how that number counts
    present: float
    goal: float = 1.0
    way: float = 1.0  # −1 where a setting that shifts falls with the error
    among: Mask | None = None  # which may count at all
    settled: bool = False  # no more is to be left out
    each: int = 1  # readings in one value
    remarks: tuple[Remark, ...] = ()
    extra_half: float = 0.0  # half width of the goal itself
    no_zero: bool = False  # too few readings to tell a zero error from the scale: assume none
    beside: Any = None  # what else was measured
    shown: tuple[Array, Mask, float, Estimate] | None = None  # in a figure, in place of `measured`

    @property
    def columns(self) -> Array:
        """What the readings should lie on, (n, k)."""
        first: Array = np.ones(len(self.measured)) if self.commanded is None else self.commanded
        return np.vstack([first, *self.sides.values()]).T


@dataclass(frozen=True, kw_only=True)
class Measurement:
    """One thing measured: its readings, those that count, the estimate, the errors kept out of it,
    the best setting and the one to be in force, with the
    half width of its interval; between which errors the truth lies (a share of the goal, or in its
    unit), and how many readings would do (None: these do, or no number would).
    """

    sample: Sample
    keep: Mask
    estimate: Estimate
    offsets: Mapping[str, Estimate]
    half_width: float
    best: float
    setting: float
    verdict: Verdict
    low: float
    high: float
    wanted: int | None = None

    @property
    def used(self) -> int:
        """Readings that count."""
        return int(self.keep.sum())

    @property
    def left_out(self) -> list[str]:
        """Where those stand that do not."""
        return [r.where for r, k in zip(self.sample.rows, self.keep, strict=True) if not k]

    @property
    def aside_mm(self) -> Array:
        """What the errors kept out of it make of each reading, (n,)."""
        shares = [o.value * self.sample.sides[name] for name, o in self.offsets.items()]
        return sum(shares, np.zeros(len(self.sample.measured)))

    @property
    def repeats(self) -> tuple[Array, Mask, float, Estimate]:
        """What was read again and again (n,), which of it counts, its goal, and its mean."""
        shown = self.sample.shown
        return shown or (self.sample.measured, self.keep, self.sample.goal, self.estimate)


@dataclass(frozen=True, kw_only=True)
class Measurand(Generic[Question]):
    """A row: how readings become samples, what matters, and how it is said.

    Sentences take the facts of `words.facts_of`, and the row's own.
    """

    group: str  # the command's name
    key: str  # the setting's
    field: str
    line: str  # the dialect's name of it
    title: str
    unit: str
    comment: str
    samples: Callable[[Readings, Question], Sequence[Sample]]
    matters: float  # least error worth correcting, as a share of the goal or in its unit
    unseen: str  # what does not show an error that matters less
    wide: Wide  # the refusal of an interval that is too wide
    large: float  # a change, as a share or in its unit, that gets a remark
    large_said: Literal["", "large-feed", "large-move", "large-flow", "large-zero"]
    because: tuple[str, str]  # keep, change
    means: tuple[str, str, str]  # keep, too much, too little
    again: tuple[str, str, str]  # next: keep, after a check that failed, after a change
    evidence: Callable[[Fitted[Question]], dict[str, Any]]
    table: Callable[[Fitted[Question]], Sequence[Shown]]
    figure: tuple[str, str, str] = ("", "", "")  # title, what is read, what the goal is called
    shifts: bool = False  # the setting moves with the error, else it is divided by it
    scales: bool = False  # look for slips of units and microsteps
    fewest: int = 1  # readings, else `few` refuses
    few: Literal["", "few-walls", "few-drags"] = ""
    one_said: Literal["", "one-run", "one-move"] = ""
    facts: Callable[[Measurement], dict[str, Any]] = lambda one: {}
    doubts: Callable[[Measurement, Question], Sequence[Remark]] = lambda one, question: ()
    later: Callable[[Measurement, Question], Sequence[Remark]] = lambda one, question: ()


@dataclass(frozen=True, kw_only=True)
class Parts:
    """What moves an axis or feeds filament: steps and microsteps of the motor, its turns a turn of
    the output, and the travel of that turn (belt pitch × teeth, a screw's lead, a wheel's
    circumference).
    """

    microsteps: float
    per_turn_mm: float
    motor_steps: float = MOTOR_STEPS
    gear: float = 1.0

    @property
    def steps_per_mm(self) -> float:
        """Motor steps × microsteps × gear ÷ travel per turn."""
        return self.motor_steps * self.microsteps * self.gear / self.per_turn_mm


@dataclass(frozen=True, kw_only=True)
class Fitted(Generic[Question]):
    """A quantity measured: its things (an axis each, or one), and what was odd."""

    quantity: Measurand[Question]
    question: Question
    things: tuple[Measurement, ...]
    remarks: tuple[Remark, ...]

    @property
    def one(self) -> Measurement:
        """The thing that is furthest off, of those that change where any does."""
        some = [m for m in self.things if m.verdict == self.verdict]
        return max(some, key=lambda m: abs(m.estimate.value / m.sample.goal - 1))

    @property
    def verdict(self) -> Verdict:
        """`keep` only where all keep."""
        return "keep" if all(m.verdict == "keep" for m in self.things) else "change"


def fit(quantity: Measurand[Question], readings: Readings, question: Question) -> Fitted[Question]:
    """Find the setting with which a quantity is right.

    Raises Refusal if the readings cannot carry an answer; UsageError, BadReading if readings are
    missing or cannot be.
    """
    remarks: list[Remark] = []
    things = []
    try:
        for sample in quantity.samples(readings, question):
            things.append(_measured(quantity, sample, question, remarks))
    except Refusal as refusal:
        raise refusal.after(remarks) from None
    return Fitted(
        quantity=quantity, question=question, things=tuple(things), remarks=tuple(remarks)
    )


def _measured(
    quantity: Measurand[Question], sample: Sample, question: Question, remarks: list[Remark]
) -> Measurement:
    if len(sample.measured) < quantity.fewest:
        raise Refusal(quantity.few, count=len(sample.measured))
    remarks += sample.remarks
    keep, left_out = _belonging(sample)
    remarks += left_out
    found, offsets = _estimate(sample, keep)
    if sample.no_zero and not (_tells(offsets) or _answers(found, quantity.matters, sample.goal)):
        found, offsets = (
            scale.scale_of(sample.columns[keep, 0], sample.measured[keep], sample.known),
            {},
        )
        remarks.append(Remark("zero-taken"))
    half = math.hypot(found.half_width, sample.extra_half)
    unit = 1.0 if quantity.shifts else sample.goal
    off, doubt = (found.value - sample.goal) / unit, half / unit
    changed = abs(off) > doubt and abs(off) + doubt > TOO_LITTLE * quantity.matters
    if quantity.shifts:
        best, best_half = sample.present + sample.way * (found.value - sample.goal), half
    else:
        if quantity.scales:
            refuse_gross(found.value / sample.goal)
        best = sample.present * sample.goal / found.value
        best_half = best * half / found.value
    one = Measurement(
        sample=sample,
        keep=keep,
        estimate=found,
        offsets=offsets,
        half_width=best_half,
        best=best,
        setting=best if changed else sample.present,
        verdict="change" if changed else "keep",
        low=off - doubt,
        high=off + doubt,
        wanted=_wanted(abs(off), doubt, quantity.matters, int(keep.sum()) * sample.each),
    )
    if len(sample.measured) == 1 and quantity.one_said:
        error = NORMAL_95 * scale.HAND * sample.known.whole
        remarks.append(Remark(quantity.one_said, name=sample.name, error=error))
    remarks += quantity.doubts(one, question)
    if not changed:
        matters = quantity.matters * unit
        _narrow_enough(quantity.wide, found.value, half, matters, one.used * sample.each)
    shift = best - sample.present
    share = abs(shift / (1.0 if quantity.shifts else sample.present))
    if changed and share > quantity.large and quantity.large_said:
        facts = {"name": sample.name, "share": share, "shift": shift}
        remarks.append(Remark(quantity.large_said, **facts))
    remarks += quantity.later(one, question)
    return one


def _wanted(off: float, doubt: float, matters: float, readings: int) -> int | None:
    """How many readings would show that nothing that matters hides in an interval; None where
    nothing does, or no number would.
    """
    if off + doubt <= matters or off >= matters:
        return None
    return scale.readings_needed(doubt, matters - off, readings)


def refuse_gross(ratio: float, furthest: float = FURTHEST) -> None:
    """Refuse a ratio of measured to commanded that is a mistake of units or steps, negative,
    or no error of length at all.

    Raises Refusal with the likely slip as its code.
    """
    for factor, slip in GROSS:
        if abs(ratio / factor - 1) < GROSS_WITHIN:
            raise Refusal(slip, ratio=ratio)
    if not 1 / furthest < ratio < furthest:
        raise Refusal("negative-scale" if ratio <= 0 else "no-such-scale", ratio=ratio)


def several(commanded: Array) -> bool:
    """Whether lengths reach far enough apart to tell a zero error from the scale."""
    return float(np.ptp(commanded)) > SEVERAL * float(commanded.max())


def _belonging(sample: Sample) -> tuple[Mask, list[Remark]]:
    """Which readings belong together, and what is odd about the others.

    Raises Refusal where some reading is wrong and it cannot be told which.
    """
    among = np.ones(len(sample.measured), bool) if sample.among is None else sample.among
    if sample.settled:
        return among, []
    some = [row for row, a in zip(sample.rows, among, strict=True) if a]
    keep = among.copy()
    keep[among], odd = belonging(
        sample.columns[among],
        sample.measured[among],
        some,
        sample.column,
        sample.known,
        sample.sign,
    )
    return keep, odd


def belonging(
    columns: Array,
    values: Array,
    rows: Sequence[Reading],
    column: str,
    known: Spread,
    sign: float = 1.0,
) -> tuple[Mask, list[Remark]]:
    """Which readings belong together, and what is odd about the others.

    `columns`: (n, k), what the values should lie on. `values`: (n,) in mm. `rows`: (n,), where each
    stands and how it was written, for transcription errors in `column`. `known`: of one reading
    beforehand. `sign`: 1 where the written number grows with the value, −1 where it falls. Raises
    Refusal if some reading is wrong and it cannot be told which.
    """
    found = scale.outliers(columns, values, known.whole)
    if found.unclear:
        raise Refusal("disagree")
    out, odd = found.out, []
    if not out.any():
        return ~out, []
    usual = np.linalg.lstsq(columns[~out], values[~out], rcond=None)[0]
    for k in np.flatnonzero(out).tolist():
        one = rows[k].numbers[column]
        unit = one.step * 10.0**one.places
        expected = (one.value - sign * float(values[k] - columns[k] @ usual)) / unit
        fits = scale.slip_of_pen(one.value / unit, expected, known.whole / unit, one.places)
        facts = {"where": rows[k].where, "written": one.written}
        if fits is not None:
            odd.append(Remark("pen", **facts, fits=f"{fits:.{one.places}f}"))
        else:
            near = f"{expected:.{max(one.places, 1)}f}"
            odd.append(Remark("left-out", **facts, expected=near))
    return ~out, odd


def _estimate(sample: Sample, keep: Mask) -> tuple[Estimate, dict[str, Estimate]]:
    """The estimate, and the errors kept out of it where enough readings are left to part them."""
    columns, measured = sample.columns[keep], sample.measured[keep]
    count = columns.shape[1]
    parted = len(measured) >= count and np.linalg.matrix_rank(columns) == count
    if sample.commanded is None:
        return scale.mean_of(measured, sample.known), {}
    if count == 1 or not parted:
        return scale.scale_of(columns[:, 0], measured, sample.known), {}
    line = scale.line_of(columns[:, 0], measured, columns[:, 1:], sample.known)
    return line.scale, dict(zip(sample.sides, line.offsets, strict=True))


def _tells(offsets: Mapping[str, Estimate]) -> bool:
    return not offsets or any(one.tells(0.0) for one in offsets.values())


def _answers(found: Estimate, matters: float, goal: float) -> bool:
    return found.half_width <= matters or found.tells(goal)


def _narrow_enough(wide: Wide, value: float, half: float, matters: float, readings: int) -> None:
    """Refuse to keep a setting on an interval in which an error that matters could hide."""
    if half > matters:
        facts = {"value": value, "half_width": half, "matters": matters}
        raise Refusal(wide, **facts, count=scale.readings_needed(half, matters, readings))


def runs_needed(
    one: Spread, lengths: Sequence[float], wanted: float, sides: int, most: int
) -> int | None:
    """How often each length must be measured for a certainty of the scale, and None where no
    sensible number does.

    `one`: of one reading, beforehand. `lengths`: in mm; where a zero error is kept out, the scale
    hangs on their spread. `wanted`: half width of the scale's 95 % interval. `sides`: errors that
    are kept out. `most`: beyond which nobody goes.
    """
    middle = sum(lengths) / len(lengths) if sides else 0.0
    weight = sum((x - middle) ** 2 for x in lengths)
    for n in range(1, most):
        freedom = scale.PRIOR_FREEDOM + len(lengths) * n - 1 - sides
        half = scale.student_95(freedom) * scale.HAND * one.whole / math.sqrt(n * weight)
        if half <= wanted:
            return n
    return None
