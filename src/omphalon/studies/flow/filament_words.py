"""The filament's width in words: alone, and beside the walls."""

from __future__ import annotations

from typing import Any

from omphalon.finding import Finding, Shown, digits
from omphalon.lines.dialect import Dialect
from omphalon.picture import RepeatsPicture
from omphalon.recording import Readings
from omphalon.studies.answer import Retest
from omphalon.studies.flow.filament import Filament, WidthFit
from omphalon.studies.flow.question import FlowQuestion
from omphalon.studies.wording import lines_for, noted, plural, retest_finding, warned, wide_remedy

REFUSALS = {
    "no-such-width": (
        "filament of {middle:.2f} mm where {nominal:g} mm is nominal: another filament, or another "
        "unit",
        "check --nominal and the caliper's unit",
    ),
    "few-places": (
        "{counted}: a roll changes from place to place, {fewest} at least are needed",
        "measure two or three metres apart, in two directions each",
    ),
    "wide": (
        "the filament's section is known to ±{half_width:.1%} only: {matters:.0%} of plastic, "
        "which a wall shows, could hide in it",
        "{remedy}",
    ),
}
ODDITIES = {
    "oval": "the filament is {oval:.2f} mm out of round",
    "uneven": "the filament's section changes by {along:.1%} from place to place (one deviation)",
    "width-only": "the flow in force is taken as right for filament of its nominal width",
}


def width_finding(
    fit: WidthFit | Retest, question: FlowQuestion, readings: Readings, dialect: Dialect
) -> Finding:
    """The flow by the filament's width alone, in words.

    Parameters
    ----------
    fit : what was decided
    question : what was asked
    readings : as they were read, for what was noted on the way
    dialect : templates of the lines to enter
    """
    if isinstance(fit, Retest):
        return width_refusal(fit, readings)
    one, keeps = fit.filament, fit.verdict == "keep"
    return Finding(
        kind="flow-fit",
        verdict=fit.verdict,
        because=_because(fit, question),
        means=_means(fit),
        settings={"flow": fit.flow},
        spread={"flow": fit.half_width},
        evidence={"mean_mm": None, "readings": one.across_mm.size, **filament_evidence(one)},
        warnings=(*warned(fit.oddities, ODDITIES), *noted(readings)),
        lines=()
        if keeps
        else lines_for(
            dialect,
            "flow",
            f"flow multiplier {fit.flow:.4f} ({100 * fit.flow:.1f} %)",
            flow=fit.flow,
        ),
        next="nothing to enter; measure the walls of a cube for the whole of it"
        if keeps
        else f"enter it, or {one.width_mm.value:.3f} mm as the filament's width in the slicer: not "
        "both; then print a cube and measure its walls: `omphalon flow plan`",
        headline=headline_of(question.flow, fit.flow, fit.half_width),
        table=filament_rows(one),
        picture=_picture(one),
    )


def width_refusal(fit: Retest, readings: Readings) -> Finding:
    """Why the widths cannot carry an answer, also beside walls.

    Parameters
    ----------
    fit : the reason
    readings : as they were read, for what was noted on the way
    """
    count = fit.facts.get("count")
    facts = {
        **fit.facts,
        "counted": plural(count if isinstance(count, int) else 0, "place"),
        "remedy": wide_remedy(count),
    }
    told = Retest(fit.reason, facts, fit.oddities)
    return retest_finding("flow-fit", told, REFUSALS, ODDITIES, noted(readings))


def headline_of(present: float, new: float, half_width: float) -> tuple[Shown, ...]:
    """The multiplier, present and new."""
    half = f"± {digits(half_width, least=2)}"
    return (
        Shown("flow", ("present", "new", "", "")),
        Shown("multiplier", (f"{present:g}", digits(new, half_width), half, "1 is 100 %")),
    )


def filament_evidence(one: Filament) -> dict[str, Any]:
    """What was measured of the filament."""
    return {
        "filament": {
            "width_mm": one.width_mm.value,
            "width_spread_mm": one.width_mm.half_width,
            "nominal_mm": one.nominal_mm,
            "plastic": one.section.value,
            "out_of_round_mm": one.oval_mm,
            "along": one.along,
            "places": int(one.kept.sum()),
            "places_left_out": int((~one.kept).sum()),
        }
    }


def filament_rows(one: Filament) -> tuple[Shown, ...]:
    """The filament's rows of the table."""
    width, more = one.width_mm, one.section.value - 1
    way = "more" if more > 0 else "less"
    return (
        Shown(
            "filament",
            (
                f"{width.value:.3f} ± {width.half_width:.3f} mm, nominal {one.nominal_mm:g}: "
                f"{abs(more):.1%} {way} plastic",
            ),
        ),
        Shown(
            "its shape",
            (
                f"{one.oval_mm:.2f} mm out of round; its section changes by {one.along:.1%} along "
                f"the roll, {plural(int(one.kept.sum()), 'place')}",
            ),
        ),
    )


def _because(fit: WidthFit, question: FlowQuestion) -> str:
    one = fit.filament
    width = f"{one.width_mm.value:.3f} ± {one.width_mm.half_width:.3f} mm"
    if fit.verdict == "keep":
        return f"a width of {width} holds the nominal {one.nominal_mm:g} mm within its error"
    return (
        f"{question.flow:g} × ({one.nominal_mm:g} ÷ {one.width_mm.value:.6g})² = {fit.flow:.6g}, "
        f"from {plural(int(one.kept.sum()), 'place')}"
    )


def _means(fit: WidthFit) -> str:
    one = fit.filament
    more = one.section.value - 1
    than = "more" if more > 0 else "less"
    much = (
        f"as much plastic as the slicer believes, to {one.section.half_width:.1%}"
        if fit.verdict == "keep"
        else f"{abs(more):.1%} {than} plastic than the slicer believes"
    )
    return f"each metre holds {much}; {one.along:.1%} comes and goes along the roll"


def _picture(one: Filament) -> RepeatsPicture:
    keep = one.kept.repeat(2)
    return RepeatsPicture(
        values_mm=one.across_mm.ravel(),
        keep=keep,
        deviation_mm=one.width_mm.deviation,
        mean_mm=one.width_mm.value,
        half_width_mm=one.width_mm.half_width,
        goal_mm=one.nominal_mm,
        title="The filament's width against its nominal one",
        of="width",
        goal="nominal",
    )
