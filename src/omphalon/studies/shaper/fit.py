"""Shaper, frequency, damping and acceleration from the modes of one or both axes. No sentences."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from omphalon.answers.finding import Verdict
from omphalon.answers.remarks import Refusal, Remark, each_once
from omphalon.base.arrays import Array
from omphalon.physics.resonance import Mode
from omphalon.physics.shaping import (
    Candidate,
    Limits,
    allowed,
    at_setting,
    between,
    candidates,
    pick,
    unshaped,
)
from omphalon.recordings.recording import MotionLog
from omphalon.studies.shaper.modes import AxisReading, from_ripples, read_log
from omphalon.studies.shaper.question import AXES, ShaperQuestion
from omphalon.tables.constants import NORMAL_95

KEEPS = 0.97  # of the best: a present setting that allows so much stays
DRIFT_OF_PLACES = 0.03  # of a mode between days, where places were measured: benchmarks/places.py
DRAWS = 40  # of what the modes may be
CURVE_HZ = (15.0, 130.0, 0.5)  # of a figure
ROUNDED_FROM, ROUNDED_MM_S2 = 100.0, 10.0  # accelerations above are given in tens
LEAST_SHARE, DAMPINGS = 1e-3, (1e-3, 0.5)  # that a draw is held to


@dataclass(frozen=True, kw_only=True)
class PlaceChoice:
    """One of several places of an axis: how it was read, what the pick for all of them allows
    there, and the best for that place alone.
    """

    label: str
    reading: AxisReading
    allowed_mm_s2: float
    alone: Candidate

    @property
    def main(self) -> Mode:
        """The mode that rings most."""
        return max(self.reading.modes, key=lambda m: m.share / m.frequency_hz**2)


@dataclass(frozen=True, kw_only=True)
class AxisChoice:
    """One axis: how it was read, the candidates, the pick, what the present setting allows, and
    what no shaper would; of several `places`, `reading` is of the one that allows least.
    """

    reading: AxisReading
    places: tuple[PlaceChoice, ...] = ()
    limits: Limits
    found: tuple[Candidate, ...]
    chosen: Candidate
    kept: bool
    present: Candidate | None
    bare_mm_s2: float

    @property
    def in_force(self) -> Candidate:
        """What is to be set: the pick, or the present setting where it is kept."""
        return self.present if self.kept and self.present is not None else self.chosen

    def curves(self) -> tuple[Array, dict[str, Array]]:
        """Each shaper's allowed acceleration over its frequency (k,), for a figure."""
        grid = np.arange(*CURVE_HZ)
        places = [p.reading.modes for p in self.places]
        every = [*places, *between(places)] if places else [self.reading.modes]
        return grid, {
            c.shaper: np.min(
                [allowed(c.shaper, m, self.limits, grid, c.damping)[0] for m in every], axis=0
            )
            for c in self.found
        }

    @property
    def cost(self) -> float:
        """The share of acceleration that one shaper for all places costs against one for each."""
        best = min((p.alone.acceleration_mm_s2 for p in self.places), default=0.0)
        return max(1 - self.in_force.acceleration_mm_s2 / best, 0.0) if best else 0.0

    @property
    def main(self) -> Mode:
        """The mode that rings most."""
        return max(self.reading.modes, key=lambda m: m.share / m.frequency_hz**2)

    @property
    def frequency_half_hz(self) -> float:
        """Half width of the shaper's frequency: the main mode's, in proportion."""
        return self.in_force.frequency_hz * self.main.frequency_half_hz / self.main.frequency_hz


@dataclass(frozen=True, kw_only=True)
class ShaperFit:
    """The picks of all axes, the acceleration that they share with its half width, what was odd."""

    axes: tuple[AxisChoice, ...]
    acceleration_mm_s2: float
    half_width_mm_s2: float
    remarks: tuple[Remark, ...]

    @property
    def slow(self) -> AxisChoice:
        """The axis that allows less."""
        return min(self.axes, key=lambda a: a.in_force.acceleration_mm_s2)

    @property
    def bare_mm_s2(self) -> float:
        """What would stay clean without a shaper."""
        return min(a.bare_mm_s2 for a in self.axes)

    @property
    def verdict(self) -> Verdict:
        """`keep` only where every axis keeps."""
        return "keep" if all(a.kept for a in self.axes) else "change"


def fit_shaper(question: ShaperQuestion) -> ShaperFit:
    """Find the shapers, and the acceleration that both axes share.

    Raises Refusal where a log cannot carry an answer.
    """
    readings: dict[str, dict[str, AxisReading]] = {}
    try:
        for axis in AXES:
            for label, reading in _readings(axis, question):
                readings.setdefault(axis, {})[label] = reading
    except Refusal as refusal:
        raise refusal.after(_remarks(readings)) from None
    axes = tuple(
        _over_places(found, question)
        if len(found) > 1
        else _axis_choice(next(iter(found.values())), question)
        for found in readings.values()
    )
    slow = min(axes, key=lambda a: a.in_force.acceleration_mm_s2)
    common = slow.in_force.acceleration_mm_s2
    if common > ROUNDED_FROM:
        common = math.floor(common / ROUNDED_MM_S2) * ROUNDED_MM_S2
    return ShaperFit(
        axes=axes,
        acceleration_mm_s2=common,
        half_width_mm_s2=allowed_half(slow.in_force, slow.reading.modes, slow.limits),
        remarks=(*_remarks(readings), *_swapped(axes)),
    )


