"""Which moves to measure, and how often."""

from __future__ import annotations

import math
from dataclasses import dataclass

from omphalon.errors import UsageError
from omphalon.finding import Plan
from omphalon.lines.dialect import Dialect
from omphalon.physics import scale
from omphalon.studies.axis.question import PLACING_MM
from omphalon.studies.wording import plural

SHARES = (
    0.2,
    0.6,
    1.0,
)  # of the longest move: a zero error shows between the shortest and the longest
MOST_RUNS = 60
FEED_MM_MIN = 1200


@dataclass(frozen=True, kw_only=True)
class MoveTest:
    """The axis, its longest move, how finely it is read, and the certainty wanted (relative, 95
    %).
    """

    axis: str
    longest_mm: float
    resolution_mm: float
    wanted: float

    @property
    def lengths_mm(self) -> tuple[float, ...]:
        """The moves, from the same start."""
        return tuple(round(self.longest_mm * share, 1) for share in SHARES)


def runs_needed(test: MoveTest) -> int:
    """How often each length must be measured for the wanted certainty.

    Raises
    ------
    UsageError
        If no sensible number does.
    """
    lengths = test.lengths_mm
    known = scale.HAND * scale.reading_spread(test.resolution_mm, PLACING_MM["move"], ends=2).whole
    spread = sum((x - sum(lengths) / len(lengths)) ** 2 for x in lengths)
    count = next(
        (
            n
            for n in range(1, MOST_RUNS)
            if scale.student_95(scale.PRIOR_FREEDOM + len(lengths) * n - 2)
            * known
            / math.sqrt(n * spread)
            <= test.wanted
        ),
        None,
    )
    if count is None:
        raise UsageError(
            f"--wanted {test.wanted:g}: not to be had over {test.longest_mm:g} mm",
            "move further, or ask for less",
        )
    return count


def plan_axis(test: MoveTest, dialect: Dialect) -> Plan:
    """Say which moves to measure: three lengths, both directions, by absolute positions.

    Raises
    ------
    UsageError
        If no sensible number of moves makes the certainty.
    """
    runs, told = runs_needed(test), ", ".join(f"{x:g}" for x in test.lengths_mm)
    name = test.axis.upper()
    lines = [
        dialect.line("home", axis=name),
        dialect.line("absolute"),
        *(dialect.line("move", axis=name, length=x, feed=FEED_MM_MIN) for x in test.lengths_mm),
    ]
    return Plan(
        "axis-plan",
        f"Measured moves of axis {test.axis}",
        (
            "Home the axis, nothing hot. Zero the caliper or dial gauge at the axis's zero, and "
            "rest it on the same faces every time.",
            f"Move to {told} mm: absolute positions, counted from where the axis was homed, and "
            "measure each from there, "
            f"{plural(runs, 'time')}: with a caliper read to {test.resolution_mm:g} mm that makes "
            f"±{test.wanted:.2%}.",
            "Measure half of them moving back to the start (write asked and moved as negative "
            "numbers): that shows backlash.",
            f"Or print parts of {told} mm and measure outside and inside: line width stays out of "
            "the steps.",
        ),
        tuple(x for x in lines if x),
        f"omphalon axis fit READINGS.csv --steps {test.axis}=N",
        settings={"runs": runs, "lengths_mm": list(test.lengths_mm)},
    )
