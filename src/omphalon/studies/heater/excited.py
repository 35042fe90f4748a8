"""Gains out of any log in which the power really changed: which part of it tells most, when its
loss changed, and the model that follows it.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.arrays import Array, Integers, Mask
from omphalon.base.stages import begins
from omphalon.physics import oscillation
from omphalon.physics.excited import MOST_CHANGES, MOST_ROWS, ExcitedFit, fit_excited, loss_changes
from omphalon.physics.record import ExcitedLog
from omphalon.physics.scale import Estimate, robust_deviation
from omphalon.physics.thermal_engine import AMBIENT_C, COLD_C, ThermalFit
from omphalon.recordings.recording import TemperatureLog
from omphalon.studies.heater.excerpt import (
    BUSY,
    LEAST_MOVE,
    SAME_C,
    cleaned,
    fahrenheit,
    log_target,
)
from omphalon.studies.heater.stretches import (
    HELD_WITHIN_C,
    Stretch,
    late_power,
    sessions,
    stretches,
)

LEAD_S = 10.0  # kept of a rest before the heater comes on
LEAST_RISE_C = 15.0  # that a log must show to tell a heater's pace
COLD_START_C = 3.0  # a log that starts cold, and as flat, starts at rest
MOST_DELAYS = 600.0  # of a log that are looked at: what comes later tells the same again
# of the first hold, before a change of loss is looked for; less where one comes earlier
FIRST_DELAYS = (25.0, 10.0, 4.0)
SETTLES_DELAYS = 8.0  # after whose end a change of loss may be told from an arrival
DENSE_DELAYS = (2.0, 12.0)  # before and after an event every report is looked at
CHANGE_WORTH = 40.0  # of χ² that a change of loss must explain: with a hundred moments tried
MOST_MOMENTS = 80
HELD_DELAYS = 8.0  # a hold that is shorter says nothing
LEAST_MORE = 1.15  # power that heats up, over that which holds
MOST_MISFIT = 8.0  # χ² a report from which on something else moved the temperature
LEAST_FAN = 0.08  # of the loss: less is no matter, and no part fan
ASTRAY, UNEXPLAINED = 0.05, 0.12  # the same, as shares of the rise and of how far it moves
FULL = 0.95  # of the most power
CLEARLY = 100.0  # of log likelihood: so much better, one way of logging power is the way


@dataclass(frozen=True, kw_only=True)
class Excited:
    """The part of an ordinary log that was used: arrays (n,), its stretches, its changes of loss
    (s from its start, shares of the loss at the target), and how its power was logged; `otherwise`
    is the model of the other way, where the log cannot tell which it was.
    """

    time_s: Array
    temperature_c: Array
    power: Array
    target_c: float
    noise_c: float
    quantum_c: float
    start_s: float
    stretches: tuple[Stretch, ...]
    losses: tuple[tuple[float, Estimate], ...]
    averaged: bool
    fit: ExcitedFit
    otherwise: ThermalFit | None
    remarks: tuple[Remark, ...]

    @property
    def clear_losses(self) -> list[tuple[float, Estimate]]:
        """The changes of loss that are more than chance, and matter."""
        return [(at, e) for at, e in self.losses if abs(e.value) > max(e.half_width, LEAST_FAN)]

    @property
    def rises(self) -> list[Estimate]:
        """Those by which more heat was lost."""
        return [e for _, e in self.clear_losses if e.value > 0]

    @property
    def cooling(self) -> Estimate | None:
        """The largest rise of the loss, as a part fan's cooling; None where there was none."""
        return max(self.rises, key=lambda e: e.value, default=None)


