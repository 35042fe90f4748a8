"""Gains that were chosen, from a log or from a summary of one, in words: old and new, what they
promise, what comes next.
"""

from __future__ import annotations

from dataclasses import asdict
from typing import Any, Protocol

from omphalon.answers.commands import Prose, command, prose
from omphalon.answers.finding import Shown
from omphalon.answers.settings import Setting
from omphalon.base.arrays import Array
from omphalon.physics.loop import Gains, Outcome
from omphalon.studies.heater.question import HeaterQuestion
from omphalon.studies.heater.tuning import OWN, Tuned, promised_range
from omphalon.tables.parts import parts_of
from omphalon.tables.units import digits

UNITS = {"kp": "per °C", "ki": "per °C·s", "kd": "per °C/s"}
OWN_MISSED_C = 0.2  # of overshoot: less is not worth a word
DIGITS = 0.03  # share of a gain that its last digits show
UNSTABLE_C = 1.5  # ripple of a loop that runs on nothing but its sensor's noise


class Chosen(Protocol):
    """Gains that were chosen, from a log or from the summary of one; in the controller's scale."""

    @property
    def heater(self) -> str: ...

    @property
    def verdict(self) -> str: ...

    @property
    def tuned(self) -> Tuned: ...

    @property
    def full_power(self) -> float: ...

    @property
    def scaled(self) -> Gains: ...


def against_own(tuned: Tuned) -> str:
    """How the gains that the controller made of its test compare."""
    if OWN not in tuned.labels:
        return ""
    own = promised(tuned, tuned.labels.index(OWN))
    if own["ripple_c"] > UNSTABLE_C:
        return "; the controller's own gains would swing"
    over, here = own["overshoot_c"], promised(tuned, 0)["overshoot_c"]
    if over < here + OWN_MISSED_C:
        return "; the controller's own gains overshoot no more"
    return f"; the controller's own gains overshoot by {over:.1f} °C, these by {here:.1f}"


def goals_of(tuned: Tuned) -> str:
    """The target, or the range of targets."""
    ends = [one.target_c for one in tuned.spans] or [tuned.loop.target_c]
    return f"{ends[0]:.0f}" if len(ends) == 1 else f"{ends[0]:.0f} to {ends[-1]:.0f}"


def gain_settings(heater: str, gains: Gains) -> tuple[Setting, ...]:
    """Gains for a power of 0…1. They are a choice, not an estimate, and have no half width."""
    return tuple(Setting(f"{heater}-gains", k, getattr(gains, k)) for k in UNITS)


def gain_scales(gains: Gains, full_power: float) -> dict[str, Any]:
    """The same in the controller's scale and as times, for a document.

    `gains`: for a power of 0…1. `full_power`: what stands for it in the controller's gains.
    """
    own = {k: getattr(gains, k) * full_power for k in UNITS}
    return {
        "scaled": {**own, "full_power": full_power},
        "integral_time_s": gains.kp / gains.ki if gains.ki else None,
        "derivative_time_s": gains.kd / gains.kp,
    }


def free_of(fit: Chosen) -> dict[str, float]:
    """How far each gain can move before it does worse; for a power of 0…1."""
    best = fit.tuned.new
    return {
        name: min(getattr(best, name) - low, high - getattr(best, name))
        for name, (low, high) in fit.tuned.as_good.items()
    }


def predicted_evidence(tuned: Tuned) -> dict[str, Any]:
    """What the gains promise, as a document has it."""
    every = {label: promised(tuned, n) for n, label in enumerate(tuned.labels)}
    new = every.pop("new gains")
    ranges = {
        name: promised_range(getattr(tuned.doubt, name)[:, 0]) for name in ("overshoot_c", "dip_c")
    }
    return {
        "does_as_well": dict(tuned.as_good),
        "predicted": {**new, "range": ranges},
        "predicted_otherwise": every,
        **_range_evidence(tuned),
    }


def _range_evidence(tuned: Tuned) -> dict[str, Any]:
    """What the gains promise over a range of targets, and with plastic that flows."""
    out: dict[str, Any] = {}
    if tuned.spans:
        out["over_range"] = [
            {
                "target_c": one.target_c,
                "cost": one.cost,
                "holding_power": one.holding_power,
                "alone": {k: getattr(one.alone, k) for k in UNITS},
                **{n: getattr(one.run, n)[0, 0] for n in ("arrival_s", "overshoot_c", "dip_c")},
            }
            for one in tuned.spans
        ]
    return out if tuned.flowing is None else {**out, "plastic": asdict(tuned.flowing)}


def loop_means(fit: Chosen) -> str:
    every = {label: promised(fit.tuned, n) for n, label in enumerate(fit.tuned.labels)}
    new, old = every["new gains"], every.get("present gains")
    flow = fit.tuned.flowing
    words = f"the {fit.heater} swings by {new['ripple_c']:.2g} °C while it prints"
    if fit.heater == "hotend":
        words += f" and dips by {new['dip_c']:.1f} °C when the fan comes on"
    if flow is not None and flow.dip_c is not None:
        words += f"; at {flow.flow_mm3_s:g} mm³/s it dips by {flow.dip_c[1]:.1f} °C"
    if old is None:
        return words
    dips = f" and {old['dip_c']:.1f} °C" if fit.heater == "hotend" else ""
    return words + f"; with the present gains {old['ripple_c']:.2g} °C{dips}"


