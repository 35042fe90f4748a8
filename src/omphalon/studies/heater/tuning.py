"""Gains for a fitted heater: chosen over what it may be, with what they promise and how sure that
is.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from omphalon.answers.remarks import Refusal
from omphalon.answers.settings import GAINS
from omphalon.base.arrays import Array
from omphalon.base.errors import UsageError
from omphalon.base.stages import begins
from omphalon.physics import linear
from omphalon.physics import loop as loops
from omphalon.physics.aims import AIMS, Aim
from omphalon.physics.choice import Choice, choose_gains, ensemble_of
from omphalon.physics.loop import Gains, Loop, Outcome
from omphalon.physics.thermal import ThermalModel
from omphalon.studies.heater.flowing import Flowing, flowing
from omphalon.studies.heater.question import HeaterQuestion
from omphalon.tables.constants import NORMAL_95
from omphalon.tables.heaters import HEATERS

DRAWS_IN_SEARCH = 4  # of what the heater may be, in each cost
DAYS_EACH = (
    6  # of eight heaters of a search: the first model's, where a second one explains the log
)
OWN = "controller's own"
DRAWS = 40  # of what the heater may be, for the ranges that are promised
GOLDEN, PLASTIC = 0.6180339887, 0.7548776662  # steps that fill 0…1 evenly, however many are taken
# figure → what a person sees of it at the least; of °C the display's step, where that is more
SEEN = {
    **dict.fromkeys(("overshoot_c", "dip_c", "ripple_c", "hold_error_c", "fan_error_c"), 0.1),
    **dict.fromkeys(("arrival_s", "settle_s"), 5.0),
}
# of a gain, the others as found: where its score is looked at
RATIOS = np.array(
    [0.2, 0.35, 0.5, 0.65, 0.8, 0.88, 0.94, 1.0, 1.06, 1.14, 1.25, 1.5, 2.0, 3.0, 5.0]
)
AS_WELL = 0.05  # a score that is higher by so much is as good
MATTERS = 0.15  # a worse score than that shows on a print: it is not kept on an unsure log
# a loop that always acts gives full power, its integral at the limit, until the error is a few
# derivative times the slope: it is run from here on
ALWAYS_C = 40.0
# how far another make of heater has its limit (gain, period) from that of its model, beyond the
# draws; from the families "two masses" and "radiation" of benchmarks/intervals.py
OTHER_MAKE = np.array([0.14, 0.06])
RESOLUTION_C = 0.02  # a peak moves this much with the noise of the day
SURE = 0.95  # share of what the heater may be on which new gains must be better


@dataclass(frozen=True, kw_only=True)
class AtTarget:
    """One target of a range: what the gains for all of it do there, and those for it alone
    (columns of `run`); `cost`: how much more the former score, as a share.
    """

    target_c: float
    run: Outcome
    sensitivity: Array
    alone: Gains
    cost: float
    holding_power: float


@dataclass(frozen=True, kw_only=True)
class Tuned:
    """Gains chosen, what they promise beside the present ones and other aims (columns of `run`),
    and how sure.

    `limit_share`: half width of the 95 % interval of the gain at which the loop would swing, or of
    that gain over or times its period, whichever is widest; a share. `as_good`: between which
    values each gain, the others unchanged, scores as well. `worst`: the new gains on the heaters
    that the log allows.
    """

    loop: Loop
    model: ThermalModel
    new: Gains
    limit_share: float
    run: Outcome
    labels: tuple[str, ...]
    doubt: Outcome
    sensitivity: Array
    ultimates: Array
    worth: float | None
    sure: float
    as_good: Mapping[str, tuple[float, float]]
    worst: Outcome
    spans: tuple[AtTarget, ...] = ()
    flowing: Flowing | None = None

    @property
    def gained(self) -> list[tuple[str, float, float]]:
        """Figures that the new gains better by more than a person sees, in the middle of what the
        heater may be: name, present, new; the one that gains most first.
        """
        if self.worth is None:
            return []
        found = []
        for name, least in SEEN.items():
            new, old = (np.median(getattr(self.doubt, name)[:, n]) for n in (0, 1))
            seen = max(least, self.loop.quantum_c) if name.endswith("_c") else least
            if old - new > seen:
                found.append((float(old - new) / seen, name, float(old), float(new)))
        return [(name, old, new) for _, name, old, new in sorted(found, reverse=True)]

    @property
    def ultimate(self) -> tuple[Array, Array]:
        """Gain and period at which the loop would swing, by the model's draws: the medians (2,),
        and half of their 95 % intervals (2,), with what a heater of another make adds.
        """
        middle = np.median(self.ultimates, axis=0)
        drawn = NORMAL_95 * np.std(self.ultimates, axis=0, ddof=1)
        return middle, np.hypot(drawn, OTHER_MAKE * middle)


class Modelled(Protocol):
    """What gains are chosen over: a model, others that are as likely, and their residual."""

    @property
    def model(self) -> ThermalModel: ...

    @property
    def rms_c(self) -> float: ...

    def draws(self, count: int, random: np.random.Generator) -> list[ThermalModel]: ...


class Sensed(Protocol):
    """What a loop needs to know of a log: its target, the noise and the step of its readings."""

    @property
    def target_c(self) -> float: ...

    @property
    def noise_c(self) -> float: ...

    @property
    def quantum_c(self) -> float: ...


def loop_of(test: Sensed, fit: Modelled, heater: str, question: HeaterQuestion) -> Loop:
    """The controller that will run the gains, reading through the log's own noise and display
    steps, at the target that gains are wanted for.
    """
    step = test.quantum_c / np.sqrt(12)
    noise = float(np.sqrt(max(min(test.noise_c, fit.rms_c) ** 2 - step**2, (0.3 * step) ** 2)))
    cooling = question.cooling(heater)
    return Loop(
        question.targets(test.target_c)[0],
        limit=question.power_limit,
        period_s=question.loop_period_s,
        filter_s=question.filter_s,
        band_c=question.band_c or ALWAYS_C,
        saturated=question.band_c == 0,
        unit_s=HEATERS[heater].unit_s,
        fan_extra=cooling,
        noise_c=noise,
        quantum_c=test.quantum_c,
    )


@dataclass(frozen=True, kw_only=True)
class _AtGoal:
    """What the heater may be at one target: its model, draws of it, and the days of a search."""

    model: ThermalModel
    draws: list[ThermalModel]
    ensemble: list[ThermalModel]


def _at_goal(
    tested: Sequence[ThermalModel], question: HeaterQuestion, heater: str, loop: Loop
) -> _AtGoal:
    """Models of a test, as they are with the part fan off; where nobody said whether it blew in the
    test, the gains must do either way.
    """
    still = [one.losing(1 / (1 + loop.fan_extra)) for one in tested]
    model, *draws = still if question.fan_blew(heater) else tested
    ensemble = ensemble_of(model, draws[:DRAWS_IN_SEARCH])
    if question.fan_unsure(heater):
        other = tested if question.fan_blew(heater) else still
        ensemble = [*ensemble[:DAYS_EACH], *ensemble_of(other[0], other[1:3])]
        draws = [
            one if n % 2 else two for n, (one, two) in enumerate(zip(draws, other[1:], strict=True))
        ]
    return _AtGoal(model=model, draws=draws, ensemble=ensemble)


def tune(
    test: Sensed,
    fit: Modelled,
    heater: str,
    question: HeaterQuestion,
    present: Gains | None,
    otherwise: Modelled | None = None,
    own: Gains | None = None,
) -> Tuned:
    """Choose gains over an ensemble of what the heater may be, and run them, the present ones and
    other aims on it; `otherwise` is a second model that the log cannot rule out, `own` are the
    gains that the controller made of its test.
    """
    if heater != "hotend" and question.flow_mm3_s is not None:
        raise UsageError(f"--volume-flow with a {heater}", "plastic flows through a hotend")
    begins("gains are chosen over all heaters that the log allows")
    loop = loop_of(test, fit, heater, question)
    draws = fit.draws(DRAWS, np.random.default_rng(1))
    if otherwise is not None:
        others = [otherwise.model, *otherwise.draws(DRAWS // 2 - 1, np.random.default_rng(2))]
        draws = [one for pair in zip(others, draws, strict=False) for one in pair]
    tested = [fit.model, *draws]
    parts = {}
    for goal in question.targets(test.target_c):
        at_goal = [one.read_as(goal, loop.target_c) for one in tested]
        if goal == test.target_c == loop.target_c:
            at_goal = tested  # to the last digit
        elif goal > test.target_c and at_goal[0].holding_power > loop.limit:
            raise Refusal("too-weak", target=goal, power=at_goal[0].holding_power)
        parts[goal] = _at_goal(at_goal, question, heater, loop)
    every = list(parts.values())
    model, ensemble = every[0].model, [one for part in every for one in part.ensemble]
    draws = [every[n % len(every)].draws[n] for n in range(DRAWS)]
    aim = AIMS[question.aim]
    choice = choose_gains([part.model for part in every], ensemble, loop, aim)
    named = _named(choice, present, own)
    table = np.vstack([g.row() for g in named.values()])
    step = loops.step_for(ensemble, loop)
    run = loops.run_loop([model], table, loop, step_s=step, trace=True)
    doubted = [_doubted(d, n) for n, d in enumerate(draws)]
    low, high = question.cooling_doubt(heater)
    fans = (
        loop.fan_extra * np.geomspace(low, high, DRAWS)[np.argsort(np.arange(DRAWS) * GOLDEN % 1)]
    )
    doubt = loops.run_loop(doubted, table[: 1 + (present is not None)], loop, step_s=step, fan=fans)
    costs = doubt.cost(aim, loop)
    ultimates = np.array([linear.ultimate_of(d, loop) for d in every[0].draws])
    return Tuned(
        loop=loop,
        model=model,
        new=choice.gains,
        limit_share=_limit_share(ultimates),
        run=run,
        labels=tuple(named),
        doubt=doubt,
        sensitivity=linear.sensitivity(model, table, loop),
        ultimates=ultimates,
        worth=None if present is None else float(costs[:, 1].mean() / costs[:, 0].mean() - 1),
        sure=1.0 if present is None else float(np.mean(costs[:, 1] > costs[:, 0])),
        as_good=_as_good(choice.gains, ensemble, loop, aim),
        worst=loops.run_loop(draws, table[:1], loop, step_s=step),
        spans=_spans(parts, choice.gains, loop, aim) if len(parts) > 1 else (),
        flowing=flowing(parts, choice.gains, loop, question) if heater == "hotend" else None,
    )


def _spans(
    parts: Mapping[float, _AtGoal], gains: Gains, loop: Loop, aim: Aim
) -> tuple[AtTarget, ...]:
    """What one set of gains does at each target of a range, beside the best for it alone."""
    found = []
    for goal, part in sorted(parts.items()):
        alone = choose_gains(part.model, part.ensemble, loop, aim).gains
        table = np.vstack([gains.row(), alone.row()])
        costs = loops.run_loop(part.ensemble, table, loop).cost(aim, loop).mean(axis=0)
        found.append(
            AtTarget(
                target_c=goal,
                run=loops.run_loop([part.model], table, loop),
                sensitivity=linear.sensitivity(part.model, table, loop),
                alone=alone,
                cost=float(costs[0] / costs[1] - 1),
                holding_power=part.model.holding_power,
            )
        )
    return tuple(found)


def _named(choice: Choice, present: Gains | None, own: Gains | None) -> dict[str, Gains]:
    """All gains that are run: the new ones first, the present ones next."""
    others = {"present gains": present, OWN: own}
    given = {name: gains for name, gains in others.items() if gains is not None}
    aims = {f"aim {name}": gains for name, gains in choice.others.items()}
    return {"new gains": choice.gains, **given, **aims}


def _as_good(
    gains: Gains, ensemble: Sequence[ThermalModel], loop: Loop, aim: Aim
) -> dict[str, tuple[float, float]]:
    """Between which values each gain scores as well, the others unchanged."""
    best = np.ravel(gains.row())
    rows = np.tile(best, (3, len(RATIOS), 1))
    for n, trial in enumerate(rows):
        trial[:, n] *= RATIOS
    run = loops.run_loop(list(ensemble), rows.reshape(-1, 3), loop)
    costs = run.cost(aim, loop).mean(axis=0).reshape(3, -1)
    middle = int(np.flatnonzero(RATIOS == 1)[0])
    out = {}
    for name, value, cost in zip(GAINS, best, costs, strict=True):
        most = (1 + AS_WELL) * cost[middle]
        low = _last_below(RATIOS[middle::-1], cost[middle::-1], most)
        out[name] = (
            float(value * low),
            float(value * _last_below(RATIOS[middle:], cost[middle:], most)),
        )
    return out


def _last_below(ratios: Array, cost: Array, most: float) -> float:
    """How far a ratio can move until its cost first passes `most`, between the two tried."""
    if not (past := np.flatnonzero(cost > most)).size:
        return float(ratios[-1])
    n = int(past[0])
    return float(np.interp(most, cost[n - 1 : n + 1], ratios[n - 1 : n + 1]))


def promised_range(values: Array) -> tuple[float, float]:
    """95 % range of a prediction over the doubted models, no closer than RESOLUTION_C."""
    low, high = np.quantile(values, [0.025, 0.975])
    return max(float(low) - RESOLUTION_C, 0.0), float(high) + RESOLUTION_C


def worth_keeping(tuned: Tuned) -> bool:
    """Whether the present gains stay: nobody would see what the best ones better, or they are not
    surely better, nor by much.
    """
    return tuned.worth is not None and (
        not tuned.gained or (tuned.sure < SURE and tuned.worth < MATTERS)
    )


def sure_enough(tuned: Tuned) -> bool:
    """Whether a change from the present gains is better on nearly all of what the heater may be."""
    return tuned.worth is None or tuned.sure >= SURE


def _doubted(draw: ThermalModel, number: int) -> ThermalModel:
    """A draw with the structural doubt on top: dead time ±25 %, gain ±10 %, spread evenly over the
    draws.
    """
    first, second = number * GOLDEN % 1, number * PLASTIC % 1
    return draw.other_day(1 + 0.25 * (2 * first - 1), 1 + 0.1 * (2 * second - 1))


def _limit_share(ultimates: Array) -> float:
    """The widest of the relative 95 % half widths of Ku, Ku/Tu and Ku·Tu, to which kp, ki and kd
    are proportional, over the drawn models.
    """
    gain, period = np.log(ultimates).T
    return float(NORMAL_95 * max(np.std(v, ddof=1) for v in (gain, gain - period, gain + period)))
