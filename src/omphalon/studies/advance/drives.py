"""What is usual for a direct drive and for a bowden tube."""

from __future__ import annotations

from dataclasses import dataclass

from omphalon.tables.rows import rows_of, table_by


@dataclass(frozen=True, kw_only=True)
class Drive:
    """Usual values: the first test's range (s), retraction, speed and stretches of a line, and the
    range of sound answers.

    `enough_s` is the half width at which another print is not worth its plastic; `matters_s` the
    one beyond which no answer is worth entering; `eye_s` what an eye can tell at a corner. The
    range reaches a fifth past the usual values. A tower's clean corner is passed slowly from
    `band_leg_mm` before it in its bands: till then the pressure has come to rest.
    """

    name: str
    to_s: float
    retract_mm: float
    fast_mm_s: float
    acceleration_mm_s2: float
    leg_mm: float
    band_leg_mm: float
    foot_mm: float
    usual_s: tuple[float, float]
    enough_s: float
    matters_s: float
    eye_s: float


DRIVES = table_by("name", *rows_of("drives", Drive))
# a look along a corner is good to 1 mm: on a tower so high that is as much as an eye tells, and a
# caliper reads it in one go
TOWER_MM = 48.0
# steps of a ladder or a row of corners, the most that the bed holds: round values, easily read
LINES = (24, 20, 16, 12, 10, 8)
EYE_LINES = LINES[3:]  # steps for eyes, wider apart: neighbours must look different


def drive_of(name: str | None, highest_s: float) -> Drive:
    """The drive that was named, or the one whose values these are.

    `name`: direct or bowden; None: by the values. `highest_s`: the highest value of the print.
    """
    return DRIVES[name] if name is not None else DRIVES["bowden" if highest_s > 0.2 else "direct"]
