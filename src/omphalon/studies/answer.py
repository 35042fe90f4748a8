"""What all studies decide with: refusals and oddities as codes and facts, and readings that do not
belong.

No sentence stands here: `wording` says what these mean.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal, NoReturn

import numpy as np

from omphalon.arrays import Array, Mask
from omphalon.errors import BadReading, UsageError
from omphalon.physics import scale
from omphalon.recording import Readings
from omphalon.units import Number

Verdict = Literal["change", "keep"]
Facts = Mapping[str, object]


@dataclass(frozen=True)
class Oddity:
    """Something odd on the way to an answer: a code of finding.WARNINGS, which sentence of it, and
    the facts for it.
    """

    code: str
    sentence: str
    facts: Facts = field(default_factory=dict)


@dataclass(frozen=True)
class Retest:
    """The data cannot support an answer: which reason, its facts, and what was odd on the way."""

    reason: str
    facts: Facts = field(default_factory=dict)
    oddities: tuple[Oddity, ...] = ()


class Unanswerable(Exception):
    """Carries a Retest from where it is seen to where the study answers."""

    def __init__(self, reason: str, oddities: Sequence[Oddity] = (), /, **facts: object) -> None:
        super().__init__(reason, facts)
        self.retest = Retest(reason, facts, tuple(oddities))


# ratio of got to asked → which slip it is
GROSS = (
    (0.1, "cm"),
    (10.0, "cm"),
    (1 / 25.4, "inch"),
    (25.4, "inch"),
    (0.5, "half-steps"),
    (2.0, "half-steps"),
    (0.25, "quarter-steps"),
    (4.0, "quarter-steps"),
)
GROSS_WITHIN = 0.06
FURTHEST = 2.0  # no part is off by more
MOST_READINGS = 60


def refuse_gross(ratio: float, oddities: Sequence[Oddity] = (), furthest: float = FURTHEST) -> None:
    """Refuse a ratio of got to asked that is a mistake of units or of microstepping, negative, or
    no length error at all.

    Parameters
    ----------
    ratio : got ÷ asked
    oddities : seen so far, which the refusal carries
    furthest : ratio beyond which no part is wrong

    Raises
    ------
    Unanswerable
        With the likely slip as its reason.
    """
    for factor, slip in GROSS:
        if abs(ratio / factor - 1) < GROSS_WITHIN:
            raise Unanswerable(slip, oddities, ratio=ratio)
    if not 1 / furthest < ratio < furthest:
        raise Unanswerable(
            "negative-scale" if ratio <= 0 else "no-such-scale", oddities, ratio=ratio
        )


def refuse_gaps(readings: Readings, *names: str) -> None:
    """Refuse readings of which some rows lack a column that others have.

    Parameters
    ----------
    readings : rows
    columns : those that must be in all rows or in none

    Raises
    ------
    BadReading
        With the row and the column.
    """
    gap = readings.gap(*names)
    if gap is not None:
        row, name = gap
        raise BadReading(f"{row.where}: no {name}", "fill it in, or take the reading out")


def no_readings(problem: str, remedy: str) -> NoReturn:
    """Refuse a command without the readings it needs.

    Raises
    ------
    UsageError
    """
    raise UsageError(problem, remedy)


@dataclass(frozen=True)
class Kept:
    """Readings that belong together, and what is odd about those that do not."""

    keep: Mask
    oddities: tuple[Oddity, ...]


def belonging(
    columns: Array,
    values: Array,
    known: float,
    where: Sequence[str],
    written: Sequence[Number],
    sign: float = 1.0,
) -> Kept:
    """Which readings belong together.

    Parameters
    ----------
    columns : (n, k)
        What the values should lie on.
    values : (n,) in mm
    known : deviation of one reading beforehand, in mm
    where, written : (n,)
        Each reading's place and how it was written, for slips of the pen.
    sign : 1 where the written number grows with the value, −1 where it falls

    Raises
    ------
    Unanswerable
        If some reading is wrong and it cannot be told which.
    """
    found = scale.strangers(columns, values, known)
    if found.unclear:
        raise Unanswerable("disagree")
    out, odd = found.out, []
    if not out.any():
        return Kept(~out, ())
    usual = np.linalg.lstsq(columns[~out], values[~out], rcond=None)[0]
    expected_of = np.array([w.value for w in written]) - sign * (values - columns @ usual)
    for k in np.flatnonzero(out).tolist():
        one, unit = written[k], written[k].step * 10.0 ** written[k].places
        fits = scale.slip_of_pen(
            one.value / unit, float(expected_of[k]) / unit, known / unit, one.places
        )
        facts = {"where": where[k], "written": one.written}
        if fits is not None:
            odd.append(
                Oddity("slip-of-the-pen", "pen", {**facts, "fits": f"{fits:.{one.places}f}"})
            )
        else:
            expected = f"{expected_of[k] / unit:.{max(one.places, 1)}f}"
            odd.append(Oddity("reading-left-out", "left-out", {**facts, "expected": expected}))
    return Kept(~out, tuple(odd))


def narrow_enough(
    estimate: scale.Estimate, matters: float, readings: int, oddities: Sequence[Oddity] = ()
) -> None:
    """Refuse to keep a setting on an interval in which an error that matters could hide.

    Parameters
    ----------
    estimate : of what was measured
    matters : in its unit
        The least error that is worth correcting.
    readings : how many it stands on
    oddities : seen so far, which the refusal carries

    Raises
    ------
    Unanswerable
        With how many readings like these would do: an interval shrinks with the root of their
        number.
    """
    if estimate.half_width <= matters:
        return
    raise Unanswerable(
        "wide",
        oddities,
        value=estimate.value,
        half_width=estimate.half_width,
        matters=matters,
        count=readings_needed(estimate.half_width, matters, readings),
    )


def readings_needed(half_width: float, matters: float, readings: int) -> int | None:
    """How many readings like these would do; None where it would take more than anybody takes."""
    count = max(math.ceil(readings * (half_width / matters) ** 2), readings + 1)
    return count if count <= MOST_READINGS else None
