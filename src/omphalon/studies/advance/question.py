"""What is asked about pressure advance, what is usual for a direct drive and a bowden tube, and
what was read off a print, checked once.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from omphalon.arrays import Array
from omphalon.errors import UsageError
from omphalon.prints.advance import Tower
from omphalon.recording import Readings
from omphalon.remarks import Refusal, Remark


@dataclass(frozen=True)
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


DRIVES = {
    drive.name: drive
    for drive in (
        Drive(
            name="direct",
            to_s=0.12,
            retract_mm=0.7,
            fast_mm_s=90.0,
            acceleration_mm_s2=1800.0,
            leg_mm=20.0,
            band_leg_mm=10.0,
            foot_mm=9.0,
            usual_s=(0.01, 0.1),
            enough_s=0.0035,
            matters_s=0.015,
            eye_s=0.003,
        ),
        Drive(
            name="bowden",
            to_s=1.2,
            retract_mm=4.4,
            fast_mm_s=60.0,
            acceleration_mm_s2=600.0,
            leg_mm=36.0,
            band_leg_mm=32.0,
            foot_mm=14.0,
            usual_s=(0.2, 1.0),
            enough_s=0.0225,
            matters_s=0.12,
            eye_s=0.02,
        ),
    )
}
# a look along a corner is good to 1 mm: on a tower so high that is as much as an eye tells, and a
# caliper reads it in one go
TOWER_MM = 48.0
# steps of a ladder or a row of corners, the most that the bed holds: round values, easily read
LINES = (24, 20, 16, 12, 10, 8)


def drive_of(name: str | None, highest_s: float) -> Drive:
    """The drive that was named, or the one whose values these are.

    `name`: direct or bowden; None: by the values. `highest_s`: the highest value of the print.
    """
    return DRIVES[name] if name is not None else DRIVES["bowden" if highest_s > 0.2 else "direct"]


# method → what was read
METHODS = {
    "heights": "best-looking heights",
    "height-bulge": "bulge, mm",
    "bulge": "bulge, mm",
    "score": "score",
    "widths": "width after slowing down − after speeding up, mm",
    "values": "best-looking values",
}
READ = ("height_mm", "advance_s", "score", "bulge_mm", "speedup_mm", "slowdown_mm")
TOP_ROOM_MM = 0.5  # a caliper on a tower's top may read a little more


@dataclass(frozen=True, kw_only=True)
class AdvanceQuestion:
    """A tower's start, growth per mm and end (s), the drive, the present value (s), the caliper's
    step.

    `line_words` are the options that give the next print its line, ready to paste. `read_mm` is the
    deviation of what was read from a picture; None: a caliper read. `shared_mm` is what all of it
    may be off by alike.
    """

    start_s: float | None = None
    per_mm: float | None = None
    stop_s: float | None = None
    drive: str | None = None
    present_s: float | None = None
    resolution_mm: float | None = None
    line_words: str = ""
    read_mm: float | None = None
    shared_mm: float = 0.0


@dataclass(frozen=True, kw_only=True)
class Readout:
    """Values (n,) in s, what was read there (n,), where each stands, and which method reads them.

    `step` lies between two printed values (per mm of height on a tower), `span` is what was
    printed.
    """

    method: str
    values_s: Array
    seen: Array
    where: tuple[str, ...]
    step: float
    span: tuple[float, float]
    drive: Drive
    remarks: tuple[Remark, ...] = ()

    @property
    def of_heights(self) -> bool:
        """Whether a tower was read."""
        return self.method.startswith("height")

    @property
    def by_eye(self) -> bool:
        """Whether the best was chosen by looking."""
        return self.method in ("heights", "values")


def readout(readings: Readings, question: AdvanceQuestion) -> Readout:
    """Which kind of readings these are, as values and what was seen there.

    Raises UsageError, BadReading if something is missing, or options are given that these readings
    make no use of; Refusal if all heights lie outside the tower.
    """
    readings.refuse_gaps(*READ)
    _refuse_unread(readings, question)
    if readings.has("height_mm"):
        return _from_tower(readings, question)
    if not readings.has("advance_s"):
        raise UsageError(
            "no readings",
            "give --height with --from and --per-mm, or a file with height_mm or advance_s",
        )
    values = _column(readings, "advance_s")
    method, seen = "values", values
    for name, columns in (
        ("widths", ("speedup_mm", "slowdown_mm")),
        ("bulge", ("bulge_mm",)),
        ("score", ("score",)),
    ):
        if readings.has(*columns):
            first = _column(readings, columns[0]) if len(columns) > 1 else 0.0
            method, seen = name, _column(readings, columns[-1]) - first
            break
    alone = next((c for c in ("speedup_mm", "slowdown_mm") if readings.any_has(c)), None)
    if alone is not None and method != "widths":
        raise UsageError(
            f"{alone} without its partner",
            "a line is read just after both ticks: speedup_mm and slowdown_mm",
        )
    span = (float(values.min()), float(values.max()))
    return Readout(
        method=method,
        values_s=values,
        seen=seen,
        where=tuple(r.where for r in readings.rows),
        step=float(np.min(np.diff(np.unique(values)), initial=np.inf)),
        span=span,
        drive=drive_of(question.drive, span[1]),
    )


def _refuse_unread(readings: Readings, question: AdvanceQuestion) -> None:
    """Refuse options that these readings make no use of, and two kinds of reading at once."""
    tower = readings.any_has("height_mm")
    options = {"--from": question.start_s, "--per-mm": question.per_mm, "--to": question.stop_s}
    given = [name for name, value in options.items() if value is not None]
    if given and readings.rows and not tower:
        raise UsageError(
            f"{given[0]} without heights",
            "it belongs to a tower's --height or height_mm; leave it out",
        )
    kinds = [c for c in ("score", "bulge_mm", "speedup_mm") if readings.any_has(c)]
    mixed = tower and (readings.any_has("advance_s") or any(k != "bulge_mm" for k in kinds))
    if len(kinds) > 1 or mixed:
        raise UsageError(
            "two kinds of reading at once",
            "give height_mm (with bulge_mm), or advance_s with bulge_mm, score or widths",
        )
    if question.resolution_mm is not None and not any(k != "score" for k in kinds):
        raise UsageError(
            "--resolution without bulges or widths", "no caliper was read here; leave it out"
        )


def _from_tower(readings: Readings, question: AdvanceQuestion) -> Readout:
    start, stop = question.start_s, question.stop_s
    if start is None or question.per_mm is None:
        raise UsageError(
            "heights without the tower's values",
            "give --from S and --per-mm S, as the tower was planned",
        )
    if stop is not None and stop <= start:
        raise UsageError(
            f"--from {start:g} --to {stop:g}: the range is upside down",
            "give the lower value with --from",
        )
    top = math.inf if stop is None else (stop - start) / question.per_mm
    heights = _column(readings, "height_mm")
    inside = heights <= top + TOP_ROOM_MM
    odd = tuple(
        Remark("outside", {"where": readings.rows[k].where, "height": heights[k], "top": top})
        for k in np.flatnonzero(~inside)
    )
    if not inside.any():
        raise Refusal("all-outside", odd, top=top)
    end = stop if stop is not None else float(start + question.per_mm * heights[inside].max())
    bulge = readings.has("bulge_mm")
    slow = np.zeros(len(heights), dtype=bool)
    for low, high in Tower(start, end, question.per_mm).bands_mm if bulge and stop else ():
        slow |= (heights > low) & (heights < high)
    if (inside & slow).any():
        odd = (*odd, Remark("in-bands", {"count": int((inside & slow).sum())}))
    inside &= ~slow
    values = start + question.per_mm * np.minimum(heights[inside], top)
    return Readout(
        method="height-bulge" if bulge else "heights",
        values_s=values,
        seen=_column(readings, "bulge_mm")[inside] if bulge else heights[inside],
        where=tuple(r.where for r, k in zip(readings.rows, inside, strict=True) if k),
        step=question.per_mm,
        span=(start, end),
        drive=drive_of(question.drive, end),
        remarks=odd,
    )


def _column(readings: Readings, name: str) -> Array:
    return np.array([r.value(name) for r in readings.rows])
