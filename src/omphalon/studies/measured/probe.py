"""Nozzle-to-bed zero, from drag heights of paper and trigger heights of the probe; and how to find
it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from omphalon.answers.commands import command, prose
from omphalon.answers.finding import Plan, Shown
from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.errors import UsageError
from omphalon.physics.scale import Spread, student_95
from omphalon.recordings.recording import Readings
from omphalon.studies.measured.engine import Fitted, Measurand, Measurement, Sample

PAPER_MM = 0.10  # of office paper
FEEL_MM = 0.02  # how alike two drags are felt; a judgement
FURTHEST_MM = 5.0  # a first guess by eye is nearer than that
UNSTEADY_MM = 0.05  # a quarter of a first layer
BELOW_MM = 0.15  # a trigger further below the zero than any scatter
FAR_MM = 0.2  # an offset that is larger sits clearly on one side of the nozzle
FIRST_LAYER_MM = 0.2  # an example


@dataclass(frozen=True, kw_only=True)
class ProbeQuestion:
    """The offset now in force, whether a larger one lifts the nozzle or lowers it (None: nobody
    says; where it is below 0, as usual, it lifts), and the paper.
    """

    offset_mm: float
    larger: str | None = None
    paper_mm: float = PAPER_MM
    feel_mm: float = FEEL_MM


@dataclass(frozen=True)
class Triggers:
    """How the probe repeats: the deviation of its trigger heights (None: not tried), their count,
    their mean (None: none), and the half width of its interval.
    """

    repeatability_mm: float | None
    count: int
    mean_mm: float | None
    half_width: float


def drags(readings: Readings, question: ProbeQuestion) -> Sequence[Sample]:
    """The drags, and what the probe's own scatter does to their goal; drags and triggers need not
    be as many.

    Raises UsageError if there are none.
    """
    felt = [r for r in readings.rows if "drag_mm" in r.numbers]
    probed = [r.value("trigger_mm") for r in readings.rows if "trigger_mm" in r.numbers]
    if not felt and not probed:
        raise UsageError(
            "no heights",
            "give --drag MM for each drag of the paper, and --trigger MM for each probing",
        )
    mean = float(np.mean(probed)) if probed else None
    triggers = Triggers(None, len(probed), mean, 0.0)
    if len(probed) > 1:
        repeat = float(np.std(probed, ddof=1))
        half = student_95(len(probed) - 1) * repeat / math.sqrt(len(probed))
        triggers = Triggers(repeat, len(probed), mean, half)
    larger = question.larger
    if larger is None and question.offset_mm > FAR_MM:
        raise Refusal("offset-way", offset=question.offset_mm)
    return [
        Sample(
            rows=tuple(felt),
            way=-1.0 if larger == "lowers" else 1.0,
            measured=np.array([r.value("drag_mm") for r in felt]),
            known=Spread(question.feel_mm, 0.0),
            column="drag_mm",
            present=question.offset_mm,
            goal=question.paper_mm,
            extra_half=triggers.half_width,
            beside=triggers,
        )
    ]


def _doubts(one: Measurement, question: ProbeQuestion) -> list[Remark]:
    shift, repeat = one.best - one.sample.present, one.sample.beside.repeatability_mm
    unsteady = repeat is not None and repeat > UNSTEADY_MM
    odd = [Remark("unsteady", repeat=repeat)] if unsteady else []
    mean = one.sample.beside.mean_mm
    if mean is not None and mean < -BELOW_MM:
        odd.append(Remark("triggers-below", mean=-mean))
    if abs(shift) > FURTHEST_MM:
        raise Refusal("far", odd, shift=shift)
    return odd


def _sign(one: Measurement, question: ProbeQuestion) -> list[Remark]:
    present = one.sample.present
    changes = one.verdict == "change" and present * one.best < 0 and abs(present) > FAR_MM
    return [Remark("sign-changes")] if changes else []


def _evidence(found: Fitted[ProbeQuestion]) -> dict[str, Any]:
    one = found.one
    return {
        "repeatability_mm": one.sample.beside.repeatability_mm,
        "readings": len(one.keep),
        "left_out": len(one.left_out),
        "shift_mm": one.best - one.sample.present,
        "best": {"offset_mm": one.best},
    }


def _table(found: Fitted[ProbeQuestion]) -> Sequence[Shown]:
    one, triggers = found.one, found.one.sample.beside
    repeat = triggers.repeatability_mm
    repeats = () if repeat is None else (f"{repeat:.3f} mm over {triggers.count} triggers",)
    mean = f"{one.used} of {len(one.keep)}, mean {one.estimate.value:.3f} mm"
    return (
        Shown("drags", (mean,)),
        Shown("paper", (f"{one.sample.goal:g} mm",)),
        *(Shown("probe repeats to", (words,)) for words in repeats),
    )


def _room(one: Measurement) -> dict[str, object]:
    """What is left of a first layer, and which way the nozzle is to go."""
    off = one.estimate.value - one.sample.goal
    room = max(FIRST_LAYER_MM - off, 0.0)
    larger = " --larger lowers" if one.sample.way < 0 else ""
    larger = " --larger lifts" if not larger and one.sample.present > FAR_MM else larger
    return {"room": room, "higher": "higher" if off > 0 else "lower", "larger": larger}


DRAGS = "paper of {goal:g} mm drags at {value:.3f} ± {half:.3f} mm"
ROOM = f"a first layer of {FIRST_LAYER_MM:g} mm has {{room:.2f}} mm of room now"
PROBE: Measurand[ProbeQuestion] = Measurand(
    group="probe",
    key="probe-offset",
    field="offset",
    line="",
    title="offset",
    unit="mm",
    comment="nozzle-to-probe offset {setting:.3f} mm",
    samples=drags,
    unseen="no first layer shows that",
    matters=0.06,  # mm of a first layer of 0.2: less squeezes or lifts it by less than a third
    wide="wide-zero",
    large=0.5,
    large_said="large-zero",
    because=(
        f"{DRAGS}: the zero is off by {{low:+.3f}} to {{high:+.3f}} mm; {{rest}}",
        f"{DRAGS}: the zero is off by {{shift:+.3f}} mm, so the nozzle will stand "
        "{off:.2f} mm {higher} than now",
    ),
    means=(
        "a first layer is as thick as it was sliced, as far as these readings tell ({low:+.2f} to "
        "{high:+.2f} mm)",
        f"{ROOM}: it is squeezed",
        f"{ROOM}: it hardly sticks",
    ),
    again=(
        "nothing to enter",
        "fit these heights: `omphalon probe fit`",
        "enter and store the offset, probe again and check it with fresh drags: `omphalon probe "
        "check --offset {setting:.3f}{larger} --paper {goal:g} --drag MM --drag MM --drag MM`",
    ),
    facts=_room,
    shifts=True,
    fewest=2,
    few="few-drags",
    doubts=_doubts,
    later=_sign,
    evidence=_evidence,
    table=_table,
    figure=("Where the paper drags, against its thickness", "height", "paper"),
)


def plan_probe(paper_mm: float) -> Plan:
    """Say how to find the zero with paper and probe."""
    return Plan(
        "probe-plan",
        "Nozzle-to-bed zero with paper and probe",
        (
            "Heat bed and nozzle as for printing, wait five minutes, wipe the nozzle clean.",
            "Probe the same point ten times and write down the heights: that shows how well the "
            "probe repeats.",
            f"At that point lower the nozzle by 0.02 mm at a time onto paper of {paper_mm:g} mm "
            "(measure it) until it just drags; write the height down; lift; do it five times.",
        ),
        (),
        prose(
            command("probe fit", offset="MM", paper=paper_mm, drag=("MM",) * 3, trigger=("MM",) * 2)
        ),
    )
