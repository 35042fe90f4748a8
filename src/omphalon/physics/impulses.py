"""Input shapers: their impulses, and what they leave of a vibration."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from omphalon.base.arrays import Array

TOLERANCE = 0.05  # of the extra-insensitive shapers


@dataclass(frozen=True)
class Impulses:
    """A shaper at unit frequency and given damping: weights that sum to 1, and times in damped
    periods, ascending from 0.
    """

    weights: Array
    times: Array


def _decay(damping: float, periods: float) -> float:
    """What a vibration falls to within so many damped periods."""
    return math.exp(-damping * 2 * math.pi * periods / math.sqrt(1 - damping**2))


def _decayed(weights: Sequence[float], apart: float, damping: float) -> Impulses:
    """Weights of an undamped shaper, so many damped periods apart, each made smaller as the
    vibration is by then; sum 1.
    """
    fall = _decay(damping, apart)
    raw = np.array([w * fall**n for n, w in enumerate(weights)], dtype=np.float64)
    return Impulses(raw / raw.sum(), apart * np.arange(len(weights), dtype=np.float64))


def zv(damping: float) -> Impulses:
    """Zero vibration: weights 1, K half a period apart.

    Parameters
    ----------
    damping : ratio that the weights allow for, K = e^(−πζ/√(1 − ζ²))

    Returns
    -------
    Impulses

    References
    ----------
    Singer and Seering, J. Dyn. Sys. Meas. Control 112 (1990), p. 76–82.
    """
    return _decayed((1, 1), 0.5, damping)


def zvd(damping: float) -> Impulses:
    """Zero vibration and derivative: weights 1, 2K, K² half periods apart.

    Parameters
    ----------
    damping : ratio that the weights allow for, K = e^(−πζ/√(1 − ζ²))

    Returns
    -------
    Impulses

    References
    ----------
    Singer and Seering, J. Dyn. Sys. Meas. Control 112 (1990), p. 76–82.
    """
    return _decayed((1, 2, 1), 0.5, damping)


def mzv(damping: float) -> Impulses:
    """Three impulses at 0, 3/8 and 3/4 of the damped period, 1 − 1/√2, √2 − 1, 1 − 1/√2, each less
    by what the vibration has decayed.

    Parameters
    ----------
    damping : ratio that the weights allow for

    Returns
    -------
    Impulses
    """
    side = 1 - 1 / math.sqrt(2)
    return _decayed((side, math.sqrt(2) - 1, side), 0.375, damping)


def ei(damping: float) -> Impulses:
    """Extra-insensitive, one hump: (1 + V)/4, (1 − V)/2, (1 + V)/4 with V the TOLERANCE.

    Parameters
    ----------
    damping : ratio that the weights allow for

    Returns
    -------
    Impulses

    References
    ----------
    Singhose, Seering and Singer, J. Mech. Des. 116 (1994), p. 654–659.
    """
    v = TOLERANCE
    return _decayed(((1 + v) / 4, (1 - v) / 2, (1 + v) / 4), 0.5, damping)


def two_hump(damping: float) -> Impulses:
    """Two humps: A, ½ − A, ½ − A, A with X = ∛(V²(√(1 − V²) + 1)), A = (3X² + 2X + 3V²)/(16X).

    Parameters
    ----------
    damping : ratio that the weights allow for

    Returns
    -------
    Impulses

    References
    ----------
    Singhose, Porter, Tuttle and Singer, J. Dyn. Sys. Meas. Control 119 (1997), p. 320–326.
    """
    v = TOLERANCE
    x = (v**2 * (math.sqrt(1 - v**2) + 1)) ** (1 / 3)
    a = (3 * x**2 + 2 * x + 3 * v**2) / (16 * x)
    return _decayed((a, 0.5 - a, 0.5 - a, a), 0.5, damping)


def three_hump(damping: float) -> Impulses:
    """Three humps: A, B, C, B, A with A = (1 + 3V + 2√(2(V² + V)))/16, B = (1 − V)/4, C = 1 − 2(A +
    B).

    Parameters
    ----------
    damping : ratio that the weights allow for

    Returns
    -------
    Impulses

    References
    ----------
    Singhose, Porter, Tuttle and Singer, J. Dyn. Sys. Meas. Control 119 (1997), p. 320–326.
    """
    v = TOLERANCE
    a = (1 + 3 * v + 2 * math.sqrt(2 * (v**2 + v))) / 16
    b = (1 - v) / 4
    return _decayed((a, b, 1 - 2 * (a + b), b, a), 0.5, damping)


SHAPERS: dict[str, Callable[[float], Impulses]] = {
    "zv": zv,
    "zvd": zvd,
    "mzv": mzv,
    "ei": ei,
    "two-hump": two_hump,
    "three-hump": three_hump,
}


def seconds(impulses: Impulses, frequency_hz: float | Array, damping: float) -> Array:
    """The impulses' times at a frequency.

    Parameters
    ----------
    impulses : k of them
    frequency_hz : one, or (n,)
    damping : ratio

    Returns
    -------
    (k,) or (n, k) in s
    """
    period = 1 / (np.asarray(frequency_hz, dtype=np.float64) * math.sqrt(1 - damping**2))
    return np.asarray(period[..., None] * impulses.times)


def residual(weights: Array, times_s: Array, omega: Array, damping: Array | float) -> Array:
    """The share of a vibration that impulses leave: V = e^(−ζωtₙ)·√(C² + S²) with C = Σ aᵢ e^(ζωtᵢ)
    cos(ω_d tᵢ), S with sin.

    Parameters
    ----------
    weights : (k,)
    times_s : (..., k)
    omega, damping : (...)
        Of the vibration, in rad/s and as a ratio; they broadcast against `times_s` without its last
        axis.

    Returns
    -------
    (...)

    References
    ----------
    Singer and Seering, J. Dyn. Sys. Meas. Control 112 (1990), eq. 8.
    """
    rate = omega * damping
    turn = omega * np.sqrt(1 - np.asarray(damping) ** 2)
    grown = weights * np.exp(rate[..., None] * (times_s - times_s[..., -1:]))
    angle = turn[..., None] * times_s
    return np.asarray(
        np.hypot((grown * np.cos(angle)).sum(axis=-1), (grown * np.sin(angle)).sum(axis=-1))
    )


def variance_s2(impulses: Impulses, frequency_hz: Array, damping: float) -> Array:
    """The impulses' variance in time: the path trails a curve of acceleration A by ½·A·variance.

    Parameters
    ----------
    impulses : at unit frequency
    frequency_hz : (n,)
    damping : ratio

    Returns
    -------
    (n,) in s²
    """
    middle = float(impulses.weights @ impulses.times)
    unit = float(impulses.weights @ (impulses.times - middle) ** 2)
    return np.asarray(unit / (frequency_hz**2 * (1 - damping**2)))
