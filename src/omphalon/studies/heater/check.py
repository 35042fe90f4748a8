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
from omphalon.studies.heater.doubts import heater_doubts, jumps, log_doubts
from omphalon.studies.heater.excerpt import heater_at, target_doubts
from omphalon.studies.heater.tuning import UNIT_S
from omphalon.studies.wording import Unsupported


@dataclass(frozen=True, kw_only=True)
class Allowed:
    """What a loop may do before it is called bad: °C, units of time (60 s for a hotend, 300 s for a
    bed), shares of power.
    """

    overshoot_c: float
    ripple_c: float
    bias_c: float
    noise_c: float
    creep_units: float
    recovery_units: float = 0.75
    dip_c: float = 1.0  # a dip smaller than that may take its time
    jumps: int = 0
    mean_share: float = 0.95
    busy: float = 0.12
    chatter: float = 0.15


ALLOWED = {
    "hotend": Allowed(overshoot_c=1.5, ripple_c=1.0, bias_c=0.5, noise_c=0.35, creep_units=0.5),
    "bed": Allowed(overshoot_c=0.7, ripple_c=0.6, bias_c=0.5, noise_c=0.35, creep_units=0.45),
}
FULL_BUSY = 0.9
BANGING = 0.1  # of full power a report: at an end so often, and moving so much, it bangs
HEARD = 2.5  # times the noise: a ripple that the moves of the power bring about
FAR_C = 15.0  # a log that stays so far below a target was not asked for it
WINDUP_UNITS = 0.13  # an overshoot that stays so long is a filled integral
SWINGS = 4
CREEPS_UNITS = 1.5  # after the takeover without arriving: that is slow, however the log goes on


@dataclass(frozen=True, kw_only=True)
class Row:
    """A row of the shown table: its label, value and limit as numbers in one unit; `beyond`: past
    its limit.
    """

    name: str
    label: str
    unit: str
    places: int
    value: Callable[[Seen], float | None]
    allowed: Callable[[Seen], float | None] = lambda seen: None
    quiet: bool = False  # shown only where it is past its limit
    beyond: Callable[[Seen], bool] | None = None

    def bad(self, seen: Seen) -> bool:
        """Whether what was seen is past the row's limit."""
        if self.beyond is not None:
            return self.beyond(seen)
        value, limit = self.value(seen), self.allowed(seen)
        return value is not None and limit is not None and abs(value) > limit


@dataclass(frozen=True, kw_only=True)
class Seen:
    """One log: what was measured in it, what is allowed, its unit of time, and how often the sensor
    jumped.
    """

    arrival: Arrival
    allowed: Allowed
    unit_s: float
    jumps: int

    @property
    def mean_share(self) -> float | None:
        """The hold's mean power, as a share of the most that the log shows."""
        a = self.arrival
        return None if a.mean_power is None or not a.most_power else a.mean_power / a.most_power

    @property
    def late(self) -> bool:
        """Whether it creeps to the target, or never arrives though it has had its time."""
        a = self.arrival
        return a.arrival_s is None or (
            a.creep_s is not None and a.creep_s > self.allowed.creep_units * self.unit_s
        )


