"""The modes of an axis from lines that were entered round a sharp corner: the corner leaves the
frame swinging across the line, and the nozzle writes the swing into its middle.

All lines of an axis are fitted together. What a mode leaves is known but for its frequency, its
damping and its share: the leg speeds up and brakes as the print has it. A feature that is fixed in
space has another frequency at every speed, and does not fit.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy.optimize import least_squares

from omphalon.base.arrays import Array
from omphalon.physics.resonance import Mode
from omphalon.physics.scale import autocorrelation_time, robust_deviation
from omphalon.tables.constants import NORMAL_95

BAND_HZ, STEPS_A_OCTAVE = (15.0, 160.0), 36  # where modes are looked for
DAMPINGS = (0.03, 0.1)  # that are tried; and between which one may lie
LEAST_DAMPING, MOST_DAMPING = 0.004, 0.25  # that a fitted mode may have
BROADEST = 0.18  # what is broader bends a line, and is no resonance
MOST_MODES = 3  # that the combs of one axis can tell apart
MOST_CORNER_MM_S = 30.0  # that a controller takes a sharp corner with
# of χ² that a mode must explain, of each of two speeds a twelfth, and of all that is explained:
# what the model itself misses of the first mode; tried on the benchmark's first six printers
WORTH, SMALL = 18.0, 0.0025
WHOLE_SPREAD = 0.1  # of what the shares add up to, where it is more than 1
MOST_WHOLE = 1.4  # that the shares may add up to: beyond, one mode makes up for another
APART = 1.12  # ratio of two frequencies that can be told
LEAST_SHARE = 0.09  # of the motion: smaller ones make up for what the model misses
SEEN_SHARE, SEEN_DAMPING = 0.2, 0.05  # of a mode that it would be a pity to miss
BENDS = 3  # powers of the way that a line may wander by: the lens, the plate, the print's pose
FAR = 5.0  # deviations beyond which a reading is dirt
LEAST_MM = 1e-4  # of noise
FLOOR = 0.004  # of a frequency: what dragging and the corner's own pace leave open
# how a corner is taken and a bead follows: speed in the corner (mm/s), by how much of the way the
# bead is late (mm), and over how much of it it is evened out, as a share of what is usual (log)
HOW_USUAL, HOW_SPREAD = (5.0, 0.0, 0.0), (10.0, 0.1, 0.4)
HOW_LOW, HOW_HIGH = (0.0, -0.3, -1.2), (MOST_CORNER_MM_S, 0.6, 1.2)
HOW_SCALE, HOW_NUDGE = (5.0, 0.05, 0.2), (0.2, 0.01, 0.02)


@dataclass(frozen=True, kw_only=True)
class Trace:
    """One line of a comb: `along_mm` (n,) from its corner, its middle (n,) to the side that the leg
    comes from being negative, and how it was laid.
    """

    along_mm: Array
    middle_mm: Array
    speed_mm_s: float
    acceleration_mm_s2: float
    leg_mm: float

    def ridden(self, corner_mm_s: float, late_mm: float = 0.0) -> tuple[Array, Array]:
        """When the nozzle was where the bead is that shows in the readings, in s since the corner,
        and how fast.
        """
        v, a = self.speed_mm_s, self.acceleration_mm_s2
        j = min(corner_mm_s, v)
        ramp = (v * v - j * j) / (2 * a)
        along = self.along_mm - late_mm
        speed = np.sqrt(j * j + 2 * a * np.clip(along, 0.0, ramp))
        return (speed - j) / a + np.maximum(along - ramp, 0.0) / v, speed

    def turns(self, corner_mm_s: float) -> list[tuple[float, float]]:
        """When the leg's acceleration changed, in s since the corner, and by how much; first what
        speed it lost at the corner in no time.
        """
        v, a = self.speed_mm_s, self.acceleration_mm_s2
        j = min(corner_mm_s, v)
        up, down = v / a, (v - j) / a
        even = max(self.leg_mm - v * v / (2 * a) - (v * v - j * j) / (2 * a), 0.0) / v
        begin = -(up + even + down)
        return [(0.0, j), (begin, a), (begin + up, -a), (-down, -a), (0.0, a)]


@dataclass(frozen=True, kw_only=True)
class Swings:
    """The modes of an axis, as far as they are seen; how fast the corner was taken, the noise of a
    reading (mm); the whole motion that the shares, before they were made to sum to 1, add up to;
    per line where (mm from the corner), the middle read less what the line wanders by on its own,
    and the modelled one, each (n,); and up to which frequency a mode that holds SEEN_SHARE of the
    motion would have shown.
    """

    modes: tuple[Mode, ...]
    corner_mm_s: float
    noise_mm: float
    whole: float
    lines: tuple[tuple[Array, Array, Array], ...]
    seen_to_hz: float


class _Lines:
    """All lines of an axis: their readings, with what each wanders by on its own taken out."""

    def __init__(self, lines: Sequence[Trace], wide_mm: float) -> None:
        self.lines, self.evened_mm = lines, wide_mm / np.sqrt(12)
        self.counts = [len(one.along_mm) for one in lines]
        self.cuts = np.cumsum([0, *self.counts])
        self.bases = [np.linalg.qr(np.vander(np.linspace(-1, 1, n), BENDS))[0] for n in self.counts]
        self.read = self.flat(np.concatenate([one.middle_mm for one in lines]))
        self.speed = np.repeat([one.speed_mm_s for one in lines], self.counts)
        self.ridden = lru_cache(maxsize=4)(self._ridden)

    def flat(self, values: Array) -> Array:
        """What is left of readings where each line's own wandering is gone."""
        out = values.copy()
        for basis, a, b in zip(self.bases, self.cuts, self.cuts[1:], strict=False):
            out[a:b] -= basis @ (basis.T @ values[a:b])
        return out

    def _ridden(self, corner: float, late: float) -> tuple[Array, Array, Array]:
        """Speeds (n,) at all readings; how long since the legs' turns (5, n), and which."""
        parts = [one.ridden(corner, late) for one in self.lines]
        at, speed = (np.concatenate([p[k] for p in parts]) for k in (0, 1))
        turns = np.array([one.turns(corner) for one in self.lines])
        since, change = (np.repeat(turns[:, :, k].T, self.counts, axis=1) for k in (0, 1))
        return speed, at - since, change

    def column(self, frequency_hz: float, damping: float, how: Sequence[float]) -> Array:
        """What a mode that holds all of the motion leaves on all lines (n,), in mm: its answer to
        the legs' accelerations, as the bead shows it, evened out over its own width.
        """
        corner, late, evened = how
        speed, since, change = self.ridden(corner, late)
        w = 2 * np.pi * frequency_hz
        fast = w * np.sqrt(1 - damping**2)
        swing = np.exp((1j * fast - damping * w) * since)
        pushed = change[0] * swing[0].imag / fast
        steps = 1 - swing[1:].real - damping * w / fast * swing[1:].imag
        aside = pushed - (change[1:] * steps).sum(axis=0) / w**2
        turned = 2 * np.pi * frequency_hz * self.evened_mm * np.exp(evened) / speed
        return self.flat(aside * np.exp(-(turned**2) / 2))

    def shared(self, p: Array) -> tuple[Array, Array]:
        """Best shares (k,) at parameters, and the columns (n, k)."""
        count = (len(p) - 3) // 2
        columns = np.stack(
            [
                self.column(float(np.exp(p[k])), float(np.exp(p[count + k])), p[-3:].tolist())
                for k in range(count)
            ],
            axis=1,
        )
        return np.asarray(np.linalg.lstsq(columns, self.read, rcond=None)[0]), columns


