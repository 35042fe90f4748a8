"""From a temperature log to gains: cycles, thermal model, gains, verdict. No sentences."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from omphalon.answers.finding import Verdict
from omphalon.answers.remarks import Refusal, Remark
from omphalon.physics import oscillation, record
from omphalon.physics.loop import Gains
from omphalon.physics.oscillation import Ultimate
from omphalon.physics.record import Record
from omphalon.physics.scale import robust_deviation
from omphalon.physics.thermal_engine import ThermalFit
from omphalon.physics.thermal_fit import fit_thermal
from omphalon.recordings.recording import TemperatureLog
from omphalon.studies.heater.check import ALLOWED, Allowed
from omphalon.studies.heater.doubts import (
    excited_doubts,
    explained,
    fit_doubts,
    heater_doubts,
    log_doubts,
    logs_disagree,
    range_doubts,
    refuse_not_at_work,
    refuse_other_scale,
    refuse_too_little,
)
from omphalon.studies.heater.excerpt import (
    SAME_C,
    Excerpt,
    by_controller,
    excerpt,
    fahrenheit,
    log_target,
)
from omphalon.studies.heater.excited import Excited, excited
from omphalon.studies.heater.flowing import flow_share
from omphalon.studies.heater.question import FAR_FAN, HeaterQuestion, heater_at
from omphalon.studies.heater.tuning import SURE, Tuned, sure_enough, tune, worth_keeping

# refusals of a log as a test, after which it is read as an ordinary one
NO_TEST = frozenset(("hardly-switched", "few-cycles", "loose", "no-swing"))
# new gains may pass the limits of a check on so many of the heaters that the log allows, and are
# refused where as many pass GROSS times the limit: the draws come from a linearised fit, whose tail
# holds heaters that the log itself rules out. Set on two families of benchmarks/heater_ordinary.py
MOST_BAD, GROSS = 0.1, 3.0
# from the test's target to the one that gains are wanted for: benchmarks/elsewhere.py
ELSEWHERE_C = {"hotend": 60.0, "bed": 40.0, "chamber": 20.0}
SPIKE_NEAR_C = 8.0
SPIKE_C, SPIKE_SCATTERS, MOST_SPIKES = 1.0, 6.0, 0.05  # off the model: °C, scatters; share of rows


@dataclass(frozen=True, kw_only=True)
class HeaterFit:
    """The tests, or what was read of an ordinary log (`excited`), their model and cycles, the gains
    chosen and what they promise, what was odd.

    `gains` are for power 0…1; `full_power` is what stands for 1 in the controller's own scale.
    """

    question: HeaterQuestion  # with what the logs themselves say
    heater: str
    tests: tuple[Excerpt, ...]
    excited: Excited | None = None
    model: ThermalFit
    cycle: Ultimate | None
    tuned: Tuned
    gains: Gains
    full_power: float
    log_scale: float | None
    verdict: Verdict
    remarks: tuple[Remark, ...]

    @property
    def read(self) -> Excerpt | Excited:
        """The first test, or the ordinary log."""
        return self.excited or self.tests[0]

    @property
    def power_logged(self) -> bool:
        """Whether the log has the power, or it was worked out from the reversals of the curve."""
        return self.log_scale is not None

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

    `logs`: of one heater; several are fitted together. `gain_scale`: the number for full power in
    the controller's gains, where the question has none. Raises Refusal where the logs cannot carry
    gains.
    """
    odd: list[Remark] = []
    question = question.of_logs(logs)
    logs, question = _flow_apart(logs, question)
    full_power = question.gain_scale or gain_scale
    try:
        for log in logs:
            odd += log_doubts(log, question.max_temp_c)
            if question.heater is not None:
                odd += heater_doubts(log, question.heater)
        if len(logs) == 1 and by_controller(logs[0]):
            return _from_excited(logs[0], question, full_power, odd)
        try:
            tests = tuple(excerpt(log, question.target_c) for log in logs)
            return _from_tests(tests, logs, question, full_power, odd)
        except Refusal as refusal:
            if refusal.code in NO_TEST and len(logs) == 1 and logs[0].power is not None:
                with contextlib.suppress(Refusal):  # what is wrong with it as a test says more
                    before = [*odd, *refusal.remarks]
                    return _from_excited(logs[0], question, full_power, before)
            raise
    except Refusal as refusal:
        raise refusal.after(odd) from None


