"""The door for numbers: one reader for whatever a person writes.

Every option and every cell goes through `number_in`. It takes a decimal comma, a typographic minus,
a unit behind the number, and turns away what is not finite, what carries a unit that does not
belong, and what cannot be.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from omphalon.tables.quantities import MM, SHARE, Quantity

WRITTEN = re.compile(
    r"([-+]?)(\d{1,15}(?:[.,]\d{0,30})?|[.,]\d{1,30})(e[-+]?\d{1,2})?\s*(\D{0,12})",
    re.I | re.ASCII | re.S,
)
MINUS = str.maketrans({"−": "-", "–": "-", "\u00a0": " ", "\u202f": " ", "μ": "µ"})
LONGEST_NUMBER = 60


class NoSuchNumber(ValueError):
    """A text that is not the number asked for: the problem, and what to write instead."""

    def __init__(self, problem: str, remedy: str) -> None:
        super().__init__(problem, remedy)
        self.problem = problem
        self.remedy = remedy


@dataclass(frozen=True)
class Number:
    """A number in our unit, as it was written, and what its last digit stands for in our unit."""

    value: float
    step: float
    written: str

    @property
    def places(self) -> int:
        """Decimals that were written."""
        found = WRITTEN.match(self.written.translate(MINUS).strip())
        return _places(found[2]) if found else 0


def plain_number(text: str) -> float:
    """The value of a number's digits, with a decimal point or comma."""
    return float(text.replace(",", "."))


def number_in(
    text: str, quantity: Quantity, lowest: float | None = None, highest: float | None = None
) -> Number:
    """The number in a text such as '34.6', '34,6 mm', '1.36 in', '97 %' or '−1.85'.

    `lowest`, `highest`: in the quantity's unit, a narrower range than its own, if this place has
    one. Raises NoSuchNumber if it is no number, not finite, has a unit of something else, or cannot
    be.
    """
    plain = text.translate(MINUS).strip()
    found = WRITTEN.fullmatch(plain) if len(plain) <= LONGEST_NUMBER else None
    if found is None:
        raise NoSuchNumber(
            f"is not {_a_number(plain, quantity)}", f"write a number{_unit_words(quantity)}"
        )
    factor = _factor(found[4].strip().lower(), quantity)
    scale = factor * float(f"1{found[3] or ''}")
    value = plain_number(found[1] + found[2]) * scale
    if quantity.whole and value != int(value):
        raise NoSuchNumber("is not a whole number", "write one without a fraction")
    refuse_impossible(value, quantity, lowest, highest)
    return Number(value, scale * 10.0 ** -_places(found[2]), text.strip())


def refuse_impossible(
    value: float, quantity: Quantity, lowest: float | None = None, highest: float | None = None
) -> None:
    """Raise NoSuchNumber where a value is not finite or outside the range that can be."""
    low = quantity.lowest if lowest is None else lowest
    high = quantity.highest if highest is None else highest
    if not math.isfinite(value):
        raise NoSuchNumber("is not a finite number", f"write a number{_unit_words(quantity)}")
    if not low <= value <= high or (quantity.above and value <= 0):
        unit = f" {quantity.unit}" if quantity.unit else ""
        least = "more than 0" if quantity.above and low <= 0 else f"{low:g}"
        narrow = (low, high) != (quantity.lowest, quantity.highest)
        why = "" if narrow else f" ({quantity.reason})"
        raise NoSuchNumber(
            f"cannot be: {quantity.words} here is {least} to {high:g}{unit}{why}",
            (value > high and quantity.slip) or "check the number and its unit",
        )


def is_usual(value: float, quantity: Quantity) -> bool:
    """Whether a value lies in the range that is usual; always where the table knows none."""
    return quantity.usual is None or quantity.usual[0] <= value <= quantity.usual[1]


def _places(digits: str) -> int:
    return len(re.split("[.,]", f"{digits}.")[1])


def _a_number(plain: str, quantity: Quantity) -> str:
    if re.fullmatch(r"[-+]?(nan|inf|infinity)", plain, re.I):
        return "a finite number"
    if len(plain) > LONGEST_NUMBER or re.fullmatch(r"[-+]?\d{16,}.*", plain, re.ASCII | re.S):
        return f"{quantity.words}: it has too many digits"
    return quantity.words


def _unit_words(quantity: Quantity) -> str:
    if quantity.units is MM:
        return ", with a unit if it is not mm (34.6, 34,6 mm, 1.36 in)"
    if quantity.units is SHARE:
        return ", or a percentage with its sign (0.97, 97 %)"
    return (
        f" in {quantity.unit}"
        if quantity.unit and not quantity.unit.startswith("per")
        else " (1.5 or 1,5)"
    )


def _factor(unit: str, quantity: Quantity) -> float:
    if not unit or unit == quantity.unit.lower():
        return 1.0
    if unit not in quantity.units:
        known = ", ".join(quantity.units) or "none"
        raise NoSuchNumber(
            f"has a unit that does not belong to {quantity.words}", f"units here: {known}"
        )
    return quantity.units[unit]


def digits(value: float, spread: float | None = None, least: int = 3) -> str:
    """A number with the digits that its spread deserves: two of the spread's own, and never fewer
    than `least`.
    """
    if value == 0 or not math.isfinite(value):
        return "0" if value == 0 else "–"
    size = math.floor(math.log10(abs(value)))
    places = least - 1 - size
    if spread is not None and spread > 0 and math.isfinite(spread):
        places = max(places, 1 - math.floor(math.log10(spread)))
    return f"{value:.{min(max(places, 0), 8)}f}"


def plural(count: int, noun: str) -> str:
    """A count with its noun, such as 1 run or 2 runs."""
    return f"{count} {noun}{('es' if noun.endswith('ch') else 's') if count != 1 else ''}"
