"""What is asked of the probe, and which heights may answer it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from omphalon.arrays import Array
from omphalon.recording import Readings
from omphalon.studies.answer import no_readings

PAPER_MM = 0.10
FEEL_MM = 0.02  # how alike two drags are felt


@dataclass(frozen=True, kw_only=True)
class ProbeQuestion:
    """The offset now in force (added to a probed height; a positive correction lifts the nozzle),
    and the paper.
    """

    offset_mm: float
    paper_mm: float = PAPER_MM
    feel_mm: float = FEEL_MM


@dataclass(frozen=True, kw_only=True)
class Heights:
    """Drag heights (n,) and trigger heights (m,) in mm, and where each drag was told."""

    drags_mm: Array
    triggers_mm: Array
    where: tuple[str, ...]


def heights(readings: Readings) -> Heights:
    """The heights of a file or of options; drags and triggers need not be as many.

    Raises
    ------
    UsageError
        If there are none.
    """
    drags = [r for r in readings.rows if "drag_mm" in r.numbers]
    triggers = [r for r in readings.rows if "trigger_mm" in r.numbers]
    if not drags and not triggers:
        no_readings(
            "no heights",
            "give --drag MM for each drag of the paper, and --trigger MM for each probing",
        )
    return Heights(
        drags_mm=np.array([r.value("drag_mm") for r in drags]),
        triggers_mm=np.array([r.value("trigger_mm") for r in triggers]),
        where=tuple(
            r.where if "row" in r.where else f"--drag {r.numbers['drag_mm'].written}" for r in drags
        ),
    )