def excited(log: TemperatureLog, target_c: float | None) -> Excited:
    """What an ordinary log tells.

    `target_c`: the one that gains are wanted for; None: from the log. Raises Refusal where it
    cannot carry a model of the heater.
    """
    if log.power is None:
        raise Refusal("power-untold")
    odd: list[Remark] = []
    log, cuts = cleaned(log, every_target=True)
    assert log.power is not None
    if np.ptp(log.power) < LEAST_MOVE:
        raise Refusal("never-switched", [*odd, *cuts])
    part, start = _most_telling(log)
    goals = _goals(part, target_c)
    goal = _main_goal(part, goals, target_c)
    t, y, u = part.time_s - part.time_s[0], part.temperature_c, part.power
    assert u is not None
    _refuse_unmoved(part, goal, [*odd, *cuts])
    odd += late_power(part, goals)
    noise, quantum = oscillation.noise_level(t, y), oscillation.quantum(y)
    at_rest = _at_rest(t, y, u)
    delay = _delay(t, y, u, at_rest)
    fans = () if part.fan is None else _changes_of(part.fan, t)
    keep = t <= MOST_DELAYS * delay
    t, y, u, goals = t[keep], y[keep], u[keep], goals[keep]
    cut = stretches(t, y, u, goals)
    _refuse_unheld(cut, delay, goal, [*odd, *cuts])
    ambient = float(np.median(y[:3])) if at_rest else AMBIENT_C
    whole = ExcitedLog(
        time_s=t,
        reading_c=y,
        power=u,
        target_c=np.where(goals > 0, goals, goal),
        rows=np.arange(len(t)),
        at_rest=at_rest,
        ambient_c=ambient,
        reference_c=goal - ambient,
        sigma_c=max(float(np.hypot(noise, quantum / np.sqrt(12))), 0.01),
        delay_s=delay,
        losses_s=tuple(at for at in fans if at < t[-1]),
    )
    fit, otherwise = _models(whole, cut)
    losses = tuple(zip(fit.log.losses_s, fit.losses, strict=True))
    _refuse_misfit(fit, [*odd, *cuts])
    used = fit.log.time_s[-1]
    return Excited(
        time_s=fit.log.time_s,
        temperature_c=fit.log.reading_c,
        power=fit.log.power,
        target_c=goal,
        noise_c=noise,
        quantum_c=quantum,
        start_s=start,
        stretches=tuple(s for s in cut if s.start_s < used),
        losses=losses,
        averaged=fit.log.averaged,
        fit=fit,
        otherwise=otherwise,
        remarks=(*odd, *cuts, *_passed_over(float(used), log, start)),
    )


def _passed_over(used_s: float, log: TemperatureLog, start: float) -> list[Remark]:
    """A word where much of a log was passed over."""
    if used_s > 0.9 * log.duration_s:
        return []
    facts = {"whole": log.duration_s / 60, "start": start / 60}
    return [Remark("part-alone", **facts, end=(start + used_s) / 60)]


def _most_telling(log: TemperatureLog) -> tuple[TemperatureLog, float]:
    """The session of a log in which the power changed most, and when it begins."""
    parts = sessions(log)
    if not parts:
        raise Refusal("never-switched")
    y = log.temperature_c

    def rise(part: slice) -> float:
        return float(y[part].max() - y[part][0])

    best = max(parts, key=rise)
    part = log.rows(best)
    assert part.power is not None
    # a rest before says no more than its last moments
    on = int(np.argmax(part.power > BUSY))
    first = int(np.searchsorted(part.time_s, part.time_s[on] - LEAD_S))
    part = part.rows(slice(first, None))
    return part, float(part.time_s[0] - log.time_s[0])


