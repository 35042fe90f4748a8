"""The heater's check in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from omphalon.finding import Finding, Shown
from omphalon.picture import HoldPicture, HoldsPicture
from omphalon.recording import TemperatureLog
from omphalon.studies.answer import Retest
from omphalon.studies.changes import Change, changes_document
from omphalon.studies.heater.check import HeaterCheck
from omphalon.studies.heater.question import CheckQuestion
from omphalon.studies.heater.sentences import ROWS, SIGNS, heater_warnings, refusal
from omphalon.studies.heater.signs import ROW, Seen
from omphalon.studies.heater.signs import ROWS as CHECK_ROWS

ARRIVALS = (
    *("arrival_s", "overshoot_c", "settle_s", "ripple_c", "bias_c", "dip_c", "recovery_s"),
    *("noise_c", "creep_s", "above_s", "busy", "chatter", "fan_s", "swing_period_s", "mean_power"),
)


def _judged(check: HeaterCheck) -> str:
    last = check.seen[-1]
    a = last.arrival
    if not check.signs:
        return (
            f"it arrives, overshoots by {a.overshoot_c or 0:.2f} °C (up to "
            f"{last.allowed.overshoot_c:g} is fine) and holds within "
            f"±{abs(a.bias_c or 0) + (a.ripple_c or 0) / 2:.2f} °C"
        )
    first, *others = check.signs
    beyond = [name for name in first.rows if ROW[name].bad(last)]
    told = ", ".join(f"{ROWS[name][0]} {_cell(name, last)}{_fine(name, last)}" for name in beyond)
    also = "; also " + ", ".join(s.name for s in others) if others else ""
    return f"{first.name}: {SIGNS[first.name][0]} ({told}){also}"


def _fine(name: str, seen: Seen) -> str:
    limit = _limit(name, seen)
    return f" where {limit} is fine" if limit else ""


def _cell(name: str, seen: Seen) -> str:
    value, (_, unit, places) = ROW[name].value(seen), ROWS[name]
    return "–" if value is None else f"{value:.{places}f} {unit}".rstrip()


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
        return "by chance"
    _, unit, places = ROWS[name]
    by = 100 / (change.pair.before or 1.0) if name == "mean_power" else 1.0
    unit = "%" if name == "mean_power" else unit
    return f"{by * change.change:+.{places}f} ± {abs(by) * change.half_width:.{places}f} {unit}"


def _rows(check: HeaterCheck, labels: Sequence[str]) -> tuple[Shown, ...]:
    """The rows that say something, with what is allowed; what is past it has a star."""
    seen, changes = check.seen, {c.pair.name: c for c in check.changes}
    out = [Shown("", (*labels, *(["change"] if changes else []), "allowed"))]
    for row in CHECK_ROWS:
        bad = [row.bad(s) for s in seen]
        if not any(bad) and (row.quiet or all(row.value(s) is None for s in seen)):
            continue
        cells = [_cell(row.name, s) + " *" * b for s, b in zip(seen, bad, strict=True)]
        changed = [_change(row.name, changes)] if changes else []
        out.append(Shown(ROWS[row.name][0], (*cells, *changed, _limit(row.name, seen[-1]))))
    return tuple(out)


def _seen(check: HeaterCheck) -> dict[str, Any]:
    def numbers(one: Seen) -> dict[str, Any]:
        return {name: getattr(one.arrival, name) for name in ARRIVALS}

    last = check.seen[-1]
    return {
        "heater": check.heater,
        **numbers(last),
        "signs": [s.name for s in check.signs],
        "beyond": [row.name for row in CHECK_ROWS if row.bad(last)],
        **({"before": numbers(check.seen[0])} if len(check.seen) > 1 else {}),
        **({"changes": changes_document(check.changes)} if check.changes else {}),
    }


def _holds(check: HeaterCheck, question: CheckQuestion, labels: tuple[str, ...]) -> HoldsPicture:
    holds = []
    for part, seen, label in zip(check.parts, check.seen, labels, strict=True):
        a = seen.arrival
        began = a.start_s + (a.takeover_s or 0.0)
        holds.append(
            HoldPicture(
                label=label,
                time_s=part.time_s - part.time_s[0] - began,
                temperature_c=part.temperature_c,
                power=part.power,
                fan_s=None if a.fan_s is None else a.start_s + a.fan_s - began,
                overshoot_c=a.overshoot_c,
                ripple_c=a.ripple_c,
                dip_c=a.dip_c,
            )
        )
    return HoldsPicture(heater=check.heater, target_c=question.target_c, holds=tuple(holds))


def heater_check_finding(
    check: HeaterCheck | Retest, question: CheckQuestion, logs: Sequence[TemperatureLog]
) -> Finding:
    """The answer of a check, in words.

    Parameters
    ----------
    check : what was decided
    question : what was asked
    logs : as they were read, for what was noted on the way
    """
    if isinstance(check, Retest):
        return refusal("heater-check", check, logs)
    remedy = SIGNS[check.signs[0].name][1] if check.signs else ""
    labels = ("this log",) if len(check.seen) == 1 else ("before", "after")
    return Finding(
        kind="heater-check",
        verdict=check.verdict,
        because=_judged(check),
        evidence=_seen(check),
        warnings=heater_warnings(check.oddities, logs),
        next=remedy or "nothing; check again after a change of parts",
        table=_rows(check, labels),
        picture=_holds(check, question, labels),
    )
