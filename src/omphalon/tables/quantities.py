"""The table of quantities: what each is called, its unit, what it can be, what is usual, and why;
its rows stand in tables/quantities.csv.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from omphalon.tables.constants import G_MM_S2
from omphalon.tables.rows import rows_of, table_by

INCH_MM, MICRON_MM = 25.4, 0.001
INCHES = dict.fromkeys(("in", "inch", '"'), INCH_MM)
MM = {"mm": 1.0, "cm": 10.0, "m": 1000.0, **INCHES, "µm": MICRON_MM, "um": MICRON_MM}
SHARE = {"%": 0.01}
# units that a number may be written in, each family by a name: spelling → factor
UNITS: dict[str, dict[str, float]] = {
    "mm": MM,
    "s": {"s": 1.0, "sec": 1.0, "ms": 1e-3, "µs": 1e-6, "us": 1e-6, "min": 60.0, "h": 3600.0},
    "%": SHARE,
    "steps/mm": dict.fromkeys(("steps/mm", "per mm", "/mm"), 1.0),
    "°C": dict.fromkeys(("°c", "c", "degc"), 1.0),
    "K": dict.fromkeys(("°c", "c", "k"), 1.0),
    "mm/s": {"mm/s": 1.0, "m/s": 1000.0, "mm/min": 1 / 60},
    "mm/s²": {
        **dict.fromkeys(("mm/s²", "mm/s2", "mm/s^2"), 1.0),
        **dict.fromkeys(("m/s²", "m/s2", "m/s^2"), 1000.0),
        "g": G_MM_S2,
    },
    "Hz": {"hz": 1.0, "khz": 1000.0},
    "Hz/s": {"hz/s": 1.0},
    "mm³/s": dict.fromkeys(("mm³/s", "mm3/s", "mm^3/s"), 1.0),
    "W": {"w": 1.0, "kw": 1000.0},
    "s/mm": {"s/mm": 1.0},
}


@dataclass(frozen=True, kw_only=True)
class Quantity:
    """A row of the table: what it is called, its unit, what it can be, what is usual, and why.

    `metavar` stands for it in help. `units` turns a spelling into ours by a factor. `usual` only
    warns. `whole` takes no fraction; `above` leaves the lowest value itself out.
    """

    name: str
    words: str
    unit: str = ""
    metavar: str = "N"
    lowest: float
    highest: float
    usual: tuple[float, float] | None = None
    reason: str
    units: Mapping[str, float] = field(default_factory=dict)
    whole: bool = False
    above: bool = False
    slip: str = ""


QUANTITIES = table_by("name", *rows_of("quantities", Quantity, units=UNITS))
