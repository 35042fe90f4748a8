"""How the flow follows the feed, by the widths along lines that were laid at changing speeds: two
lags in row, and a slip that grows with speed.

A mean width behind a change of speed tells the lead only where the window holds the whole of what
the lags do; where it ends early, or the fast line is thinner on the whole, the means are alike at
another value. By how much is what this is for: the fitted flow says what the means differ by at the
lead itself.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import least_squares
from scipy.signal import lfilter

from omphalon.base.arrays import Array, Mask

STEP_S, BIN_MM = 1e-3, 0.5  # of the simulated pressure; of the places along a line
LEAST_SHARE, MOST_SHARE = 0.35, 1.9  # of the usual width: beyond, the bead is torn or drowned
SKIP_MM = 3.0  # of a line's start: its first blob
LAGS_S = (2e-4, 3.0)  # that a drive and its filament may have
ROUGH = 0.02  # of the width: readings so far off count less


@dataclass(frozen=True, kw_only=True)
class Laid:
    """A line as it was laid: the value in force, where its speed changes along it (mm, its ends
    too), the speed of each stretch, the acceleration; and its widths (n,) at places along it, NaN
    where none was seen.
    """

    value_s: float
    turns_mm: tuple[float, ...]
    speeds_mm_s: tuple[float, ...]
    acceleration_mm_s2: float
    along_mm: Array
    width_mm: Array


@dataclass(frozen=True, kw_only=True)
class Ride:
    """Mean speed and acceleration (n,) in even steps of time, from rest to rest, and where the head
    is at their ends.
    """

    speed: Array
    push: Array
    way: Array


def ride(laid: Laid) -> Ride:
    """The head's way along a line: up behind a change to faster, down before one to slower."""
    a = laid.acceleration_mm_s2
    speeds = [0.0, *laid.speeds_mm_s, 0.0]
    spans: list[tuple[float, float, float]] = []  # from, to (mm/s), and how long (s)
    for n, v in enumerate(laid.speeds_mm_s, 1):
        length = laid.turns_mm[n] - laid.turns_mm[n - 1]
        before, after = min(speeds[n - 1], v), min(speeds[n + 1], v)
        up, down = (v * v - before**2) / (2 * a), (v * v - after**2) / (2 * a)
        even = max(length - up - down, 0.0)
        spans += [(before, v, (v - before) / a), (v, v, even / v), (v, after, (v - after) / a)]
    at = np.concatenate([[0.0], np.cumsum([span for _, _, span in spans])])
    time = np.arange(0.0, at[-1], STEP_S)
    knots = np.repeat(at, 2)[1:-1]
    values = np.array([value for start, end, _ in spans for value in (start, end)])
    speed = np.interp(time, knots + 1e-9 * np.arange(len(knots)), values)
    mean = (speed[1:] + speed[:-1]) / 2
    return Ride(speed=mean, push=np.diff(speed) / STEP_S, way=np.cumsum(mean) * STEP_S)


@dataclass(frozen=True, kw_only=True)
class Flow:
    """Both lags (s), longer first, and what a line's width is by the flow: `modelled` gives the
    widths (n,) at places along a line.
    """

    lags_s: tuple[float, float]
    modelled: Callable[[Laid], Array]

    @property
    def lead_s(self) -> float:
        """The advance that makes up for both."""
        return sum(self.lags_s)


def _lagged(drive: Array, lag_s: float) -> Array:
    """What a lag makes of a drive; both are means over steps."""
    step = STEP_S / max(lag_s, 1e-5)
    blend = 1 - math.exp(-step)
    state = lfilter([blend], [1, blend - 1], drive)
    before = np.concatenate([[0.0], state[:-1]])
    return np.asarray(drive + (before - drive) * blend / step)


def _columns(laid: Laid, ridden: Ride, lags: Array, at: Array) -> Array:
    """What a width is a sum of, at places along a line: flow over speed, what slips of it in
    proportion to the speed, and what pressure was left at the start.
    """
    feed = ridden.speed + laid.value_s * ridden.push
    flow, slipped = (_lagged(_lagged(one, lags[0]), lags[1]) for one in (feed, feed * ridden.speed))
    left = np.exp(-np.arange(len(flow)) * STEP_S / float(lags.max()))
    edges = np.stack([at - BIN_MM / 2, at + BIN_MM / 2])
    way = np.concatenate([[0.0], ridden.way]) + 1e-9 * np.arange(len(flow) + 1)

    def laid_down(rate: Array) -> Array:
        volume = np.concatenate([[0.0], np.cumsum(rate) * STEP_S])
        low, high = np.interp(edges, way, volume)
        return np.asarray((high - low) / BIN_MM)

    return np.stack([laid_down(one) for one in (flow, slipped, left)], axis=1)


def fit_flow(lines: Sequence[Laid], height_mm: float) -> Flow | None:
    """The flow that follows the widths of some lines best; None where they do not carry one.

    Parameters
    ----------
    lines : around the value that is best, of two values at least
    height_mm : of the layer
    """
    round_sides = (1 - math.pi / 4) * height_mm
    places = [np.arange(SKIP_MM, one.turns_mm[-1] - SKIP_MM, BIN_MM) for one in lines]
    rides = [ride(one) for one in lines]
    seen = [_binned(one, at) for one, at in zip(lines, places, strict=True)]
    usual = float(np.nanmedian(np.concatenate(seen)))
    goods: list[Mask] = [(w > LEAST_SHARE * usual) & (w < MOST_SHARE * usual) for w in seen]
    target = np.concatenate([w[g] for w, g in zip(seen, goods, strict=True)]) - round_sides
    if len(target) < 100 or len({one.value_s for one in lines}) < 2:
        return None

    def table(p: Array) -> Array:
        lags = np.exp(p)
        parts = []
        for n, (one, ridden, at, good) in enumerate(zip(lines, rides, places, goods, strict=True)):
            columns = _columns(one, ridden, lags, at)[good]
            left = np.zeros((len(columns), len(lines)))
            left[:, n] = columns[:, 2]  # each line begins with a pressure of its own
            parts.append(np.hstack([columns[:, :2], left]))
        return np.concatenate(parts)

    def solved(p: Array) -> tuple[Array, Array]:
        columns = table(p)
        best = np.linalg.lstsq(columns, target, rcond=None)[0]
        return np.asarray(best), columns @ best - target

    guess = max(float(np.median([one.value_s for one in lines])), 0.01)
    p = least_squares(
        lambda p: solved(p)[1] / (ROUGH * usual),
        np.log([0.85 * guess, 0.15 * guess]),
        bounds=(math.log(LAGS_S[0]), math.log(LAGS_S[1])),
        loss="soft_l1",
        diff_step=1e-3,
        max_nfev=25,
    ).x
    best = solved(p)[0]
    long, short = sorted(np.exp(p).tolist(), reverse=True)

    def modelled(laid: Laid) -> Array:
        columns = _columns(laid, ride(laid), np.exp(p), laid.along_mm)[:, :2]
        return np.asarray(columns @ best[:2] + round_sides)

    return Flow(lags_s=(long, short), modelled=modelled)


def _binned(laid: Laid, at: Array) -> Array:
    """Mean widths in bins about places along a line; NaN where none was seen."""
    which = np.rint((laid.along_mm - at[0]) / BIN_MM).astype(int)
    inside = (which >= 0) & (which < len(at)) & np.isfinite(laid.width_mm)
    count = np.bincount(which[inside], minlength=len(at))
    total = np.bincount(which[inside], laid.width_mm[inside], minlength=len(at))
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(total / count)
