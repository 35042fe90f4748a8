"""The heater's check in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from omphalon.answers.commands import prose
from omphalon.answers.finding import Finding, Shown, answer
from omphalon.recordings.recording import TemperatureLog
from omphalon.studies.changes import Change, changes_document
from omphalon.studies.heater.check import ROW, HeaterCheck, Seen, check_heater
from omphalon.studies.heater.check import ROWS as CHECK_ROWS
from omphalon.studies.heater.question import CheckQuestion
from omphalon.studies.heater.words import read_from
from omphalon.tables.constants import NORMAL_95

# row of a check → label, unit, decimals
ROWS = {
    "arrival_s": ("arrival", "s", 0),
    "creep_s": ("arrival delay", "s", 0),
    "overshoot_c": ("overshoot", "°C", 2),
    "settle_s": ("settled at", "s", 0),
    "ripple_c": ("ripple", "°C", 2),
    "bias_c": ("bias", "°C", 2),
    "dip_c": ("dip, fan on", "°C", 2),
    "recovery_s": ("recovered after", "s", 0),
    "noise_c": ("sensor noise", "°C", 2),
    "jumps": ("sensor jumps", "", 0),
    "mean_power": ("mean power", "% of its most", 0),
    "busy": ("power saturated", "% of the hold", 0),
    "chatter": ("power changes", "% a report", 0),
}
# figure of health → label, unit, decimals, factor of what is shown
HEALTH = {
    "holding_power": ("holding power", "%", 1, 100.0),
    "rise_c_s": ("rise at full power", "°C/s", 3, 1.0),
    "delay_s": ("dead time", "s", 2, 1.0),
}
TAME = (
    "it approaches the target slowly, or recovers late",
    "gains too low: run the oscillation test and fit again, or --aim quick",
)
# sign of a bad loop → what it means, what to do
SIGNS = {
    "loose sensor": (
        "the reading jumps by more than a heater can do",
        "seat the sensor and check its plug; then log again",
    ),
    "power too weak": (
        "full power does not hold the target",
        "insulate the block, lower the fan or the target, or fit a stronger heater; gains cannot "
        "help",
    ),
    "sensor noise": (
        "the readings scatter more than a sound sensor's",
        "check wiring and shielding first; then fit with --aim gentle",
    ),
    "oscillating": (
        "the hold swings up and down",
        "gains too high: run the oscillation test and fit again",
    ),
    "windup": (
        "one long overshoot: the integral filled up during the heat-up",
        "let the integral start only near the target, or lower ki; fit again",
    ),
    "hot": (
        "it overshoots, or its power jumps between the limits during the hold",
        "gains too high: run the oscillation test and fit again, or --aim gentle",
    ),
    "slow": TAME,
    "biased": ("the hold is off the target", "ki is missing or its limit is reached: fit again"),
}
ARRIVALS = (
    *("arrival_s", "overshoot_c", "settle_s", "ripple_c", "bias_c", "dip_c", "recovery_s"),
    *("noise_c", "creep_s", "above_s", "busy", "chatter", "fan_s", "swing_c", "swing_period_s"),
    "mean_power",
)


def _judged(check: HeaterCheck) -> str:
    last = check.seen[-1]
    a = last.arrival
    if not check.signs:
        return (
            f"it arrives, overshoots by {a.overshoot_c or 0:.2f} °C (up to "
            f"{last.allowed.overshoot_c:g} is fine) and holds within "
            f"±{abs(a.bias_c or 0) + max((a.ripple_c or 0) / 2, a.noise_c):.2f} °C"
        )
    first, *others = sorted(check.signs, key=lambda sign: sign.name != "oscillating")
    if a.swing_c is not None and first.name == "oscillating":
        also = "; also " + ", ".join(s.name for s in others) if others else ""
        period = f"{a.swing_period_s:.{1 if (a.swing_period_s or 0) < 10 else 0}f}"
        return (
            f"oscillating: it swings by ±{a.swing_c:.2g} °C every {period} s, where "
            f"±{last.allowed.ripple_c / 2:g} °C is fine{also}"
        )
    beyond = [name for name in first.rows if ROW[name].bad(last)]
    words = ", ".join(f"{ROWS[name][0]} {_cell(name, last)}{_fine(name, last)}" for name in beyond)
    also = "; also " + ", ".join(s.name for s in others) if others else ""
    return f"{first.name}: {SIGNS[first.name][0]} ({words}){also}"


def _fine(name: str, seen: Seen) -> str:
    limit = _limit(name, seen)
    return f" where {limit} is fine" if limit else ""


def _cell(name: str, seen: Seen) -> str:
    value, (_, unit, places) = ROW[name].value(seen), ROWS[name]
    return "–" if value is None else f"{round(value, places) + 0.0:.{places}f} {unit}".rstrip()


def _limit(name: str, seen: Seen) -> str:
    limit, (_, unit, places) = ROW[name].allowed(seen), ROWS[name]
    if limit is None:
        return ""
    return f"{limit:.{max(places, 1) if limit % 1 else 0}f} {unit}".rstrip()


def _change(name: str, changes: Mapping[str, Change]) -> str:
    """A figure's change in words, where both logs have it and it is beyond chance."""
    change = changes.get(name)
    if change is None:
        return ""
    if not change.differs:
        return "within chance"
    _, unit, places = ROWS[name]
    by = 100 / (change.pair.before or 1.0) if name == "mean_power" else 1.0
    unit = "%" if name == "mean_power" else unit
    return f"{by * change.change:+.{places}f} ± {abs(by) * change.half_width:.{places}f} {unit}"


