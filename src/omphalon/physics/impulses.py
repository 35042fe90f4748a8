"""Input shapers: their impulses, what they leave of a vibration, and the acceleration that stays
clean with them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from omphalon.physics.modes import Mode

Array = NDArray[np.float64]

TOLERANCE = 0.05  # of the extra-insensitive shapers
SHORTER = 0.98  # a shorter shaper is preferred when it allows this share of the best
DRIFT_POINTS = 9
LOWEST_HZ, HIGHEST_HZ = 10.0, 200.0


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
    """Zero vibration: weights 1, K half a period apart. Singer and Seering, J. Dyn. Sys. Meas.
    Control 112, 1990, 76–82.
    """
    return _decayed((1, 1), 0.5, damping)


def zvd(damping: float) -> Impulses:
    """Zero vibration and derivative: 1, 2K, K². Singer and Seering 1990."""
    return _decayed((1, 2, 1), 0.5, damping)


def mzv(damping: float) -> Impulses:
    """Three impulses at 0, 3/8 and 3/4 of the damped period, 1 − 1/√2, √2 − 1, 1 − 1/√2 with
    decay.
    """
    side = 1 - 1 / math.sqrt(2)
    return _decayed((side, math.sqrt(2) - 1, side), 0.375, damping)


def ei(damping: float) -> Impulses:
    """Extra-insensitive, one hump: (1 + V)/4, (1 − V)/2, (1 + V)/4. Singhose, Seering and Singer,
    J. Mech. Des. 116, 1994.
    """
    v = TOLERANCE
    return _decayed(((1 + v) / 4, (1 - v) / 2, (1 + v) / 4), 0.5, damping)


def two_hump(damping: float) -> Impulses:
    """Two humps: A, ½ − A, ½ − A, A with X = ∛(V²(√(1 − V²) + 1)), A = (3X² + 2X + 3V²)/(16X).
    Singhose, Porter, Tuttle and Singer, J. Dyn. Sys. Meas. Control 119, 1997, 320–326."""
    v = TOLERANCE
    x = (v**2 * (math.sqrt(1 - v**2) + 1)) ** (1 / 3)
    a = (3 * x**2 + 2 * x + 3 * v**2) / (16 * x)
    return _decayed((a, 0.5 - a, 0.5 - a, a), 0.5, damping)


def three_hump(damping: float) -> Impulses:
    """Three humps: A, B, C, B, A with A = (1 + 3V + 2√(2(V² + V)))/16, B = (1 − V)/4, C = 1 − 2(A +
    B). Same paper, 1997.
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
    """The impulses' times in s at a frequency, (k,), or at frequencies (n,): (n, k)."""
    period = 1 / (np.asarray(frequency_hz, dtype=np.float64) * math.sqrt(1 - damping**2))
    return np.asarray(period[..., None] * impulses.times)


def residual(weights: Array, times_s: Array, omega: Array, damping: Array | float) -> Array:
    """V = e^(−ζωtₙ)·√(C² + S²), C = Σ aᵢ e^(ζωtᵢ) cos(ω_d tᵢ), S with sin. Singer and Seering 1990,
    eq. 8.

    times_s (..., k), omega and damping broadcast against times_s without its last axis; the
    vibration left, as a share.
    """
    rate = omega * damping
    turn = omega * np.sqrt(1 - np.asarray(damping) ** 2)
    grown = weights * np.exp(rate[..., None] * (times_s - times_s[..., -1:]))
    angle = turn[..., None] * times_s
    return np.asarray(
        np.hypot((grown * np.cos(angle)).sum(axis=-1), (grown * np.sin(angle)).sum(axis=-1))
    )


def variance_s2(impulses: Impulses, frequency_hz: Array, damping: float) -> Array:
    """The impulses' variance in time, (n,): the path trails a curve of acceleration A by
    ½·A·variance.
    """
    middle = float(impulses.weights @ impulses.times)
    unit = float(impulses.weights @ (impulses.times - middle) ** 2)
    return np.asarray(unit / (frequency_hz**2 * (1 - damping**2)))


@dataclass(frozen=True)
class Limits:
    """What may be seen on a print (mm), and how far a mode's frequency may drift (share)."""

    ringing_mm: float = 0.01
    rounding_mm: float = 0.10
    drift: float = 0.05


