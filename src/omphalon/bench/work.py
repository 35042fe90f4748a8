"""What to measure now, and why: the order of work over the settings in force."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Any

from omphalon.answers.commands import Command, command, prose
from omphalon.base.shapes import fits
from omphalon.bench.facts import Facts, facts_of_tool, tools_of
from omphalon.bench.ranges import left
from omphalon.bench.settings import KINDS, WIDE, InForce, Kind, days_since
from omphalon.tables.parts import PARTS, PARTS_OF_TOOL
from omphalon.tables.tools import FIRST, SETTINGS_OF_TOOL, Tool

if TYPE_CHECKING:
    from omphalon.answers.finding import Finding
    from omphalon.bench.journal import Entry

OLD_DAYS = 365


@dataclass(frozen=True, kw_only=True)
class State:
    """What a bench knows, as read off its folder: facts, settings in force by key (those of the
    filaments `loaded` by tool among them), the last change of each part and the last check of each
    setting, as far as they bear on those; the lines that its dialect has.
    """

    place: Path
    facts: Facts
    settings: Mapping[str, InForce]
    parts: Mapping[str, Entry]
    checks: Mapping[str, Entry]
    loaded: Mapping[Tool, str]
    lines: frozenset[str] = frozenset()

    @property
    def filament(self) -> str | None:
        """What is loaded in the first tool."""
        return self.loaded.get(FIRST)

    @property
    def tools(self) -> set[Tool]:
        """The tools that there are, as far as a fact or a setting knows them."""
        return {*tools_of(self.facts), *(s.kind.tool for s in self.settings.values())}

    def of_tool(self, tool: Tool) -> State:
        """The same as one tool has it: its facts, and its settings under the plain keys."""
        if not tool:
            return self
        own = {bare: s for key, s in self.settings.items() if (bare := _bare(key, tool))}
        filament = {FIRST: self.loaded[tool]} if tool in self.loaded else {}
        return replace(self, facts=facts_of_tool(self.facts, tool), settings=own, loaded=filament)


@dataclass(frozen=True, kw_only=True)
class Step:
    """A setting that wants measuring: why (a code), in words, the command to begin with, and the
    one that comes then: a check where it is only old, which is cheaper than a fit.
    """

    kind: Kind
    reason: str
    why: str
    command: Command
    then: Command


def _bare(key: str, tool: Tool) -> str | None:
    """A key without its tool; None where the setting is another tool's."""
    name, of = Tool.in_key(key)
    return name if of == tool or (not of and key not in SETTINGS_OF_TOOL) else None


def stale(setting: InForce, state: State) -> tuple[str, str] | None:
    """The part that was changed since it was measured or last passed a check, and why it no longer
    holds; None where it does.
    """
    since = max(setting.rests_on, _passed(setting.kind.key, state))
    bare = Tool.in_key(setting.kind.key)[0]
    for changed, entry in state.parts.items():
        part, tool = Tool.in_key(changed)
        why = PARTS.get(part, {}).get(bare)
        shared = part not in PARTS_OF_TOOL or (bare not in SETTINGS_OF_TOOL and not tool)
        if why and entry.id > since and (shared or tool == setting.kind.tool):
            return part, why
    return None


def _passed(key: str, state: State) -> int:
    """The entry of the check that a setting in force passed last; 0 where there is none."""
    return state.checks[key].id if verified(key, state) else 0


def reason(key: str, state: State) -> tuple[str, str] | None:
    """Why a setting wants measuring, as code and words; None where it stands. A check that passed
    renews it.
    """
    setting, check = state.settings.get(key), state.checks.get(key)
    if setting is None or (setting.for_all and setting.kind.tool in state.loaded):
        return "never", "never measured"
    changed = stale(setting, state)
    if changed:
        return "stale", f"{changed[0]} changed since: {changed[1]}"
    if check is not None and check.id > setting.entry and check.body["verdict"] == "change":
        return "check-failed", f"the check of {check.at[:10]} failed"
    if check is not None and check.id > setting.entry and fits(check.body.get("changed"), [str]):
        return "changed", f"the check of {check.at[:10]} says: {'; '.join(check.body['changed'])}"
    passed = _passed(key, state)
    own = state.of_tool(setting.kind.tool)
    if outside := left(_renewed(setting, state), own.facts, own.filament):
        return "left-its-range", outside
    newer = [n for n in setting.kind.needs if _set_later(n, setting, passed, state)]
    if newer:
        return "stands-on-newer", f"it depends on {KINDS[newer[0]].words}, set later"
    if not setting.measured and not passed:
        return "found", "never measured"
    if setting.share is not None and setting.share > WIDE:
        return "wide", f"known to ±{setting.share:.0%} only"
    days = days_since(state.checks[key].at) if passed else setting.age_days
    if days > OLD_DAYS:
        return "old", f"{days} days old"
    return None


