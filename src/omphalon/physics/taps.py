"""Free decays after taps on an axis: the response they show, without a sweep."""

from __future__ import annotations

import numpy as np
from scipy import signal

from omphalon.arrays import Array
from omphalon.physics.resonance import Response
from omphalon.physics.scale import by_median
from omphalon.physics.sweep import RATE_HZ

SKIP_S, LISTEN_S = 3 / RATE_HZ, 0.8  # what the blow itself takes, and what is heard after it
LOW_HZ, MOST_HZ = 8.0, 130.0
FEWEST = 3
TIMES_QUIET, LOUD_SHARE, APART_S = 8.0, 0.15, 0.5  # how a blow stands out, and from the next


class NoTaps(Exception):
    """Fewer taps than are needed stand out of the log; `seen` says how many."""

    def __init__(self, seen: int) -> None:
        super().__init__(seen)
        self.seen = seen


def tapped(values: Array) -> tuple[Response, int]:
    """Mean power of the decays after taps, less the noise before them.

    Parameters
    ----------
    values : (n,) at RATE_HZ

    Returns
    -------
    Response
    int
        Taps that were heard.

    Raises
    ------
    NoTaps
        If they are fewer than FEWEST.
    """
    starts = _starts(values)
    width = int(LISTEN_S * RATE_HZ)
    skip = round(SKIP_S * RATE_HZ)
    starts = [s for s in starts if s + skip + width < len(values) and s > width // 4]
    if len(starts) < FEWEST:
        raise NoTaps(len(starts))
    pad = int(RATE_HZ)  # 1 Hz steps
    fade = np.ones(width)
    fade[-width // 4 :] = 0.5 * (1 + np.cos(np.linspace(0, np.pi, len(fade[-width // 4 :]))))
    decays = np.stack(
        [np.abs(np.fft.rfft(values[s + skip : s + skip + width] * fade, pad)) ** 2 for s in starts]
    )
    before = [values[s - width // 4 : s - 8] for s in starts]
    noise = float(np.median([np.mean((b - b.mean()) ** 2) for b in before])) * float(
        (fade**2).sum()
    )
    frequency = np.fft.rfftfreq(pad, 1 / RATE_HZ)
    size = decays / decays.sum(axis=1, keepdims=True)
    mean = decays.mean(axis=0)
    left = mean - noise
    scatter = (
        size.std(axis=0, ddof=1) / np.maximum(size.mean(axis=0), 1e-300) / np.sqrt(len(starts))
    )
    above = left > 0.05 * mean
    deviation = np.hypot(
        np.maximum(scatter, 0.05), noise / np.where(above, left, mean) / np.sqrt(len(starts))
    )
    keep = above & (frequency >= LOW_HZ) & (frequency <= MOST_HZ) & (deviation < 1.2)
    # a decay that is over before the window ends is seen as it is: no smear
    return Response(
        frequency[keep],
        left[keep],
        deviation[keep],
        np.array([-0.5, 0.0, 0.5]),
        np.array([0.0, 1.0, 0.0]),
    ), len(starts)


def _starts(values: Array) -> list[int]:
    """Where the blows fall: peaks of the size that rise to TIMES_QUIET times the quiet between, and
    to a share of the loudest, at least APART_S apart.
    """
    loud = np.abs(values)
    quiet = by_median(values) + 1e-300
    block = int(0.02 * RATE_HZ)
    level = loud[: len(loud) // block * block].reshape(-1, block).max(axis=1)
    least = max(TIMES_QUIET * quiet, LOUD_SHARE * float(np.quantile(level, 0.995)))
    return [int(k) for k in signal.find_peaks(loud, least, distance=int(APART_S * RATE_HZ))[0]]
