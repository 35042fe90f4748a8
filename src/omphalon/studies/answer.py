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

Array = NDArray[np.float64]


class Unanswerable(Exception):
    """The data cannot support an answer: why, and the remedy. A study turns it into the verdict `retest`."""

    def __init__(self, because: str, remedy: str) -> None:
        super().__init__(because, remedy)
        self.because = because
        self.remedy = remedy

    def finding(self, kind: str, warnings: Sequence[Warned] = ()) -> Finding:
        return Finding(kind, "retest", self.because, next=self.remedy, warnings=tuple(warnings))


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


def belonging(values: Array, known: float, where: Sequence[str], written: Sequence[str], expected_of: Array,
              spans: Array) -> Kept:
    """Which readings belong: `values` (n,) should be alike, each with deviation `known`.

    `written` is each reading as it was written and `expected_of` (n,) what it should have been if it were like its
    fellows, `spans` (n,) how much of `written` one unit of `values` is: for slips of the pen.
    """
    out = scale.outlying(values, known)
    warned = []
    for k in np.flatnonzero(out).tolist():
        text = written[k].strip().split()[0].replace(",", ".")
        places = len(text.split(".")[1]) if "." in text else 0
        try:
            fits = scale.slip_of_pen(float(text), float(expected_of[k]), abs(known * spans[k]), places)
        except ValueError:
            fits = None
        if fits is not None:
            warned.append(Warned("slip-of-the-pen", f"{where[k]}: {written[k]} disagrees with its fellows and was left out; "
                                                    f"{fits:.{places}f} would fit"))
        else:
            warned.append(Warned("reading-left-out", f"{where[k]}: {written[k]} disagrees with its fellows beyond chance "
                                                     f"(about {expected_of[k]:.{max(places, 1)}f} would fit)"))
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
