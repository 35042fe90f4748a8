"""Nozzle-to-bed zero, from drag heights and probe trigger heights."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from omphalon.errors import BadReading, UsageError
from omphalon.finding import Finding, Plan, Shown, Warned
from omphalon.physics import scale
from omphalon.studies.answer import Unanswerable
from omphalon.units import Length

Array = NDArray[np.float64]

PAPER_MM = 0.10
FEEL_MM = 0.02  # how alike two drags are felt
LARGE_MM = 0.5


@dataclass(frozen=True)
class ProbePicture:
    """What plots/ draws: drag heights, which were kept, their mean with its interval, the paper."""

    drags_mm: Array
    keep: NDArray[np.bool_]
    deviation_mm: float
    mean_mm: float
    half_width_mm: float
    paper_mm: float


@dataclass(frozen=True)
class ProbeQuestion:
    """The offset now in force (added to a probed height; a positive correction lifts the nozzle), and the paper."""

    offset_mm: float
    paper_mm: float = PAPER_MM
    feel_mm: float = FEEL_MM


def fit_probe(drags: list[Length], triggers: list[Length], question: ProbeQuestion) -> Finding:
    """New offset = offset + mean drag height − paper, with the feel's and the probe's own scatter in its interval."""
    return _answer(drags, triggers, question, "probe-fit")


def check_probe(drags: list[Length], triggers: list[Length], question: ProbeQuestion) -> Finding:
    """Whether the paper now drags at its own thickness, within the error of feel and probe."""
    return _answer(drags, triggers, question, "probe-check")


def _answer(drags: list[Length], triggers: list[Length], question: ProbeQuestion, kind: str) -> Finding:
    if not drags and not triggers:
        raise UsageError("no heights", "give --drag MM for each drag of the paper, and --trigger MM for each probing")
    for name, values in (("drag", drags), ("trigger", triggers)):
        for one in values:
            if abs(one.mm) > 20:
                raise BadReading(f"--{name} {one.written}: no such height", "give mm from the present zero")
    try:
        return _fitted(np.array([d.mm for d in drags]), np.array([t.mm for t in triggers]), question, kind)
    except Unanswerable as refusal:
        return refusal.finding(kind)


def _fitted(drags: Array, triggers: Array, question: ProbeQuestion, kind: str) -> Finding:
    repeat = float(np.std(triggers, ddof=1)) if len(triggers) > 1 else None
    if len(drags) < 2:
        raise Unanswerable(f"{len(drags)} drag height{'s'[:len(drags) != 1]}: the feel of paper differs from time to time",
                           "take three or more with --drag; triggers alone tell only how well the probe repeats")
    feel = scale.Spread(question.feel_mm, 0.0)
    out = scale.strangers(np.ones((len(drags), 1)), drags, 1.5 * question.feel_mm).out
    warnings = [Warned("reading-left-out", f"--drag {d:g} disagrees with its fellows beyond chance") for d in drags[out]]
    good = drags[~out]
    found = scale.mean_of(good, feel)
    shift = found.value - question.paper_mm
    half = math.hypot(found.half_width, 2.04 * (repeat or 0.0) / math.sqrt(max(len(triggers), 1)))
    certain = abs(shift) <= half
    new = question.offset_mm + shift
    if abs(shift) > LARGE_MM:
        warnings.append(Warned("large-correction", f"{shift:+.2f} mm is more than a setting should make up for: move the "
                                                   "sensor instead"))
    if question.offset_mm * new < 0 and abs(question.offset_mm) > 0.2 and not certain:
        warnings.append(Warned("large-correction", "the offset would change its sign: the sensor sits on the wrong side of "
                                                   "the nozzle's height, or a height was written with the wrong sign"))
    if repeat is not None and repeat > 0.05:
        warnings.append(Warned("large-correction", f"the probe repeats to {repeat:.3f} mm only: no zero is better than that"))
    checking, offset = kind.endswith("check"), question.offset_mm if certain else new
    told = "–" if repeat is None else f"{repeat:.3f} mm over {len(triggers)} triggers"
    return Finding(
        kind, "keep" if certain else "change",
        f"paper of {question.paper_mm:g} mm drags at {found.value:.3f} ± {found.half_width:.3f} mm: the zero is "
        + ("where it should be, within its error" if certain else f"off by {shift:+.3f} mm"),
        {} if checking else {"offset_mm": offset}, {} if checking else {"offset_mm": half},
        {"repeatability_mm": repeat, "readings": len(drags), "left_out": int(out.sum()), "shift_mm": shift},
        tuple(warnings), () if certain or checking else (f"; nozzle-to-probe offset {offset:.3f} mm",),
        "nothing to enter" if certain else
        "run omphalon probe fit on these heights" if checking else
        "enter and store the offset, probe again and judge it with fresh drags: omphalon probe check",
        () if checking else (Shown("probe", ("present", "new", "", "")), Shown("offset", (
            f"{question.offset_mm:.3f}", f"{offset:.3f}", f"± {half:.3f}", "mm; more lifts the nozzle"))),
        (Shown("drags", (f"{len(good)} of {len(drags)}, mean {found.value:.3f} mm",)),
         Shown("paper", (f"{question.paper_mm:g} mm",)), Shown("probe repeats to", (told,))),
        ProbePicture(drags, ~out, question.feel_mm, found.value, found.half_width, question.paper_mm))


def plan_probe(paper_mm: float) -> Plan:
    """How to find the zero."""
    return Plan("probe-plan", "Nozzle-to-bed zero with paper and probe", (
        "Heat bed and nozzle as for printing, wait five minutes, wipe the nozzle clean.",
        "Probe the same point ten times and write down the heights: that shows how well the probe repeats.",
        f"At that point lower the nozzle by 0.02 mm at a time onto paper of {paper_mm:g} mm (measure it) until it just drags; "
        "write the height down; lift; do it five times.",
    ), (), "omphalon probe fit --offset MM --drag MM --drag MM … --trigger MM --trigger MM …")
