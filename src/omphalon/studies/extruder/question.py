"""What is asked of the extruder, and which readings may answer it."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from omphalon.arrays import Array
from omphalon.columns import EXTRUDER
from omphalon.errors import BadReading
from omphalon.physics.scale import Spread, reading_spread
from omphalon.recording import Reading, Readings
from omphalon.studies.answer import no_readings, refuse_gaps

PLACING_MM = 0.3  # deviation of a mark placed, or met, by hand; measured: docs/measuring.md
BY_EYE_MM = 0.1  # of a flag or a cut end held against an edge by eye
FINEST_MM = 0.01


@dataclass(frozen=True, kw_only=True)
class DriveParts:
    """What the parts make of it: full steps a turn, microsteps, gear ratio, hob diameter of the
    drive wheel.
    """

    motor_steps: float
    microsteps: float
    gear: float
    wheel_mm: float

    @property
    def steps_per_mm(self) -> float:
        """Motor steps × microsteps × gear ÷ (π × diameter)."""
        return self.motor_steps * self.microsteps * self.gear / (math.pi * self.wheel_mm)


@dataclass(frozen=True, kw_only=True)
class ExtruderQuestion:
    """The present steps per mm, how finely was read, how well a mark is placed, and the parts if
    known.
    """

    steps: float
    resolution_mm: float | None = None
    placing_mm: float = PLACING_MM
    parts: DriveParts | None = None


@dataclass(frozen=True, kw_only=True)
class Way:
    """A way of measuring what was fed: its columns, their sign in the fed length, whether a mark
    was placed for it.
    """

    columns: tuple[str, ...]
    signs: tuple[float, ...]
    marked: bool


WAYS = (
    Way(columns=("fed_mm",), signs=(1.0,), marked=False),
    Way(columns=("before_mm", "after_mm"), signs=(1.0, -1.0), marked=False),
    Way(columns=("mark_mm", "left_mm"), signs=(1.0, -1.0), marked=True),
)


@dataclass(frozen=True, kw_only=True)
class FedRuns:
    """Runs ready for a fit: asked and fed (n,) in mm, what is known of one, their rows, and the
    column read last.
    """

    asked_mm: Array
    fed_mm: Array
    known: Spread
    rows: tuple[Reading, ...]
    way: Way

    @property
    def read_column(self) -> str:
        """The column whose number a slip of the pen would be in."""
        return self.way.columns[-1]


def fed_runs(readings: Readings, question: ExtruderQuestion) -> FedRuns:
    """Fed lengths, and what is known of one: two readings of the rule, two settings of a mark or an
    edge.

    Raises
    ------
    UsageError, BadReading
        If something is missing, or a length cannot be one.
    """
    refuse_gaps(readings, "asked_mm", *(c.name for c in EXTRUDER))
    if not readings.has("asked_mm"):
        no_readings("no asked length for every reading", "give --asked MM, or a column asked_mm")
    ways = [w for w in WAYS if readings.has(*w.columns)]
    if not ways:
        no_readings("no fed lengths", "give --mark with --left, --before with --after, or --fed")
    if len(ways) > 1:
        no_readings(
            f"fed lengths told twice, by {ways[0].columns[-1]} and {ways[1].columns[-1]}",
            "give one way of measuring",
        )
    way = ways[0]
    fed = np.array(
        [
            sum(s * r.value(c) for s, c in zip(way.signs, way.columns, strict=True))
            - (r.value("back_mm") if "back_mm" in r.numbers else 0.0)
            for r in readings.rows
        ]
    )
    for row, length in zip(readings.rows, fed, strict=True):
        if not length > 0:
            raise BadReading(
                f"{row.where}: the fed length {length:g} is not above 0", "measure again, in mm"
            )
    resolution = question.resolution_mm or max(readings.step(*way.columns), FINEST_MM)
    placing = question.placing_mm if way.marked else BY_EYE_MM
    return FedRuns(
        asked_mm=np.array([r.value("asked_mm") for r in readings.rows]),
        fed_mm=fed,
        known=reading_spread(resolution, placing, ends=2, placings=2),
        rows=readings.rows,
        way=way,
    )