ROWS = (
    Row(
        name="arrival_s",
        label="arrival",
        unit="s",
        places=0,
        value=lambda s: s.arrival.arrival_s,
        beyond=lambda s: s.arrival.arrival_s is None,
    ),
    Row(
        name="creep_s",
        label="late by",
        unit="s",
        places=0,
        value=lambda s: None if s.arrival.creep_s is None else max(s.arrival.creep_s, 0.0),
        allowed=lambda s: s.allowed.creep_units * s.unit_s,
        beyond=lambda s: s.arrival.arrival_s is not None and s.late,
    ),
    Row(
        name="overshoot_c",
        label="overshoot",
        unit="°C",
        places=2,
        value=lambda s: s.arrival.overshoot_c,
        allowed=lambda s: s.allowed.overshoot_c,
    ),
    Row(
        name="settle_s", label="settled at", unit="s", places=0, value=lambda s: s.arrival.settle_s
    ),
    Row(
        name="ripple_c",
        label="ripple",
        unit="°C",
        places=2,
        value=lambda s: s.arrival.ripple_c,
        allowed=lambda s: max(s.allowed.ripple_c, 3 * s.arrival.noise_c),
    ),
    Row(
        name="bias_c",
        label="bias",
        unit="°C",
        places=2,
        value=lambda s: s.arrival.bias_c,
        allowed=lambda s: s.allowed.bias_c,
    ),
    Row(name="dip_c", label="dip, fan on", unit="°C", places=2, value=lambda s: s.arrival.dip_c),
    Row(
        name="recovery_s",
        label="back after",
        unit="s",
        places=0,
        value=lambda s: s.arrival.recovery_s,
        allowed=lambda s: s.allowed.recovery_units * s.unit_s,
        beyond=lambda s: (
            (s.arrival.dip_c or 0) > s.allowed.dip_c
            and (
                s.arrival.recovery_s is None
                or s.arrival.recovery_s > s.allowed.recovery_units * s.unit_s
            )
        ),
    ),
    Row(
        name="noise_c",
        label="sensor noise",
        unit="°C",
        places=2,
        value=lambda s: s.arrival.noise_c,
        allowed=lambda s: max(s.allowed.noise_c, (s.arrival.ripple_c or 0) / 6),
    ),
    Row(
        name="jumps",
        label="sensor jumps",
        unit="",
        places=0,
        quiet=True,
        value=lambda s: float(s.jumps),
        allowed=lambda s: float(s.allowed.jumps),
    ),
    Row(
        name="mean_power",
        label="mean power",
        unit="% of its most",
        places=0,
        quiet=True,
        value=lambda s: None if s.mean_share is None else 100 * s.mean_share,
        allowed=lambda s: 100 * s.allowed.mean_share,
        beyond=lambda s: (
            (s.mean_share or 0) > s.allowed.mean_share and (s.arrival.busy or 0) > FULL_BUSY
        ),
    ),
    Row(
        name="busy",
        label="power at an end",
        unit="% of the hold",
        places=0,
        value=lambda s: None if s.arrival.busy is None else 100 * s.arrival.busy,
        allowed=lambda s: 100 * s.allowed.busy,
        beyond=lambda s: (
            (s.arrival.busy or 0) > s.allowed.busy and (s.arrival.chatter or 0) > BANGING
        ),
    ),
    Row(
        name="chatter",
        label="power moves",
        unit="% a report",
        places=0,
        value=lambda s: None if s.arrival.chatter is None else 100 * s.arrival.chatter,
        allowed=lambda s: 100 * s.allowed.chatter,
        beyond=lambda s: (
            (s.arrival.chatter or 0) > s.allowed.chatter
            and (s.arrival.ripple_c or 0) > HEARD * s.arrival.noise_c
        ),
    ),
)
ROW = {row.name: row for row in ROWS}


@dataclass(frozen=True, kw_only=True)
class Sign:
    """What can be wrong with a loop: the rows it stands on (one past its limit is enough), and what
    else must be so.
    """

    name: str
    rows: tuple[str, ...]
    also: Callable[[Seen], bool] = lambda seen: True
    meaning: str
    remedy: str

    def seen(self, seen: Seen) -> bool:
        """Whether a row it stands on is past its limit, and the rest is so."""
        return any(ROW[name].bad(seen) for name in self.rows) and self.also(seen)


def _one_long_overshoot(seen: Seen) -> bool:
    a = seen.arrival
    return (
        not seen.late
        and (a.above_s or 0) > WINDUP_UNITS * seen.unit_s
        and not ROW["ripple_c"].bad(seen)
    )