def _renewed(setting: InForce, state: State) -> InForce:
    """A setting with the ranges that the check which it passed last was made for, too."""
    if not verified(setting.kind.key, state):
        return setting
    ranges = {name: list(ends) for name, ends in setting.ranges.items()}
    for name, ends in (state.checks[setting.kind.key].body.get("ranges") or {}).items():
        both = [*ranges.get(name, ()), *ends]
        ranges[name] = [min(both), max(both)]
    return replace(setting, ranges=ranges)


def verified(key: str, state: State) -> bool:
    """Whether the last check since the setting was made has passed."""
    setting, check = state.settings.get(key), state.checks.get(key)
    good = check is not None and check.body["verdict"] == "keep"
    return good and setting is not None and check is not None and check.id > setting.entry


def _set_later(key: str, setting: InForce, passed: int, state: State) -> bool:
    other = state.settings.get(key)
    if other is None or not other.measured:
        return False
    return other.moved and other.entry > max(setting.entry, passed)


def ratios(document: Mapping[str, Any]) -> dict[str, tuple[float, float, float]]:
    """Ratios of measured to commanded length by the setting that they divide, each with its half
    width and the setting that was taken to be in force.
    """
    evidence, group = document["evidence"], str(document["kind"]).partition("-")[0]
    rows = {"extruder": {"steps-e": evidence}}.get(group, {})
    if group == "axis":
        rows = {f"steps-{axis}": one for axis, one in evidence.items() if axis in "xyz"}
    shape = {"ratio": float, "ratio_spread": float, "best": {"steps_per_mm": float}}
    return {
        key: (r["ratio"], r["ratio_spread"], r["ratio"] * r["best"]["steps_per_mm"])
        for key, r in rows.items()
        if fits(r, shape)
    }


def not_entered(
    document: Mapping[str, Any], state: State, findings: Sequence[Entry]
) -> tuple[InForce, float, float] | None:
    """A setting that was adopted and does not seem to be in the printer: what was measured now is
    what was measured before it, and not what it promised. The setting, and both ratios.

    `document`: of a measurement that asks for a change. `findings`: of the journal.
    """
    for key, (now, half, in_force) in ratios(document).items():
        setting = state.settings.get(key)
        if setting is None or setting.how != "adopted":
            continue
        if not math.isclose(in_force, setting.value["steps"], rel_tol=1e-3):
            continue  # the user says that another value is in force
        before = next((e for e in findings if e.id == setting.rests_on), None)
        found = ratios(before.body["document"]).get(key) if before is not None else None
        if found is None:
            continue
        then, doubt, _ = found
        as_before = abs(now - then) <= math.hypot(half, doubt)
        if as_before and abs(now - 1) > half and abs(then - 1) > doubt:
            return setting, then, now
    return None


def unless_not_entered(answer: Finding, state: State, findings: Sequence[Entry]) -> Finding:
    """An answer that would correct once more what was adopted and, by the readings, never entered:
    then it proposes nothing, and says so.
    """
    from omphalon import __version__

    twice = not_entered(answer.document(__version__), state, findings)
    if twice is None:
        return answer
    setting, then, now = twice
    return replace(
        answer,
        verdict="retest",
        because=f"a ratio of {now:.4f}, as before entry {setting.entry} was adopted ({then:.4f}), "
        f"and not the 1 that it promised: {setting.kind.words} look as if they were never entered",
        means="",
        settings=(),
        lines=(),
        headline=(),
        next=prose(
            "list what the printer holds (M503) into a file, and compare it:",
            command("bench readback", "LISTING"),
        ),
    )


def steps(state: State) -> list[Step]:
    """What to measure, in the order of work; what a changed part made stale comes first."""
    out: list[Step] = []
    for key, kind in KINDS.items():
        expected = kind.expected and kind.tool in state.tools
        if not expected and key not in state.settings:
            continue
        if kind.of_filament and kind.tool not in state.loaded:
            continue
        why = reason(key, state)
        if why is not None:
            verb = "check" if why[0] == "old" and kind.group in CHECKED else "fit"
            own = {"--tool": str(kind.tool)} if kind.tool else {}
            begin = planned(kind, state.of_tool(kind.tool)).with_options(own)
            then = command(f"{kind.group} {verb}", ask=verb == "fit").with_options(own)
            out.append(Step(kind=kind, reason=why[0], why=why[1], command=begin, then=then))
    return sorted(out, key=lambda step: step.reason != "stale")


