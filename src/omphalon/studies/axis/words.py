"""The axes' answer in words."""

from __future__ import annotations

from typing import Any

import numpy as np

from omphalon.finding import Finding, Shown, digits
from omphalon.lines.dialect import Dialect
from omphalon.picture import StepsPicture
from omphalon.recording import Readings
from omphalon.studies.answer import Retest
from omphalon.studies.axis.fit import AxisFit, AxisSteps
from omphalon.studies.wording import lines_for, noted, retest_finding, stored, warned, wide_remedy

REFUSALS = {
    "one-length": (
        "axis {axis}: one length of a printed part cannot tell a wrong scale from a line that is "
        "too wide",
        "print and measure parts of {longer} as well, or an inside and an outside measure",
    ),
    "microsteps": (
        "axis {axis}: {steps:.1f} steps per mm is {factor:g} times the {built:.1f} that the parts "
        "make: a "
        "microstepping mistake",
        "check the driver's microsteps",
    ),
    "theory": (
        "axis {axis}: the readings make {steps:.2f} steps per mm, the parts {built:.2f}: more "
        "than {within:.0%} apart is a "
        "fault, no tolerance",
        "look for a loose pulley, a wrong tooth count or lead, lost steps; then measure again",
    ),
    "wide": (
        "the scale is known to ±{half_width:.2%} only: an error of {matters:.1%}, which shows on "
        "a part, could hide in it",
        "{remedy}, or measure over a longer move",
    ),
}
ODDITIES = {
    "one": "axis {axis}: one reading, trusted to ±{error:.2g} mm",
    "backlash": "axis {axis}: moves there and back differ by {gap:.2f} mm",
    "large": "axis {axis}: {share:.1%} is more than belts and screws are off by",
}


def axis_finding(
    fit: AxisFit | Retest, readings: Readings, dialect: Dialect, checking: bool = False
) -> Finding:
    """The answer of a fit, or of a check, in words.

    Parameters
    ----------
    fit : what was decided
    readings : as they were read, for what was noted on the way
    dialect : templates of the lines to enter
    checking : whether a check is told, not a fit
    """
    kind = "axis-check" if checking else "axis-fit"
    if isinstance(fit, Retest):
        facts = {**fit.facts, "remedy": wide_remedy(fit.facts.get("count"))}
        return retest_finding(
            kind, Retest(fit.reason, facts, fit.oddities), REFUSALS, ODDITIES, noted(readings)
        )
    changed = [a for a in fit.axes if a.verdict == "change"]
    lines = (
        []
        if checking
        else [
            lines_for(
                dialect,
                "steps",
                f"{a.axis.upper()} steps per mm {a.steps:.4f}",
                axis=a.axis.upper(),
                steps=a.steps,
            )[0]
            for a in changed
        ]
    )
    return Finding(
        kind=kind,
        verdict=fit.verdict,
        because=_because(changed),
        means="" if checking else _means(fit),
        settings={} if checking else {a.axis: {"steps_per_mm": a.steps} for a in fit.axes},
        spread={} if checking else {a.axis: {"steps_per_mm": a.half_width} for a in fit.axes},
        evidence=_evidence(fit),
        warnings=(*warned(fit.oddities, ODDITIES), *noted(readings)),
        lines=(*lines, *stored(dialect))
        if any(not x.startswith(";") for x in lines)
        else tuple(lines),
        next=_next(fit, checking),
        headline=() if checking else _headline(fit),
        table=_table(fit),
        picture=tuple(_picture(a) for a in fit.axes),
    )


def _evidence(fit: AxisFit) -> dict[str, Any]:
    out: dict[str, Any] = {
        a.axis: {
            "best": {"steps_per_mm": a.best_steps},
            "ratio": a.scale.value,
            "ratio_spread": a.scale.half_width,
            "runs": int(a.keep.sum()),
            "offset_mm": None if a.offset is None else a.offset.value,
            "offset_spread_mm": None if a.offset is None else a.offset.half_width,
            "backlash_mm": None if a.backlash is None else 2 * a.backlash.value,
            "left_out": int((~a.keep).sum()),
        }
        for a in fit.axes
    }
    return out if fit.skew_deg is None else {**out, "skew_deg": fit.skew_deg}


