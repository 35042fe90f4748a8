"""What a resonance does to the motion: modes, the laws they follow, and a measured response."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from omphalon.base.arrays import Array, Complexes


@dataclass(frozen=True)
class Mode:
    """A resonance: frequency (Hz), damping ratio, share of the motion (all shares sum to 1), with
    half widths of 95 %.
    """

    frequency_hz: float
    damping: float
    share: float
    frequency_half_hz: float = 0.0
    damping_half: float = 0.0
    share_half: float = 0.0


@dataclass(frozen=True)
class Response:
    """Measured power of the response (m,) at frequencies (m,) Hz, with the relative deviation of
    each.

    `smear_hz` and `smear` are the window's own line, through which everything is seen: offsets (k,)
    and weights (k,), sum 1.
    """

    frequency_hz: Array
    power: Array
    deviation: Array
    smear_hz: Array
    smear: Array


Terms = tuple[Complexes, Complexes, Complexes]


Law = Callable[[Array, Array, Array], Terms]


DriveShape = Callable[[Array], Array]


def follows(frequency_hz: Array, frequencies: Array, dampings: Array) -> Terms:
    """How the part follows the motor: (2ζωs + ω²)/(s² + 2ζωs + ω²) of each mode at s = 2πi·f, which
    is 1 at f = 0. H(s) = Σ share × these.

    Parameters
    ----------
    frequency_hz : (n,)
    frequencies, dampings : (k,) of the modes

    Returns
    -------
    (n, k) three times
        The term, and its derivatives by ln of the mode's frequency and of its damping.
    """
    ratio = frequency_hz[:, None] / frequencies
    top = 1 + 2j * dampings * ratio
    under = top - ratio**2
    by_ratio = (2j * dampings * under - top * (2j * dampings - 2 * ratio)) / under**2
    return top / under, -ratio * by_ratio, -2j * dampings * ratio**3 / under**2


def decays(after_s: float) -> Law:
    """The law of a tap's free decay, logged from so long after the blow.

    The acceleration of each mode is 2 Re(r·e^(pt)) with p = −ζω + iω_d and r the residue of −(2ζωs
    + ω²)/(s² + 2ζωs + ω²) at p; what is left of it at `after_s` starts the logged decay.
    Derivatives by small differences.

    Parameters
    ----------
    after_s : in s

    Returns
    -------
    a law with the arguments and results of `follows`
    """

    def term(frequency_hz: Array, f: Array, z: Array) -> Complexes:
        omega = 2 * np.pi * f
        pole = omega * (-z + 1j * np.sqrt(1 - z**2))
        left = -(2 * z * omega * pole + omega**2) / (2j * pole.imag) * np.exp(pole * after_s)
        s = 2j * np.pi * frequency_hz[:, None]
        return np.asarray(
            (2 * left.real * s - 2 * (left * np.conj(pole)).real)
            / (s**2 + 2 * z * omega * s + omega**2)
        )

    def law(frequency_hz: Array, f: Array, z: Array) -> Terms:
        small = 1e-5
        here = term(frequency_hz, f, z)
        return (
            here,
            (term(frequency_hz, f * (1 + small), z) - here) / small,
            (term(frequency_hz, f, z * (1 + small)) - here) / small,
        )

    return law


def rising(frequency_hz: Array) -> Array:
    """ln of a drive whose amplitude is a power of frequency, per unit of the power.

    Parameters
    ----------
    frequency_hz : (n,)

    Returns
    -------
    (n,)
    """
    return np.asarray(np.log(frequency_hz / 50.0))


def undriven(frequency_hz: Array) -> Array:
    """ln of the drive of a free decay, which nothing drives: zero throughout. How hard the blow
    struck each mode stays in its share.

    Parameters
    ----------
    frequency_hz : (n,)

    Returns
    -------
    (n,)
    """
    return np.zeros(len(frequency_hz))


def response_of(modes: Sequence[Mode], frequency_hz: Array) -> Array:
    """The size of the response of modes, |H|.

    Parameters
    ----------
    modes : k of them
    frequency_hz : (n,)

    Returns
    -------
    (n,)
    """
    f, z, share = (
        np.array([getattr(m, name) for m in modes]) for name in ("frequency_hz", "damping", "share")
    )
    return np.asarray(np.abs(follows(frequency_hz, f, z)[0] @ share))