SIGNS = (
    Sign(
        name="loose sensor",
        rows=("jumps",),
        meaning="the reading jumps by more than a heater can do",
        remedy="seat the sensor and check its plug; then log again",
    ),
    Sign(
        name="power too weak",
        rows=("mean_power",),
        meaning="full power does not hold the target",
        remedy="insulate the block, lower the fan or the target, or fit a stronger heater; gains "
        "cannot help",
    ),
    Sign(
        name="sensor noise",
        rows=("noise_c",),
        meaning="the readings scatter more than a sound sensor's",
        remedy="check wiring and shielding first; then fit with --aim gentle",
    ),
    Sign(
        name="oscillating",
        rows=("ripple_c",),
        also=lambda s: s.arrival.swings >= SWINGS,
        meaning="the hold swings to and fro",
        remedy="gains too hot: run the oscillation test and fit again",
    ),
    Sign(
        name="windup",
        rows=("overshoot_c",),
        also=_one_long_overshoot,
        meaning="one long overshoot: the integral filled up during the heat-up",
        remedy="let the integral start only near the target, or lower ki; fit again",
    ),
    Sign(
        name="hot",
        rows=("overshoot_c", "busy", "chatter"),
        meaning="it overshoots, or its power bangs between the limits while it holds",
        remedy="gains too hot: run the oscillation test and fit again, or --aim gentle",
    ),
    Sign(
        name="slow",
        rows=("arrival_s", "creep_s", "recovery_s"),
        meaning="it creeps to the target, or comes back late",
        remedy="gains too tame: run the oscillation test and fit again, or --aim quick",
    ),
    Sign(
        name="slow",
        rows=("bias_c",),
        also=lambda s: (s.arrival.bias_c or 0) < 0,
        meaning="it creeps to the target, or comes back late",
        remedy="gains too tame: run the oscillation test and fit again, or --aim quick",
    ),
    Sign(
        name="biased",
        rows=("bias_c",),
        also=lambda s: (s.arrival.bias_c or 0) > 0,
        meaning="the hold stands off the target",
        remedy="ki is missing or its limit is reached: fit again",
    ),
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
    """What a user wants judged; from_s and to_s choose a part of the log, fan_at_s says when the
    fan came on.
    """

    target_c: float
    heater: str | None = None
    from_s: float | None = None
    to_s: float | None = None
    fan_at_s: float | None = None
    max_temp_c: float | None = None


def check_heater(logs: Sequence[TemperatureLog], question: CheckQuestion) -> Finding:
    """Judge the last of one or two logs (before, after); `keep` or `change` with what is wrong."""
    heater = question.heater or heater_at(question.target_c)
    unit, allowed = UNIT_S[heater], ALLOWED[heater]
    parts = [_part(log, question) for log in logs]
    notes = [Warned(n.code, n.message) for log in logs for n in log.notes]
    warnings = target_doubts(logs[-1], question.target_c)
    try:
        warnings += [*heater_doubts(logs[-1], heater), *log_doubts(logs[-1], question.max_temp_c)]
        if any(len(p.time_s) < 20 or p.duration_s < unit / 2 for p in parts):
            raise Unsupported(
                "the log (or the part chosen) is too short to judge a loop",
                "log from before the heat-up to some minutes into the hold",
            )
        fan = None if question.fan_at_s is None else question.fan_at_s - (question.from_s or 0.0)
        seen = [
            Seen(
                arrival=look(p.time_s, p.temperature_c, p.power, question.target_c, unit, fan),
                allowed=allowed,
                unit_s=unit,
                jumps=jumps(p),
            )
            for p in parts
        ]
        _refuse_early_end(seen[-1], parts[-1], question.target_c)
    except Unsupported as refusal:
        return refusal.finding("heater-check", (*warnings, *notes))
    last = seen[-1]
    signs = list({s.name: s for s in reversed(SIGNS) if s.seen(last)}.values())[::-1]
    labels = ("this log",) if len(seen) == 1 else ("before", "after")
    picture = CheckPicture(
        heater,
        question.target_c,
        tuple(
            (p.time_s - p.time_s[0], p.temperature_c, p.power, a.arrival)
            for p, a in zip(parts, seen, strict=True)
        ),
        labels,
    )
    return Finding(
        kind="heater-check",
        verdict="change" if signs else "keep",
        because=_because(signs, last),
        evidence=_evidence(seen, signs, heater),
        warnings=tuple(dict.fromkeys((*warnings, *notes))),
        next=signs[0].remedy if signs else "nothing; check again after a change of parts",
        table=_table(seen, labels),
        picture=picture,
    )


def _refuse_early_end(seen: Seen, part: TemperatureLog, target_c: float) -> None:
    """Refuse a log that ends before the loop has held its target; but one that has had its time and
    creeps on is slow.
    """
    a = seen.arrival
    since = part.duration_s - a.start_s - (a.takeover_s or 0.0)
    if a.arrival_s is None and a.takeover_s is not None and since > CREEPS_UNITS * seen.unit_s:
        return
    if a.hold_s < seen.unit_s / 6 and (a.arrival_s is not None or a.climbing):
        raise Unsupported(
            "the log ends before the loop has held its target",
            "log on for a few minutes after the arrival",
        )
    if a.arrival_s is None and part.temperature_c.max() < target_c - FAR_C:
        raise Unsupported(
            f"the log never comes near {target_c:g} °C: its highest reading is "
            f"{part.temperature_c.max():.1f} °C",
            "give the target that was in force: --target; or log until the loop holds",
        )


def _part(log: TemperatureLog, question: CheckQuestion) -> TemperatureLog:
    t = log.time_s - log.time_s[0]
    inside = (t >= (question.from_s or 0.0)) & (
        t <= (np.inf if question.to_s is None else question.to_s)
    )
    return replace(
        log,
        time_s=log.time_s[inside],
        temperature_c=log.temperature_c[inside],
        power=None if log.power is None else log.power[inside],
        target_c=None if log.target_c is None else log.target_c[inside],
    )


def _because(signs: Sequence[Sign], seen: Seen) -> str:
    if signs:
        rows = [ROW[name] for name in signs[0].rows if ROW[name].bad(seen)]
        told = ", ".join(
            f"{row.label} {_cell(row, seen)}"
            + (f" where {_limit(row, seen)} is fine" if _limit(row, seen) else "")
            for row in rows
        )
        also = "" if len(signs) == 1 else "; also " + ", ".join(s.name for s in signs[1:])
        return f"{signs[0].name}: {signs[0].meaning} ({told}){also}"
    a = seen.arrival
    return (
        f"it arrives, overshoots by {a.overshoot_c or 0:.2f} °C (up to "
        f"{seen.allowed.overshoot_c:g} is fine) and "
        f"holds within ±{abs(a.bias_c or 0) + (a.ripple_c or 0) / 2:.2f} °C"
    )


def _cell(row: Row, seen: Seen) -> str:
    value = row.value(seen)
    return "–" if value is None else f"{value:.{row.places}f} {row.unit}".rstrip()


def _limit(row: Row, seen: Seen) -> str:
    limit = row.allowed(seen)
    return (
        ""
        if limit is None
        else f"{limit:.{max(row.places, 1) if limit % 1 else 0}f} {row.unit}".rstrip()
    )


def _table(seen: Sequence[Seen], labels: Sequence[str]) -> tuple[Shown, ...]:
    """The rows that say something, with what is allowed; what is past it has a star."""
    out = [Shown("", (*labels, "allowed"))]
    for row in ROWS:
        if not any(row.bad(s) for s in seen) and (
            row.quiet or all(row.value(s) is None for s in seen)
        ):
            continue
        out.append(
            Shown(
                row.label,
                (
                    *(_cell(row, s) + (" *" if row.bad(s) else "") for s in seen),
                    _limit(row, seen[-1]),
                ),
            )
        )
    return tuple(out)


def _evidence(seen: Sequence[Seen], signs: Sequence[Sign], heater: str) -> dict[str, Any]:
    names = (
        "arrival_s",
        "overshoot_c",
        "settle_s",
        "ripple_c",
        "bias_c",
        "dip_c",
        "recovery_s",
        "noise_c",
        "creep_s",
        "above_s",
        "busy",
        "chatter",
        "fan_s",
        "swing_period_s",
        "mean_power",
    )

    def numbers(one: Seen) -> dict[str, Any]:
        return {name: getattr(one.arrival, name) for name in names}

    out = {
        "heater": heater,
        **numbers(seen[-1]),
        "signs": [s.name for s in signs],
        "beyond": [row.name for row in ROWS if row.bad(seen[-1])],
    }
    if len(seen) > 1:
        out["before"] = numbers(seen[0])
    return out