def promised(tuned: Tuned, column: int) -> dict[str, Any]:
    """What one of the gains that were run promises."""
    run = tuned.run
    return {
        "arrival_s": run.arrival_s[0, column],
        "overshoot_c": run.overshoot_c[0, column],
        "settle_s": run.settle_s[0, column],
        "dip_c": run.dip_c[0, column],
        "ripple_c": run.ripple_c[0, column],
        "recovery_error_c": run.fan_error_c[0, column],
        "peak_sensitivity": tuned.sensitivity[column],
    }


def gains_next(fit: Chosen) -> Prose:
    again = parts_of(f"{fit.heater}-gains")
    if fit.verdict == "keep":
        return prose(f"nothing to enter; test again after a change of {again}")
    goal = f"{fit.tuned.loop.target_c:.0f}"
    return prose(
        f"enter and store the lines, switch off and on, log a heat-up to {goal} °C with a hold, "
        "and check it:",
        command("heater check", "LOG", target=goal),
        f"test again after a change of {again}",
    )


def gains_headline(fit: Chosen, question: HeaterQuestion) -> tuple[Shown, ...]:
    """The gains, old and new, each with the range that does as well; the times below."""
    scaled, old = fit.scaled, question.present
    heads = ("present", "new", "does as well", f"(full power is {fit.full_power:g})")
    rows = [Shown(f"{fit.heater} at {goals_of(fit.tuned)} °C", heads)]
    for name, free in free_of(fit).items():
        new = getattr(scaled, name)
        last = max(fit.full_power * free, DIGITS * new)
        before = "–" if old is None else digits(getattr(old, name))
        ends = " to ".join(digits(fit.full_power * end, last) for end in fit.tuned.as_good[name])
        rows.append(Shown(name, (before, digits(new, last), ends, UNITS[name])))
    if scaled.ki > 0:
        integral, derivative = digits(scaled.kp / scaled.ki), digits(scaled.kd / scaled.kp)
        words = f"Ti {integral} s, Td {derivative} s"
        rows.append(Shown("as times", ("", "", "", words)))
    return tuple(rows)


HEADS = ("overshoot", "settled at", "dip, fan on", "ripple", "sensitivity")


def _cells(run: Outcome, sensitivity: Array, column: int) -> tuple[str, ...]:
    """What one of the gains that were run promises, under HEADS."""
    ripple = run.ripple_c[0, column]
    return (
        f"{run.overshoot_c[0, column]:.2f} °C",
        f"{run.settle_s[0, column]:.0f} s",
        f"{run.dip_c[0, column]:.2f} °C",
        f"{ripple:.2f} °C",
        "unstable" if ripple > UNSTABLE_C else f"{sensitivity[column]:.2f}",
    )


def predicted_rows(tuned: Tuned) -> list[Shown]:
    """What each of the gains that were run promises, and the range of the new ones."""
    run = tuned.run
    rows = [Shown("predicted", HEADS)]
    for n, label in enumerate(tuned.labels):
        rows.append(Shown("  " + label, _cells(run, tuned.sensitivity, n)))
    over, dip = (
        "{:.2f}–{:.2f}".format(*promised_range(v[:, 0]))
        for v in (tuned.doubt.overshoot_c, tuned.doubt.dip_c)
    )
    rows.insert(2, Shown("    95 % range", (over, "", dip, "", "2 robust, 3 marginal")))
    return [*rows, *_span_rows(tuned), *_flow_rows(tuned)]


def _span_rows(tuned: Tuned) -> list[Shown]:
    """What one set of gains promises at each target of a range, and what it costs there."""
    if not tuned.spans:
        return []
    rows = [Shown("over the range", (*HEADS, "worse than its own"))]
    for one in tuned.spans:
        cells = (*_cells(one.run, one.sensitivity, 0), f"{max(one.cost, 0):.0%}")
        rows.append(Shown(f"  at {one.target_c:.0f} °C", cells))
    return rows


def _flow_rows(tuned: Tuned) -> list[Shown]:
    """What plastic that flows takes, and where full power ends."""
    one = tuned.flowing
    if one is None:
        return []
    where = f"at {one.target_c:.0f} °C with the part fan on"
    low, most, high = one.most_mm3_s
    how = ", as the log shows" if one.measured else ""
    rows = [Shown("power ends", (f"at {most:.0f} mm³/s ({low:.0f} to {high:.0f}) {where}{how}",))]
    if one.flow_mm3_s:
        takes = f"{one.flow_mm3_s:g} mm³/s take {one.takes:.0%} of full power {where}"
        dips = "full power does not hold it" if one.dip_c is None else _dips(one.dip_c)
        rows.insert(0, Shown("plastic", (f"{takes}: {dips}",)))
    return rows


def _dips(dip: tuple[float, float, float]) -> str:
    low, expected, high = dip
    return f"it dips by {expected:.1f} °C ({low:.1f} to {high:.1f})"
