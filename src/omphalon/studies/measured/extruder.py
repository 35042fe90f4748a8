"""Steps per mm of the extruder, from fed lengths: the ways of measuring them, slip over speed,
theory by construction; and the feeding test.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from omphalon.answers.commands import command, prose
from omphalon.answers.finding import Plan, Shown
from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.arrays import Array, Mask
from omphalon.base.errors import BadReading, UsageError
from omphalon.lines.dialect import Dialect
from omphalon.physics import scale
from omphalon.physics.scale import reading_spread
from omphalon.recordings.columns import EXTRUDER as COLUMNS
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
from omphalon.studies.measured.words import AS_MEASURED, offset_words
from omphalon.tables.units import plural

PLACING_MM = 0.3  # deviation of a mark placed, or met, by hand; measured: docs/measuring.md
BY_EYE_MM = 0.1  # of a flag or a cut end held against an edge by eye; a judgement
FINEST_MM = 0.01  # that a rule or caliper reads to
THEORY_WITHIN = 0.10  # of what the parts make: a wheel bites in
SLIPPED = 0.005  # of the length, from slow to fast: less is no matter
SHOWN_RUNS = 8  # in the table
SAME_AGAIN = 3  # readings, the same to the digit
MOST_RUNS = 100  # nobody feeds more often
BEYOND_MM = 30.0  # the mark sits that much further, so that feeding too much can still be seen


@dataclass(frozen=True, kw_only=True)
class ExtruderQuestion:
    """The present steps per mm, how finely was read, how well a mark is placed, and the parts if
    known.
    """

    steps: float
    resolution_mm: float | None = None
    placing_mm: float = PLACING_MM
    parts: Parts | None = None


# way of measuring what was fed → sign of each column in the fed length
WAYS = ({"fed_mm": 1.0}, {"before_mm": 1.0, "after_mm": -1.0}, {"mark_mm": 1.0, "left_mm": -1.0})


def fed_sample(readings: Readings, question: ExtruderQuestion) -> list[Sample]:
    """Fed lengths, and what is known of one: two readings of the rule, two settings of a mark or an
    edge.

    Raises UsageError, BadReading if something is missing, or a length cannot be one; Refusal if
    commanded and fed look swapped, or the ratio is a slip of units or microsteps.
    """
    readings.refuse_gaps("asked_mm", *(c.name for c in COLUMNS))
    if not readings.has("asked_mm"):
        raise UsageError(
            "no commanded length for every reading", "give --asked MM, or a column asked_mm"
        )
    ways = [way for way in WAYS if readings.has(*way)]
    if not ways:
        raise UsageError(
            "no fed lengths", "give --mark with --left, --before with --after, or --fed"
        )
    if len(ways) > 1:
        one, two = (list(way)[-1] for way in ways[:2])
        raise UsageError(f"fed lengths told twice, by {one} and {two}", "give one way of measuring")
    way, rows = ways[0], readings.rows
    back = np.array([r.value("back_mm") if "back_mm" in r.numbers else 0.0 for r in rows])
    # what is pulled back goes through the same steps as what is fed
    commanded = np.array([r.value("asked_mm") for r in rows]) - back
    fed = np.sum([sign * np.array([r.value(c) for r in rows]) for c, sign in way.items()], axis=0)
    _refuse_idle_back(rows, back, commanded)
    for row, length in zip(rows, fed, strict=True):
        if not length > 0:
            raise BadReading(
                f"{row.where}: the fed length {length:g} is not above 0", "measure again, in mm"
            )
    refuse_gross(float(np.median(fed / commanded)))
    _refuse_swapped(commanded, fed, list(way)[-1])
    resolution = question.resolution_mm or max(readings.step(*way), FINEST_MM)
    placing = question.placing_mm if "mark_mm" in way else BY_EYE_MM
    known = reading_spread(resolution, placing, ends=2, placings=2)
    slow, slips = _without_slip(readings, commanded, fed, known.whole)
    apart = slow.sum() >= 3 and several(commanded[slow])
    column, sign = list(way.items())[-1]
    return [
        Sample(
            rows=rows,
            measured=fed,
            commanded=commanded,
            sides={"offset": np.ones(len(fed))} if apart else {},
            known=known,
            column=column,
            sign=sign,
            present=question.steps,
            among=slow,
            no_zero=True,
            remarks=tuple(slips),
        )
    ]


def _refuse_idle_back(rows: Sequence[Reading], back: Array, commanded: Array) -> None:
    """Refuse filament pulled back where nothing is left for it to say: beside a piece that was cut
    off, or a mark that is still beyond the edge; or as much as was commanded.
    """
    for row, pulled, net in zip(rows, back, commanded, strict=True):
        if not pulled:
            continue
        beyond = "left_mm" in row.numbers and row.value("left_mm") < 0
        if "fed_mm" in row.numbers or beyond:
            what = "--fed" if "fed_mm" in row.numbers else "a negative --left"
            raise UsageError(
                f"{row.where}: --back {pulled:g} beside {what}",
                "give what was pulled back only where the mark, or the flag, was measured after it",
            )
        if net <= 0:
            raise UsageError(
                f"{row.where}: --back {pulled:g}: as much as was commanded, or more",
                "give the length, in commanded mm, that was pulled back until the mark showed",
            )


def _refuse_swapped(commanded: Array, fed: Array, column: str) -> None:
    """A round answer to an odd question, again and again the same to the digit: the numbers changed
    places.
    """
    if np.any(fed != fed[0]) or not np.all(_roundness(fed) > _roundness(commanded)):
        return
    if len(fed) >= SAME_AGAIN or np.all(_roundness(commanded) == 0):
        facts = {"fed": float(fed[0]), "commanded": float(commanded[0]), "column": column}
        raise Refusal("swapped", **facts)


def _roundness(lengths: Array) -> Array:
    """0 where a length has decimals, 1 where it is whole, 2 where it is whole tens, (n,)."""
    whole: Array = np.where(lengths % 1 == 0, 1.0, 0.0)
    return np.where(lengths % 10 == 0, 2.0, whole)


def _without_slip(
    readings: Readings, commanded: Array, fed: Array, known: float
) -> tuple[Mask, list[Remark]]:
    """Where the ratio falls with speed beyond chance, only the slowest runs count."""
    every = np.ones(len(fed), bool)
    if not readings.has("speed_mm_s"):
        return every, []
    speed = np.array([r.value("speed_mm_s") for r in readings.rows])
    speeds, of = np.unique(speed, return_inverse=True)
    ratio = fed / commanded
    means = np.bincount(of, ratio) / np.bincount(of)
    within = float(np.sum((ratio - means[of]) ** 2) * np.mean(commanded**2))
    one, _ = scale.pooled(within, len(speed) - len(speeds), known)
    fall, sure = scale.falls_with(speed, ratio, one / commanded)
    if not sure or fall < SLIPPED:
        return every, []
    facts = {"fall": fall, "slow": float(speed.min()), "fast": float(speed.max())}
    return speed <= speed.min() * 1.01, [Remark("slips", **facts)]


def _against_parts(one: Measurement, question: ExtruderQuestion) -> list[Remark]:
    built = None if question.parts is None else question.parts.steps_per_mm
    if built is None or abs(one.best / built - 1) < THEORY_WITHIN:
        return []
    return [Remark("parts-differ", built=built, new=one.best)]


def _fed_at(one: Measurement) -> dict[str, list[float]]:
    """At which speeds and temperatures the readings were fed, those that are known."""
    known = {
        name: sorted({r.value(name) for r in one.sample.rows if name in r.numbers})
        for name in ("speed_mm_s", "temp_c")
    }
    return {name: values for name, values in known.items() if values}


def _evidence(found: Fitted[ExtruderQuestion]) -> dict[str, Any]:
    one, parts = found.one, found.question.parts
    offset = one.offsets.get("offset")
    assert one.sample.commanded is not None
    return {
        "best": {"steps_per_mm": one.best},
        "ratio": one.estimate.value,
        "ratio_spread": one.estimate.half_width,
        "runs": one.used,
        "expected_mm": float(one.sample.commanded[one.keep].mean()),
        "fed_mm": float(one.sample.measured[one.keep].mean()),
        "reading_deviation_mm": one.estimate.deviation,
        "offset_mm": None if offset is None else offset.value,
        "offset_spread_mm": None if offset is None else offset.half_width,
        "left_out": one.left_out,
        **_fed_at(one),
        **({} if parts is None else {"theory_steps_per_mm": parts.steps_per_mm}),
    }


def _table(found: Fitted[ExtruderQuestion]) -> Sequence[Shown]:
    one = found.one
    assert one.sample.commanded is not None
    rows = [Shown("readings", ("commanded", "fed", "ratio", ""))]
    runs = list(zip(one.sample.commanded, one.sample.measured, one.keep, strict=True))
    for n, (commanded, fed, kept) in enumerate(runs[:SHOWN_RUNS], 1):
        cells = (f"{commanded:g} mm", f"{fed:.2f} mm", f"{fed / commanded:.4f}")
        rows.append(Shown(f"  {n}", (*cells, "" if kept else "left out")))
    if len(runs) > SHOWN_RUNS:
        rows.append(Shown("", (f"and {len(runs) - SHOWN_RUNS} more", "", "", "")))
    ratio, half = one.estimate.value, one.estimate.half_width
    rows.append(Shown("together", (plural(one.used, "run"), "", f"{ratio:.4f}", f"± {half:.4f}")))
    if one.offsets:
        words = f"{offset_words(one)} at every length, not counted in the steps"
        rows.append(Shown("zero error", (words,)))
    if at := _fed_at(one):
        units = {"speed_mm_s": "mm/s", "temp_c": "°C"}
        parts = [f"{' and '.join(f'{v:g}' for v in at[n])} {units[n]}" for n in at]
        rows.append(Shown("fed at", (", ".join(parts),)))
    if one.sample.column == "fed_mm":
        words = "of a piece that was fed without the nozzle: whether the drive slips under pressure"
        rows.append(Shown("not told", (words,)))
    return rows


# column that was read last → how it is measured again
AGAIN = {
    "fed_mm": "--fed MM",
    "after_mm": "--before MM --after MM",
    "left_mm": "--mark MM --left MM",
}
GOT = "{measured:.2f} mm of {commanded:g} mm were fed, a ratio of {value:.4f} ± {half:.4f}"
EXTRUDER: Measurand[ExtruderQuestion] = Measurand(
    group="extruder",
    key="steps-e",
    field="steps",
    line="steps",
    title="steps per mm",
    unit="per mm",
    comment="E steps per mm {setting:.4f}",
    samples=fed_sample,
    matters=0.015,  # share of plastic that is seen on a print: a wall's 1.5 %
    unseen="no print shows that",
    wide="wide-feed",
    large=0.15,  # more than wear or tolerance
    large_said="large-feed",
    because=(
        f"{GOT}: between {{low:+.1%}} and {{high:+.1%}} of the commanded length; {{rest}}",
        f"{GOT}: {{formula}} = {{best:.10g}}",
    ),
    means=(
        f"the extruder feeds what is commanded, {AS_MEASURED}",
        "now {off:.1%} too much plastic is fed: bulging lines and a scraping nozzle",
        "now {off:.1%} too little plastic is fed: gaps between lines and weak walls",
    ),
    again=(
        "nothing to enter; measure again after a change of drive wheel, motor or filament path",
        "fit these readings: `omphalon extruder fit`",
        "enter and store, switch off and on, feed once more and check it: "
        "`omphalon extruder check --steps {setting:.2f} --asked {first:g} {way}`",
    ),
    facts=lambda one: {"way": AGAIN[one.sample.column]},
    scales=True,
    one_said="one-run",
    doubts=_against_parts,
    evidence=_evidence,
    table=_table,
    figure=("Filament: fed against commanded", "", ""),
)


@dataclass(frozen=True, kw_only=True)
class FeedingTest:
    """What is to be fed, how finely it is read, and the certainty wanted (relative, 95 %)."""

    asked_mm: float
    resolution_mm: float
    wanted: float
    temp_c: float
    speed_mm_s: float


def plan_extruder(test: FeedingTest, dialect: Dialect) -> Plan:
    """Say how to run the feeding test, with the lines that heat, feed and cool.

    Raises UsageError if no sensible number of runs makes the certainty.
    """
    commanded, mark = test.asked_mm, test.asked_mm + BEYOND_MM
    one = reading_spread(test.resolution_mm, PLACING_MM, ends=2, placings=2)
    runs = runs_needed(one, [commanded], test.wanted, sides=0, most=MOST_RUNS)
    if runs is None:
        raise UsageError(
            f"--wanted {test.wanted:g}: not to be had with marks placed to {PLACING_MM} mm over "
            f"{commanded:g} mm",
            "ask for more length, or a wider certainty",
        )
    lines = [
        dialect.line("select") if dialect.tool else None,
        dialect.line("heat", target=test.temp_c),
        dialect.line("relative-feed"),
        dialect.line("feed", length=commanded, feed=max(60 * test.speed_mm_s, 1.0)),
        dialect.line("cool"),
    ]
    return Plan(
        "extruder-plan",
        f"Feeding test of the extruder, {commanded:g} mm at {test.temp_c:g} °C",
        (
            f"Heat to {test.temp_c:g} °C, rather hotter than colder, and load filament you can "
            "mark: light filament, dark mark.",
            f"Mark it {mark:g} mm above a fixed edge of the extruder, so that feeding too much "
            "is still visible. A flag of tape works, too: take it off before it reaches the gears.",
            f"Feed {commanded:g} mm at {test.speed_mm_s:g} mm/s, slowly, so that nothing slips.",
            "Measure the length left from the same edge to the mark. If the mark went in, "
            "the number is negative.",
            f"Do it {plural(runs, 'time')}: with marks placed to {PLACING_MM} mm and a rule read "
            f"to {test.resolution_mm:g} mm, that makes ±{test.wanted:.1%}. Feed again for each, "
            "cool down after the last.",
        ),
        tuple(x for x in lines if x),
        prose(command("extruder fit", steps="N", asked=commanded, mark=mark, left="MM")),
        settings={"runs": runs, "asked_mm": commanded},
    )
