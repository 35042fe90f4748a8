"""The filament's width, and what it does to the flow: alone a quantity of its own, beside walls
what part of their correction is the filament's.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from omphalon.answers.finding import Shown
from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.arrays import Array, Mask
from omphalon.base.errors import BadReading, UsageError
from omphalon.physics import scale
from omphalon.physics.scale import Estimate, Spread, reading_spread
from omphalon.recordings.recording import Readings
from omphalon.studies.measured.engine import Fitted, Measurand, Sample, belonging
from omphalon.studies.measured.words import AS_MEASURED
from omphalon.tables.constants import FILAMENT_MM
from omphalon.tables.units import plural

SQUEEZE_MM = 0.01  # how unlike a caliper presses a thin wall, give or take; a judgement
FINEST_MM = 0.01  # that a caliper reads to


@dataclass(frozen=True, kw_only=True)
class FlowQuestion:
    """The present multiplier, the wall that should come out (None: no walls were measured), how
    finely was read, how a caliper squeezes, the filament's width as the slicer believes it, and
    its widths where they were measured beside walls.
    """

    flow: float
    expected_mm: float | None = None
    resolution_mm: float | None = None
    squeeze_mm: float = SQUEEZE_MM
    nominal_mm: float = FILAMENT_MM
    widths: Readings | None = None

    @property
    def wall_mm(self) -> float:
        """The wall that should come out; a UsageError where it was not given."""
        if self.expected_mm is None:
            raise UsageError("no --expected", "give the thickness a wall should have")
        return self.expected_mm


FEWEST_PLACES = 3  # that tell how a roll changes
PRESS_MM = 0.005  # how unlike a caliper presses: from reading to reading, and throughout
UNEVEN_MM = 0.015  # how unlike a roll is from place to place: a judgement, until readings tell more
FURTHEST = 0.2  # of the nominal width: beyond, another filament or another unit
OVAL_MM, CHANGING = 0.05, 0.03  # worth a word: out of round; plastic from place to place, a share


@dataclass(frozen=True, kw_only=True)
class Filament:
    """Filament measured at places along the roll, in two directions each.

    `across_mm`: (n, 2), the readings; `kept`: (n,), the places that belong; `sections`: (n,), over
    the nominal one; `known` of one of these; `width_mm`: the width of a round filament of the same
    section, with its interval; `section`: that section over the nominal one; `oval_mm`: the usual
    difference of a place's two directions; `along`: the deviation of the section from place to
    place, as a share.
    """

    across_mm: Array
    kept: Mask
    sections: Array
    known: Spread
    nominal_mm: float
    width_mm: Estimate
    section: Estimate
    oval_mm: float
    along: float
    remarks: tuple[Remark, ...]


def measured_filament(readings: Readings, question: FlowQuestion) -> Filament:
    """The filament's section against the nominal one, its roundness, its change along the roll.

    Parameters
    ----------
    readings : rows with diameter_mm, two for each place, one after the other
    question : the nominal width and the caliper

    Raises
    ------
    Refusal
        If there are too few places, or no filament is so wide.
    UsageError, BadReading
        If a place has one reading only, or there are none.

    Notes
    -----
    An oval's section is π/4 times the product of its two widths, so a place counts with their
    product; the places' mean is what the extruder feeds over a length of the roll.
    """
    across, nominal = _pairs(readings), question.nominal_mm
    middle = float(np.median(across))
    if abs(middle / nominal - 1) > FURTHEST:
        raise Refusal("no-such-width", middle=middle, nominal=nominal)
    if len(across) < FEWEST_PLACES:
        raise Refusal("few-places", count=len(across), fewest=FEWEST_PLACES)
    resolution = question.resolution_mm or max(readings.step("diameter_mm"), FINEST_MM)
    reading = reading_spread(resolution, PRESS_MM)
    unlike = Spread(math.hypot(reading.whole, UNEVEN_MM), 0.0)
    ones = np.ones((across.size, 1))
    each, odd = belonging(ones, across.ravel(), readings.rows, "diameter_mm", unlike)
    # a place with a reading that does not belong is left out
    kept = np.logical_and(*each.reshape(-1, 2).T)
    good, sections = across[kept], across.prod(axis=1) / nominal**2
    # a product of two readings is off by both: its share is that of a width times √2; what the
    # caliper rounds alike, and how hard a hand presses it, are not averaged away
    share = math.sqrt(2) * math.hypot(reading.random, math.sqrt(2) * UNEVEN_MM) / nominal
    known = Spread(share, 2 * math.hypot(reading.common, PRESS_MM) / nominal)
    section = scale.mean_of(sections[kept], known)
    width = nominal * math.sqrt(section.value)
    oval = float(np.median(np.abs(np.diff(good, axis=1))))
    along = float(np.std(sections[kept], ddof=1))
    if oval > OVAL_MM:
        odd.append(Remark("oval", oval=oval))
    if along > CHANGING:
        odd.append(Remark("uneven", along=along))
    return Filament(
        across_mm=across,
        kept=kept,
        sections=sections,
        known=known,
        nominal_mm=nominal,
        width_mm=Estimate(
            width,
            width * section.half_width / (2 * section.value),
            section.deviation * nominal / 2,
            section.freedom,
        ),
        section=section,
        oval_mm=oval,
        along=along,
        remarks=tuple(odd),
    )


def _pairs(readings: Readings) -> Array:
    """The two directions of each place, (n, 2)."""
    if not readings.rows:
        raise UsageError("no filament widths", "give --diameter MM twice for each place")
    values = [row.value("diameter_mm") for row in readings.rows]
    if len(values) % 2:
        last = readings.rows[-1]
        raise BadReading(
            f"{last.where}: {len(values)} widths, and each place needs two directions",
            "measure that place across as well, or take it out",
        )
    return np.array(values).reshape(-1, 2)


def _section(readings: Readings, question: FlowQuestion) -> Sequence[Sample]:
    one = measured_filament(readings, question)
    return [
        Sample(
            rows=readings.rows[::2],
            measured=one.sections,
            known=one.known,
            column="diameter_mm",
            present=question.flow,
            among=one.kept,
            settled=True,
            each=2,
            remarks=one.remarks,
            beside=one,
            shown=(one.across_mm.ravel(), one.kept.repeat(2), one.nominal_mm, one.width_mm),
        )
    ]


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
    plastic = f"{abs(more):.1%} {'more' if more > 0 else 'less'} plastic"
    return (
        Shown(
            "filament",
            (
                f"{width.value:.3f} ± {width.half_width:.3f} mm, nominal {one.nominal_mm:g}: "
                f"{plastic}",
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


def _evidence(found: Fitted[FlowQuestion]) -> dict[str, Any]:
    one: Filament = found.one.sample.beside
    return {"mean_mm": None, "readings": one.across_mm.size, **filament_evidence(one)}


WIDTH_OF = "{beside.width_mm.value:.3f}"
CHANGES = "{beside.along:.1%} comes and goes along the roll"
WIDTH: Measurand[FlowQuestion] = Measurand(
    group="flow",
    key="flow",
    field="flow",
    line="flow",
    title="multiplier",
    unit="1 is 100 %",
    comment="flow multiplier {setting:.4f} ({hundredfold:.1f} %)",
    samples=_section,
    unseen="no wall shows that",
    matters=0.03,  # of plastic: what shows on a wall, less what walls have of their own
    wide="wide-width",
    large=math.inf,
    large_said="",
    because=(
        f"a width of {WIDTH_OF} ± {{beside.width_mm.half_width:.3f}} mm where "
        "{beside.nominal_mm:g} mm is nominal: between {low:+.1%} and {high:+.1%} of the plastic; "
        "{rest}",
        "{present:g} × ({beside.nominal_mm:g} ÷ {beside.width_mm.value:.6g})² = {best:.6g}, from "
        "{count:place}",
    ),
    means=(
        f"each metre holds as much plastic as the slicer believes, {AS_MEASURED}; {CHANGES}",
        f"each metre holds {{off:.1%}} more plastic than the slicer believes; {CHANGES}",
        f"each metre holds {{off:.1%}} less plastic than the slicer believes; {CHANGES}",
    ),
    again=(
        "nothing to enter; measure the walls of a cube for the whole of it",
        "",
        f"enter it, or {WIDTH_OF} mm as the filament's width in the slicer: not both; then print a "
        "cube and measure its walls: `omphalon flow plan`",
    ),
    later=lambda one, question: [Remark("by-width")],
    evidence=_evidence,
    table=lambda found: filament_rows(found.one.sample.beside),
    figure=("The filament's width against its nominal one", "width", "nominal"),
)
