"""The limits' answer in words."""

from __future__ import annotations

from typing import Any

from omphalon.finding import Finding, Shown, digits
from omphalon.picture import LimitPicture
from omphalon.recording import Readings
from omphalon.studies.answer import Retest
from omphalon.studies.motion.check import MotionCheck
from omphalon.studies.motion.fit import Limit, MotionFit
from omphalon.studies.wording import noted, plural, retest_finding, warned

REFUSALS = {
    "not-reached": (
        "axis {axis}: everything passed, up to {level:g} {unit}: the limit was not reached",
        "plan a dry run that goes higher; a limit below what passed is no limit",
    ),
    "failed-already": (
        "axis {axis}: the lowest level tried, {level:g} {unit}, failed already",
        "look for something that binds, or plan a dry run that starts lower",
    ),
    "not-tried": (
        "the limit of {limit:g} {unit} was not tried: the highest run that passed is {best:g} "
        "{unit}",
        "run levels up to the limit",
    ),
}
ODDITIES = {"above": "axis {axis}: {passed:g} {unit} passed although {failed:g} failed"}


def motion_finding(fit: MotionFit | Retest, readings: Readings) -> Finding:
    """The answer of a fit, in words.

    Parameters
    ----------
    fit : what was decided
    readings : as they were read, for what was noted on the way
    """
    if isinstance(fit, Retest):
        return retest_finding("motion-fit", fit, REFUSALS, ODDITIES, noted(readings))
    settings: dict[str, dict[str, float]] = {}
    evidence: dict[str, Any] = {"margin": fit.margin}
    for one in fit.limits:
        axis, quantity = one.tried.axis, one.tried.quantity
        settings.setdefault(axis, {})[quantity] = one.setting
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
        settings=settings,
        evidence=evidence,
        warnings=(*warned(fit.oddities, ODDITIES), *noted(readings)),
        lines=tuple(
            f"; {_name(one)} limit {_number(one.setting)} {one.tried.unit}" for one in fit.limits
        ),
        next="enter the values as the axes' limits in your controller; test again after a change "
        "of motor, current or belt",
        headline=(
            Shown("limits", ("setting", "highest pass", "lowest fail")),
            *(_setting_row(one) for one in fit.limits),
        ),
        table=tuple(_evidence_row(one) for one in fit.limits),
        picture=tuple(_picture(one) for one in fit.limits),
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


def _picture(one: Limit) -> LimitPicture:
    return LimitPicture(
        title=f"Axis {one.tried.axis}: set to {_number(one.setting)} {one.tried.unit}",
        unit=one.tried.unit,
        levels=one.tried.levels,
        passed=one.tried.passed,
        trusted=one.risk_level,
        setting=one.setting,
    )


def motion_check_finding(check: MotionCheck | Retest, readings: Readings) -> Finding:
    """The answer of a check, in words.

    Parameters
    ----------
    check : what was decided
    readings : as they were read, for what was noted on the way
    """
    if isinstance(check, Retest):
        return retest_finding("motion-check", check, REFUSALS, ODDITIES, noted(readings))
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
        warnings=tuple(noted(readings)),
        next=f"find the new limit: `omphalon motion plan --axis {axis} "
        f"--{check.tried.what} FROM:TO:STEP`, then fit"
        if check.failed
        else "nothing",
        table=(
            Shown("limit", (f"{check.limit:g} {unit}",)),
            Shown("failed at or below it", (plural(len(check.failed), "run"),)),
            Shown("highest pass", (best,)),
        ),
    )
