"""What the studies of measured lengths share: refusals, readings that do not belong, lines to enter."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from omphalon.bench.dialect import Dialect
from omphalon.errors import BadReading
from omphalon.finding import Finding, Warned
from omphalon.physics import scale
from omphalon.units import Length

Array = NDArray[np.float64]


class Unanswerable(Exception):
    """The data cannot support an answer: why, and the remedy. A study turns it into the verdict `retest`."""

    def __init__(self, because: str, remedy: str, warnings: Sequence[Warned] = ()) -> None:
        super().__init__(because, remedy)
        self.because = because
        self.remedy = remedy
        self.warnings = tuple(warnings)

    def finding(self, kind: str, warnings: Sequence[Warned] = ()) -> Finding:
        return Finding(kind, "retest", self.because, next=self.remedy, warnings=(*self.warnings, *warnings))


# ratio of got to asked, what it points to, what to do
GROSS = (
    (0.1, "as if cm were written for mm", "write mm, or the unit behind the number (7.5 cm)"),
    (10.0, "as if cm were written for mm", "write mm, or the unit behind the number (8 cm)"),
    (1 / 25.4, "as if inches were written for mm", "write the unit behind the number (3.1 in)"),
    (25.4, "as if inches were written for mm", "write the unit behind the number (3.1 in)"),
    (0.5, "a factor of 2: a microstepping mistake", "check the driver's microsteps against the steps per mm"),
    (2.0, "a factor of 2: a microstepping mistake", "check the driver's microsteps against the steps per mm"),
    (0.25, "a factor of 4: a microstepping mistake", "check the driver's microsteps against the steps per mm"),
    (4.0, "a factor of 4: a microstepping mistake", "check the driver's microsteps against the steps per mm"),
)


def refuse_gross(ratio: float) -> None:
    """Refuse a ratio that is a mistake of units or of microstepping, or no length error at all."""
    for factor, what, remedy in GROSS:
        if abs(ratio / factor - 1) < 0.06:
            raise Unanswerable(f"got ÷ asked is {ratio:.3g}, {what}", remedy)
    if not 0.5 < ratio < 2.0:
        raise Unanswerable(f"got ÷ asked is {ratio:.3g}: no setting is that far off",
                           "check which number was asked and which was measured, and measure again")


@dataclass(frozen=True)
class Kept:
    """Readings that belong together, and what is to be said of those that do not."""

    keep: NDArray[np.bool_]
    warnings: tuple[Warned, ...]


def belonging(columns: Array, values: Array, known: float, where: Sequence[str], written: Sequence[Length],
              sign: float = 1.0) -> Kept:
    """Which readings belong: values (n,) should lie on columns (n, k), each with deviation `known` (mm).

    `written` is each reading as it was written, which grows with `values` (sign 1) or falls (−1): for slips of the pen.
    Unanswerable where some reading is wrong and it cannot be told which.
    """
    found = scale.strangers(columns, values, known)
    if found.unclear:
        raise Unanswerable("the readings disagree with each other beyond chance, and there are too few to tell which is wrong",
                           "measure each length once more")
    out, warned = found.out, []
    if not out.any():
        return Kept(~out, ())
    usual = np.linalg.lstsq(columns[~out], values[~out], rcond=None)[0]
    expected_of = np.array([w.mm for w in written]) - sign * (values - columns @ usual)
    for k in np.flatnonzero(out).tolist():
        one, unit = written[k], written[k].step_mm * 10.0 ** written[k].places
        fits = scale.slip_of_pen(one.mm / unit, float(expected_of[k]) / unit, known / unit, one.places)
        if fits is not None:
            warned.append(Warned("slip-of-the-pen", f"{where[k]}: {one.written} disagrees with its fellows and was left out; "
                                                    f"{fits:.{one.places}f} would fit"))
        else:
            warned.append(Warned("reading-left-out", f"{where[k]}: {one.written} disagrees with its fellows beyond chance "
                                                     f"(about {expected_of[k] / unit:.{max(one.places, 1)}f} would fit)"))
    return Kept(~out, tuple(warned))


def positive(value: float, where: str, name: str) -> None:
    """Refuse a length that cannot be one."""
    if not value > 0:
        raise BadReading(f"{where}: {name} {value:g} is not above 0", "measure again, in mm")


def lines_for(dialect: Dialect, setting: str, comment: str, **fields: object) -> tuple[str, ...]:
    """The line that sets, then store and list; a comment with the value where the dialect has none."""
    line = dialect.line(setting, **fields)
    if line is None:
        return (f"; {comment}",)
    return tuple(x for x in (line, dialect.line("store"), dialect.line("list")) if x is not None)