def _flow_apart(
    logs: Sequence[TemperatureLog], question: HeaterQuestion
) -> tuple[Sequence[TemperatureLog], HeaterQuestion]:
    """The logs that gains come from, and the question with what plastic takes, where a log shows
    that: beside others such a log is of a print, and tells nothing else.
    """
    shares = [(log, flow_share(log, log_target(log) or question.target_c)) for log in logs]
    known = [share for _, share in shares if share is not None]
    if not known:
        return logs, question
    others = [log for log, share in shares if share is None]
    return others or logs, replace(question, per_flow=known[0])


def _from_excited(
    log: TemperatureLog, question: HeaterQuestion, full_power: float, odd: Sequence[Remark]
) -> HeaterFit:
    """Gains out of a log without a test."""
    read = excited(log, question.target_c)
    heater = question.heater or heater_at(read.target_c)
    odd = [*odd, *_elsewhere([read.target_c], question, heater)]
    asked = replace(question, fan_on=question.fan_on is True, far_fan=FAR_FAN)
    if read.cooling is not None and question.fan_cooling is None:
        asked = asked.with_cooling(
            read.cooling.value, read.cooling.half_width, len(read.rises) == 1
        )
    present = _of_full_power(question.present, full_power)
    own = _of_full_power(question.own, full_power)
    tuned = tune(read, read.fit.thermal, heater, asked, present, read.otherwise, own)
    if question.present is not None and present is not None:
        refuse_other_scale(question.present, tuned.new, full_power, tuned.loop.period_s)
        refuse_not_at_work(read, present)
    refuse_too_little(read, tuned)
    decided = _decided(tuned, heater, present)
    doubtful = decided.pop("doubtful")
    return HeaterFit(
        question=question,
        heater=heater,
        tests=(),
        excited=read,
        model=read.fit.thermal,
        cycle=None,
        tuned=tuned,
        **decided,
        full_power=full_power,
        log_scale=log.power_scale,
        remarks=(
            *(*odd, *read.remarks, *excited_doubts(read, tuned)),
            *(*range_doubts(tuned), *doubtful),
        ),
    )


def _from_tests(
    tests: tuple[Excerpt, ...],
    logs: Sequence[TemperatureLog],
    question: HeaterQuestion,
    full_power: float,
    odd: list[Remark],
) -> HeaterFit:
    """Gains out of one or more tests."""
    if question.heater is None:
        for log, test in zip(logs, tests, strict=True):
            odd += heater_doubts(log, heater_at(test.target_c))
    model, spikes = fit_without_spikes(tests)
    odd += [*spikes, *logs_disagree(tests), *explained(tests[0], model)]
    test = tests[0]
    heater = question.heater or heater_at(test.target_c)
    odd += _elsewhere([t.target_c for t in tests], question, heater)
    present = _of_full_power(question.present, full_power)
    own = _of_full_power(question.own, full_power)
    tuned = tune(test, model, heater, question, present, own=own)
    if question.present is not None:
        refuse_other_scale(question.present, tuned.new, full_power, tuned.loop.period_s)
    cycle = oscillation.ultimate(test.found)
    decided = _decided(tuned, heater, present)
    doubtful = decided.pop("doubtful")
    words = [*(o for t in tests for o in t.remarks), *range_doubts(tuned)]
    return HeaterFit(
        question=question,
        heater=heater,
        tests=tests,
        model=model,
        cycle=cycle,
        tuned=tuned,
        **decided,
        full_power=full_power,
        log_scale=logs[0].power_scale,
        remarks=(*odd, *words, *fit_doubts(test, model, tuned, cycle), *doubtful),
    )


