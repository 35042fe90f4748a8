"""A card's lines for pressure advance in its picture: their widths behind changes of speed. What
mean widths differ by where the lead is right (windows that end before the pressure has, fast lines
that are thinner on the whole) is taken off, so that the readings cross zero at the lead.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from omphalon.answers.remarks import Refusal
from omphalon.base.arrays import Array
from omphalon.physics.edges import MOST_CLIPPED, Edges, course
from omphalon.physics.flow import Laid, fit_flow
from omphalon.physics.pose import LensPose
from omphalon.prints.card import Card, Rung
from omphalon.recordings.recording import GreyPicture, Reading, Readings
from omphalon.tables.units import Number

Windows = Sequence[tuple[float, float]]  # from, to along a line, in mm
AFTER_SLOW, AFTER_FAST = 0.4, 0.7  # of a slow and of a fast stretch are read behind a change
NEAR = 8  # values nearest to where the means are alike, that the flow is fitted to
LEAST_READ = 0.5  # of all lines
LEAST_SEEN, LEAST_SHARE = 0.3, 0.7  # of a line, or it is not there; and of a stretch that is read


def windows_of(
    stretches_mm: Sequence[float], slow_mm_s: float, fast_mm_s: float, acceleration_mm_s2: float
) -> tuple[Windows, Windows]:
    """What is read of a line whose stretches are slow and fast in turn: behind each change to fast
    while the head speeds up and on, and behind each to slow from where it brakes.
    """
    turns = np.cumsum(stretches_mm).tolist()
    braking = (fast_mm_s**2 - slow_mm_s**2) / (2 * acceleration_mm_s2)
    on = AFTER_FAST * (stretches_mm[1] - 2 * braking)
    ups = [(turn, turn + braking + on) for turn in turns[:-1:2]]
    return ups, [(turn - braking, turn + AFTER_SLOW * stretches_mm[0]) for turn in turns[1::2]]


def laid_line(
    value_s: float,
    turns_mm: Sequence[float],
    speeds_mm_s: Sequence[float],
    acceleration_mm_s2: float,
    seen: Edges,
) -> Laid:
    """A line as it was laid, and as its edges are seen in a picture."""
    return Laid(
        value_s=value_s,
        turns_mm=tuple(turns_mm),
        speeds_mm_s=tuple(speeds_mm_s),
        acceleration_mm_s2=acceleration_mm_s2,
        along_mm=seen.along_mm,
        width_mm=np.where(seen.good, seen.width_mm, np.nan),
    )


def late_mm(lines: Sequence[Laid], ups: Windows, downs: Windows, height_mm: float) -> float:
    """What the mean width behind changes to slow has over that behind changes to fast at the lead;
    0 where no flow can be fitted.

    `lines`: as they were laid and seen; those of one value alike but for their widths. `ups`,
    `downs`: the stretches that are read behind each change.
    """

    def difference(along: Array, width: Array) -> float:
        means = [
            float(np.mean([np.nanmean(width[(along >= a) & (along < b)]) for a, b in some]))
            for some in (ups, downs)
        ]
        return means[1] - means[0]

    values = sorted({one.value_s for one in lines})
    whole = []
    for value in values:
        own = [one for one in lines if one.value_s == value]
        count = min(len(one.along_mm) for one in own)
        widths = np.stack([one.width_mm[:count] for one in own])
        seen = np.isfinite(widths)
        mean = np.where(seen, widths, 0).sum(axis=0) / np.maximum(seen.sum(axis=0), 1)
        mean = np.where(seen.any(axis=0), mean, np.nan)
        whole.append(replace(own[0], along_mm=own[0].along_mm[:count], width_mm=mean))
    off = [abs(difference(one.along_mm, one.width_mm)) for one in whole]
    order = [n for n in np.argsort(off) if np.isfinite(off[n])]
    flow = fit_flow([whole[n] for n in order[:NEAR]], height_mm)
    if flow is None:
        return 0.0
    at = replace(whole[0], value_s=flow.lead_s)
    return difference(at.along_mm, flow.modelled(at))


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

    Raises Refusal where less than half of them can be read.
    """

    def number(value: float) -> Number:
        return Number(max(value, 0.0), 1e-4, f"{value:.4f}")

    good = sum(one.why is None for one in rungs)
    if good < LEAST_READ * len(rungs):
        raise Refusal("rungs-missing", count=good, total=len(rungs))
    left = {
        speed: _late(card, [one for one in rungs if one.rung.fast_mm_s == speed])
        for speed in card.fast_speeds_mm_s
    }

    def speed_of(rung: Rung) -> dict[str, Number]:
        speed = rung.fast_mm_s
        return {"fast_mm_s": Number(speed, 1.0, f"{speed:g}")} if card.faster_mm_s else {}

    rows = tuple(
        Reading(
            f"line {n}, {one.rung.value_s:g}",
            {
                **speed_of(one.rung),
                "advance_s": Number(one.rung.value_s, 1e-6, f"{one.rung.value_s:g}"),
                "speedup_mm": number(one.speedup_mm),
                "slowdown_mm": number(one.slowdown_mm - left[one.rung.fast_mm_s]),
            },
        )
        for n, one in enumerate(rungs, 1)
        if one.why is None
    )
    return Readings(source, rows)


def widths_csv(readings: Readings, rungs: Sequence[RungSeen]) -> Iterator[str]:
    """The same as rows of a readings file that `advance fit` reads, and which are left out."""
    yield ",".join(readings.rows[0].numbers)
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
        speeds = ([card.slow_mm_s, one.rung.fast_mm_s] * count)[:count]
        turns = np.concatenate([[0.0], np.cumsum(one.rung.stretches_mm)]).tolist()
        value, acceleration = one.rung.value_s, card.acceleration_mm_s2
        laid.append(laid_line(value, turns, speeds, acceleration, one.course))
    if not laid:
        return 0.0
    return late_mm(laid, *_windows(card, rungs[0].rung), card.layer_mm)


def _windows(card: Card, rung: Rung) -> tuple[Windows, Windows]:
    slow, fast = card.slow_mm_s, rung.fast_mm_s
    return windows_of(rung.stretches_mm, slow, fast, card.acceleration_mm_s2)


def _judged(rungs: list[RungSeen]) -> list[RungSeen]:
    """Rungs of one value and speed that differ far from each other are left out, both: one of them
    is not what it seems.
    """
    apart = _apart(rungs)
    usual = float(np.median(list(apart.values()))) if apart else 0.0
    gone = {of for of, off in apart.items() if off > max(6 * usual, 0.03)}
    return [replace(r, why=r.why or ("unlike" if _twins(r) in gone else None)) for r in rungs]


def _twins(one: RungSeen) -> tuple[float, float]:
    """What two rungs have in common that are laid alike."""
    return one.rung.value_s, one.rung.fast_mm_s


def noise_mm(rungs: Sequence[RungSeen]) -> float:
    """The deviation of a mean width behind a change of speed: by what the two rungs of each value
    differ, which have everything but the value apart.
    """
    off = list(_apart(rungs).values())
    return max(float(np.sqrt(np.mean(np.square(off)))) / 2 if off else 0.01, 0.001)


def _apart(rungs: Sequence[RungSeen]) -> dict[tuple[float, float], float]:
    """By how much two twins differ in what they tell, where both can be read."""
    differences: dict[tuple[float, float], list[float]] = {}
    for one in rungs:
        if one.why is None:
            differences.setdefault(_twins(one), []).append(one.slowdown_mm - one.speedup_mm)
    return {of: abs(two[0] - two[1]) for of, two in differences.items() if len(two) == 2}