def fit_swings(lines: Sequence[Trace], wide_mm: float) -> Swings:
    """The modes that the lines of one axis show.

    Another mode as long as it explains WORTH of χ², at two speeds at least.

    Parameters
    ----------
    lines : at two speeds or more
    wide_mm : over which the bead shows the mean of its course
    """
    whole = _Lines(lines, wide_mm)
    p, how = np.zeros(0), np.array(HOW_USUAL)
    rest = whole.read
    shares = np.zeros(0)
    columns = np.zeros((len(rest), 0))
    noise = max(robust_deviation(rest), LEAST_MM)
    for _ in range(MOST_MODES):
        best = _strongest(whole, rest, columns, how, p)
        if best is None:
            break
        count = len(p) // 2
        start = np.array(
            [*p[:count], np.log(best[0]), *p[count : 2 * count], np.log(best[1]), *how]
        )
        found = _refined(whole, start, noise)
        new_shares, new_columns = whole.shared(found)
        left = whole.read - new_columns @ new_shares
        noise = max(robust_deviation(left), LEAST_MM)
        if not _sound(found, new_shares) or not _worth(whole, rest, left, noise):
            break
        p, how = found[:-3], found[-3:]
        rest, shares, columns = left, new_shares, new_columns
    return _swings(whole, np.append(p, how), shares, columns, rest)