def _elsewhere(tested: Sequence[float], question: HeaterQuestion, heater: str) -> list[Remark]:
    """A word where gains are wanted for other targets than those of the logs, or those between.

    Raises Refusal where one is too far: how losses grow is no longer known well enough.
    """
    away = []
    for goal in question.targets(tested[0]):
        nearest = min(tested, key=lambda one: abs(one - goal))
        if min(tested) <= goal <= max(tested) or abs(goal - nearest) <= SAME_C:
            continue
        if abs(goal - nearest) > (most := ELSEWHERE_C[heater]):
            hint = fahrenheit(nearest, goal)
            raise Refusal("too-far", tested=nearest, wanted=goal, most=most, hint=hint)
        away.append((nearest, goal))
    if not away:
        return []
    if question.range_c is not None:
        low, high = question.range_c
        return [Remark("tested-within", tested=away[0][0], low=low, high=high)]
    return [Remark("tested-elsewhere", tested=away[0][0], wanted=away[0][1])]


def _of_full_power(gains: Gains | None, full_power: float) -> Gains | None:
    """Gains for a power of 0…1."""
    return None if gains is None else times(gains, 1 / full_power)


def _decided(tuned: Tuned, heater: str, present: Gains | None) -> dict[str, Any]:
    """The gains and the verdict: the present ones where the best cannot be told from them.

    Raises Refusal where a change would not be sure enough, or would do badly on heaters that the
    log allows.
    """
    keep = worth_keeping(tuned)
    if not keep and not sure_enough(tuned):
        raise Refusal("unsure", share=1 - tuned.sure)
    return {
        "gains": present if keep and present else tuned.new,
        "verdict": "keep" if keep else "change",
        "doubtful": () if keep else _on_the_worst(tuned, ALLOWED[heater]),
    }


def _on_the_worst(tuned: Tuned, allowed: Allowed) -> tuple[Remark, ...]:
    """A word on new gains that would swing, or overshoot past what a check allows, on more than
    MOST_BAD of the heaters that the log allows. An overshoot that most of these heaters have is no
    doubt: it is predicted.

    Raises Refusal where as many would do so by far.
    """
    odd = []
    name: Literal["may-swing", "may-overshoot"]
    ripple, overshoot = tuned.worst.ripple_c[:, 0], tuned.worst.overshoot_c[:, 0]
    for name, values, limit, most in (
        ("may-swing", ripple, allowed.ripple_c, 1.0),
        ("may-overshoot", overshoot, allowed.overshoot_c, 0.5),
    ):
        share, far = (float(np.mean(values > times * limit)) for times in (1.0, GROSS))
        if not MOST_BAD < share <= most:
            continue
        if far > MOST_BAD:
            raise Refusal(name, share=share, worst=float(values.max()))
        worst = float(np.quantile(values, SURE))
        odd.append(Remark(name, share=share, limit=limit, worst=worst))
    return tuple(odd)


def fit_model(tests: Sequence[Excerpt]) -> ThermalFit:
    """The thermal model of one or more tests, with the doubt of the switching instants in that of
    the dead time.
    """
    return fit_thermal(record.join([record_of(t) for t in tests]))


def fit_without_spikes(tests: Sequence[Excerpt]) -> tuple[ThermalFit, list[Remark]]:
    """The model, fitted again without the few reports that lie far off the first fit."""
    fit = fit_model(tests)
    miss = np.abs(fit.fitted_c - np.concatenate([t.temperature_c for t in tests]))
    off_target = np.abs(np.concatenate([t.temperature_c - t.target_c for t in tests]))
    near = off_target <= tests[0].near_c + SPIKE_NEAR_C
    limit = max(SPIKE_SCATTERS * robust_deviation(miss[near & np.isfinite(miss)]), SPIKE_C)
    off = near & (miss > limit)
    if not 0 < off.sum() <= MOST_SPIKES * len(off):
        return fit, []
    ends = np.cumsum([0] + [len(t.time_s) for t in tests])
    spans = zip(tests, ends[:-1], ends[1:], strict=True)
    again = [replace(t, skip=t.skip | off[a:b]) for t, a, b in spans]
    facts = {"count": int(off.sum()), "limit": limit}
    return fit_model(again), [Remark("off-model", **facts)]


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
