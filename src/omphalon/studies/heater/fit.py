"""From a temperature log to gains: cycles, thermal model, gains, verdict. No sentences."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from omphalon.finding import Verdict
from omphalon.physics import oscillation, record
from omphalon.physics.loop import Gains
from omphalon.physics.oscillation import Ultimate
from omphalon.physics.record import Record
from omphalon.physics.scale import by_median
from omphalon.physics.thermal_fit import ThermalFit, fit_thermal
from omphalon.recording import TemperatureLog
from omphalon.remarks import Refusal, Remark
from omphalon.studies.heater.doubts import (
    explained,
    fit_doubts,
    heater_doubts,
    log_doubts,
    logs_disagree,
    moved_doubts,
    refuse_not_at_work,
    refuse_other_scale,
    refuse_too_little,
)
from omphalon.studies.heater.excerpt import Excerpt, excerpt
from omphalon.studies.heater.moved import Moved, by_controller, moved
from omphalon.studies.heater.question import HeaterQuestion, heater_at
from omphalon.studies.heater.tuning import Tuned, sure_enough, tune, worth_keeping

# refusals of a log as a test, after which it is read as an ordinary one
NO_TEST = frozenset(("hardly-switched", "few-cycles", "loose", "no-swing"))
SPIKE_NEAR_C = 8.0
SPIKE_C, SPIKE_SCATTERS, MOST_SPIKES = 1.0, 6.0, 0.05  # off the model: °C, scatters; share of rows


@dataclass(frozen=True, kw_only=True)
class HeaterFit:
    """The tests, or the ordinary log that was `moved`, their model and cycles, the gains chosen and
    what they promise, what was odd.

    `gains` are for power 0…1; `full_power` is what stands for 1 in the controller's own scale.
    """

    heater: str
    tests: tuple[Excerpt, ...]
    moved: Moved | None = None
    model: ThermalFit
    cycle: Ultimate | None
    tuned: Tuned
    gains: Gains
    full_power: float
    log_scale: float | None
    verdict: Verdict
    remarks: tuple[Remark, ...]

    @property
    def read(self) -> Excerpt | Moved:
        """The first test, or the ordinary log."""
        return self.moved or self.tests[0]

    @property
    def cycles(self) -> int:
        """In all tests."""
        return sum(t.found.count for t in self.tests)

    @property
    def scaled(self) -> Gains:
        """The gains in the controller's scale."""
        return times(self.gains, self.full_power)


def times(gains: Gains, factor: float) -> Gains:
    """Gains in another scale of power."""
    return Gains(gains.kp * factor, gains.ki * factor, gains.kd * factor)


def fit_heater(
    logs: Sequence[TemperatureLog], question: HeaterQuestion, gain_scale: float = 1.0
) -> HeaterFit:
    """Find gains for the loop that will run them.

    Parameters
    ----------
    logs : of one heater; several are fitted together
    question : target, aim, the controller, the present gains
    gain_scale : the number for full power in the controller's gains, where the question has none

    Raises
    ------
    Refusal
        Where the logs cannot carry gains.
    """
    odd: list[Remark] = []
    question = question.of_logs(logs)
    try:
        for log in logs:
            odd += log_doubts(log, question.max_temp_c)
            if question.heater is not None:
                odd += heater_doubts(log, question.heater)
        if len(logs) == 1 and by_controller(logs[0]):
            return _from_moved(logs[0], question, question.gain_scale or gain_scale, odd)
        tests = tuple(excerpt(log, question.target_c) for log in logs)
        if question.heater is None:
            for log, test in zip(logs, tests, strict=True):
                odd += heater_doubts(log, heater_at(test.target_c))
        model, spikes = fit_without_spikes(tests)
        odd += [*spikes, *logs_disagree(tests), *explained(tests[0], model)]
        full_power = question.gain_scale or gain_scale
        return _heater_fit(tests, model, odd, question, full_power, logs[0].power_scale)
    except Refusal as refusal:
        if refusal.code in NO_TEST and len(logs) == 1 and logs[0].power is not None:
            before = [*odd, *refusal.remarks]
            with contextlib.suppress(Refusal):  # what is wrong with it as a test says more
                scale = question.gain_scale or gain_scale
                return _from_moved(logs[0], question, scale, before)
        raise refusal.after(odd) from None


