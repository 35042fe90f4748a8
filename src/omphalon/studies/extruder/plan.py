"""How to feed and measure, and how many runs make the wanted certainty."""

from __future__ import annotations

import math
from dataclasses import dataclass

from omphalon.errors import UsageError
from omphalon.finding import Plan
from omphalon.lines.dialect import Dialect
from omphalon.physics import scale
from omphalon.studies.extruder.question import PLACING_MM
from omphalon.studies.wording import plural

MOST_RUNS = 100
BEYOND_MM = 30.0  # the mark sits that much further, so that feeding too much can still be seen


@dataclass(frozen=True, kw_only=True)
class FeedingTest:
    """What is to be fed, how finely it is read, and the certainty wanted (relative, 95 %)."""

    asked_mm: float
    resolution_mm: float
    wanted: float
    temp_c: float
    speed_mm_s: float


def runs_needed(test: FeedingTest) -> int:
    """How many runs make the wanted certainty, by the error of two marks and two readings of the
    rule.

    Raises
    ------
    UsageError
        If no sensible number does.
    """
    one = (
        scale.HAND * scale.reading_spread(test.resolution_mm, PLACING_MM, ends=2, placings=2).whole
    )
    count = next(
        (
            n
            for n in range(1, MOST_RUNS)
            if scale.student_95(scale.PRIOR_FREEDOM + n - 1) * one / math.sqrt(n) / test.asked_mm
            <= test.wanted
        ),
        None,
    )
    if count is None:
        raise UsageError(
            f"--wanted {test.wanted:g}: not to be had with marks placed to {PLACING_MM} mm over "
            f"{test.asked_mm:g} mm",
            "ask for more length, or a wider certainty",
        )
    return count


def plan_extruder(test: FeedingTest, dialect: Dialect) -> Plan:
    """Say how to run the feeding test, with the lines that heat, feed and cool.

    Parameters
    ----------
    test : length, rule, certainty, heat and speed
    dialect : the lines that heat, feed and cool

    Raises
    ------
    UsageError
        If no sensible number of runs makes the certainty.
    """
    runs, asked, mark = runs_needed(test), test.asked_mm, test.asked_mm + BEYOND_MM
    lines = [
        dialect.line("heat", target=test.temp_c),
        dialect.line("relative-feed"),
        dialect.line("feed", length=asked, feed=max(60 * test.speed_mm_s, 1.0)),
        dialect.line("cool"),
    ]
    return Plan(
        "extruder-plan",
        f"Feeding test of the extruder, {asked:g} mm at {test.temp_c:g} °C",
        (
            f"Heat to {test.temp_c:g} °C, hotter rather than colder, and load filament you can "
            "mark: light filament, dark mark.",
            f"Mark it {mark:g} mm above a fixed edge of the extruder, so that feeding too much "
            "can still be seen.",
            f"Feed {asked:g} mm at {test.speed_mm_s:g} mm/s, slowly, so that nothing slips.",
            "Measure from the same edge to the mark: that is what is left. If the mark went in, "
            "the number is negative.",
            f"Do it {plural(runs, 'time')}: with marks placed to {PLACING_MM} mm and a rule read "
            f"to {test.resolution_mm:g} mm, "
            f"that makes ±{test.wanted:.1%}. Feed again for each, cool down after the last.",
        ),
        tuple(x for x in lines if x),
        f"omphalon extruder fit --steps N --asked {asked:g} --mark {mark:g} --left MM",
        settings={"runs": runs, "asked_mm": asked},
    )