def _rows(check: HeaterCheck, labels: Sequence[str]) -> tuple[Shown, ...]:
    """The rows that say something, with what is allowed; what is past it has a star."""
    seen = check.seen
    changes = {c.pair.name: c for c in check.changes if c.pair.name in ROWS}
    out = [Shown("", (*labels, *(["change"] if changes else []), "allowed"))]
    for row in CHECK_ROWS:
        bad = [row.bad(s) for s in seen]
        if not any(bad) and (row.quiet or all(row.value(s) is None for s in seen)):
            continue
        cells = [_cell(row.name, s) + " *" * b for s, b in zip(seen, bad, strict=True)]
        changed = [_change(row.name, changes)] if changes else []
        out.append(Shown(ROWS[row.name][0], (*cells, *changed, _limit(row.name, seen[-1]))))
    return tuple(out)


def _health_rows(check: HeaterCheck) -> list[Shown]:
    """The heater's health by the last log, and what changed of it."""
    changes = {c.pair.name: c for c in check.changes}
    rows = []
    for name, (value, deviation) in check.health.items():
        label, unit, places, factor = HEALTH[name]
        half = NORMAL_95 * deviation
        words = f"{factor * value:.{places}f} ± {factor * half:.{places}f} {unit}"
        change = changes.get(name)
        if change is not None:
            by = f"{factor * change.change:+.{places}f} ± {factor * change.half_width:.{places}f}"
            words += f", {by} {unit} since" if change.differs else ", as before"
        rows.append(Shown(label, (words,)))
    return rows


def _seen(check: HeaterCheck) -> dict[str, Any]:
    def numbers(one: Seen) -> dict[str, Any]:
        return {name: getattr(one.arrival, name) for name in ARRIVALS}

    last = check.seen[-1]
    return {
        "heater": check.heater,
        "target_c": check.target_c,
        **numbers(last),
        "signs": [s.name for s in check.signs],
        "health": {
            name: {"value": value, "spread": NORMAL_95 * deviation}
            for name, (value, deviation) in check.health.items()
        },
        "beyond": [row.name for row in CHECK_ROWS if row.bad(last)],
        **({"before": numbers(check.seen[0])} if len(check.seen) > 1 else {}),
        **({"changes": changes_document(check.changes)} if check.changes else {}),
    }


def heater_check_answer(logs: Sequence[TemperatureLog], question: CheckQuestion) -> Finding:
    """Whether a loop still serves, in words."""
    found = answer("heater-check", logs, lambda: _finding(check_heater(logs, question)))
    return read_from(found, logs)


def _finding(check: HeaterCheck) -> Finding:
    remedy = SIGNS[check.signs[0].name][1] if check.signs else ""
    if not remedy and any(c.differs and c.pair.name in HEALTH for c in check.changes):
        remedy = "look at the heater and its sensor, then check again"
    return Finding(
        kind="heater-check",
        verdict=check.verdict,
        because=_judged(check),
        evidence=_seen(check),
        warnings=check.remarks,
        next=prose(remedy or "nothing; check again after a change of parts"),
        table=(*_rows(check, check.labels), *_health_rows(check)),
        picture=check,
    )