def _from_moved(
    log: TemperatureLog, question: HeaterQuestion, full_power: float, odd: Sequence[Remark]
) -> HeaterFit:
    """Gains out of a log without a test."""
    try:
        told = moved(log, question.target_c)
        heater = question.heater or heater_at(told.target_c)
        fan = question.fan_on is True
        asked = replace(question, fan_on=fan)
        if told.cooling is not None and question.fan_cooling is None:
            asked = asked.with_cooling(told.cooling.value, told.cooling.half_width)
        present = None if question.present is None else times(question.present, 1 / full_power)
        thermal = told.fit.thermal
        tuned = tune(told, thermal, heater, asked, present, told.otherwise)
        if question.present is not None:
            refuse_other_scale(question.present, tuned.new, full_power, tuned.loop.period_s)
        if present is not None:
            refuse_not_at_work(told, present)
        refuse_too_little(told, tuned)
    except Refusal as refusal:
        raise refusal.after(odd) from None
    keep = worth_keeping(tuned)
    if not keep and not sure_enough(tuned):
        raise Refusal("unsure", odd, share=1 - tuned.sure)
    return HeaterFit(
        heater=heater,
        tests=(),
        moved=told,
        model=thermal,
        cycle=None,
        tuned=tuned,
        gains=present if keep and present else tuned.new,
        full_power=full_power,
        log_scale=log.power_scale,
        verdict="keep" if keep else "change",
        remarks=(*odd, *told.remarks, *moved_doubts(told, tuned)),
    )


def _heater_fit(
    tests: tuple[Excerpt, ...],
    model: ThermalFit,
    odd: list[Remark],
    question: HeaterQuestion,
    full_power: float,
    log_scale: float | None,
) -> HeaterFit:
    test = tests[0]
    heater = question.heater or heater_at(test.target_c)
    present = None if question.present is None else times(question.present, 1 / full_power)
    tuned = tune(test, model, heater, question, present)
    if question.present is not None:
        period = tuned.loop.period_s
        refuse_other_scale(question.present, tuned.new, full_power, period)
    cycle = oscillation.ultimate(test.found)
    keep = worth_keeping(tuned)
    if not keep and not sure_enough(tuned):
        raise Refusal("unsure", share=1 - tuned.sure)
    words = [o for t in tests for o in t.remarks]
    return HeaterFit(
        heater=heater,
        tests=tests,
        model=model,
        cycle=cycle,
        tuned=tuned,
        gains=present if keep and present else tuned.new,
        full_power=full_power,
        log_scale=log_scale,
        verdict="keep" if keep else "change",
        remarks=(*odd, *words, *fit_doubts(test, model, tuned, cycle)),
    )


def fit_model(tests: Sequence[Excerpt]) -> ThermalFit:
    """The thermal model of one or more tests, with the doubt of the switching instants in that of
    the dead time.
    """
    return fit_thermal(record.join([record_of(t) for t in tests]))


def fit_without_spikes(tests: Sequence[Excerpt]) -> tuple[ThermalFit, list[Remark]]:
    """The model, fitted anew without the few reports that lie far off the first fit."""
    fit = fit_model(tests)
    miss = np.abs(fit.fitted_c - np.concatenate([t.temperature_c for t in tests]))
    off_target = np.abs(np.concatenate([t.temperature_c - t.target_c for t in tests]))
    near = off_target <= tests[0].near_c + SPIKE_NEAR_C
    limit = max(SPIKE_SCATTERS * by_median(miss[near & np.isfinite(miss)]), SPIKE_C)
    off = near & (miss > limit)
    if not 0 < off.sum() <= MOST_SPIKES * len(off):
        return fit, []
    ends = np.cumsum([0] + [len(t.time_s) for t in tests])
    spans = zip(tests, ends[:-1], ends[1:], strict=True)
    again = [replace(t, skip=t.skip | off[a:b]) for t, a, b in spans]
    facts = {"count": int(off.sum()), "limit": limit}
    return fit_model(again), [Remark("off-model", facts)]


def record_of(test: Excerpt) -> Record:
    """A test as the fit takes it, with the doubt that its switching instants share."""
    driven = record.drive(test.time_s, test.power, test.switched)
    doubts = test.switched.doubt_s
    common = float(np.sqrt(np.mean(doubts**2) / len(doubts)))
    return Record(
        time_s=test.time_s,
        reading_c=test.temperature_c,
        target_c=np.full(len(test.time_s), test.target_c),
        driven=driven,
        near_c=test.near_c,
        noise_c=test.sigma_c,
        quantum_c=test.quantum_c,
        delay_s=test.delay_s,
        skip=test.skip,
        breaks_s=test.breaks_s,
        doubt_s=common,
    )
