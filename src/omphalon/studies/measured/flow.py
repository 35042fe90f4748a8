"""Flow multiplier, from the walls of a hollow cube: walls of one side against another's, the
filament's share of the correction; and the cube.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from omphalon.answers.commands import command, prose
from omphalon.answers.finding import Plan, Shown
from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.errors import UsageError
from omphalon.lines.dialect import Dialect
from omphalon.physics.scale import reading_spread
from omphalon.prints.job import Job
from omphalon.prints.pieces import Cube
from omphalon.recordings.recording import Readings
from omphalon.studies.measured.engine import Fitted, Measurand, Measurement, Sample
from omphalon.studies.measured.filament import (
    FINEST_MM,
    FlowQuestion,
    filament_evidence,
    filament_rows,
    measured_filament,
)
from omphalon.studies.measured.words import AS_MEASURED
from omphalon.studies.printed import TestPrint, plain_print, print_steps
from omphalon.tables.units import digits

WALL_MM = 0.012  # how unlike a wall is from place to place; measured: docs/measuring.md
FURTHEST = 2.0  # no flow is off by more
DOUBLED = (1.9, 2.1)  # two walls taken for one
OTHER_UNIT = (0.12, 8.0)  # beyond, the caliper's unit is another
APART = 4.0  # deviations of the sides' means beyond which they differ


def walls(readings: Readings, question: FlowQuestion) -> Sequence[Sample]:
    """The walls, and what is known of one: the caliper, its squeeze, and that no wall is even.

    Raises UsageError, BadReading if there are none, or one is missing; Refusal if no flow is that
    far off.
    """
    readings.refuse_gaps("wall_mm")
    if not readings.has("wall_mm"):
        raise UsageError("no wall thicknesses", "give --wall MM once for each, or a column wall_mm")
    widths, expected = question.widths, question.wall_mm
    filament = None if widths is None else measured_filament(widths, question)
    values = np.array([r.value("wall_mm") for r in readings.rows])
    middle = float(np.median(values))
    ratio = middle / expected
    if not 1 / FURTHEST < ratio < FURTHEST:
        doubled = DOUBLED[0] < ratio < DOUBLED[1] or not OTHER_UNIT[0] < ratio < OTHER_UNIT[1]
        facts = {"middle": middle, "expected": expected}
        raise Refusal("no-such-flow", **facts, hint="two-walls" if doubled else "")
    resolution = question.resolution_mm or max(readings.step("wall_mm"), FINEST_MM)
    return [
        Sample(
            rows=readings.rows,
            measured=values,
            known=reading_spread(resolution, math.hypot(question.squeeze_mm, WALL_MM)),
            column="wall_mm",
            present=question.flow,
            goal=expected,
            beside=filament,
        )
    ]


def _sides(one: Measurement, question: FlowQuestion) -> list[Remark]:
    """Whether one side's walls are thicker than another's, beyond chance."""
    sides: dict[str, list[float]] = {}
    for row, good in zip(one.sample.rows, one.keep, strict=True):
        if good and row.words.get("side"):
            sides.setdefault(row.words["side"], []).append(row.value("wall_mm"))
    several = {name: np.array(v) for name, v in sides.items() if len(v) > 1}
    if len(several) < 2:
        return []
    squares = sum(float(np.sum((v - v.mean()) ** 2)) for v in several.values())
    inner = math.sqrt(squares / sum(len(v) - 1 for v in several.values()))
    deviation = one.estimate.deviation
    within = min(max(inner, deviation / 3), deviation)
    thick = max(several, key=lambda s: float(several[s].mean()))
    thin = min(several, key=lambda s: float(several[s].mean()))
    gap = float(several[thick].mean() - several[thin].mean())
    if gap < APART * within / math.sqrt(min(len(several[thick]), len(several[thin]))):
        return []
    return [Remark("sides", thick=thick, thin=thin, gap=gap)]


def _evidence(found: Fitted[FlowQuestion]) -> dict[str, Any]:
    one, beside = found.one, found.one.sample.beside
    at_width = {} if beside is None else {"flow_at_true_width": one.setting * beside.section.value}
    return {
        "best": {"flow": one.best},
        "mean_mm": one.estimate.value,
        "mean_spread_mm": one.estimate.half_width,
        "readings": len(one.keep),
        "left_out": one.left_out,
        "expected_mm": one.sample.goal,
        **({} if beside is None else filament_evidence(beside)),
        **at_width,
    }


def _table(found: Fitted[FlowQuestion]) -> Sequence[Shown]:
    one, beside = found.one, found.one.sample.beside
    good, mean, goal = one.sample.measured[one.keep], one.estimate, f"{one.sample.goal:g} mm"
    span = f"{one.used} of {len(one.keep)}, {good.min():.2f} to {good.max():.2f} mm"
    scatter = f"{np.std(good, ddof=1):.3f} mm"
    rows = [
        ("walls", span),
        ("mean", f"{mean.value:.3f} ± {mean.half_width:.3f} mm, expected {goal}"),
        (
            "one reading",
            f"± {2 * mean.deviation:.3f} mm, by caliper, squeeze and their scatter of {scatter}",
        ),
        ("assumed", f"single walls {goal} wide, steps of the extruder already set"),
    ]
    shown = [Shown(label, (words,)) for label, words in rows]
    if beside is None:
        return shown
    # the walls hold the filament's width already: what is left of the flow without it
    left = digits(one.setting * beside.section.value, one.half_width)
    words = (
        f"the walls hold the width already; with {beside.width_mm.value:.3f} mm entered in the "
        f"slicer the multiplier is {left}"
    )
    return [*shown, *filament_rows(beside), Shown("not twice", (words,))]


FLOW: Measurand[FlowQuestion] = Measurand(
    group="flow",
    key="flow",
    field="flow",
    line="flow",
    title="multiplier",
    unit="1 is 100 %",
    comment="flow multiplier {setting:.4f} ({hundredfold:.1f} %)",
    samples=walls,
    matters=0.04,  # share of plastic that shows on a wall
    unseen="no wall shows that",
    wide="wide-walls",
    large=0.15,
    large_said="large-flow",
    because=(
        "walls of {value:.3f} ± {half:.3f} mm where {goal:g} mm is expected, between {low:+.1%} "
        "and {high:+.1%} of the plastic; {rest}",
        "{formula} = {best:.8g}, from {count:wall}",
    ),
    means=(
        f"walls come out as thick as they were drawn, {AS_MEASURED}",
        "walls are {off:.3f} mm too thick now, by {share:.1%} of the plastic: holes close up and "
        "tops bulge",
        "walls are {off:.3f} mm too thin now, by {share:.1%} of the plastic: walls part and tops "
        "show gaps",
    ),
    again=(
        "nothing to enter; measure again for another filament",
        "fit these readings: `omphalon flow fit`",
        "enter it for this filament, print the cube again and check it: `omphalon flow check "
        "--flow {setting:.4f} --expected {goal:g} --wall MM --wall MM --wall MM`",
    ),
    fewest=3,
    few="few-walls",
    doubts=_sides,
    later=lambda one, question: one.sample.beside.remarks if one.sample.beside else (),
    evidence=_evidence,
    table=_table,
    figure=("Walls against the expected thickness", "wall", "expected"),
)
MEASURE = (
    "Let it cool. Zero the caliper. Measure with the tips' flat part, lightly, away from corners, "
    "seam and first layers.",
    "All four sides, two heights or more: eight readings. Write down each, the odd ones too.",
)


def plan_flow(expected_mm: float, printed: TestPrint | None = None) -> Plan:
    """Say how to print and measure a hollow cube with walls of one line.

    `printed`: the cube, where a file of it is written.
    """
    side = Cube().side_mm
    made = (
        (
            f"Print a hollow cube of {side:g} mm: one wall, line width {expected_mm:g} mm, no top, "
            "flow as it is now, usual temperature and speed. --out FILE writes one.",
        )
        if printed is None
        else (_flow_in_force(printed.job.flow), *print_steps(printed))
    )
    settings: dict[str, float] = {"expected_mm": expected_mm}
    if printed is not None:
        whole = printed.whole
        settings |= {"time_s": whole.time_s, "filament_mm": whole.filament_mm}
    return Plan(
        "flow-plan",
        f"Walls of a hollow cube, one line of {expected_mm:g} mm",
        (
            "Set the extruder's steps first: flow corrects the rest, for one filament.",
            *made,
            *MEASURE,
        ),
        (),
        prose(command("flow fit", flow="F", expected=expected_mm, wall=("MM",) * 3)),
        settings=settings,
        picture=printed,
    )


def _flow_in_force(flow: float) -> str:
    """Who applies the flow that is in force."""
    if flow == 1:
        return "The flow as it is now in the controller: this file has no line for it."
    return (
        f"This file feeds at a flow of {flow:g}, as the slicer does: no line of the controller "
        "may change it."
    )


def cube_print(job: Job, dialect: Dialect) -> TestPrint:
    """The hollow cube as a print.

    `job`: the printer; its line is the wall. Raises UsageError if it does not fit the bed or cannot
    be laid.
    """
    cube = Cube()
    return plain_print(
        f"Hollow cube of {cube.side_mm:g} mm, one wall of {job.width_mm:g} mm",
        job,
        lambda: cube.strokes(job),
        cube.labels(job),
        (
            f"flow: hollow cube of {cube.side_mm:g} mm, one wall of {job.width_mm:g} mm, no floor, "
            "no top",
            "measure its walls with the caliper, all four sides, two heights or more, away from "
            "corners, seam and first layers",
            "the seam is at the rear left corner, the bar on the plate is at the front",
            *(() if job.flow == 1 else (f"fed at a flow of {job.flow:g}",)),
        ),
        dialect.line("acceleration", acceleration=job.acceleration_mm_s2),
    )
