"""The limits' answer in words."""

from __future__ import annotations

from typing import Any

from omphalon.answers.commands import command, prose
from omphalon.answers.finding import Finding, Shown, answer
from omphalon.answers.settings import Setting
from omphalon.recordings.recording import Readings
from omphalon.studies.motion.fit import Limit, MotionCheck, MotionFit, check_motion, fit_motion
from omphalon.tables.units import digits, plural


def motion_answer(readings: Readings, margin: float, axis: str | None) -> Finding:
    """Limits of motion, in words."""
    return answer("motion-fit", [readings], lambda: _finding(fit_motion(readings, margin, axis)))


def _finding(fit: MotionFit) -> Finding:
    evidence: dict[str, Any] = {"margin": fit.margin}
    for one in fit.limits:
        axis, quantity = one.tried.axis, one.tried.quantity
        evidence.setdefault(axis, {})[quantity] = {
            "highest_pass": one.highest_pass,
            "lowest_fail": one.lowest_fail,
            "risk_level": one.risk_level,
        }
    return Finding(
        kind="motion-fit",
        verdict="change",
        because=f"the limit is set {fit.margin:.0%} below the level that can be trusted: heat, "
        "dust and a heavy spool take their share",
        means=_means(fit),
        settings=tuple(
            Setting(f"{one.tried.what}-limit-{one.tried.axis}", one.tried.what, one.setting)
            for one in fit.limits
        ),
        evidence=evidence,
        warnings=fit.remarks,
        lines=tuple(
            f"; {_name(one)} limit {_number(one.setting)} {one.tried.unit}" for one in fit.limits
        ),
        next=prose(
            "enter the values as the axes' limits in your controller; test again after a change "
            "of motor, current or belt"
        ),
        headline=(
            Shown("limits", ("setting", "highest pass", "lowest fail")),
            *(_setting_row(one) for one in fit.limits),
        ),
        table=tuple(_evidence_row(one) for one in fit.limits),
        picture=fit,
    )


def _number(value: float) -> str:
    return digits(value, least=3)


def _means(fit: MotionFit) -> str:
    one = fit.limits[0]
    below = f"a print that stays below {_number(one.setting)} {one.tried.unit}"
    if one.tried.axis == "e":
        return f"{below} in its retractions loses no filament: lines start as full as they should"
    through = " through corners" if one.tried.what == "corner" else ""
    return f"{below}{through} keeps its place in {one.tried.axis.upper()}: no layer is shifted"


def _name(one: Limit) -> str:
    return f"{one.tried.axis} {one.tried.what}"


def _setting_row(one: Limit) -> Shown:
    fail = f"{one.lowest_fail:g} {one.tried.unit}"
    return Shown(_name(one), (f"{_number(one.setting)}", f"{one.highest_pass:g}", fail))


def _evidence_row(one: Limit) -> Shown:
    trusted = (
        f"one in twenty fails at {_number(one.risk_level)} {one.tried.unit}"
        if one.repeats
        else "one run a level: the highest that passed below the first failure"
    )
    return Shown(_name(one), (f"{plural(len(one.tried.levels), 'run')}; {trusted}",))


def motion_check_answer(
    readings: Readings, quantity: str, limit: float, axis: str | None
) -> Finding:
    """Whether a limit still holds, in words."""
    return answer(
        "motion-check",
        [readings],
        lambda: _check_finding(check_motion(readings, quantity, limit, axis)),
    )


def _check_finding(check: MotionCheck) -> Finding:
    unit, axis = check.tried.unit, check.tried.axis
    lost = ", ".join(f"{axis} at {v:g} {unit}" for v in check.failed)
    best = "–" if check.highest_pass is None else f"{check.highest_pass:g} {unit}"
    return Finding(
        kind="motion-check",
        verdict=check.verdict,
        because=f"steps were lost at or below the limit: {lost}"
        if check.failed
        else f"the {plural(check.runs, 'run')} that bear on the limit of {check.limit:g} {unit} "
        "passed",
        evidence={
            "runs": check.runs,
            "failed": len(check.failed),
            "highest_pass": check.highest_pass,
        },
        next=prose(
            "find the new limit, and fit it:",
            command("motion plan", axis=axis, **{check.tried.what: "FROM:TO:STEP"}),
        )
        if check.failed
        else prose("nothing"),
        table=(
            Shown("limit", (f"{check.limit:g} {unit}",)),
            Shown("failed at or below it", (plural(len(check.failed), "run"),)),
            Shown("highest pass", (best,)),
        ),
    )