def _goals(part: TemperatureLog, target_c: float | None) -> Array:
    """The target at every report; where the log has none, what was given, or what it holds."""
    if part.target_c is not None and (part.target_c > 0).any():
        return part.target_c
    assert part.power is not None
    late = float(np.median(part.temperature_c[len(part.temperature_c) // 2 :]))
    goal = late if target_c is None or abs(target_c - late) > HELD_WITHIN_C else target_c
    on = np.maximum.accumulate(part.power > BUSY)
    return np.where(on, goal, 0.0)


def _main_goal(part: TemperatureLog, goals: Array, target_c: float | None) -> float:
    """The target that the log is about: as given, where it was in force for a while; else the one
    that most reports have.
    """
    if target_c is not None and (np.abs(goals - target_c) <= SAME_C).any():
        return target_c
    own = log_target(part) if part.target_c is not None else None
    return float(np.max(goals)) if own is None else own


def _refuse_unmoved(part: TemperatureLog, goal: float, odd: list[Remark]) -> None:
    """Refuse a log in which the power hardly changed, or never came to its target."""
    y = part.temperature_c
    if y.max() < goal - HELD_WITHIN_C - SAME_C:
        highest = float(y.max())
        hint = fahrenheit(highest, goal)
        raise Refusal("never-reached", odd, goal=goal, highest=highest, hint=hint)
    if y.max() - y.min() < LEAST_RISE_C:
        raise Refusal("hardly-moved", odd, rise=float(y.max() - y.min()), least=LEAST_RISE_C)


def _refuse_unheld(
    cut: tuple[Stretch, ...], delay_s: float, goal: float, odd: list[Remark]
) -> None:
    """Refuse a log that ends before the heater was held at its target, or that takes no more power
    to heat it up than to hold it.
    """
    rising, holding = ([s.power for s in cut if s.kind == kind] for kind in ("heats up", "holds"))
    if rising and holding and max(rising) < LEAST_MORE * min(holding):
        raise Refusal("power-unrelated", odd, rising=max(rising), holding=min(holding))
    held = sum(s.end_s - s.start_s for s in cut if s.kind == "holds")
    if held < HELD_DELAYS * delay_s:
        raise Refusal("hardly-held", odd, held=held, least=HELD_DELAYS * delay_s, goal=goal)


def _refuse_misfit(fit: ExcitedFit, odd: list[Remark]) -> None:
    """Refuse a model that misses the log."""
    if _astray(fit):
        raise Refusal("something-else", odd, miss=_miss_c(fit), sensor=fit.log.sigma_c)
    holding = fit.thermal.model.holding_power
    if not 0.01 < holding < 1.2:
        raise Refusal("not-its-power", odd, holding=holding)


def _miss_c(fit: ExcitedFit) -> float:
    """How far a model misses its log, in °C."""
    log = fit.log
    return float(np.sqrt(np.mean((fit.thermal.fitted_c - log.reading_c)[log.rows] ** 2)))


def _astray(fit: ExcitedFit) -> bool:
    """Whether something else moved the temperature than a model of the heater explains."""
    miss, log = _miss_c(fit), fit.log
    moves = float(np.std(log.reading_c[log.rows]))
    return fit.misfit > MOST_MISFIT or miss > min(ASTRAY * log.reference_c, UNEXPLAINED * moves)


def _at_rest(t: Array, y: Array, u: Array) -> bool:
    """Whether the log begins with a cold heater that stands still."""
    on = int(np.argmax(u > BUSY))
    return bool(y[0] < COLD_C and np.ptp(y[: on + 1]) < COLD_START_C)


def _delay(t: Array, y: Array, u: Array, at_rest: bool) -> float:
    """A first guess of dead time and lag together: from the power's start to a clear rise, or from
    its fall to the reading's turn.
    """
    usual = float(np.median(np.diff(t)))
    least = max(usual, 0.5)
    calm = max(6 * robust_deviation(np.diff(y)) if len(y) > 9 else 0.0, 1.0)
    if at_rest:
        on = int(np.argmax(u > BUSY))
        risen = np.flatnonzero((y > y[: on + 1].mean() + calm) & (np.arange(len(y)) > on))
        return float(np.clip(t[risen[0]] - t[on], least, 60.0)) if len(risen) else least
    full = np.flatnonzero(u > 0.9 * u.max())
    fall = int(full[-1])
    after = (t >= t[fall]) & (t < t[fall] + 120.0)
    return float(np.clip(t[after][np.argmax(y[after])] - t[fall], 2 * least, 60.0))


def _models(whole: ExcitedLog, cut: tuple[Stretch, ...]) -> tuple[ExcitedFit, ThermalFit | None]:
    """The model of a log: of its beginning first, both ways of logging power tried; then with the
    changes of loss that this shows. And the model of the other way, where it may be that.
    """
    arrived = next((s.start_s for s in cut if s.kind == "holds"), cut[-1].end_s)
    events = [s.start_s for s in cut]
    known = [at for at in whole.losses_s if at > arrived]
    events += known
    begins("the heater's model is fitted")
    ways = (True,) if _shows_means(whole) else (False, True)
    for delays in FIRST_DELAYS:
        early = whole.time_s <= min([arrived + delays * whole.delay_s, *known])
        first = _thinned(_rows(replace(whole, losses_s=()), early), events)
        fits = (fit_excited(replace(first, averaged=way)) for way in ways)
        best, *others = sorted(fits, key=lambda fit: -fit.likelihood)
        if not _astray(best):
            break
    open_ = [f.thermal for f in others if best.likelihood - f.likelihood < CLEARLY]
    otherwise = open_[0] if open_ else None
    if early.all():
        return best, otherwise
    all_of_it = _thinned(replace(whole, averaged=best.log.averaged), events)
    begins("changes of what takes heat are looked for")
    moments = np.zeros(0) if known else _moments(whole, cut)
    found = loss_changes(all_of_it, best, moments, CHANGE_WORTH) if len(moments) else known
    whole_fit = fit_excited(_thinned(replace(all_of_it, losses_s=tuple(found)), [*events, *found]))
    # of a part that it does not follow, the beginning alone is used
    only = whole.at_rest and _astray(whole_fit)
    return (best if only else whole_fit), otherwise


def _shows_means(log: ExcitedLog) -> bool:
    """Whether the heater's first report from cold has a part of the power that the next ones have
    whole: no sample has that.
    """
    u = log.power
    on = int(np.argmax(u > BUSY))
    begins = log.at_rest and 0 < on < len(u) - 2
    return begins and bool(u[on + 1 : on + 3].min() > FULL * u.max() > u[on])


def _changes_of(fan: Array, t: Array) -> tuple[float, ...]:
    """When a part fan went on, off, or by more than a quarter of its most faster or slower."""
    steps = np.abs(np.diff(fan)) > max(float(np.nanmax(fan)) / 4, 1e-9)
    return tuple(float(at) for at in t[1:][steps][:MOST_CHANGES])


def _rows(log: ExcitedLog, keep: Mask) -> ExcitedLog:
    """The reports of a log that are kept, as one of its own."""
    return replace(
        log,
        time_s=log.time_s[keep],
        reading_c=log.reading_c[keep],
        power=log.power[keep],
        target_c=log.target_c[keep],
        rows=np.arange(int(keep.sum())),
    )


def _moments(log: ExcitedLog, cut: tuple[Stretch, ...]) -> Array:
    """When a change of loss could be told: in holds, once they have settled."""
    settles = SETTLES_DELAYS * log.delay_s
    spans = [(s.start_s + settles, s.end_s - 2 * log.delay_s) for s in cut if s.kind == "holds"]
    spans = [(a, b) for a, b in spans if b > a]
    span = sum(b - a for a, b in spans)
    step = max(log.delay_s, span / MOST_MOMENTS)
    parts = [np.arange(a, b, step) for a, b in spans]
    return np.concatenate(parts) if parts else np.zeros(0)


def _thinned(log: ExcitedLog, events_s: list[float]) -> ExcitedLog:
    """The same log, where fewer of its reports are looked at: all around what happens, of steady
    ones some.
    """
    t, rows = log.time_s, np.arange(len(log.time_s))
    if len(rows) <= MOST_ROWS:
        return replace(log, rows=rows)
    before, after = (d * log.delay_s for d in DENSE_DELAYS)
    dense = np.zeros(len(t), bool)
    for at in events_s:
        dense |= (t >= at - before) & (t <= at + after)
    busy, steady = rows[dense], rows[~dense]
    busy = _some(busy, 2 * MOST_ROWS // 3)
    return replace(log, rows=np.sort(np.concatenate([busy, _some(steady, MOST_ROWS - len(busy))])))


def _some(rows: Integers, most: int) -> Integers:
    """So many rows at the most, evenly."""
    if len(rows) <= most:
        return rows
    return np.asarray(rows[np.linspace(0, len(rows) - 1, most).astype(np.int64)])