def ringing_per_acceleration(
    modes: Sequence[Mode],
    limits: Limits,
    shaper: Impulses | None,
    frequency_hz: Array,
    damping: float,
) -> Array:
    """mm of ringing for each mm/s² of acceleration, (n,) over the shaper's frequencies: Σ
    share/ω²·V, each mode's worst over its drift. Without a shaper V = 1."""
    drift = np.linspace(1 - limits.drift, 1 + limits.drift, DRIFT_POINTS)
    total = np.zeros(len(frequency_hz))
    for mode in modes:
        omega = 2 * np.pi * mode.frequency_hz * drift
        if shaper is None:
            total += np.full(len(frequency_hz), float((mode.share / omega**2).max()))
            continue
        times = seconds(shaper, frequency_hz, damping)[:, None, :]
        left = residual(
            shaper.weights,
            times,
            np.broadcast_to(omega, (len(frequency_hz), len(omega))),
            mode.damping,
        )
        total += (mode.share / omega**2 * left).max(axis=1)
    return total


@dataclass(frozen=True)
class Candidate:
    """A shaper at its best frequency: the acceleration it allows, and what it leaves at that
    acceleration.
    """

    shaper: str
    frequency_hz: float
    damping: float
    acceleration_mm_s2: float
    ringing_mm: float
    rounding_mm: float
    length_s: float
    limited_by: str


def allowed(
    name: str, modes: Sequence[Mode], limits: Limits, frequency_hz: Array, damping: float
) -> tuple[Array, Array, Array]:
    """Allowed acceleration over a shaper's frequencies (n,), with ringing and rounding per mm/s² of
    it.
    """
    shaper = SHAPERS[name](damping)
    ringing = ringing_per_acceleration(modes, limits, shaper, frequency_hz, damping)
    rounding = 0.5 * variance_s2(shaper, frequency_hz, damping)
    return (
        np.minimum(limits.ringing_mm / np.maximum(ringing, 1e-15), limits.rounding_mm / rounding),
        ringing,
        rounding,
    )


def at_setting(
    name: str, frequency_hz: float, damping: float, modes: Sequence[Mode], limits: Limits
) -> Candidate:
    """What one shaper setting allows on these modes."""
    most, ringing, rounding = allowed(name, modes, limits, np.array([frequency_hz]), damping)
    a = float(most[0])
    length = float(seconds(SHAPERS[name](damping), frequency_hz, damping)[-1])
    ring, trail = a * float(ringing[0]), a * float(rounding[0])
    reached = (ring / limits.ringing_mm) / max(trail / limits.rounding_mm, 1e-12)
    return Candidate(
        name,
        frequency_hz,
        damping,
        a,
        ring,
        trail,
        length,
        "both" if abs(reached - 1) < 0.02 else "ringing" if reached > 1 else "rounding",
    )


def unshaped(modes: Sequence[Mode], limits: Limits) -> float:
    """Acceleration that stays clean with no shaper."""
    return limits.ringing_mm / float(
        ringing_per_acceleration(modes, limits, None, np.ones(1), 0.0)[0]
    )


def candidates(modes: Sequence[Mode], limits: Limits, offered: Sequence[str]) -> list[Candidate]:
    """Each offered shaper at the frequency, and the damping among the modes', that allow most; in
    the order offered.
    """
    frequencies = np.arange(LOWEST_HZ, HIGHEST_HZ, 0.5)
    out = []
    for name in offered:
        best: Candidate | None = None
        for damping in sorted(
            {round(m.damping, 4) for m in modes if m.share > 0.05} or {modes[0].damping}
        ):
            coarse = frequencies[
                int(np.argmax(allowed(name, modes, limits, frequencies, damping)[0]))
            ]
            near = np.linspace(coarse - 0.5, coarse + 0.5, 51)
            fine = float(near[int(np.argmax(allowed(name, modes, limits, near, damping)[0]))])
            one = at_setting(name, fine, damping, modes, limits)
            best = one if best is None or one.acceleration_mm_s2 > best.acceleration_mm_s2 else best
        assert best is not None
        out.append(best)
    return out


def pick(found: Sequence[Candidate]) -> Candidate:
    """The candidate that allows most; of those within 2 % of it the shortest."""
    most = max(c.acceleration_mm_s2 for c in found)
    return min(
        (c for c in found if c.acceleration_mm_s2 >= SHORTER * most), key=lambda c: c.length_s
    )
