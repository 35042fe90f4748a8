"""What a sensor says while nobody moves it: gravity, noise, steps of its digits, hum."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import signal

from omphalon.base.arrays import Array
from omphalon.tables.constants import G_MM_S2

STRETCH_S = 1.0  # of one spectrum: hum and noise are told apart to about 1.5 Hz
LOWEST_HZ, HIGHEST_HZ = 5.0, 200.0  # below, the sensor's own drift; above, what no sweep reaches
STRETCHES = 8  # whose means are held against each other
WORDS_BITS = (8, 10, 12, 13, 14, 16)  # of the sensors that are sold
RANGES_G = (2, 4, 8, 16, 32)  # that sensors are made with
RANGE_WITHIN = 0.06  # of it a reading at its end lies


@dataclass(frozen=True, kw_only=True)
class Stillness:
    """A sensor at rest. Of its axes x, y, z, shape (3,): `gravity_mm_s2` their means,
    `density_mm_s2` the noise in one hertz (mm/s²/√Hz), `step_mm_s2` the digits' step (0 where an
    axis never changes), `wander_mm_s2` how far the means of stretches lie apart, `furthest_mm_s2`
    the largest deviation of a single sample. `hum_hz` and `hum_mm_s2`: the tallest line of its
    spectrum.
    """

    gravity_mm_s2: Array
    density_mm_s2: Array
    step_mm_s2: Array
    wander_mm_s2: Array
    furthest_mm_s2: Array
    hum_hz: float
    hum_mm_s2: float

    @property
    def size_mm_s2(self) -> float:
        """Gravity's size."""
        return float(np.linalg.norm(self.gravity_mm_s2))

    @property
    def upright(self) -> int:
        """The axis that lies nearest to gravity's line."""
        return int(np.argmax(np.abs(self.gravity_mm_s2)))

    @property
    def tilt_deg(self) -> float:
        """Angle between that axis and gravity's line."""
        along = abs(float(self.gravity_mm_s2[self.upright])) / max(self.size_mm_s2, 1e-9)
        return float(np.degrees(np.arccos(min(along, 1.0))))


def at_rest(time_s: Array, axes: Array, rate_hz: float) -> Stillness:
    """Gravity, noise, steps and hum of a sensor that nobody moves.

    Parameters
    ----------
    time_s : (n,)
        Uneven times are put on even ones.
    axes : (n, 3) in mm/s²
    rate_hz : samples a second

    Returns
    -------
    Stillness

    References
    ----------
    Welch, IEEE Trans. Audio Electroacoustics 15 (1967), p. 70: spectra of stretches, averaged. The
    noise is the spectrum's median, so that lines of hum do not raise it; over five seconds it comes
    out 3 % low (a median of skewed values).
    """
    grid = np.arange(time_s[0], time_s[-1], 1 / rate_hz)
    # the sample before each moment: one between two samples would have less noise than either
    even = axes[np.searchsorted(time_s, grid + 0.5 / rate_hz) - 1]
    count = min(round(STRETCH_S * rate_hz), len(even))
    frequency, power = signal.welch(even, rate_hz, "hann", count, axis=0, detrend="linear")
    seen = (frequency >= LOWEST_HZ) & (frequency <= HIGHEST_HZ)
    floor = np.median(power[seen], axis=0)
    line = np.sum(np.maximum(power[seen] - floor, 0.0), axis=1)
    tallest = int(np.argmax(line))
    # a sine of amplitude a has a²/2 in all; the Hann window spreads it over three rows
    around = slice(max(tallest - 1, 0), tallest + 2)
    hum = np.sqrt(2 * float(line[around].sum()) * float(frequency[1]))
    means = np.array([part.mean(axis=0) for part in np.array_split(axes, STRETCHES)])
    return Stillness(
        gravity_mm_s2=axes.mean(axis=0),
        density_mm_s2=np.sqrt(floor),
        step_mm_s2=np.array([_step(axes[:, k]) for k in range(3)]),
        wander_mm_s2=np.ptp(means, axis=0),
        furthest_mm_s2=np.abs(axes - np.median(axes, axis=0)).max(axis=0),
        hum_hz=float(frequency[seen][tallest]),
        hum_mm_s2=float(hum),
    )


def _step(values: Array) -> float:
    """The usual distance between neighbouring readings; 0 where there is only one."""
    apart = np.diff(np.unique(values))
    return float(np.median(apart)) if len(apart) else 0.0


def ranges(step_mm_s2: float) -> dict[int, int]:
    """Ranges (g) that a sensor with such a step can be set to, by the bits it counts in.

    Parameters
    ----------
    step_mm_s2 : of its digits; 2 × range ÷ 2^bits

    Returns
    -------
    dict of bits to g
        Empty where no usual word length makes a usual range.
    """
    found = {}
    for bits in WORDS_BITS:
        reach = step_mm_s2 * 2 ** (bits - 1) / G_MM_S2
        fits = [g for g in RANGES_G if abs(reach / g - 1) < RANGE_WITHIN]
        if fits:
            found[bits] = fits[0]
    return found
