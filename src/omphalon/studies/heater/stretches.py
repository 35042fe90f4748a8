"""What an ordinary log of a heater holds: heat-ups, holds, falls, rests, and where it is cut."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from omphalon.answers.remarks import Remark
from omphalon.base.arrays import Array, Integers
from omphalon.recordings.recording import TemperatureLog
from omphalon.studies.heater.excerpt import APART_S, BUSY

HELD_WITHIN_C, NEAR_SHARE = 3.0, 0.04  # of the target, and of the way to it: it holds
SHORTEST_S = 4.0  # a shorter stretch is part of its neighbour
LATE_S, LATE_REPORTS = 4.0, 3.0  # a controller answers a new target at once
STRETCH_KINDS = ("rests", "heats up", "holds", "falls to it", "cools")


@dataclass(frozen=True, kw_only=True)
class Stretch:
    """A part of a log in which one thing happens: from and to (s, from the log's start), the
    target, the mean power and the reading at both ends.
    """

    kind: str
    start_s: float
    end_s: float
    target_c: float
    power: float
    from_c: float
    to_c: float


def sessions(log: TemperatureLog) -> list[slice]:
    """The parts of a log between gaps, restarts and long rests, each with a heater that was on."""
    t = log.time_s
    step = np.diff(t)
    usual = float(np.median(step))
    cuts = {int(k) + 1 for k in np.flatnonzero(step > max(4 * usual, usual + 2.0))}
    assert log.power is not None
    busy = np.flatnonzero(log.power > BUSY)
    for before, after in zip(busy[:-1], busy[1:], strict=True):
        if t[after] - t[before] > APART_S:
            cuts |= {int(before) + 1, int(np.searchsorted(t, t[after] - usual * 5))}
    edges = sorted({0, *cuts, len(t)})
    parts = [slice(a, b) for a, b in zip(edges[:-1], edges[1:], strict=True) if b - a > 20]
    return [part for part in parts if (log.power[part] > BUSY).any()]


def stretches(
    time_s: Array, reading_c: Array, power: Array, target_c: Array
) -> tuple[Stretch, ...]:
    """A log cut into stretches, by what its reading does about its target.

    `time_s`, `reading_c`, `power`, `target_c`: (n,); a target of 0 is none.
    """
    off = reading_c - target_c
    near = max(HELD_WITHIN_C, NEAR_SHARE * float(target_c.max() - reading_c.min()))
    kind = np.select(
        [
            (target_c <= 0) & (power <= BUSY) & (np.abs(reading_c - reading_c[0]) < HELD_WITHIN_C),
            target_c <= 0,
            off < -near,
            off > near,
        ],
        [0, 4, 1, 3],
        2,
    )
    edges = _edges(time_s, kind, target_c)
    return tuple(
        Stretch(
            kind=STRETCH_KINDS[int(np.bincount(kind[a:b]).argmax())],
            start_s=float(time_s[a]),
            end_s=float(time_s[b] if b < len(time_s) else time_s[-1]),
            target_c=float(np.median(target_c[a:b])),
            power=float(power[a:b].mean()),
            from_c=float(reading_c[a]),
            to_c=float(reading_c[b - 1]),
        )
        for a, b in zip(edges[:-1], edges[1:], strict=True)
    )


def _edges(time_s: Array, kind: Integers, target_c: Array) -> list[int]:
    """Where one stretch ends and the next begins; those that last too short are part of the one
    before.
    """
    changes = (np.diff(kind) != 0) | (np.abs(np.diff(target_c)) > 0.01)
    edges = [0, *(np.flatnonzero(changes) + 1).tolist(), len(kind)]
    kept = [0]
    for a, b in zip(edges[1:-1], edges[2:], strict=True):
        end = time_s[b] if b < len(time_s) else time_s[-1]
        jumps = abs(target_c[a] - target_c[a - 1]) > 0.01
        if end - time_s[a] >= SHORTEST_S or jumps:
            same = kind[a] == kind[kept[-1]] and not jumps
            if not same:
                kept.append(a)
    return [*kept, len(kind)]


def late_power(log: TemperatureLog, goals: Array) -> list[Remark]:
    """A word where the power comes on well after a target asked for it."""
    assert log.power is not None
    t, asked, on = log.time_s, goals > log.temperature_c + HELD_WITHIN_C, log.power > BUSY
    if not asked.any() or not on.any():
        return []
    by = float(t[np.argmax(on)] - t[np.argmax(asked)])
    if by < max(LATE_S, LATE_REPORTS * float(np.median(np.diff(t)))):
        return []
    return [Remark("power-late", by=by)]
