"""Steps per mm of X, Y and Z, from measured moves or parts: zero error and backlash kept out of the
scale, theory by construction, the skew of a rectangle; and which moves to measure.
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from omphalon.answers.commands import command, prose
from omphalon.answers.finding import Plan, Shown
from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.arrays import Array
from omphalon.base.errors import BadReading, UsageError
from omphalon.lines.dialect import Dialect
from omphalon.physics.scale import line_of, reading_spread
from omphalon.recordings.recording import Reading, Readings
from omphalon.studies.measured.engine import (
    Fitted,
    Measurand,
    Measurement,
    Parts,
    Sample,
    refuse_gross,
    runs_needed,
    several,
)
from omphalon.tables.units import plural

# deviation of setting a caliper so; measured: docs/measuring.md
PLACING_MM = {"move": 0.05, "outside": 0.03, "inside": 0.04}
FINEST_MM = 0.01  # that a caliper reads to
THEORY_WITHIN = 0.02
ACROSS = ("x", "y")
UNLIKE_SIDE = "x over y"
BACKLASH_MM = 0.02  # less is no matter
# readings beyond what is fitted, different lengths, and 95 % half widths: an uneven axis is named
FEWEST_FREE, FEWEST_LENGTHS, SURE_BEND = 3, 4, 1.4
SHARES = (0.2, 0.6, 1.0)  # of the longest move: a zero error shows between shortest and longest
MOST_RUNS = 60
FEED_MM_MIN = 1200


@dataclass(frozen=True, kw_only=True)
class Rectangle:
    """Both diagonals and both sides of a printed rectangle, in mm: they tell the skew of X to Y."""

    diagonals_mm: tuple[float, float]
    sides_mm: tuple[float, float]

    @property
    def skew_deg(self) -> float:
        """How far the angle between X and Y is off a right one, by the law of cosines for both
        diagonals.
        """
        one, two = self.diagonals_mm
        return math.degrees((one**2 - two**2) / (4 * self.sides_mm[0] * self.sides_mm[1]))


@dataclass(frozen=True, kw_only=True)
class AxisQuestion:
    """Present steps per mm by axis, how finely was read, the parts if known, a rectangle's
    diagonals and sides, and what moves by which motors ("": not known).
    """

    steps: Mapping[str, float]
    resolution_mm: float | None = None
    placing_mm: float | None = None
    parts: Parts | None = None
    rectangle: Rectangle | None = None
    build: str = ""


def axis_samples(readings: Readings, question: AxisQuestion) -> Sequence[Sample]:
    """The readings of each axis.

    Raises UsageError, BadReading if something is missing, or a length cannot be one; Refusal for
    one length of a printed part: scale and line width cannot be parted; for X and Y of three
    towers.
    """
    readings.refuse_gaps("asked_mm", "moved_mm")
    if not readings.has("asked_mm", "moved_mm"):
        raise UsageError(
            "no commanded and moved length for every reading",
            "give --asked with --moved, or both columns",
        )
    groups: dict[str, list[Reading]] = {}
    for row in readings.rows:
        if not row.words.get("axis"):
            raise BadReading(
                f"{row.where}: no axis", "add a column axis with x, y or z, or give --axis"
            )
        groups.setdefault(row.words["axis"], []).append(row)
    for name in sorted(groups.keys() - question.steps.keys()):
        raise UsageError(f"no present steps for axis {name}", f"give --steps {name}=N")
    crossed = question.build == "crossed-belts" and not groups.keys().isdisjoint(ACROSS)
    needless = question.steps.keys() - groups.keys() - set(ACROSS if crossed else ())
    for name in sorted(needless):
        raise UsageError(
            f"--steps {name}={question.steps[name]:g}: no reading of axis {name}",
            "leave it out, or measure that axis too",
        )
    lengths = {name: _lengths(rows) for name, rows in sorted(groups.items())}
    flat = [name for name in lengths if name in ACROSS]
    if question.build == "delta" and flat:
        if len(flat) == len(lengths):
            raise Refusal("towers")
        lengths = {name: both for name, both in lengths.items() if name not in ACROSS}
        odd = [Remark("not-across")]
        return [_sample(name, groups[name], *both, question, odd) for name, both in lengths.items()]
    if crossed:
        return _crossed(groups, lengths, question)
    odd = []
    if len(flat) > 1 and not question.build:
        one, two = (float(np.median(lengths[name][1] / lengths[name][0])) for name in flat)
        odd = [Remark("build")] if abs(one - two) > AXIS.matters else []
    return [
        _sample(name, groups[name], *both, question, odd if [name] == flat[-1:] else ())
        for name, both in lengths.items()
    ]


def _crossed(
    groups: Mapping[str, list[Reading]],
    lengths: Mapping[str, tuple[Array, Array]],
    question: AxisQuestion,
) -> list[Sample]:
    """With crossed belts a motor's steps are of X and of Y: both get the value of all readings of
    either, and what differs between X and Y is kept out of it.
    """
    steps = {question.steps[name] for name in ACROSS if name in question.steps}
    if len(steps) > 1:
        raise UsageError(
            f"--steps x={question.steps['x']:g} y={question.steps['y']:g}: crossed belts",
            "make them one value in the printer, and measure again",
        )
    flat = [name for name in ACROSS if name in lengths]
    rows = [row for name in flat for row in groups[name]]
    commanded, moved = (np.concatenate([lengths[name][k] for name in flat]) for k in (0, 1))
    both = replace(question, steps={**question.steps, **dict.fromkeys(ACROSS, steps.pop())})
    samples = [_sample(name, rows, commanded, moved, both) for name in ACROSS]
    if len(flat) > 1:
        of_x = np.repeat([0.5, -0.5], [len(groups[name]) for name in flat])
        sides = {**samples[0].sides, UNLIKE_SIDE: of_x * samples[0].measured}
        samples = [replace(one, sides=sides) for one in samples]
    others = [name for name in lengths if name not in ACROSS]
    return [*samples, *(_sample(name, groups[name], *lengths[name], question) for name in others)]


def _lengths(rows: Sequence[Reading]) -> tuple[Array, Array]:
    """Lengths commanded and moved, with the sign of the direction."""
    commanded, moved = (np.array([r.value(c) for r in rows]) for c in ("asked_mm", "moved_mm"))
    for row, a, m in zip(rows, commanded, moved, strict=True):
        if a == 0 or (_kind(row) != "move" and a < 0):
            raise BadReading(f"{row.where}: commanded {a:g} is not above 0", "measure again, in mm")
        if m * np.sign(a) <= 0:
            raise BadReading(
                f"{row.where}: measured {m:g} where {a:g} was commanded",
                "write both with the sign of the direction",
            )
    return commanded, moved


def _kind(row: Reading) -> str:
    return row.words.get("kind") or "move"


def _sample(
    name: str,
    rows: Sequence[Reading],
    commanded: Array,
    moved: Array,
    question: AxisQuestion,
    odd: Sequence[Remark] = (),
) -> Sample:
    direction, lengths = np.sign(commanded), np.abs(commanded)
    kinds = [_kind(row) for row in rows]
    refuse_gross(float(np.median(np.abs(moved) / lengths)))
    finest = min(row.numbers["moved_mm"].step for row in rows)
    placing = max(PLACING_MM[k] for k in kinds)
    return Sample(
        name=name,
        rows=tuple(rows),
        measured=np.abs(moved),
        commanded=lengths,
        sides=_sides(name, kinds, lengths, direction),
        known=reading_spread(
            question.resolution_mm or max(finest, FINEST_MM),
            placing if question.placing_mm is None else question.placing_mm,
        ),
        column="moved_mm",
        present=question.steps[name],
        no_zero=set(kinds) == {"move"},
        remarks=tuple(odd),
    )


def _sides(name: str, kinds: Sequence[str], lengths: Array, direction: Array) -> dict[str, Array]:
    """The errors that do not grow with the length and that these readings can tell apart from the
    scale.
    """
    side = np.array([-1.0 if k == "inside" else 1.0 for k in kinds])
    both, apart = len(np.unique(side)) > 1, several(lengths)
    if not apart and not both and any(k != "move" for k in kinds):
        one = float(lengths.min())
        longer = f"{3 * one:g} and {5 * one:g} mm" if one <= 40 else f"{one / 4:g} mm"
        raise Refusal("one-length", axis=name, longer=longer)
    sides = {"offset": side} if apart or both else {}
    return {**sides, "backlash": direction} if len(np.unique(direction)) > 1 else sides


def _bend(one: Measurement) -> float | None:
    """By how much the scale changes from the shortest to the longest length, as a share; None where
    that is within chance, or does not matter.
    """
    columns, measured = one.sample.columns[one.keep], one.sample.measured[one.keep]
    lengths = columns[:, 0]
    free = len(measured) - columns.shape[1] - 1
    if free < FEWEST_FREE or len(np.unique(lengths)) < FEWEST_LENGTHS:
        return None
    sides = np.column_stack([columns[:, 1:], lengths**2])
    with contextlib.suppress(ValueError):  # too few to part them
        line = line_of(lengths, measured, sides, one.sample.known)
        bend = line.offsets[-1]
        change = float(2 * bend.value * np.ptp(lengths) / line.scale.value)
        if abs(bend.value) > SURE_BEND * bend.half_width and abs(change) > AXIS.matters:
            return change
    return None


def _doubts(one: Measurement, question: AxisQuestion) -> list[Remark]:
    """Backlash; and a value further from what the parts make than any tolerance is refused."""
    axis, odd = one.sample.name, []
    backlash = one.offsets.get("backlash")
    if backlash is not None and abs(backlash.value) > max(backlash.half_width, BACKLASH_MM / 2):
        odd.append(Remark("there-and-back", axis=axis, gap=abs(2 * backlash.value)))
    change = _bend(one)
    if change is not None:
        odd.append(Remark("bends", axis=axis, change=change))
    unlike = one.offsets.get(UNLIKE_SIDE)
    if axis == "x" and unlike is not None and unlike.tells(0.0):
        odd.append(Remark("unlike", share=abs(unlike.value), half=unlike.half_width))
    if question.parts is not None:
        built, steps = question.parts.steps_per_mm, one.setting
        for factor in (2, 4, 0.5, 0.25):
            if abs(steps / built / factor - 1) < THEORY_WITHIN:
                raise Refusal("microsteps", odd, axis=axis, steps=steps, factor=factor, built=built)
        if abs(steps / built - 1) > THEORY_WITHIN:
            facts = {"steps": steps, "built": built, "within": THEORY_WITHIN}
            raise Refusal("theory", odd, axis=axis, **facts)
    return odd


def _evidence(found: Fitted[AxisQuestion]) -> dict[str, Any]:
    out: dict[str, Any] = {}
    for one in found.things:
        offset, backlash = one.offsets.get("offset"), one.offsets.get("backlash")
        lengths = one.sample.columns[one.keep, 0]
        out[one.sample.name] = {
            "best": {"steps_per_mm": one.best},
            "ratio": one.estimate.value,
            "ratio_spread": one.estimate.half_width,
            "runs": one.used,
            "offset_mm": None if offset is None else offset.value,
            "offset_spread_mm": None if offset is None else offset.half_width,
            "backlash_mm": None if backlash is None else 2 * backlash.value,
            "left_out": len(one.left_out),
            "lengths_mm": [float(np.abs(lengths).min()), float(np.abs(lengths).max())],
        }
    rectangle = found.question.rectangle
    return out if rectangle is None else {**out, "skew_deg": rectangle.skew_deg}


def _table(found: Fitted[AxisQuestion]) -> Sequence[Shown]:
    rows = [Shown("axis", ("runs", "ratio", "95 %", ""))]
    for one in found.things:
        cells = (f"{one.estimate.value:.5f}", f"± {one.estimate.half_width:.5f}", one.verdict)
        rows.append(Shown(f"  {one.sample.name}", (str(one.used), *cells)))
    for one in found.things:
        if (back := one.offsets.get("backlash")) is not None:
            words = f"{2 * back.value:+.2f} ± {2 * back.half_width:.2f} mm"
            rows.append(Shown(f"  {one.sample.name} there and back", (words, "", "", "")))
    if found.question.rectangle is not None:
        skew = f"{found.question.rectangle.skew_deg:+.3f}°"
        rows.append(Shown("skew of XY", (skew, "", "", "")))
    return rows


AXIS: Measurand[AxisQuestion] = Measurand(
    group="axis",
    key="steps-{name}",
    field="steps",
    line="steps",
    title="steps per mm",
    unit="",
    comment="{NAME} steps per mm {setting:.4f}",
    samples=axis_samples,
    matters=0.003,  # share of a length that matters on a part: 0.3 mm on 100 mm
    unseen="no part shows that",
    wide="wide-scale",
    large=0.02,  # more than belts and screws are off by
    large_said="large-move",
    because=(
        "axis {name} moves {value:.5f} ± {half:.5f} of the commanded length, between {low:+.2%} "
        "and {high:+.2%}; {rest}; steps cannot correct an offset that is the same at every length "
        "(line width, backlash, zero)",
        "axis {name} moves {value:.5f} ± {half:.5f} of the commanded length: {formula} = "
        "{best:.8g}",
    ),
    means=(
        "a part of 100 mm is right within {widest_percent:.2f} mm, as far as steps are concerned",
        "a part of 100 mm is {percent:.2f} mm too long in {NAME} now",
        "a part of 100 mm is {percent:.2f} mm too short in {NAME} now",
    ),
    again=(
        "nothing to enter; measure again after a change of belt, pulley, screw or motor",
        "fit these readings: `omphalon axis fit`",
        "enter and store, switch off and on, measure again and check it: `omphalon axis check "
        "READINGS.csv {steps}`",
    ),
    scales=True,
    one_said="one-move",
    doubts=_doubts,
    evidence=_evidence,
    table=_table,
    figure=("Axis {name}", "", ""),
)


@dataclass(frozen=True, kw_only=True)
class MoveTest:
    """The axis, its longest move, how finely it is read, and the certainty wanted (relative, 95
    %).
    """

    axis: str
    longest_mm: float = 150.0
    resolution_mm: float
    wanted: float

    @property
    def lengths_mm(self) -> tuple[float, ...]:
        """The moves, from the same start."""
        return tuple(round(self.longest_mm * share, 1) for share in SHARES)


def plan_axis(test: MoveTest, dialect: Dialect) -> Plan:
    """Say which moves to measure: three lengths, both directions, by absolute positions.

    Raises UsageError if no sensible number of moves makes the certainty.
    """
    one = reading_spread(test.resolution_mm, PLACING_MM["move"], ends=2)
    runs = runs_needed(one, test.lengths_mm, test.wanted, sides=1, most=MOST_RUNS)
    if runs is None:
        raise UsageError(
            f"--wanted {test.wanted:g}: not to be had over {test.longest_mm:g} mm",
            "move further, or ask for less",
        )
    lengths, name = ", ".join(f"{x:g}" for x in test.lengths_mm), test.axis.upper()
    lines = [
        dialect.line("home", axis=name),
        dialect.line("absolute"),
        *(dialect.line("move", axis=name, length=x, feed=FEED_MM_MIN) for x in test.lengths_mm),
    ]
    return Plan(
        "axis-plan",
        f"Measurement moves of axis {test.axis}",
        (
            "Check the caliper or dial gauge on a part of known length: no interval includes its "
            "own scale error.",
            "Home the axis, nothing hot. Zero the caliper or dial gauge at the axis's zero, and "
            "rest it on the same faces every time.",
            f"Move to {lengths} mm (absolute positions from the homed zero), and "
            f"measure each from there, {plural(runs, 'time')}: with a caliper read to "
            f"{test.resolution_mm:g} mm that makes ±{test.wanted:.2%}.",
            "Measure half of them moving back to the start (write both as negative "
            "numbers), which shows backlash.",
            f"Or print parts of {lengths} mm and measure outside and inside: then the line's width "
            "does not affect the steps.",
        ),
        tuple(x for x in lines if x),
        prose(command("axis fit", "READINGS.csv", steps=f"{test.axis}=N")),
        settings={"runs": runs, "lengths_mm": list(test.lengths_mm)},
    )
