"""What is passed over in a log before it is read: other targets, single spikes, a reading that
stands still.
"""

from __future__ import annotations

import numpy as np

from omphalon.arrays import Array, Mask
from omphalon.recording import TemperatureLog
from omphalon.remarks import Remark

SPIKE_C = 5.0


def cleaned(log: TemperatureLog) -> tuple[TemperatureLog, list[Remark]]:
    """The log without reports that are none, and what was passed over."""
    log, odd = _one_target(log)
    spikes = _spikes(log.time_s, log.temperature_c)
    if spikes.any():
        first = float(log.time_s[np.argmax(spikes)] - log.time_s[0])
        odd.append(Remark("off-curve", {"count": int(spikes.sum()), "first": first}))
        log = log.rows(~spikes)
    stuck = _stuck(log)
    if stuck.any():
        at = int(np.argmax(stuck))
        since = float(log.time_s[at] - log.time_s[0])
        facts = {"level": float(log.temperature_c[at]), "since": since}
        odd.append(Remark("stands-still", facts))
        log = log.rows(~stuck)
    return log, odd


def _one_target(log: TemperatureLog) -> tuple[TemperatureLog, list[Remark]]:
    """The longest stretch with one target above 0, and what stood before it with none."""
    if log.target_c is None or not (log.target_c > 0).any():
        return log, []
    goal = log.target_c
    edges = np.concatenate([[0], np.flatnonzero(np.abs(np.diff(goal)) > 0.01) + 1, [len(goal)]])
    spans = [(a, b) for a, b in zip(edges[:-1], edges[1:], strict=True) if goal[a] > 0]
    start, end = max(spans, key=lambda s: s[1] - s[0])
    all_goals = sorted({float(goal[a]) for a, _ in spans})
    if len(all_goals) == 1 and len(spans) == 1:
        return log, []
    keep = np.zeros(len(goal), bool)
    keep[start:end] = True
    facts = {"targets": ", ".join(f"{g:g}" for g in all_goals), "used": float(goal[start])}
    sentence = "several-targets" if len(all_goals) > 1 else "switched-off"
    return log.rows(keep), [Remark(sentence, facts)]


def _spikes(t: Array, y: Array) -> Mask:
    """Single reports further off the line between their neighbours than a heater can go and come
    back.
    """
    found = np.zeros(len(y), bool)
    middle = (y[:-2] + y[2:]) / 2
    off = np.abs(y[1:-1] - middle)
    found[1:-1] = (off > SPIKE_C + 1.5 * np.abs(y[2:] - y[:-2])) & (
        off > 6.0 * (t[2:] - t[:-2]) / 2
    )
    return found


def _stuck(log: TemperatureLog) -> Mask:
    """Eight reports and 6 s or more without a change, three times longer than any other such run in
    the log.
    """
    y = log.temperature_c
    edges = np.concatenate([[0], np.flatnonzero(np.diff(y) != 0) + 1, [len(y)]])
    heating = (
        np.maximum.accumulate(log.power > 0.01) if log.power is not None else np.ones(len(y), bool)
    )
    lengths = np.diff(edges) * heating[edges[:-1]]
    order = np.argsort(lengths)
    found = np.zeros(len(y), bool)
    longest, usual = int(lengths[order[-1]]), int(lengths[order[-2]]) if len(order) > 1 else 0
    start = int(edges[order[-1]])
    if longest >= max(8, 3 * usual) and log.time_s[start + longest - 1] - log.time_s[start] >= 6.0:
        found[start + 1 : start + longest] = True
    return found
