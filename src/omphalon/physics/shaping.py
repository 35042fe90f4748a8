"""What input shapers allow: the acceleration that stays clean with each, and the one to choose."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from omphalon.base.arrays import Array
from omphalon.physics.impulses import SHAPERS, Impulses, residual, seconds, variance_s2
from omphalon.physics.resonance import Mode

LOWEST_HZ, HIGHEST_HZ = 10.0, 200.0  # that a shaper is looked for in
SHORTER = 0.98  # a shorter shaper is preferred when it allows this share of the best


DRIFT_POINTS = 9  # between both ends of a drift


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
    """Ringing for each mm/s² of acceleration: Σ share/ω²·V, each mode's worst over its drift.

    Parameters
    ----------
    modes : of the axis
    limits : their `drift` counts
    shaper : None: no shaper, V = 1
    frequency_hz : (n,) of the shaper
    damping : of the shaper

    Returns
    -------
    (n,) in mm per mm/s²
    """
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


@dataclass(frozen=True, kw_only=True)
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
    """The acceleration that stays within both limits, over a shaper's frequencies.

    Parameters
    ----------
    name : of the shaper
    modes : of the axis
    limits : what may be seen
    frequency_hz : (n,)
    damping : of the shaper

    Returns
    -------
    acceleration : (n,) in mm/s²
    ringing, rounding : (n,) in mm per mm/s²
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
    name: str,
    frequency_hz: float,
    damping: float,
    modes: Sequence[Mode],
    limits: Limits,
    others: Sequence[Sequence[Mode]] = (),
) -> Candidate:
    """What one shaper setting allows on these modes, or at the worst of several places.

    Parameters
    ----------
    name, frequency_hz, damping : the setting
    modes : of the axis
    limits : what may be seen
    others : the modes at other places, or with other loads

    Returns
    -------
    Candidate
    """
    if others:
        places = (at_setting(name, frequency_hz, damping, m, limits) for m in (modes, *others))
        return min(places, key=lambda one: one.acceleration_mm_s2)
    most, ringing, rounding = allowed(name, modes, limits, np.array([frequency_hz]), damping)
    a = float(most[0])
    length = float(seconds(SHAPERS[name](damping), frequency_hz, damping)[-1])
    ring, trail = a * float(ringing[0]), a * float(rounding[0])
    reached = (ring / limits.ringing_mm) / max(trail / limits.rounding_mm, 1e-12)
    return Candidate(
        shaper=name,
        frequency_hz=frequency_hz,
        damping=damping,
        acceleration_mm_s2=a,
        ringing_mm=ring,
        rounding_mm=trail,
        length_s=length,
        limited_by="both" if abs(reached - 1) < 0.02 else "ringing" if reached > 1 else "rounding",
    )


def unshaped(modes: Sequence[Mode], limits: Limits) -> float:
    """Acceleration that stays clean with no shaper.

    Parameters
    ----------
    modes : of the axis
    limits : what may be seen

    Returns
    -------
    in mm/s²
    """
    return limits.ringing_mm / float(
        ringing_per_acceleration(modes, limits, None, np.ones(1), 0.0)[0]
    )


def between(places: Sequence[Sequence[Mode]]) -> list[list[Mode]]:
    """Modes half way between each two of several places.

    Each mode of the place with fewer is paired with the nearest of the other, by the ratio of their
    frequencies; what is left over stays as it is.

    Parameters
    ----------
    places : modes at each

    Returns
    -------
    modes half way between each two
    """
    found = []
    for n, one in enumerate(places):
        for other in places[n + 1 :]:
            few, many = sorted((list(one), list(other)), key=len)
            half = []
            for mode in few:
                near = min(many, key=lambda m: abs(np.log(m.frequency_hz / mode.frequency_hz)))
                many.remove(near)
                frequency = float(np.sqrt(mode.frequency_hz * near.frequency_hz))
                damping = (mode.damping + near.damping) / 2
                half.append(Mode(frequency, damping, (mode.share + near.share) / 2))
            found.append([*half, *many])
    return found


def candidates(
    modes: Sequence[Mode],
    limits: Limits,
    offered: Sequence[str],
    others: Sequence[Sequence[Mode]] = (),
) -> list[Candidate]:
    """Each offered shaper at the frequency, and the damping among the modes', that allow most: at
    the worst place, where there are several.

    Parameters
    ----------
    modes : of the axis
    limits : what may be seen
    offered : names
    others : the modes at other places, or with other loads

    Returns
    -------
    a Candidate for each, in the order offered
    """
    frequencies = np.arange(LOWEST_HZ, HIGHEST_HZ, 0.5)
    places = (modes, *others)

    def most(name: str, grid: Array, damping: float) -> float:
        every = [allowed(name, m, limits, grid, damping)[0] for m in places]
        return float(grid[int(np.argmax(np.min(every, axis=0)))])

    out = []
    for name in offered:
        best: Candidate | None = None
        for damping in sorted(
            {round(m.damping, 4) for m in modes if m.share > 0.05} or {modes[0].damping}
        ):
            coarse = most(name, frequencies, damping)
            fine = most(name, np.linspace(coarse - 0.5, coarse + 0.5, 51), damping)
            one = at_setting(name, fine, damping, modes, limits, others)
            best = one if best is None or one.acceleration_mm_s2 > best.acceleration_mm_s2 else best
        assert best is not None
        out.append(best)
    return out


def pick(found: Sequence[Candidate]) -> Candidate:
    """The candidate that allows most; of those within 2 % of it the shortest.

    Parameters
    ----------
    found : at least one

    Returns
    -------
    Candidate
    """
    most = max(c.acceleration_mm_s2 for c in found)
    return min(
        (c for c in found if c.acceleration_mm_s2 >= SHORTER * most), key=lambda c: c.length_s
    )