def by_card(some: Sequence[Step]) -> list[str]:
    """The groups among some steps that one test card tells."""
    groups = (s.kind.group for s in some if not s.kind.tool and s.kind.axis.lower() != "z")
    return list(dict.fromkeys(group for group in groups if group in OF_CARD))


OF_CARD = ("axis", "shaper", "advance")
# groups whose check judges a setting as its fit would, on a fresh measurement
CHECKED = ("heater", "extruder", "axis", "flow", "shaper", "probe", "motion")


@dataclass(frozen=True, kw_only=True)
class EveningStep:
    """One step of an evening: the settings that it measures, why, and whether they are only to be
    checked.
    """

    group: str
    keys: tuple[str, ...]
    words: str
    why: str
    axes: tuple[str, ...] = ()
    tool: Tool = FIRST
    checks: bool = False

    @property
    def of_tool(self) -> tuple[str, ...]:
        """The option that names its tool."""
        return ("--tool", str(self.tool)) if self.tool else ()


def evening_steps(state: State) -> list[EveningStep]:
    """What is due: what was set and never checked, then what wants measuring, in the order of work.
    Settings that one fit finds are one step.
    """
    due = {step.kind.key: step.why for step in steps(state)}
    unchecked = [
        KINDS[key]
        for key, setting in state.settings.items()
        if key not in due
        and setting.how == "adopted"
        and KINDS[key].group in CHECKED
        and not verified(key, state)
    ]
    to_measure = [KINDS[key] for key in due]
    return [
        EveningStep(
            group=kinds[0].group,
            keys=tuple(kind.key for kind in kinds),
            words=", ".join(kind.words for kind in kinds),
            why="set, and not checked since" if checks else due[kinds[0].key],
            axes=tuple(kind.axis.lower() for kind in kinds if kind.axis),
            tool=kinds[0].tool,
            checks=checks,
        )
        for checks, some in ((True, unchecked), (False, to_measure))
        for kinds in _of_one_fit(some)
    ]


def _of_one_fit(kinds: Sequence[Kind]) -> list[list[Kind]]:
    """Settings grouped by the fit that finds them; each heater and axis has its own."""
    found: dict[tuple[str, str, Tool], list[Kind]] = {}
    for kind in kinds:
        own = kind.key if kind.group in ("heater", "axis") else ""
        found.setdefault((kind.group, own, kind.tool), []).append(kind)
    return list(found.values())


LEVELS = {"speed": "100:300:20", "acceleration": "1000:5000:500"}


def planned(kind: Kind, state: State) -> Command:
    """The command that begins the work on a setting, ready to paste in the bench."""
    given: dict[str, object] = {}
    if kind.group == "heater":
        which = kind.key.split("-")[0]
        given = {"heater": which, "target": state.facts.get(f"heaters.{which}_target")}
    elif kind.group in ("axis", "shaper", "motion"):
        given = {"axis": kind.axis.lower() or "x"}
    elif kind.group == "advance":
        given = {"style": "tower", "dialect": None if "advance" in state.lines else "FILE"}
    if kind.group == "motion":
        given[kind.fields[0]] = LEVELS.get(kind.fields[0], "FROM:TO:STEP")
    return command(f"{kind.group} plan", **given)


HEALTH = {"value": float, "spread": float}  # a figure of a heater's health


def known_health(findings: Sequence[Entry], heater: str, since: int) -> dict[str, Any]:
    """A heater's health by the first check after entry `since` that could tell it: figures with
    value and spread; empty where there is none. `findings`: newest first.
    """
    for entry in reversed(findings):
        evidence = entry.body["document"]["evidence"]
        health = evidence.get("health")
        own = entry.subject == "heater-check" and evidence.get("heater") == heater
        if own and entry.id > since and health and fits(list(health.values()), [HEALTH]):
            return dict(health)
    return {}


def check_keys(kind: str, evidence: Mapping[str, object], command: Sequence[str]) -> list[str]:
    """The settings that a check of this kind judges: of the axes that it measured, or that its
    command names.
    """
    group = kind.removesuffix("-check")
    axes = [a for a in "xyz" if a in evidence] or [
        word for option, word in pairwise(command) if option == "--axis"
    ]
    if group == "heater":
        return [f"{evidence['heater']}-gains"] if "heater" in evidence else []
    return [
        key
        for key, row in KINDS.items()
        if "@" not in key
        and row.group == group
        and (not row.axis or not axes or row.axis.lower() in (*axes, "e"))
    ]