def _strongest(
    whole: _Lines, rest: Array, columns: Array, how: Array, p: Array
) -> tuple[float, float] | None:
    """Frequency and damping of the mode that explains most of what is left."""
    count = int(STEPS_A_OCTAVE * np.log2(BAND_HZ[1] / BAND_HZ[0]))
    known = np.exp(p[: len(p) // 2])
    basis = np.linalg.qr(columns)[0] if columns.shape[1] else np.zeros((len(rest), 0))
    best, gain = None, 0.0
    for f in np.geomspace(*BAND_HZ, count):
        if any(max(f, k) / min(f, k) < APART for k in known):
            continue
        for z in DAMPINGS:
            column = whole.column(float(f), z, how.tolist())
            column = column - basis @ (basis.T @ column)
            size = float(column @ column)
            along = float(column @ rest)
            if along > 0 and along * along / size > gain:
                best, gain = (float(f), z), along * along / size
    return best


def _refined(whole: _Lines, start: Array, noise: float) -> Array:
    """Parameters moved to the best."""
    count = (len(start) - 3) // 2
    low = np.array([np.log(BAND_HZ[0])] * count + [np.log(LEAST_DAMPING)] * count + [*HOW_LOW])
    high = np.array([np.log(BAND_HZ[1])] * count + [np.log(MOST_DAMPING)] * count + [*HOW_HIGH])

    def misses(p: Array) -> Array:
        shares, columns = whole.shared(p)
        off = (p[-3:] - HOW_USUAL) / HOW_SPREAD
        beyond = max(float(shares.sum()) - 1, 0.0) / WHOLE_SPREAD
        return np.concatenate([(whole.read - columns @ shares) / noise, off, [beyond]])

    start = np.clip(start, low + 1e-3, high - 1e-3)
    scale = np.array([0.05] * count + [0.5] * count + [*HOW_SCALE])
    found = least_squares(
        misses,
        start,
        bounds=(low, high),
        x_scale=scale,
        loss="soft_l1",
        f_scale=FAR / 2,
        diff_step=1e-4,
        xtol=1e-5,
        ftol=1e-6,
        max_nfev=30,
    )
    return np.asarray(found.x)


def _sound(p: Array, shares: Array) -> bool:
    """Whether modes can be those of a frame: apart, none broad, none small, none making up for
    another.
    """
    count = len(shares)
    frequency = np.sort(p[:count])
    apart = bool((np.diff(frequency) > np.log(APART)).all())
    narrow = bool((np.exp(p[count : 2 * count]) < BROADEST).all())
    total = float(shares.sum())
    return apart and narrow and total < MOST_WHOLE and bool((shares > LEAST_SHARE * total).all())


def _worth(whole: _Lines, before: Array, after: Array, noise: float) -> bool:
    """Whether a further mode explains enough, and at more than one speed."""
    each = max(autocorrelation_time(after), 1.0)
    limit = FAR * noise
    gained = np.minimum(np.abs(before), limit) ** 2 - np.minimum(np.abs(after), limit) ** 2
    total = float(gained.sum()) / noise**2 / each
    by_speed = [
        float(gained[whole.speed == v].sum()) / noise**2 / each for v in np.unique(whole.speed)
    ]
    explained = float((np.minimum(np.abs(whole.read), limit) ** 2).sum()) / noise**2 / each
    enough = total > max(WORTH, SMALL * explained)
    return enough and sum(g > WORTH / 12 for g in by_speed) >= 2


def _swings(whole: _Lines, p: Array, shares: Array, columns: Array, rest: Array) -> Swings:
    """The modes with their half widths, by the curvature at the best."""
    count = len(shares)
    noise = max(robust_deviation(rest), LEAST_MM)
    model = columns @ shares if count else np.zeros(len(rest))
    lines = tuple(
        (one.along_mm, whole.read[a:b], model[a:b])
        for one, a, b in zip(whole.lines, whole.cuts, whole.cuts[1:], strict=False)
    )
    if not count:
        return Swings(
            modes=(),
            corner_mm_s=0.0,
            noise_mm=noise,
            whole=0.0,
            lines=lines,
            seen_to_hz=_seen_to(whole, p[-3:], noise, autocorrelation_time(rest)),
        )
    slopes = []
    for k in range(len(p)):
        nudge = np.zeros(len(p))
        nudge[k] = 1e-3 if k < 2 * count else HOW_NUDGE[k - 2 * count]
        moved = [whole.shared(p + s * nudge)[1] @ shares for s in (1, -1)]
        slopes.append((moved[0] - moved[1]) / (2 * nudge[k]))
    full = np.column_stack([*slopes, columns])
    spread = max(float(np.std(np.clip(rest, -FAR * noise, FAR * noise))), noise)
    information = full.T @ full / (spread**2 * max(autocorrelation_time(rest), 1.0))
    known = np.arange(2 * count, len(p))
    information[known, known] += 1 / np.square(HOW_SPREAD)
    deviation = np.sqrt(np.maximum(np.diag(np.linalg.pinv(information)), 0.0))
    total = float(shares.sum())
    modes = [
        Mode(
            f := float(np.exp(p[k])),
            z := float(np.exp(p[count + k])),
            float(shares[k] / total),
            NORMAL_95 * f * float(np.hypot(deviation[k], FLOOR / NORMAL_95)),
            NORMAL_95 * z * float(deviation[count + k]),
            NORMAL_95 * float(deviation[len(p) + k]) / total,
        )
        for k in range(count)
    ]
    return Swings(
        modes=tuple(sorted(modes, key=lambda m: m.frequency_hz)),
        corner_mm_s=float(p[-3]),
        noise_mm=noise,
        whole=total,
        lines=lines,
        seen_to_hz=_seen_to(whole, p[-3:], spread, autocorrelation_time(rest)),
    )


def _seen_to(whole: _Lines, how: Array, noise: float, each: float) -> float:
    """The highest frequency at which a mode of SEEN_SHARE would have explained WORTH."""
    for f in np.geomspace(BAND_HZ[1], BAND_HZ[0], 40):
        column = SEEN_SHARE * whole.column(float(f), SEEN_DAMPING, how.tolist())
        if column @ column / noise**2 / max(each, 1.0) > WORTH:
            return float(f)
    return BAND_HZ[0]
