"""What speaks against a log or a fit: refusals, and warnings from the gravest to the mildest."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from scipy.ndimage import median_filter

from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.arrays import Integers
from omphalon.physics import linear, oscillation
from omphalon.physics.aims import AIMS
from omphalon.physics.loop import Gains
from omphalon.physics.oscillation import Ultimate
from omphalon.physics.thermal_engine import COLD_C, ThermalFit
from omphalon.recordings.recording import TemperatureLog
from omphalon.studies.heater.excerpt import SAME_C, Excerpt
from omphalon.studies.heater.excited import Excited
from omphalon.studies.heater.tuning import MATTERS, Tuned
from omphalon.tables.heaters import HEATERS

FASTEST_C_S = 15.0  # no heater moves a reading faster
# of a log under the gains that are given: power at neither end, so many reports, how far its moves
# must go with theirs, and by which factor they may differ: judgements
ENDS, FEWEST_AT_WORK, AT_WORK, NOT_THESE = (0.02, 0.98), 15, 0.8, 3.0
MOST_OPEN = 2.5  # relative half width of a gain, beyond which an ordinary log gives none
EXPERIMENTS = {
    "heat-up": "a heat-up from cold and a hold: omphalon heater plan --style heat-up",
    "test": "the oscillation test: omphalon heater plan",
}
COASTS_S, ALONE_C = 15.0, 5.0  # without power a block still warms for a while, and by a little
MOST_SHIFT_DOUBTS = 2.5  # of the switching instants, in their own doubts
MOST_APART_DEG = 25.0  # of phase at the cycle, between log and model
THIN = AIMS["even"].sensitivity  # peak sensitivity that the usual aim allows
SCALES = (1.0, 100.0, 127.0, 255.0, 1023.0)  # that controllers give gains for
# gains that lie so many times off, and by factors within so many times of one another, are in
# another scale: no loop that holds its target is so far from the best
FAR, ALIKE = 25.0, 12.0
INVERSE, NEAR_LOG = 8.0, math.log(4.0)
FASTEST_BED_C_S = 2.0  # no bed heats so fast, measured over ten seconds


def log_doubts(log: TemperatureLog, max_temp_c: float | None) -> list[Remark]:
    """Safety first: too hot, a sensor that jumps, a temperature that rises without power.

    `max_temp_c`: what it may stand; None: what is usual.
    """
    odd = []
    top = float(log.temperature_c.max())
    if max_temp_c is not None and top > max_temp_c:
        odd.append(Remark("above-allowed", top=top, allowed=max_temp_c))
    rows, size = _jumps(log)
    if len(rows):
        facts = {"size": size, "count": len(rows), "first": float(log.time_s[rows[0]])}
        odd.append(Remark("jumps", **facts))
    if log.power is not None:
        odd += _heats_alone(log)
    return odd


def jumps(log: TemperatureLog) -> int:
    """How often the reading jumps by more than a heater can do."""
    return len(_jumps(log)[0])


def _jumps(log: TemperatureLog) -> tuple[Integers, float]:
    """The rows at which it does, and the largest jump in °C."""
    y = log.temperature_c
    calm = y - median_filter(y, 5)
    calm[:2] = calm[-2:] = 0.0
    rows = np.flatnonzero(np.abs(calm[:-1]) > np.maximum(FASTEST_C_S * np.diff(log.time_s), 8.0))
    return rows, float(np.abs(calm[rows]).max()) if len(rows) else 0.0


ROOM_F = (
    59.0,
    90.0,
)  # a room's temperature in °F: a log that begins so, and ends past what is usual


def heater_doubts(log: TemperatureLog, heater: str) -> list[Remark]:
    """Whether the log can be of this heater: too hot for it, or heating as only a hotend does.
    Single spikes do not count.

    Raises Refusal above what can be.
    """
    usual, most = HEATERS[heater].usual_c, HEATERS[heater].most_c
    hottest = max(len(log.temperature_c) // 50, 3)
    top = float(np.sort(log.temperature_c)[-hottest])
    facts = {"top": top, "heater": heater, "usual": usual, "most": most}
    if top > most:
        raise Refusal("too-hot-for-it", **facts)
    start = float(np.median(log.temperature_c[:3]))
    if top > usual and ROOM_F[0] < start < ROOM_F[1]:
        raise Refusal("log-looks-f", start=start, **facts)
    odd = [Remark("hotter-than-usual", **facts)] if top > usual else []
    if HEATERS[heater].name != "hotend" and (pace := fastest_rise(log)) > FASTEST_BED_C_S:
        odd.append(Remark("too-fast", pace=pace))
    return odd


def fastest_rise(log: TemperatureLog) -> float:
    """The steepest rise over ten seconds; single spikes do not count."""
    calm = median_filter(log.temperature_c, 5, mode="nearest")
    ahead = np.searchsorted(log.time_s, log.time_s + 10.0)
    inside = np.flatnonzero(ahead < len(log.time_s))
    if not len(inside):
        return 0.0
    rise = calm[ahead[inside]] - calm[inside]
    return float((rise / (log.time_s[ahead[inside]] - log.time_s[inside])).max())


def _heats_alone(log: TemperatureLog) -> list[Remark]:
    """More than 15 s without power, and still 5 °C warmer at the end than 15 s into it."""
    assert log.power is not None
    t, y, off = log.time_s, log.temperature_c, log.power < 0.01
    edges = np.flatnonzero(np.diff(np.concatenate([[0], off.astype(int), [0]])))
    for start, end in zip(edges[::2], edges[1::2] - 1, strict=True):
        late = start + int(np.searchsorted(t[start : end + 1], t[start] + COASTS_S))
        if late < end and y[end] > y[late] + ALONE_C:
            facts = {"rise": y[end] - y[late], "start": t[start], "end": t[end]}
            return [Remark("rises-alone", **facts)]
    return []


def explained(test: Excerpt, fit: ThermalFit) -> list[Remark]:
    """Refuse a model that misses the log; a word on one that follows it loosely.

    Raises Refusal if the model misses the log.
    """
    sensor = min(test.sigma_c, 0.3 * test.swing_c)
    allowed = float(np.hypot(1.5 * sensor, 0.04 * fit.swing_rms_c))
    if fit.shift_doubts > MOST_SHIFT_DOUBTS:
        raise Refusal("shifted", late=float(np.sqrt(np.mean(fit.shift_s**2))))
    facts = {"miss": fit.rms_c, "sensor": sensor}
    if fit.rms_c > 1.5 * allowed:
        raise Refusal("misses", **facts)
    return [Remark("follows-loosely", **facts)] if fit.rms_c > allowed else []


def logs_disagree(tests: Sequence[Excerpt]) -> list[Remark]:
    """Logs of one heater at one target whose cycles differ by more than their spreads and 10 %."""
    first, *others = (oscillation.ultimate(t.found) for t in tests)
    for n, other in enumerate(others, 2):
        if abs(tests[n - 1].target_c - tests[0].target_c) > SAME_C:
            continue
        pairs = (
            ("gain", first.gain, other.gain, first.gain_spread + other.gain_spread),
            (
                "period",
                first.period_s,
                other.period_s,
                first.period_spread_s + other.period_spread_s,
            ),
        )
        for name, one, two, spread in pairs:
            if abs(one - two) > spread + 0.10 * one:
                facts = {"number": n, "name": name, "one": one, "two": two}
                return [Remark("two-heaters", **facts)]
    return []


def range_doubts(tuned: Tuned) -> list[Remark]:
    """Where one set of gains costs too much at a target of its range, and where power may end."""
    odd = []
    worst = max(tuned.spans, key=lambda one: one.cost, default=None)
    if worst is not None and worst.cost > MATTERS:
        odd.append(Remark("one-set-costs", target=worst.target_c, cost=worst.cost))
    plastic = tuned.flowing
    if plastic is not None and plastic.flow_mm3_s > (low := plastic.most_mm3_s[0]):
        facts = {"target": plastic.target_c, "low": low, "flow": plastic.flow_mm3_s}
        odd.append(Remark("power-may-end", **facts))
    return odd


def fit_doubts(test: Excerpt, fit: ThermalFit, tuned: Tuned, cycle: Ultimate) -> list[Remark]:
    """Doubts of a fit that stands: a marginal loop, few reports, little power, another swing."""
    odd = []
    turn = np.array([2 * np.pi / cycle.period_s])
    model = linear.response(fit.model, replace(tuned.loop, period_s=1e-6), turn)[0]
    ratio = float(np.abs(model)) * cycle.gain
    phase = (float(np.degrees(np.angle(model))) - cycle.phase_deg + 180) % 360 - 180
    apart = abs(np.log(ratio)) > 0.3 + cycle.gain_spread / cycle.gain
    if apart or abs(phase) > MOST_APART_DEG:
        odd.append(Remark("swings-otherwise", period=cycle.period_s, ratio=ratio, phase=phase))
    if tuned.sensitivity[0] > THIN:
        odd.append(Remark("thin-margin", sensitivity=float(tuned.sensitivity[0])))
    usual = float(np.median(np.diff(test.time_s)))
    if usual > 0.25 * cycle.period_s:
        odd.append(Remark("seldom", usual=usual, period=cycle.period_s))
    holding, limit, most = tuned.model.holding_power, tuned.loop.limit, float(test.power.max())
    if holding * (1 + tuned.loop.fan_extra) > 0.95 * limit:
        odd.append(Remark("nearly-all", holding=holding))
    if most < 0.9 * limit:
        odd.append(Remark("never-full", most=most, limit=limit))
    return odd


def refuse_too_little(read: Excited, tuned: Tuned) -> None:
    """Refuse gains for a heater of which an ordinary log leaves too much open, and say which
    experiment would tell most.
    """
    share = tuned.limit_share
    if share <= MOST_OPEN:
        return
    cold = any(s.kind == "heats up" and s.from_c < COLD_C for s in read.stretches)
    missing = "" if cold else "; it does not begin cold"
    name = "test" if cold else "heat-up"
    raise Refusal("too-little-told", share=share, missing=missing, experiment=EXPERIMENTS[name])


def refuse_not_at_work(read: Excited, present: Gains) -> None:
    """Refuse present gains that an ordinary log shows not to be at work: its power moves as theirs
    would, by another factor.

    `present`: for a power of 0…1.
    """
    asked, given = [], []
    for hold in (s for s in read.stretches if s.kind == "holds"):
        t, u = read.time_s, read.power
        rows = (t >= hold.start_s) & (t < hold.end_s) & (u > ENDS[0]) & (u < ENDS[1])
        if rows.sum() < FEWEST_AT_WORK:
            continue
        error = hold.target_c - read.temperature_c[rows]
        gathered = np.concatenate([[0.0], np.cumsum(error[1:] * np.diff(t[rows]))])
        slope = np.gradient(read.temperature_c[rows], t[rows])
        power = present.kp * error + present.ki * gathered - present.kd * slope
        asked.append(power - power.mean())
        given.append(u[rows] - u[rows].mean())
    if not asked:
        return
    one, other = np.concatenate(asked), np.concatenate(given)
    if not (one.any() and other.any()):  # a reading or a power that never moves says nothing
        return
    alike = float(np.corrcoef(one, other)[0, 1])
    factor = float(one @ other) / max(float(one @ one), 1e-12)
    if alike > AT_WORK and not 1 / NOT_THESE < factor < NOT_THESE:
        raise Refusal("gains-not-at-work", factor=factor)


def excited_doubts(read: Excited, tuned: Tuned) -> list[Remark]:
    """Doubts of gains from a log without a test."""
    odd = [Remark("ordinary", count=len(read.stretches))]
    if tuned.sensitivity[0] > THIN:
        odd.append(Remark("thin-margin", sensitivity=float(tuned.sensitivity[0])))
    holding, limit = tuned.model.holding_power, tuned.loop.limit
    if holding * (1 + tuned.loop.fan_extra) > 0.95 * limit:
        odd.append(Remark("nearly-all", holding=holding))
    if (most := float(read.power.max())) < 0.9 * limit:
        odd.append(Remark("never-full", most=most, limit=limit))
    return odd


def refuse_other_scale(given: Gains, best: Gains, full_power: float, period_s: float) -> None:
    """Refuse present gains that a mistake of scale explains: all off by one factor, or those of
    integral and derivative by inverse ones. A loop's own faults lie nearer, and not alike.

    `best`: for a power of 0…1. `full_power`: what is taken to stand for it in the controller's
    gains. `period_s`: of the controller's loop. Raises Refusal with the scale, or the time, that
    would explain them.
    """
    pairs = [(given.kp, best.kp), (given.ki, best.ki), (given.kd, best.kd)]
    if any(g <= 0 or b <= 0 for g, b in pairs):
        return
    kp, ki, kd = (math.log(g / (b * full_power)) for g, b in pairs)
    middle = (kp + ki + kd) / 3
    alike = max(kp, ki, kd) - min(kp, ki, kd) < math.log(ALIKE)
    scale = min(SCALES, key=lambda s: abs(middle + math.log(full_power / s)))
    if alike and abs(middle) > math.log(FAR) and abs(middle + math.log(full_power / scale)) < 1.5:
        factor = math.exp(abs(middle))
        facts = {"factor": factor, "scale": scale, "full_power": full_power}
        raise Refusal("gains-too-small" if middle < 0 else "gains-too-large", **facts)
    for unit, which in ((period_s, "a-loop"), (60.0, "minutes")):
        shift = math.log(unit)
        near = abs(ki - shift) < NEAR_LOG and abs(kd + shift) < NEAR_LOG and abs(kp) < NEAR_LOG
        near &= abs(shift) > math.log(INVERSE)
        # or that time explains most of a derivative time that no loop of this heater has
        far, rest = math.hypot(ki, kd), math.hypot(ki - shift, kd + shift)
        far_off = kd - kp > math.log(INVERSE) and rest < far / 2 and abs(kp) < NEAR_LOG
        if near or far_off:
            raise Refusal("gains-of-other-times", unit=f"gains-per-{which}", seconds=unit)
