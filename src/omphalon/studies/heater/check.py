"""Judging a loop that runs: from the log of a heat-up, a hold, and the part fan coming on."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from omphalon.finding import Finding, Shown, Warned
from omphalon.physics.arrival import Arrival, look
from omphalon.physics.oscillation import Array
from omphalon.recording import TemperatureLog
from omphalon.studies.heater.doubts import log_doubts
from omphalon.studies.heater.excerpt import heater_at
from omphalon.studies.heater.tuning import UNIT_S


@dataclass(frozen=True)
class Limits:
    """What a loop may do before it is called bad; °C and units of time (60 s for a hotend, 300 s for a bed)."""

    overshoot_c: float
    ripple_c: float
    bias_c: float
    creep_units: float
    noise_c: float


LIMITS = {"hotend": Limits(1.5, 1.0, 0.5, 0.5, 0.35), "bed": Limits(0.7, 0.6, 0.5, 0.45, 0.35)}


@dataclass(frozen=True)
class Sign:
    """A row of the table of what can be wrong with a loop: when it is seen, what it means, what to do."""

    name: str
    seen: Callable[[Arrival, Limits, float, Sequence[Warned]], bool]
    meaning: str
    remedy: str


def _weak(a: Arrival, limits: Limits, unit_s: float, warned: Sequence[Warned]) -> bool:
    full = a.mean_power is not None and a.most_power is not None and a.mean_power > 0.95 * a.most_power > 0
    return full and (a.busy or 0) > 0.9


def _slow(a: Arrival, limits: Limits, unit_s: float, warned: Sequence[Warned]) -> bool:
    late = a.creep_s is not None and a.creep_s > limits.creep_units * unit_s
    low = a.bias_c is not None and a.bias_c < -limits.bias_c
    sunk = a.dip_c is not None and a.dip_c > 1.0 and (a.recovery_s is None or a.recovery_s > 0.75 * unit_s)
    return a.arrival_s is None or late or low or sunk


SIGNS = (
    Sign("loose sensor", lambda a, limits, unit, warned: any(w.code == "sensor-jump" for w in warned),
         "the reading jumps by more than a heater can do", "seat the sensor and check its plug; then log again"),
    Sign("power too weak", _weak, "full power does not hold the target",
         "insulate the block, lower the fan or the target, or fit a stronger heater; gains cannot help"),
    Sign("sensor noise", lambda a, limits, unit, warned: a.noise_c > max(limits.noise_c, (a.ripple_c or 0) / 6),
         "the readings scatter more than a sound sensor's",
         "check wiring and shielding first; then fit with --aim gentle"),
    Sign("oscillating", lambda a, limits, unit, warned: (a.ripple_c or 0) > max(limits.ripple_c, 3 * a.noise_c)
         and a.swings >= 4, "the hold swings to and fro", "gains too hot: run the oscillation test and fit again"),
    Sign("windup", lambda a, limits, unit, warned: (a.overshoot_c or 0) > limits.overshoot_c
         and (a.creep_s or 0) < limits.creep_units * unit and (a.above_s or 0) > 0.13 * unit and (a.ripple_c or 0) < limits.ripple_c,
         "one long overshoot: the integral filled up during the heat-up",
         "let the integral start only near the target, or lower ki; fit again"),
    Sign("hot", lambda a, limits, unit, warned: (a.overshoot_c or 0) > limits.overshoot_c
         or ((a.busy or 0) > 0.12 and (a.chatter or 0) > 0.1) or ((a.chatter or 0) > 0.15 and (a.ripple_c or 0) > 2.5 * a.noise_c),
         "it overshoots, or its power bangs between the limits while it holds",
         "gains too hot: run the oscillation test and fit again, or --aim gentle"),
    Sign("slow", _slow, "it creeps to the target, or comes back late",
         "gains too tame: run the oscillation test and fit again, or --aim quick"),
    Sign("biased", lambda a, limits, unit, warned: abs(a.bias_c or 0) > limits.bias_c,
         "the hold stands off the target", "ki is missing or its limit is reached: fit again"),
)


@dataclass(frozen=True)
class CheckPicture:
    """What plots/ draws of a check: one or two logs with what was seen in them."""

    heater: str
    target_c: float
    logs: tuple[tuple[Array, Array, Array | None, Arrival], ...]
    labels: tuple[str, ...]


@dataclass(frozen=True)
class CheckQuestion:
    """What a user wants judged; from_s and to_s choose a part of the log, fan_at_s says when the fan came on."""

    target_c: float
    heater: str | None = None
    from_s: float | None = None
    to_s: float | None = None
    fan_at_s: float | None = None
    max_temp_c: float | None = None


def check_heater(logs: Sequence[TemperatureLog], question: CheckQuestion) -> Finding:
    """Judge the last of one or two logs (before, after); `keep` or `change` with what is wrong."""
    heater = question.heater or heater_at(question.target_c)
    unit, limits = UNIT_S[heater], LIMITS[heater]
    parts = [_part(log, question) for log in logs]
    warnings = [w for log in logs[-1:] for w in log_doubts(log, question.max_temp_c)]
    notes = [Warned(n.code, n.message) for log in logs for n in log.notes]
    if any(len(p.time_s) < 20 or p.duration_s < unit / 2 for p in parts):
        return Finding("heater-check", "retest", "the log (or the part chosen) is too short to judge a loop",
                       warnings=(*warnings, *notes), next="log from before the heat-up to some minutes into the hold")
    fan = None if question.fan_at_s is None else question.fan_at_s - (question.from_s or 0.0)
    seen = [look(p.time_s, p.temperature_c, p.power, question.target_c, unit, fan) for p in parts]
    last = seen[-1]
    if last.hold_s < unit / 6 and (last.arrival_s is not None or last.climbing):
        return Finding("heater-check", "retest", "the log ends before the loop has held its target",
                       warnings=(*warnings, *notes), next="log on for a few minutes after the arrival")
    signs = [s for s in SIGNS if s.seen(last, limits, unit, warnings)]
    told = tuple(dict.fromkeys((*warnings, *notes)))
    labels = ("this log",) if len(seen) == 1 else ("before", "after")
    picture = CheckPicture(heater, question.target_c, tuple(
        (p.time_s - p.time_s[0], p.temperature_c, p.power, a) for p, a in zip(parts, seen, strict=True)), labels)
    verdict = "change" if signs else "keep"
    return Finding("heater-check", verdict, _because(signs, last, limits), evidence=_evidence(seen, signs, heater),
                   warnings=told, next=signs[0].remedy if signs else "nothing; check again after a change of parts",
                   table=_table(seen, labels, limits), picture=picture)


def _part(log: TemperatureLog, question: CheckQuestion) -> TemperatureLog:
    t = log.time_s - log.time_s[0]
    inside = (t >= (question.from_s or 0.0)) & (t <= (np.inf if question.to_s is None else question.to_s))
    return replace(log, time_s=log.time_s[inside], temperature_c=log.temperature_c[inside],
                   power=None if log.power is None else log.power[inside],
                   target_c=None if log.target_c is None else log.target_c[inside])


def _because(signs: Sequence[Sign], seen: Arrival, limits: Limits) -> str:
    if signs:
        also = "" if len(signs) == 1 else "; also " + ", ".join(s.name for s in signs[1:])
        return f"{signs[0].name}: {signs[0].meaning}{also}"
    return (f"it arrives, overshoots by {seen.overshoot_c or 0:.2f} °C (up to {limits.overshoot_c:g} is fine) and "
            f"holds within ±{abs(seen.bias_c or 0) + (seen.ripple_c or 0) / 2:.2f} °C")


ROWS = (
    ("arrival", "arrival_s", "s", 0), ("overshoot", "overshoot_c", "°C", 2), ("settled at", "settle_s", "s", 0),
    ("ripple", "ripple_c", "°C", 2), ("bias", "bias_c", "°C", 2), ("dip, fan on", "dip_c", "°C", 2),
    ("back after", "recovery_s", "s", 0), ("sensor noise", "noise_c", "°C", 2),
)


def _table(seen: Sequence[Arrival], labels: Sequence[str], limits: Limits) -> tuple[Shown, ...]:
    allowed = {"overshoot_c": limits.overshoot_c, "ripple_c": limits.ripple_c, "bias_c": limits.bias_c,
               "noise_c": limits.noise_c}
    out = [Shown("", (*labels, "allowed"))]
    for label, name, unit, places in ROWS:
        values = [getattr(a, name) for a in seen]
        cells = ["–" if v is None else f"{v:.{places}f} {unit}" for v in values]
        out.append(Shown(label, (*cells, f"{allowed[name]:g} {unit}" if name in allowed else "")))
    return tuple(out)


def _evidence(seen: Sequence[Arrival], signs: Sequence[Sign], heater: str) -> dict[str, Any]:
    def numbers(a: Arrival) -> dict[str, Any]:
        more = ("creep_s", "above_s", "busy", "chatter", "fan_s", "swing_period_s", "mean_power")
        return {name: getattr(a, name) for name in (*(row[1] for row in ROWS), *more)}

    out = {"heater": heater, **numbers(seen[-1]), "signs": [s.name for s in signs]}
    if len(seen) > 1:
        out["before"] = numbers(seen[0])
    return out
