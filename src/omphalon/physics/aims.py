"""What gains may be chosen for: the price of each fault of a loop, by aim."""

from __future__ import annotations

from dataclasses import dataclass

from omphalon.tables.rows import table_by


@dataclass(frozen=True, kw_only=True)
class Aim:
    """How much each fault weighs (per °C; arrival per unit of time), and the peak sensitivity not
    to exceed.
    """

    name: str
    overshoot: float
    dip: float
    hold: float
    fan: float
    ripple: float
    arrival: float
    sensitivity: float


# quick: fast arrival and recovery; even: all weigh alike; gentle: no overshoot, steady power
AIMS = table_by(
    "name",
    Aim(
        name="quick",
        overshoot=0.6,
        dip=2.0,
        hold=1.0,
        fan=3.0,
        ripple=0.7,
        arrival=2.0,
        sensitivity=3.0,
    ),
    Aim(
        name="even",
        overshoot=1.0,
        dip=1.0,
        hold=1.0,
        fan=1.0,
        ripple=1.0,
        arrival=1.0,
        sensitivity=2.8,
    ),
    Aim(
        name="gentle",
        overshoot=8.0,
        dip=0.5,
        hold=0.5,
        fan=0.5,
        ripple=2.0,
        arrival=0.5,
        sensitivity=1.8,
    ),
)