def _because(changed: list[AxisSteps]) -> str:
    if not changed:
        return (
            "what the lengths differ by is smaller than their own error, or the same at every "
            "length (the offset: line "
            "width, backlash, zero); neither is a matter of steps"
        )
    worst = max(changed, key=lambda a: abs(a.scale.value - 1))
    return (
        f"axis {worst.axis} moves {worst.scale.value:.5f} ± {worst.scale.half_width:.5f} of what "
        "is asked: "
        f"{worst.present:g} ÷ {worst.scale.value:.8g} = {worst.steps:.8g}"
    )


def _means(fit: AxisFit) -> str:
    worst = max(fit.axes, key=lambda a: abs(a.scale.value - 1))
    if fit.verdict == "keep":
        half = 100 * max(a.scale.half_width for a in fit.axes)
        return f"a part of 100 mm comes out right to {half:.2f} mm, as far as steps have a say"
    off = 100 * (worst.scale.value - 1)
    return f"a part of 100 mm comes out {off:+.2f} mm off in {worst.axis.upper()} now"


def _headline(fit: AxisFit) -> tuple[Shown, ...]:
    rows = [Shown("axis", ("present", "new", "", "offset"))]
    for a in fit.axes:
        offset = (
            "–" if a.offset is None else f"{a.offset.value:+.2f} ± {a.offset.half_width:.2f} mm"
        )
        rows.append(
            Shown(
                f"{a.axis} steps per mm",
                (
                    f"{a.present:g}",
                    digits(a.steps, a.half_width),
                    "± " + digits(a.half_width, least=2),
                    offset,
                ),
            )
        )
    return tuple(rows)


def _table(fit: AxisFit) -> tuple[Shown, ...]:
    rows = [Shown("axis", ("runs", "ratio", "95 %", ""))]
    rows += [
        Shown(
            f"  {a.axis}",
            (
                str(int(a.keep.sum())),
                f"{a.scale.value:.5f}",
                f"± {a.scale.half_width:.5f}",
                a.verdict,
            ),
        )
        for a in fit.axes
    ]
    rows += [
        Shown(
            f"  {a.axis} there and back",
            (f"{2 * a.backlash.value:+.2f} ± {2 * a.backlash.half_width:.2f} mm", "", "", ""),
        )
        for a in fit.axes
        if a.backlash is not None
    ]
    if fit.skew_deg is not None:
        rows.append(Shown("skew of XY", (f"{fit.skew_deg:+.3f}°", "", "", "")))
    return tuple(rows)


def _next(fit: AxisFit, checking: bool) -> str:
    if fit.verdict == "keep":
        return "nothing to enter; measure again after a change of belt, pulley, screw or motor"
    steps = " ".join(f"--steps {a.axis}={a.steps:.4f}" for a in fit.axes)
    return (
        "run `omphalon axis fit` on these readings"
        if checking
        else (
            "enter and store, switch off and on, measure again and judge it: `omphalon axis "
            f"check READINGS.csv {steps}`; the extruder "
            "and flow come after the axes"
        )
    )


def _picture(one: AxisSteps) -> StepsPicture:
    runs = one.runs
    offset = one.side * (0.0 if one.offset is None else one.offset.value)
    offset = offset + runs.direction * (0.0 if one.backlash is None else one.backlash.value)
    return StepsPicture(
        title=f"Axis {one.axis}",
        asked_mm=runs.asked_mm,
        got_mm=runs.moved_mm,
        deviation_mm=np.full(len(runs.asked_mm), runs.known.whole),
        keep=one.keep,
        scale=one.scale.value,
        half_width=one.scale.half_width,
        offset_mm=offset,
    )
