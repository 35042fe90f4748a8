"""Highest speed and acceleration before steps are lost, from pass and fail of a stepped dry run."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from omphalon.bench.dialect import Dialect
from omphalon.errors import BadReading, UsageError
from omphalon.finding import Finding, Plan, Shown, Warned
from omphalon.prints.dryrun import DryRun
from omphalon.recording import Readings
from omphalon.studies.answer import Unanswerable

Array = NDArray[np.float64]

QUANTITIES = {"speed_mm_s": "mm/s", "acceleration_mm_s2": "mm/s²"}
WORDS = ("axis", "result")
PASSED = {"pass": 1, "passed": 1, "ok": 1, "yes": 1, "1": 1, "fail": 0, "failed": 0, "no": 0, "0": 0}
MARGIN = 0.2
RISK = 0.05
MOST_LEVELS = 40


@dataclass(frozen=True)
class MotionPicture:
    """What plots/ draws: each limit, and the levels tried for it with pass (1) or fail (0)."""

    limits: tuple[Limit, ...]
    tried: tuple[tuple[tuple[float, int], ...], ...]
    units: tuple[str, ...]


@dataclass(frozen=True)
class Limit:
    """The limit of one axis and quantity: highest level passed, lowest failed, the level with 5 % risk, what to set."""

    axis: str
    quantity: str
    highest_pass: float
    lowest_fail: float
    risk_level: float
    setting: float
    repeats: bool


def fit_motion(readings: Readings, margin: float = MARGIN) -> Finding:
    """Limits with margin from pass and fail per level; from the failure curve where levels were repeated."""
    try:
        groups: dict[tuple[str, str], list[tuple[float, int]]] = {}
        for row in readings.rows:
            axis, result = row.words.get("axis", ""), row.words.get("result", "")
            if axis not in ("x", "y", "z"):
                raise BadReading(f"{row.where}: axis '{axis}'", "use x, y or z")
            if result not in PASSED:
                raise BadReading(f"{row.where}: result '{result}'", "write pass or fail")
            for quantity in QUANTITIES:
                if quantity in row.numbers:
                    if row.mm(quantity) <= 0:
                        raise BadReading(f"{row.where}: {quantity} {row.mm(quantity):g} is not above 0", "check the level")
                    groups.setdefault((axis, quantity), []).append((row.mm(quantity), PASSED[result]))
        if not groups:
            raise UsageError("no levels", "give --pass and --fail with --axis, or a file with axis, speed_mm_s, result")
        limits = [_limit(axis, quantity, tried, margin) for (axis, quantity), tried in sorted(groups.items())]
    except Unanswerable as refusal:
        return refusal.finding("motion-fit")
    return _told(limits, groups, margin)


def check_motion(readings: Readings, settings: dict[str, float]) -> Finding:
    """Whether the levels at and below a setting (quantity → value) still pass."""
    bad, seen = [], 0
    for row in readings.rows:
        for quantity, value in settings.items():
            if quantity in row.numbers and row.mm(quantity) <= value * 1.001:
                seen += 1
                if PASSED.get(row.words.get("result", ""), 1) == 0:
                    bad.append(f"{row.words.get('axis', '?')} at {row.mm(quantity):g} {QUANTITIES[quantity]}")
    if not seen:
        return Unanswerable("no level at or below the setting was tried", "run levels up to the setting").finding(
            "motion-check")
    verdict = "change" if bad else "keep"
    because = f"steps were lost below the setting: {', '.join(bad)}" if bad else f"all {seen} runs at or below it passed"
    return Finding("motion-check", verdict, because, evidence={"runs": seen, "failed": len(bad)},
                   next="find the new limit: omphalon motion plan, then fit" if bad else "nothing")


def _limit(axis: str, quantity: str, tried: Sequence[tuple[float, int]], margin: float) -> Limit:
    level = np.array([t[0] for t in tried])
    passed = np.array([t[1] for t in tried])
    unit = QUANTITIES[quantity]
    steps = np.unique(level)
    share = np.array([1 - passed[level == s].mean() for s in steps])  # of runs that failed
    if passed.all():
        raise Unanswerable(f"axis {axis}: everything passed, up to {level.max():g} {unit}: the limit was not reached",
                           "plan a dry run that goes higher; a limit below what passed is no limit")
    first_bad = int(np.argmax(share > RISK)) if (share > RISK).any() else len(steps)
    lowest_fail = float(steps[first_bad]) if first_bad < len(steps) else float(level[passed == 0].min())
    if first_bad == 0:
        raise Unanswerable(f"axis {axis}: the lowest level tried, {level.min():g} {unit}, failed already",
                           "look for something that binds, or plan a dry run that starts lower")
    highest = float(steps[first_bad - 1])
    repeats = len(steps) < len(level)
    risk = min(_risk_level(level, 1 - passed), highest) if repeats else highest
    return Limit(axis, quantity, highest, lowest_fail, risk, risk * (1 - margin), repeats)


def _risk_level(level: Array, failed: NDArray[np.int64]) -> float:
    """Level at which one run in twenty fails: logistic regression on ln level, with Firth-like half counts.

    Each observed level is given half a pass and half a fail of weight 1/levels (Jeffreys' prior in the binomial case),
    which keeps the slope finite where pass and fail do not overlap.
    """
    x = np.log(level)
    centre, width = x.mean(), max(float(np.ptp(x)), 1e-6)
    z = (x - centre) / width
    extra = np.unique(z)
    weight = np.concatenate([np.ones(len(z)), np.full(2 * len(extra), 0.5 / len(extra))])
    where = np.concatenate([z, extra, extra])
    fail = np.concatenate([failed, np.ones(len(extra)), np.zeros(len(extra))])
    design = np.stack([np.ones(len(where)), where], axis=1)
    beta = np.zeros(2)
    for _ in range(40):
        chance = 1 / (1 + np.exp(-design @ beta))
        curve = weight * chance * (1 - chance)
        step = np.linalg.solve(design.T @ (curve[:, None] * design) + 1e-6 * np.eye(2), design.T @ (weight * (fail - chance)))
        beta = beta + np.clip(step, -3, 3)
    if beta[1] <= 0:
        return float(level.min())
    return float(np.exp(centre + width * (np.log(RISK / (1 - RISK)) - beta[0]) / beta[1]))


def _told(limits: list[Limit], groups: dict[tuple[str, str], list[tuple[float, int]]], margin: float) -> Finding:
    settings: dict[str, dict[str, float]] = {}
    evidence: dict[str, Any] = {"margin": margin}
    warnings, head, rows = [], [Shown("limits", ("setting", "highest pass", "lowest fail"))], []
    for one in limits:
        unit = QUANTITIES[one.quantity]
        settings.setdefault(one.axis, {})[one.quantity] = one.setting
        evidence.setdefault(one.axis, {})[one.quantity] = {"highest_pass": one.highest_pass, "lowest_fail": one.lowest_fail,
                                                           "risk_level": one.risk_level}
        head.append(Shown(f"{one.axis} {one.quantity.split('_')[0]}", (
            f"{one.setting:.0f}", f"{one.highest_pass:g}", f"{one.lowest_fail:g} {unit}")))
        tried = groups[(one.axis, one.quantity)]
        above = [value for value, ok in tried if ok and value > one.lowest_fail]
        if above:
            warnings.append(Warned("passes-after-fail", f"axis {one.axis}: {max(above):g} {unit} passed although "
                                                        f"{one.lowest_fail:g} failed"))
        rows.append(Shown(f"{one.axis} {one.quantity.split('_')[0]}", (
            f"{len(tried)} runs; " + (f"one in twenty fails at {one.risk_level:.0f} {unit}" if one.repeats else
                                      "one run a level: the highest that passed below the first failure"),)))
    return Finding("motion-fit", "change", f"the limit is set {margin:.0%} below the level that can be trusted: heat, dust and "
                   "a heavy spool take their share", settings, {}, evidence, tuple(warnings),
                   tuple(f"; {one.axis} {one.quantity.split('_')[0]} limit {one.setting:.0f} {QUANTITIES[one.quantity]}"
                         for one in limits),
                   "enter the values as the axes' limits in your controller; test again after a change of motor, current or "
                   "belt", tuple(head), tuple(rows), MotionPicture(
                       tuple(limits), tuple(tuple(groups[(one.axis, one.quantity)]) for one in limits),
                       tuple(QUANTITIES[one.quantity] for one in limits)))


def plan_motion(axis: str, quantity: str, levels: tuple[float, float, float], travel_mm: tuple[float, float],
                template: str | None, dialect: Dialect) -> tuple[Plan, DryRun]:
    """The dry run for FROM:TO:STEP, within the travel; UsageError where it makes no sense."""
    start, stop, step = levels
    if not 0 < start < stop or step <= 0:
        raise UsageError(f"{start:g}:{stop:g}:{step:g}: not FROM:TO:STEP", "give a lower and a higher level and a step above 0")
    count = int(round((stop - start) / step)) + 1
    if count > MOST_LEVELS or count < 2:
        raise UsageError(f"{start:g}:{stop:g}:{step:g}: {count} levels", f"choose a step that makes 2 to {MOST_LEVELS}")
    if travel_mm[1] - travel_mm[0] < 20:
        raise UsageError(f"a travel of {travel_mm[1] - travel_mm[0]:g} mm: too short", "give --travel LOW:HIGH, 20 mm or more")
    values = tuple(min(start + n * step, stop) for n in range(count))
    lines: tuple[str, ...] = ()
    if quantity == "acceleration_mm_s2":
        if template is None and "acceleration" not in dialect.templates:
            raise UsageError("no line that sets the acceleration", "give --line TEMPLATE with {acceleration} in it")
        if template is not None and "{acceleration" not in template:
            raise UsageError(f"--line {template}: no {{acceleration}} in it", "put it where the number belongs")
        chosen = dialect.with_line("acceleration", template)
        lines = tuple(chosen.line("acceleration", acceleration=v) or "" for v in values)
    run = DryRun(axis, *travel_mm, values, lines)
    return Plan("motion-plan", f"Dry run of axis {axis}: {start:g} to {stop:g} {QUANTITIES[quantity]}", (
        "Nothing is heated or fed. Take prints and tools off the bed; keep a hand at the switch.",
        f"Put a mark, or a dial gauge, where axis {axis} stands at {travel_mm[0]:g} mm.",
        f"Run the file. {count} levels, each {run.strokes} strokes over {travel_mm[0]:g} to {travel_mm[1]:g} mm, then a slow "
        "return to the mark and a rest. Note pass or fail of each level; stop at the second failure.",
        "Run it two or three times: repeats give the failure curve, not just the last good level.",
    ), next=f"omphalon motion fit READINGS.csv   (columns axis, {quantity}, result)",
        settings={"levels": list(values), "axis": axis}), run
