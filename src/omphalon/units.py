"""Lengths as people write them: with a comma, with a unit, in inches."""

from __future__ import annotations

import re
from dataclasses import dataclass

MM = {"": 1.0, "mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4, "inch": 25.4, '"': 25.4, "µm": 0.001, "um": 0.001}
WRITTEN = re.compile(r"\s*([-+]?\d+(?:[.,]\d*)?|[-+]?[.,]\d+)\s*([a-zµ\"]*)\s*$", re.I)


@dataclass(frozen=True)
class Length:
    """A length in mm, as it was written, and the step its last digit stands for in mm."""

    mm: float
    step_mm: float
    written: str

    @property
    def places(self) -> int:
        """Decimals that were written."""
        digits = WRITTEN.match(self.written)
        return len(re.split("[.,]", digits[1])[1]) if digits and re.search("[.,]", digits[1]) else 0


def length(text: str) -> Length:
    """A length from text such as '34.6', '34,6 mm', '1.36 in'. Raises ValueError where it is none."""
    found = WRITTEN.match(text)
    if not found or found[2].lower() not in MM:
        raise ValueError(f"'{text.strip()}' is no length")
    factor = MM[found[2].lower()]
    number = found[1].replace(",", ".")
    places = len(number.split(".")[1]) if "." in number else 0
    return Length(float(number) * factor, factor * 10.0**-places, text.strip())
