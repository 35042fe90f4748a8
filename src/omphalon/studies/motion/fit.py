"""From pass and fail to limits: the level that can be trusted, and the setting below it; and
whether a limit in force still passes. No sentences.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from omphalon.answers.finding import Verdict
from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.arrays import Array, Mask
from omphalon.base.errors import UsageError
from omphalon.recordings.recording import Readings
from omphalon.studies.motion.question import Tried, tried

MARGIN = 0.2  # heat, dust and a heavy spool take their share
RISK = 0.05  # of runs that may fail at the level to trust
# least limits that a sound printer has, for X and Y and for the others; judgements
LEAST = {"speed_mm_s": (20.0, 1.0), "acceleration_mm_s2": (200.0, 20.0)}
NEAR = 0.9  # of the limit: a run below that says nothing about it
ROUNDED = 1.001  # a level as it was typed


@dataclass(frozen=True, kw_only=True)
class Limit:
    """The limit of one axis and quantity: highest level passed, lowest failed, the level with RISK,
    what to set.
    """

    tried: Tried
    highest_pass: float
    lowest_fail: float
    risk_level: float
    setting: float
    repeats: bool


@dataclass(frozen=True, kw_only=True)
class MotionFit:
    """All limits, the margin below what can be trusted, and what was odd."""

    limits: tuple[Limit, ...]
    margin: float
    remarks: tuple[Remark, ...]


def fit_motion(readings: Readings, margin: float = MARGIN, axis: str | None = None) -> MotionFit:
    """Find the limits to set from pass and fail per level; from the failure curve where levels were
    repeated.

    `readings`: rows with axis, speed_mm_s or acceleration_mm_s2, and result. `margin`: share below
    the level that can be trusted. `axis`: the only axis that counts; None for all.
    """
    runs = tried(readings, axis)
    limits = tuple(_limit(one, margin) for one in runs)
    return MotionFit(
        limits=limits,
        margin=margin,
        remarks=tuple(o for one in limits for o in (*_passes_after_fail(one), *_too_low(one))),
    )


def _limit(runs: Tried, margin: float) -> Limit:
    level, passed = np.array(runs.levels), np.array(runs.passed)
    steps = np.unique(level)
    failed = np.array([1 - passed[level == s].mean() for s in steps])  # share of runs
    if passed.all():
        raise Refusal("not-reached", level=float(level.max()), axis=runs.axis, unit=runs.unit)
    first_bad = int(np.argmax(failed > RISK)) if (failed > RISK).any() else len(steps)
    lowest_fail = float(steps[first_bad]) if first_bad < len(steps) else float(level[~passed].min())
    if first_bad == 0:
        raise Refusal("failed-already", level=float(level.min()), axis=runs.axis, unit=runs.unit)
    highest = float(steps[first_bad - 1])
    repeats = len(steps) < len(level)
    trusted = min(risk_level(level, ~passed), highest) if repeats else highest
    return Limit(
        tried=runs,
        highest_pass=highest,
        lowest_fail=lowest_fail,
        risk_level=trusted,
        setting=trusted * (1 - margin),
        repeats=repeats,
    )


def risk_level(level: Array, failed: Mask) -> float:
    """The level at which one run in twenty fails, by logistic regression on ln level.

    Parameters
    ----------
    level : (n,)
    failed : (n,)

    Returns
    -------
    float
        Each observed level is given half a pass and half a fail of weight 1/levels (Jeffreys' prior
        in the binomial case), which keeps the slope finite where pass and fail do not overlap.

    References
    ----------
    Firth, Biometrika 80 (1993), 27-38.
    """
    from scipy.optimize import minimize
    from scipy.special import expit, log_expit

    x = np.log(level)
    centre, width = x.mean(), max(float(np.ptp(x)), 1e-6)
    z = (x - centre) / width
    extra = np.unique(z)
    weight = np.concatenate([np.ones(len(z)), np.full(2 * len(extra), 0.5 / len(extra))])
    where = np.concatenate([z, extra, extra])
    fails = np.concatenate([failed.astype(float), np.ones(len(extra)), np.zeros(len(extra))])

    def loss(beta: Array) -> tuple[float, Array]:
        line = beta[0] + beta[1] * where
        miss = weight * (expit(line) - fails)
        words = weight * (fails * log_expit(line) + (1 - fails) * log_expit(-line))
        return -float(words.sum()), np.array([miss.sum(), miss @ where])

    beta = minimize(loss, np.zeros(2), jac=True, method="BFGS").x
    if beta[1] <= 0:
        return float(level.min())
    return float(np.exp(centre + width * (np.log(RISK / (1 - RISK)) - beta[0]) / beta[1]))


def _passes_after_fail(one: Limit) -> list[Remark]:
    above = [
        v
        for v, ok in zip(one.tried.levels, one.tried.passed, strict=True)
        if ok and v > one.lowest_fail
    ]
    if not above:
        return []
    return [
        Remark(
            "passes-above",
            axis=one.tried.axis,
            unit=one.tried.unit,
            passed=max(above),
            failed=one.lowest_fail,
        )
    ]


def _too_low(one: Limit) -> list[Remark]:
    """A remark on a limit so low that something holds the axis."""
    runs = one.tried
    least = LEAST.get(runs.quantity, (0.0, 0.0))[runs.axis not in ("x", "y")]
    if one.setting >= least:
        return []
    facts = {"axis": runs.axis, "unit": runs.unit, "setting": one.setting, "least": least}
    return [Remark("limit-too-low", **facts)]


@dataclass(frozen=True, kw_only=True)
class MotionCheck:
    """The runs that bear on the limit: how many, the failed levels at or below it, the highest
    level that passed.
    """

    tried: Tried
    limit: float
    runs: int
    failed: tuple[float, ...]
    highest_pass: float | None
    verdict: Verdict


def check_motion(
    readings: Readings, quantity: str, limit: float, axis: str | None = None
) -> MotionCheck:
    """Judge a limit on fresh runs.

    `readings`: rows with axis, a level and result. `axis`: which axis, where the file has several.
    Raises Refusal where no run came near the limit; UsageError, BadReading if readings are missing
    or cannot be, or several axes are in the file.
    """
    groups = [t for t in tried(readings, axis) if t.quantity == quantity]
    if not groups:
        raise UsageError(
            f"no run of {quantity.split('_')[0]}", "give --quantity, or a file with that column"
        )
    if len(groups) > 1:
        raise UsageError(
            f"runs of axes {', '.join(t.axis for t in groups)}, and one limit",
            "say which with --axis",
        )
    runs = groups[0]
    pairs = list(zip(runs.levels, runs.passed, strict=True))
    failed = tuple(v for v, ok in pairs if not ok and v <= limit * ROUNDED)
    best = max((v for v, ok in pairs if ok), default=None)
    if not failed and (best is None or best < NEAR * limit):
        raise Refusal("not-tried", limit=limit, unit=runs.unit, best=best or 0.0)
    bearing = sum(v <= limit * ROUNDED or ok for v, ok in pairs)
    return MotionCheck(
        tried=runs,
        limit=limit,
        runs=bearing,
        failed=failed,
        highest_pass=best,
        verdict="change" if failed else "keep",
    )
