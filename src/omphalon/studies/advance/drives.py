"""What is usual for a direct drive and for a bowden tube."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Drive:
    """Usual values: the first test's range (s), retraction, speed and stretches of a line, and the range of sound answers.

    `enough_s` is the half width at which another print is not worth its plastic; `eye_s` what an eye can tell at a corner.
    """

    name: str
    to_s: float
    retract_mm: float
    fast_mm_s: float
    acceleration_mm_s2: float
    slow_stretch_mm: float
    fast_stretch_mm: float
    leg_mm: float
    foot_mm: float
    usual_s: tuple[float, float]
    enough_s: float
    eye_s: float


DRIVES = {drive.name: drive for drive in (
    Drive("direct", 0.1, 0.8, 100.0, 2000.0, 20.0, 40.0, 20.0, 9.0, (0.01, 0.1), 0.0035, 0.003),
    Drive("bowden", 1.0, 4.5, 60.0, 600.0, 30.0, 70.0, 36.0, 14.0, (0.2, 1.0), 0.0225, 0.02),
)}
TOWER_MM = 50.0


def drive_of(name: str | None, highest_s: float) -> Drive:
    """The drive that was named, or the one whose values these are."""
    return DRIVES[name] if name is not None else DRIVES["bowden" if highest_s > 0.2 else "direct"]
