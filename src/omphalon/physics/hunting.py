"""A hold that swings to and fro, over its whole length: how far, how often, and about what."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy import optimize, signal

from omphalon.base.arrays import Array

SHORTEST_S = 5.0  # a period that is looked for; faster, a loop of a heater cannot swing
FEWEST_PERIODS = 3.0  # in the hold: less is a trend
FINE = 8.0  # trial frequencies in the width of a line, 1 / duration
EXPLAINED = 0.5  # of the variance beside noise that one period must explain
STEADY = 0.35  # of the swing, in each third of the hold: less has died away
IN_STEP = 1.2  # rad: how far a third's phase may stand off
LEAST_C = 0.2  # half of a swing that is worth a word
CERTAIN = 4.0  # standard errors of its size
MOST_SAMPLES = 3000  # reports that are used
HARMONICS, SEPARABLE = 5, 4.0  # condition number up to which harmonics can be separated


@dataclass(frozen=True)
class Hunting:
    """A sustained swing: half from peak to peak (°C), its period (s), the mean over whole periods
    (°C) with its standard error, and what is left beside it of a report (°C, rms).
    """

    size_c: float
    period_s: float
    mean_c: float
    mean_error_c: float
    noise_c: float


def hunting(time_s: Array, reading_c: Array, noise_c: float, step_c: float) -> Hunting | None:
    """Find a sustained swing in a hold; None where there is none.

    The period is that of the sinusoid which, beside a slow bend, explains most (Lomb and Scargle's
    periodogram, then least squares). It counts where it explains half of what is no noise, in each
    third of the hold, in step. Its size is that of the mean period, with its harmonics: the
    swing of a relay is no sinusoid.

    Parameters
    ----------
    time_s, reading_c : (n,)
        From the arrival on, without a change of target or fan.
    noise_c, step_c : in °C
        Standard deviation of a report, and the display's step.

    Returns
    -------
    Hunting or None

    References
    ----------
    Scargle, Astrophysical Journal 263 (1982), eq. 10, p. 836.
    """
    t, y = time_s[:MOST_SAMPLES] - time_s[0], reading_c[:MOST_SAMPLES]
    if len(t) < 12:
        return None
    span, every = float(t[-1]), float(np.median(np.diff(t)))
    low, high = FEWEST_PERIODS / span, 1 / max(SHORTEST_S, 3 * every)
    if high <= low:
        return None
    bend = np.polynomial.legendre.legvander(2 * t / span - 1, 2)
    left = y - bend @ np.linalg.lstsq(bend, y, rcond=None)[0]
    trial = np.arange(low, high, 1 / (FINE * span))
    strength = signal.lombscargle(t, left, 2 * np.pi * trial)
    near = float(trial[int(np.argmax(strength))])
    found = optimize.minimize_scalar(
        lambda f: _left(t, y, bend, f, 1),
        bounds=(near - 0.6 / span, near + 0.6 / span),
        method="bounded",
    )
    frequency = float(np.clip(found.x, low, None))
    random = noise_c**2 + step_c**2 / 12
    beside_noise = float(np.mean(left**2)) - random
    explained = float(np.mean(left**2)) - _left(t, y, bend, frequency, 1) / len(t)
    if beside_noise <= 0 or explained < EXPLAINED * beside_noise or not _steady(t, left, frequency):
        return None
    curve, mean, left_c = _mean_period(t, y, bend, frequency)
    size = float(np.ptp(curve)) / 2
    error = math.sqrt(2 * (random + max(beside_noise - explained, 0.0)) / len(t))
    if size < max(LEAST_C, CERTAIN * error):
        return None
    return Hunting(size, 1 / frequency, mean, error, left_c)


def _waves(t: Array, frequency: float, harmonics: int) -> Array:
    turns = 2 * np.pi * frequency * np.outer(t, np.arange(1, harmonics + 1))
    return np.hstack([np.cos(turns), np.sin(turns)])


def _left(t: Array, y: Array, bend: Array, frequency: float, harmonics: int) -> float:
    """Sum of squares beside a slow bend and the waves of a frequency."""
    columns = np.hstack([bend, _waves(t, frequency, harmonics)])
    return float(np.sum((y - columns @ np.linalg.lstsq(columns, y, rcond=None)[0]) ** 2))


def _steady(t: Array, left: Array, frequency: float) -> bool:
    """Whether each third of a hold swings in size and phase as all of it does."""
    turn = np.exp(-2j * np.pi * frequency * t)
    overall = 2 * np.mean(left * turn)
    for part in np.array_split(np.arange(len(t)), 3):
        if frequency * np.ptp(t[part]) < 0.9:
            continue
        own = 2 * np.mean((left[part] - left[part].mean()) * turn[part]) / overall
        if abs(own) < STEADY or abs(np.angle(own)) > IN_STEP:
            return False
    return True


def _mean_period(t: Array, y: Array, bend: Array, frequency: float) -> tuple[Array, float, float]:
    """One period's curve, the mean level over the hold, and the rms of what is left; with as many
    harmonics as the reports, which sample each period at other phases, can separate.
    """
    for harmonics in range(HARMONICS, 0, -1):
        columns = np.hstack([bend, _waves(t, frequency, harmonics)])
        if np.linalg.cond(columns) < SEPARABLE:
            break
    solved = np.linalg.lstsq(columns, y, rcond=None)[0]
    phase = np.linspace(0, 1 / frequency, 200, endpoint=False)
    curve = _waves(phase, frequency, harmonics) @ solved[bend.shape[1] :]
    return curve, float(solved[0]), float(np.std(y - columns @ solved))