def _readings(axis: str, question: ShaperQuestion) -> Iterator[tuple[str, AxisReading]]:
    """The readings of an axis by their labels, from a card, logs or ripples."""
    if axis in question.read:
        yield "", question.read[axis]
    elif logs := question.logs_of(axis):
        for label, log in logs.items():
            if isinstance(log, MotionLog):
                yield label, read_log(log, axis, question.sensor.get(axis), question.kind)
            elif question.read_card is not None:
                yield label, question.read_card(log, axis)
    elif question.ripples_mm.get(axis) and question.speed_mm_s is not None:
        yield "", from_ripples(axis, question.ripples_mm[axis], question.speed_mm_s)


def _remarks(readings: Mapping[str, Mapping[str, AxisReading]]) -> tuple[Remark, ...]:
    return each_once(o for some in readings.values() for r in some.values() for o in r.remarks)


def _over_places(readings: Mapping[str, AxisReading], question: ShaperQuestion) -> AxisChoice:
    """One shaper for several places: the best at the worst of them, and half way between each two.
    The drift is then asked only of what was not measured.
    """
    limits = replace(question.limits, drift=min(question.limits.drift, DRIFT_OF_PLACES))
    first, *others = readings.values()
    modes = [reading.modes for reading in readings.values()]
    everywhere = (*(reading.modes for reading in others), *between(modes))
    choice = _axis_choice(first, question, limits, everywhere)
    chosen = choice.in_force
    places = tuple(
        PlaceChoice(
            label=label,
            reading=reading,
            allowed_mm_s2=at_setting(
                chosen.shaper, chosen.frequency_hz, chosen.damping, reading.modes, limits
            ).acceleration_mm_s2,
            alone=pick(candidates(reading.modes, limits, question.offered)),
        )
        for label, reading in readings.items()
    )
    ruling = min(places, key=lambda place: place.allowed_mm_s2)
    return replace(
        choice,
        reading=ruling.reading,
        bare_mm_s2=unshaped(ruling.reading.modes, limits),
        places=places,
    )


def _axis_choice(
    reading: AxisReading,
    question: ShaperQuestion,
    limits: Limits | None = None,
    others: Sequence[Sequence[Mode]] = (),
) -> AxisChoice:
    """Candidates and pick of one axis, the best at the worst of its places."""
    if limits is None:
        drift = math.hypot(question.limits.drift, reading.extra_drift)
        limits = replace(question.limits, drift=drift)
    found = tuple(candidates(reading.modes, limits, question.offered, others))
    now = question.present.get(reading.axis)
    present = None
    if now is not None:
        setting = (now.shaper, now.frequency_hz, now.damping)
        present = at_setting(*setting, reading.modes, limits, others)
    best = max(c.acceleration_mm_s2 for c in found)
    return AxisChoice(
        reading=reading,
        limits=limits,
        found=found,
        chosen=pick(found),
        kept=present is not None and present.acceleration_mm_s2 >= KEEPS * best,
        present=present,
        bare_mm_s2=unshaped(reading.modes, limits),
    )


def allowed_half(chosen: Candidate, modes: tuple[Mode, ...], limits: Limits) -> float:
    """Half width of the 95 % interval of the allowed acceleration.

    Modes are drawn from their spreads, with a fixed seed, and the setting is judged on each draw.
    """
    random = np.random.default_rng(1)
    drawn = []
    for _ in range(DRAWS):
        shares = np.array([m.share + random.normal(0, m.share_half / NORMAL_95) for m in modes])
        shares = np.maximum(shares, LEAST_SHARE)
        some = [_drawn(m, s / shares.sum(), random) for m, s in zip(modes, shares, strict=True)]
        one = at_setting(chosen.shaper, chosen.frequency_hz, chosen.damping, some, limits)
        drawn.append(one.acceleration_mm_s2)
    return NORMAL_95 * float(np.std(drawn))


def _drawn(mode: Mode, share: float, random: np.random.Generator) -> Mode:
    frequency = mode.frequency_hz + random.normal(0, mode.frequency_half_hz / NORMAL_95)
    damping = mode.damping + random.normal(0, mode.damping_half / NORMAL_95)
    return Mode(frequency, min(max(damping, DAMPINGS[0]), DAMPINGS[1]), float(share))


def _swapped(axes: tuple[AxisChoice, ...]) -> list[Remark]:
    """Two logs of one sensor that show each other's axis."""
    seen = {a.reading.axis: a.reading.sensor_axis for a in axes}
    return [Remark("swapped-files")] if seen == {"x": "y", "y": "x"} else []
