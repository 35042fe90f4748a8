"""What is passed over in a log before it is read: other targets, single spikes, a reading that
stands still.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from omphalon.finding import Warned
from omphalon.recording import TemperatureLog

Array = NDArray[np.float64]

SPIKE_C = 5.0


def cleaned(log: TemperatureLog) -> tuple[TemperatureLog, list[Warned]]:
    """The log without them, and a warning for each."""
    found: list[Warned] = []
    log, warned = _one_target(log)
    found.extend(warned)
    spikes = _spikes(log.time_s, log.temperature_c)
    if spikes.any():
        first = log.time_s[np.argmax(spikes)] - log.time_s[0]
        count = int(spikes.sum())
        found.append(
            Warned(
                "spikes",
                f"{count} single report{'s'[: count != 1]} far off the curve passed over, the "
                "first "
                f"{first:.0f} s into the log",
            )
        )
        log = _without(log, spikes)
    stuck = _stuck(log)
    if stuck.any():
        at = np.flatnonzero(stuck)
        found.append(
            Warned(
                "stuck-reading",
                f"the reading stands still at {log.temperature_c[at[0]]:.2f} °C from "
                f"{log.time_s[at[0]] - log.time_s[0]:.0f} s into the log",
            )
        )
        log = _without(log, stuck)
    return log, found


def _without(log: TemperatureLog, rows: NDArray[np.bool_]) -> TemperatureLog:
    return replace(
        log,
        time_s=log.time_s[~rows],
        temperature_c=log.temperature_c[~rows],
        power=None if log.power is None else log.power[~rows],
        target_c=None if log.target_c is None else log.target_c[~rows],
    )


def _one_target(log: TemperatureLog) -> tuple[TemperatureLog, list[Warned]]:
    """The longest stretch with one target above 0, and what stood before it with none."""
    if log.target_c is None or not (log.target_c > 0).any():
        return log, []
    goal = log.target_c
    edges = np.concatenate([[0], np.flatnonzero(np.abs(np.diff(goal)) > 0.01) + 1, [len(goal)]])
    spans = [(a, b) for a, b in zip(edges[:-1], edges[1:], strict=True) if goal[a] > 0]
    start, end = max(spans, key=lambda s: s[1] - s[0])
    others = {float(goal[a]) for a, _ in spans} - {float(goal[start])}
    if not others and len(spans) == 1:
        return log, []
    keep = np.zeros(len(goal), bool)
    keep[start:end] = True
    told = ", ".join(f"{g:g}" for g in sorted({float(goal[a]) for a, _ in spans}))
    what = (
        f"targets of {told} °C in the log"
        if others
        else "the heater was switched off in the middle of the log"
    )
    return _without(log, ~keep), [
        Warned("target-changed", f"{what}; the longest stretch, at {goal[start]:g} °C, was used")
    ]


def _spikes(t: Array, y: Array) -> NDArray[np.bool_]:
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


def _stuck(log: TemperatureLog) -> NDArray[np.bool_]:
    """Ten reports and 6 s or more without a change, three times longer than any other such run in
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
