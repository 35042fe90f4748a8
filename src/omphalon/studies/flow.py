"""Flow multiplier, from measured wall thicknesses."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from omphalon.bench.dialect import Dialect
from omphalon.errors import UsageError
from omphalon.finding import Finding, Plan, Shown, Warned, digits
from omphalon.physics import scale
from omphalon.recording import Readings
from omphalon.studies.answer import Unanswerable, belonging, lines_for, positive

Array = NDArray[np.float64]

COLUMNS = ("wall_mm",)
WORDS = ("side",)
SQUEEZE_MM = 0.01  # how much a caliper presses a thin wall together, give or take
FEWEST = 3
LARGE = 0.15


@dataclass(frozen=True)
class FlowQuestion:
    """The present multiplier, the wall that should come out, and how finely was read."""

    flow: float
    expected_mm: float
    resolution_mm: float | None = None
    squeeze_mm: float = SQUEEZE_MM


@dataclass(frozen=True)
class FlowPicture:
    """What plots/ draws."""

    walls_mm: Array
    keep: NDArray[np.bool_]
    deviation_mm: float
    mean_mm: float
    half_width_mm: float
    expected_mm: float


def fit_flow(readings: Readings, question: FlowQuestion, dialect: Dialect) -> Finding:
    """New flow = flow × expected ÷ mean wall; walls that do not belong by the median are shown and left out."""
    return _answer(readings, question, dialect, "flow-fit")


def check_flow(readings: Readings, question: FlowQuestion, dialect: Dialect) -> Finding:
    """Whether the walls now come out as thick as they should, within the caliper's error."""
    return _answer(readings, question, dialect, "flow-check")


def _answer(readings: Readings, question: FlowQuestion, dialect: Dialect, kind: str) -> Finding:
    if not readings.has("wall_mm"):
        raise UsageError("no wall thicknesses", "give --wall MM once for each, or a column wall_mm")
    walls = np.array([r.mm("wall_mm") for r in readings.rows])
    for row, wall in zip(readings.rows, walls, strict=True):
        positive(float(wall), row.where, "wall")
    try:
        return _fitted(walls, readings, question, dialect, kind)
    except Unanswerable as refusal:
        return refusal.finding(kind)


def _fitted(walls: Array, readings: Readings, question: FlowQuestion, dialect: Dialect, kind: str) -> Finding:
    ratio = float(np.median(walls)) / question.expected_mm
    if not 0.5 < ratio < 2.0:
        hint = " (two walls for one, or the wrong unit?)" if 1.9 < ratio < 2.1 or ratio > 8 or ratio < 0.12 else ""
        raise Unanswerable(f"walls of {np.median(walls):.2f} mm where {question.expected_mm:g} mm is expected{hint}: no "
                           "flow is that far off", "check --expected (the width of one line) and the caliper's unit")
    if len(walls) < FEWEST:
        raise Unanswerable(f"{len(walls)} wall reading{'s'[:len(walls) != 1]}: a wall differs from place to place more than "
                           "a caliper reads", "measure all four sides, in two heights")
    resolution = question.resolution_mm or max(readings.step_mm("wall_mm"), 0.01)
    caliper = scale.reading_spread(resolution, question.squeeze_mm, 1)
    scatter = 1.4826 * float(np.median(np.abs(walls - np.median(walls))))
    kept = belonging(np.ones((len(walls), 1)), walls, max(caliper.whole, scatter), [r.where for r in readings.rows],
                     [r.numbers["wall_mm"] for r in readings.rows])
    good = walls[kept.keep]
    found = scale.mean_of(good, caliper)
    new = question.flow * question.expected_mm / found.value
    half = new * found.half_width / found.value
    certain = not found.tells(question.expected_mm)
    checking = kind.endswith("check")
    warnings = [*kept.warnings, *_sides(readings, kept.keep, caliper.whole)]
    if abs(new / question.flow - 1) > LARGE and not certain:
        warnings.append(Warned("large-correction", f"{abs(new / question.flow - 1):.0%} is much for flow: set the steps of "
                                                   "the extruder first"))
    flow = question.flow if certain else new
    because = (f"walls of {found.value:.3f} ± {found.half_width:.3f} mm hold the expected {question.expected_mm:g} mm within "
               "their error" if certain else
               f"{question.flow:g} × {question.expected_mm:g} ÷ {found.value:.8g} = {new:.8g}, from {len(good)} walls")
    table = (Shown("walls", (f"{len(good)} of {len(walls)}, {good.min():.2f} to {good.max():.2f} mm",)),
             Shown("mean", (f"{found.value:.3f} ± {found.half_width:.3f} mm, expected {question.expected_mm:g} mm",)),
             Shown("one reading", (f"± {2 * caliper.whole:.3f} mm by caliper and squeeze, scatter {np.std(good):.3f} mm",)),
             Shown("assumed", (f"single walls {question.expected_mm:g} mm wide, steps of the extruder already set",)))
    return Finding(
        kind, "keep" if certain else "change", because, {} if checking else {"flow": flow},
        {} if checking else {"flow": half},
        {"mean_mm": found.value, "mean_spread_mm": found.half_width, "readings": len(walls),
         "left_out": [r.where for r, k in zip(readings.rows, kept.keep, strict=True) if not k],
         "expected_mm": question.expected_mm},
        tuple(warnings), () if certain or checking else lines_for(
            dialect, "flow", f"flow multiplier {new:.4f} ({100 * new:.1f} %)", flow=new),
        "nothing to enter; measure again for another filament" if certain else
        "run omphalon flow fit on these readings" if checking else
        "enter it for this filament, print the cube again and judge it: omphalon flow check",
        () if checking else (Shown("flow", ("present", "new", "", "")), Shown("multiplier", (
            f"{question.flow:g}", digits(flow, half), "± " + digits(half, least=2), "1 is 100 %"))), table,
        FlowPicture(walls, kept.keep, caliper.whole, found.value, found.half_width, question.expected_mm))


def _sides(readings: Readings, keep: NDArray[np.bool_], caliper: float) -> list[Warned]:
    """Whether one side's walls are thicker than another's, beyond three deviations of their means."""
    sides: dict[str, list[float]] = {}
    for row, good in zip(readings.rows, keep, strict=True):
        if good and "side" in row.words:
            sides.setdefault(row.words["side"], []).append(row.mm("wall_mm"))
    means = {name: (float(np.mean(v)), len(v)) for name, v in sides.items() if len(v) > 1}
    if len(means) < 2:
        return []
    thick, thin = max(means, key=lambda s: means[s][0]), min(means, key=lambda s: means[s][0])
    gap = means[thick][0] - means[thin][0]
    if gap < 4 * caliper / min(means[thick][1], means[thin][1]) ** 0.5:
        return []
    return [Warned("walls-differ", f"the walls of side {thick} are {gap:.3f} mm thicker than those of side {thin}")]


def plan_flow(expected_mm: float, dialect: Dialect) -> Plan:
    """How to print and measure the hollow cube."""
    return Plan("flow-plan", f"Walls of a hollow cube, one line of {expected_mm:g} mm", (
        "Set the extruder's steps first: flow corrects what is left, for one filament.",
        f"Print a hollow cube of 30 mm: one wall, line width {expected_mm:g} mm, no top, flow as it is now, usual "
        "temperature and speed.",
        "Let it cool. Zero the caliper. Measure with the tips' flat part, lightly, away from corners, seam and first layers.",
        "All four sides, two heights or more: eight readings. Write down each, the odd ones too.",
    ), (), f"omphalon flow fit --flow F --expected {expected_mm:g} --wall MM --wall MM …", settings={"expected_mm": expected_mm})
