"""What is passed over in a log before it is read: other targets, single spikes, a reading that
stands still.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from omphalon.arrays import Array, Mask
from omphalon.recording import TemperatureLog
from omphalon.remarks import Remark

SPIKE_C = 5.0
BUSY = 0.01  # of full power
APART_S = 900.0  # without power and target: another session, no off half of a cycle is so long
LEAD_S = 3.0  # kept before the test
WORTH_CUTTING_S = 120.0  # less around a test does no harm


def to_test(log: TemperatureLog) -> tuple[TemperatureLog, list[Remark]]:
    """The part of a long log in which the heater was switched most, by a clock of its own: what
    idles and cools around a test tells nothing of it, and takes long.
    """
    busy = np.zeros(len(log.time_s), bool)
    if log.power is not None:
        busy |= log.power > BUSY
    if log.target_c is not None:
        busy |= log.target_c > 0
    rows = np.flatnonzero(busy)
    if not len(rows):
        return log, []
    t = log.time_s
    edges = np.flatnonzero(np.diff(t[rows]) > APART_S) + 1
    sessions = [(int(part[0]), int(part[-1])) for part in np.split(rows, edges)]
    moves = np.abs(np.diff(np.zeros(len(t)) if log.power is None else log.power))
    first, last = max(sessions, key=lambda s: (float(moves[s[0] : s[1]].sum()), s[1] - s[0]))
    keep = (t >= t[first] - LEAD_S) & (t <= t[last])
    used = t[keep]
    if log.duration_s - (used[-1] - used[0]) < WORTH_CUTTING_S:
        return log, []
    minutes = {"whole": log.duration_s / 60, "start": float(used[0] - t[0]) / 60}
    part = replace(log.rows(keep), time_s=used - used[0])
    return part, [Remark("test-alone", {**minutes, "end": float(used[-1] - t[0]) / 60})]


def cleaned(log: TemperatureLog, every_target: bool = False) -> tuple[TemperatureLog, list[Remark]]:
    """The log without reports that are none, and what was passed over; `every_target`: other
    targets than the one that it had longest are kept.
    """
    log, odd = (log, []) if every_target else _one_target(log)
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
