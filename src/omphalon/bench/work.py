"""What to measure now, and why: the order of work over the settings in force."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from omphalon.bench.facts import Facts
from omphalon.bench.parts import PARTS
from omphalon.bench.settings import EXPECTED, KINDS, WIDE, InForce, Kind

if TYPE_CHECKING:
    from omphalon.bench.journal import Entry

OLD_DAYS = 365


@dataclass(frozen=True, kw_only=True)
class State:
    """What a bench knows, as read off its folder: facts, settings in force by key (those of the
    loaded filament among them), the last change of each part and the last check of each setting, as
    far as they bear on that filament.
    """

    place: Path
    facts: Facts
    settings: Mapping[str, InForce]
    parts: Mapping[str, Entry]
    checks: Mapping[str, Entry]
    filament: str | None


@dataclass(frozen=True, kw_only=True)
class Step:
    """A setting that wants measuring: why (a code), in words, and the command to begin with."""

    kind: Kind
    reason: str
    why: str
    command: str


def stale(setting: InForce, parts: Mapping[str, Entry]) -> tuple[str, str] | None:
    """The part that was changed since, and why the setting no longer holds; None where it does."""
    for part, entry in parts.items():
        why = PARTS.get(part, {}).get(setting.kind.key)
        if why and entry.id > setting.entry:
            return part, why
    return None


def reason(key: str, state: State) -> tuple[str, str] | None:
    """Why a setting wants measuring, as code and words; None where it stands."""
    setting = state.settings.get(key)
    if setting is None:
        return "never", "never measured"
    changed = stale(setting, state.parts)
    if changed:
        return "stale", f"{changed[0]} changed since: {changed[1]}"
    check = state.checks.get(key)
    if check is not None and check.id > setting.entry and check.body["verdict"] == "change":
        return "check-failed", f"the check of {check.at[:10]} failed"
    newer = [n for n in setting.kind.needs if _set_later(n, setting, state)]
    if newer:
        return "stands-on-newer", f"it stands on {KINDS[newer[0]].words}, set later"
    if setting.how == "found":
        return "found", "never measured"
    if setting.share is not None and setting.share > WIDE:
        return "wide", f"known to ±{setting.share:.0%} only"
    if setting.age_days > OLD_DAYS:
        return "old", f"{setting.age_days} days old"
    return None


def verified(key: str, state: State) -> bool:
    """Whether a check has passed since the setting was made."""
    setting, check = state.settings.get(key), state.checks.get(key)
    good = check is not None and check.body["verdict"] == "keep"
    return good and setting is not None and check is not None and check.id > setting.entry


def _set_later(key: str, setting: InForce, state: State) -> bool:
    other = state.settings.get(key)
    if other is None or other.how == "found":
        return False
    return other.moved and other.entry > setting.entry


def steps(state: State) -> list[Step]:
    """What to measure, in the order of work; what stands on something unmeasured comes after it."""
    out: list[Step] = []
    for key, kind in KINDS.items():
        if key not in EXPECTED and key not in state.settings:
            continue
        if kind.of_filament and state.filament is None:
            continue
        why = reason(key, state)
        if why is not None:
            out.append(Step(kind=kind, reason=why[0], why=why[1], command=command(kind, state)))
    return out


COMMANDS = {
    "probe": "omphalon probe plan",
    "motion": "omphalon motion plan --axis {axis} --{what} {levels}",
    "extruder": "omphalon extruder plan",
    "axis": "omphalon axis plan --axis {axis}",
    "flow": "omphalon flow plan",
    "advance": "omphalon advance plan --style tower",
    "shaper": "omphalon shaper plan --axis {axis}",
}
LEVELS = {"speed": "100:300:20", "acceleration": "1000:5000:500"}


def command(kind: Kind, state: State) -> str:
    """The command that begins the work on a setting, ready to paste in the bench."""
    if kind.group == "heater":
        which = kind.key.split("-")[0]
        target = state.facts.get(f"heaters.{which}_target")
        return f"omphalon heater plan --heater {which}" + (
            f" --target {target:g}" if isinstance(target, float) else ""
        )
    axis = kind.axis.lower() or "x"
    what = kind.fields[0]
    return COMMANDS[kind.group].format(axis=axis, what=what, levels=LEVELS.get(what, ""))


def check_keys(kind: str, evidence: Mapping[str, object], axes: Sequence[str]) -> list[str]:
    """The settings that a check of this kind judges."""
    group = kind.removesuffix("-check")
    if group == "heater":
        return [f"{evidence['heater']}-gains"] if "heater" in evidence else []
    return [
        key
        for key, row in KINDS.items()
        if row.group == group and (not row.axis or not axes or row.axis.lower() in (*axes, "e"))
    ]
