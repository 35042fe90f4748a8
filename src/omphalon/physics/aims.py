"""What gains may be chosen for: the price of each fault of a loop, by aim."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
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
    meaning: str


AIMS = {
    aim.name: aim
    for aim in (
        Aim(
            "quick",
            0.6,
            2.0,
            1.0,
            3.0,
            0.7,
            2.0,
            3.0,
            "fast arrival and recovery; a little overshoot is allowed",
        ),
        Aim(
            "even",
            1.0,
            1.0,
            1.0,
            1.0,
            1.0,
            1.0,
            2.8,
            "arrival, overshoot, dip and ripple weigh alike",
        ),
        Aim(
            "gentle",
            8.0,
            0.5,
            0.5,
            0.5,
            2.0,
            0.5,
            1.8,
            "no overshoot, calm power; recovery may take longer",
        ),
    )
}
