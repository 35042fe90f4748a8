"""The filament's width, and what it does to the flow. No sentences: `filament_words` has them."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from omphalon.arrays import Array, Mask
from omphalon.errors import BadReading, UsageError
from omphalon.physics import scale
from omphalon.physics.scale import Estimate, Spread, reading_spread
from omphalon.recording import Readings
from omphalon.studies.answer import (
    Oddity,
    Retest,
    Unanswerable,
    Verdict,
    belonging,
    narrow_enough,
)
from omphalon.studies.flow.question import FINEST_MM, FlowQuestion

FEWEST_PLACES = 3
PRESS_MM = 0.005  # how unlike a caliper presses: from reading to reading, and throughout
UNEVEN_MM = 0.015  # how unlike a roll is from place to place: a judgement, until readings tell more
MATTERS = 0.03  # of plastic: what shows on a wall, less what walls have of their own
FURTHEST = 0.2  # of the nominal width: beyond, another filament or another unit
OVAL_MM, CHANGING = 0.05, 0.03  # worth a word: out of round; plastic from place to place, a share


@dataclass(frozen=True, kw_only=True)
class Filament:
    """Filament measured at places along the roll, in two directions each.

    `across_mm`: (n, 2), the readings; `kept`: (n,), the places that belong; `width_mm`: the width
    of a round filament of the same section, with its interval; `section`: that section over the
    nominal one, with its interval; `oval_mm`: the usual difference of a place's two directions;
    `along`: the deviation of the section from place to place, as a share.
    """

    across_mm: Array
    kept: Mask
    nominal_mm: float
    width_mm: Estimate
    section: Estimate
    oval_mm: float
    along: float
    oddities: tuple[Oddity, ...]


@dataclass(frozen=True, kw_only=True)
class WidthFit:
    """The flow that makes up for the filament's width, where no walls were measured."""

    filament: Filament
    flow: float
    half_width: float
    verdict: Verdict

    @property
    def oddities(self) -> tuple[Oddity, ...]:
        """Of the readings, and that walls would tell the whole."""
        return (*self.filament.oddities, Oddity("width-only", "width-only", {}))


def fit_width(readings: Readings, question: FlowQuestion) -> WidthFit | Retest:
    """Find the flow that makes up for a filament wider or thinner than the slicer believes.

    Parameters
    ----------
    readings : rows with diameter_mm, two for each place
    question : the present multiplier, the nominal width, the caliper

    Returns
    -------
    WidthFit
        New flow = flow × (nominal ÷ width)².
    Retest
        Where the readings cannot carry an answer.

    Raises
    ------
    UsageError, BadReading
        If readings are missing or cannot be.
    """
    try:
        found = measured(readings, question)
        changed = found.section.tells(1.0)
        if not changed:
            count = 2 * int(found.kept.sum())
            narrow_enough(found.section, MATTERS, count, found.oddities)
    except Unanswerable as refusal:
        return refusal.retest
    new = question.flow / found.section.value
    return WidthFit(
        filament=found,
        flow=new if changed else question.flow,
        half_width=new * found.section.half_width / found.section.value,
        verdict="change" if changed else "keep",
    )


def measured(readings: Readings, question: FlowQuestion) -> Filament:
    """The filament's section against the nominal one, its roundness, its change along the roll.

    Parameters
    ----------
    readings : rows with diameter_mm, two for each place, one after the other
    question : the nominal width and the caliper

    Raises
    ------
    Unanswerable
        If there are too few places, or no filament is so wide.
    UsageError, BadReading
        If a place has one reading only, or there are none.

    Notes
    -----
    An oval's section is π/4 times the product of its two widths, so a place counts with their
    product; the places' mean is what the extruder feeds over a length of the roll.
    """
    across = _pairs(readings)
    nominal = question.nominal_mm
    middle = float(np.median(across))
    if abs(middle / nominal - 1) > FURTHEST:
        raise Unanswerable("no-such-width", middle=middle, nominal=nominal)
    if len(across) < FEWEST_PLACES:
        raise Unanswerable("few-places", count=len(across), fewest=FEWEST_PLACES)
    resolution = question.resolution_mm or max(readings.step("diameter_mm"), FINEST_MM)
    reading = reading_spread(resolution, PRESS_MM)
    kept, odd = _belonging(readings, across, math.hypot(reading.whole, UNEVEN_MM))
    good = across[kept]
    sections = good.prod(axis=1) / nominal**2
    # a product of two readings is off by both: its share is that of a width times √2; what the
    # caliper rounds alike, and how hard a hand presses it, are not averaged away
    share = math.sqrt(2) * math.hypot(reading.random, math.sqrt(2) * UNEVEN_MM) / nominal
    section = scale.mean_of(
        sections, Spread(share, 2 * math.hypot(reading.common, PRESS_MM) / nominal)
    )
    width = nominal * math.sqrt(section.value)
    oval = float(np.median(np.abs(np.diff(good, axis=1))))
    along = float(np.std(sections, ddof=1))
    return Filament(
        across_mm=across,
        kept=kept,
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
        oddities=(*odd, *_odd(oval, along)),
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


def _belonging(readings: Readings, across: Array, known: float) -> tuple[Mask, tuple[Oddity, ...]]:
    """Which places belong: a place with a reading that does not is left out."""
    kept = belonging(
        np.ones((across.size, 1)),
        across.ravel(),
        known,
        [row.where for row in readings.rows],
        [row.numbers["diameter_mm"] for row in readings.rows],
    )
    both = kept.keep.reshape(-1, 2)
    return np.logical_and(both[:, 0], both[:, 1]), kept.oddities


def _odd(oval_mm: float, along: float) -> list[Oddity]:
    odd = []
    if oval_mm > OVAL_MM:
        odd.append(Oddity("filament-oval", "oval", {"oval": oval_mm}))
    if along > CHANGING:
        odd.append(Oddity("filament-uneven", "uneven", {"along": along}))
    return odd
