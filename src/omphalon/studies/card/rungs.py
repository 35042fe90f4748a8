"""A card's lines for pressure advance in its picture: their widths behind changes of speed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from omphalon.physics.edges import MOST_CLIPPED, Edges, course
from omphalon.physics.rings import LensPose
from omphalon.prints.card import Card, Rung
from omphalon.recording import GreyPicture, Reading, Readings
from omphalon.remarks import Refusal
from omphalon.studies.card.late import Windows, laid_line, late_mm, windows_of
from omphalon.units import Number

LEAST_READ = 0.5  # of all lines
LEAST_SEEN, LEAST_SHARE = 0.3, 0.7  # of a line, or it is not there; and of a stretch that is read


@dataclass(frozen=True, kw_only=True)
class RungSeen:
    """A line for pressure advance: mean widths behind its changes to fast and to slow (mm); `why`
    it is left out, as a code.
    """

    rung: Rung
    course: Edges
    speedup_mm: float
    slowdown_mm: float
    why: str | None


def read_rungs(picture: GreyPicture, card: Card, pose: LensPose) -> list[RungSeen]:
    """The lines for pressure advance, each judged."""
    return _judged([_rung(picture, pose, card, one) for one in card.rungs])


def rung_readings(source: str, card: Card, rungs: Sequence[RungSeen]) -> Readings:
    """What they say, as readings of widths, less what early windows leave between both.

    Raises
    ------
    Refusal
        Where less than half of them can be read.
    """

    def number(value: float) -> Number:
        return Number(max(value, 0.0), 1e-4, f"{value:.4f}")

    good = sum(one.why is None for one in rungs)
    if good < LEAST_READ * len(rungs):
        raise Refusal("rungs-missing", count=good, total=len(rungs))
    left = _late(card, rungs)
    rows = tuple(
        Reading(
            f"line {n}, {one.rung.value_s:g}",
            {
                "advance_s": Number(one.rung.value_s, 1e-6, f"{one.rung.value_s:g}"),
                "speedup_mm": number(one.speedup_mm),
                "slowdown_mm": number(one.slowdown_mm - left),
            },
        )
        for n, one in enumerate(rungs, 1)
        if one.why is None
    )
    return Readings(source, rows)


def widths_csv(readings: Readings, rungs: Sequence[RungSeen]) -> Iterator[str]:
    """The same as rows of a readings file that `advance fit` reads, and which are left out."""
    yield "advance_s,speedup_mm,slowdown_mm"
    for row in readings.rows:
        yield ",".join(number.written for number in row.numbers.values())
    for one in rungs:
        if one.why is not None:
            yield f"# {one.rung.value_s:g} left out: {one.why}"


def _rung(picture: GreyPicture, pose: LensPose, card: Card, rung: Rung) -> RungSeen:
    places = np.array(rung.places)
    seen = course(picture.grey, pose, places[[0, -1]])
    ups, downs = ([seen.mean(*one) for one in some] for some in _windows(card, rung))
    why = None
    if float(seen.good.mean()) < LEAST_SEEN:
        why = "not-seen"
    elif any(np.array(seen.clipped) > MOST_CLIPPED):
        why = "glare"
    elif min(share for _, share in (*ups, *downs)) < LEAST_SHARE:
        why = "broken-up"
    means = [float(np.mean([w for w, _ in some])) for some in (ups, downs)]
    return RungSeen(rung=rung, course=seen, speedup_mm=means[0], slowdown_mm=means[1], why=why)


def _late(card: Card, rungs: Sequence[RungSeen]) -> float:
    """What the means behind changes of speed differ by where the lead is right, in mm."""
    laid = []
    for one in (r for r in rungs if r.why is None):
        count = len(one.rung.stretches_mm)
        speeds = ([card.slow_mm_s, card.fast_mm_s] * count)[:count]
        turns = np.concatenate([[0.0], np.cumsum(one.rung.stretches_mm)]).tolist()
        value, acceleration = one.rung.value_s, card.acceleration_mm_s2
        laid.append(laid_line(value, turns, speeds, acceleration, one.course))
    if not laid:
        return 0.0
    return late_mm(laid, *_windows(card, rungs[0].rung), card.layer_mm)


def _windows(card: Card, rung: Rung) -> tuple[Windows, Windows]:
    slow, fast = card.slow_mm_s, card.fast_mm_s
    return windows_of(rung.stretches_mm, slow, fast, card.acceleration_mm_s2)


def _judged(rungs: list[RungSeen]) -> list[RungSeen]:
    """Rungs of one value that differ far from each other are left out, both: one of them is not
    what it seems.
    """
    apart = _apart(rungs)
    usual = float(np.median(list(apart.values()))) if apart else 0.0
    gone = {value for value, off in apart.items() if off > max(6 * usual, 0.03)}
    return [replace(r, why=r.why or ("unlike" if r.rung.value_s in gone else None)) for r in rungs]


def noise_mm(rungs: Sequence[RungSeen]) -> float:
    """The deviation of a mean width behind a change of speed: by what the two rungs of each value
    differ, which have everything but the value apart.
    """
    off = list(_apart(rungs).values())
    return max(float(np.sqrt(np.mean(np.square(off)))) / 2 if off else 0.01, 0.001)


def _apart(rungs: Sequence[RungSeen]) -> dict[float, float]:
    """By how much the two rungs of a value differ in what they tell, where both can be read."""
    told: dict[float, list[float]] = {}
    for one in rungs:
        if one.why is None:
            told.setdefault(one.rung.value_s, []).append(one.slowdown_mm - one.speedup_mm)
    return {value: abs(two[0] - two[1]) for value, two in told.items() if len(two) == 2}
