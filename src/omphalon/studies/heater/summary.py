"""Gains from what a console sums up of each cycle of an oscillation test: its highest and lowest
reading and how long it took. A log says more.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from omphalon.answers.finding import Verdict
from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.errors import UsageError
from omphalon.physics.loop import Gains
from omphalon.physics.rough import RoughHeater
from omphalon.physics.scale import robust_deviation
from omphalon.recordings.reports import FULL_POWERS
from omphalon.studies.heater.fit import times
from omphalon.studies.heater.question import HeaterQuestion, heater_at
from omphalon.studies.heater.tuning import Tuned, sure_enough, tune, worth_keeping
from omphalon.tables.heaters import HEATERS, HeaterKind

FEWEST_CYCLES = 3  # cycles
LEAST_SWING_C = 0.2  # between highest and lowest: less is the display's own step
MOST_SWING_C = 60.0  # a larger one is a transcription error
PERIODS = (1 / 60, 2.0)  # of a heater's unit of time: a hotend's cycles take 1 to 120 s
MOST_MASS = 60.0  # of a heater's unit of time: no mass answers more slowly
MOST_SCATTER = 0.35  # of the swing or the period, from cycle to cycle
# of the ultimate gain, 95 %: what a describing function leaves out, a judgement; how good the gains
# come out is measured (docs/heater.md)
OWN_ERROR = 0.3
HOLDS = (0.15, 0.75)  # of full power, that may hold a target where no power was printed
LEAST_HOLDING = 0.03  # of full power: less holds no heater
HOLDS_WITHIN = 0.25  # of the mean of the two powers, else
DISPLAY_C = 0.1  # of a console's figures

# tables that controllers use: shares of Ku, of Tu for Ti, of Tu for Td
TABLES = {
    "Ziegler and Nichols": (0.6, 0.5, 0.125),
    "Ziegler and Nichols, some overshoot": (1 / 3, 0.5, 1 / 3),
    "Ziegler and Nichols, no overshoot": (0.2, 0.5, 1 / 3),
    "Pessen": (0.7, 0.4, 0.15),
    "Tyreus and Luyben": (1 / 2.2, 2.2, 1 / 6.3),
}
SCALE_WITHIN = 0.25  # of a full power, as a logarithm: they lie twice apart and more
TABLE_WITHIN = 0.06  # what rounding of the printed figures leaves


def table_of(own: Gains, gain: float, period_s: float) -> str:
    """The table by which gains were made of an ultimate gain and period; "" where it is none of
    them.

    References
    ----------
    Ziegler and Nichols, Trans. ASME 64 (1942), p. 759; Pessen, Control Eng. 1 (1954); Tyreus and
    Luyben, Ind. Eng. Chem. Res. 31 (1992), p. 2625.
    """
    if min(own.kp, own.ki, own.kd, gain, period_s) <= 0:
        return ""
    seen = (own.kp / gain, own.kp / own.ki / period_s, own.kd / own.kp / period_s)
    for name, shares in TABLES.items():
        if all(abs(a / b - 1) < TABLE_WITHIN for a, b in zip(seen, shares, strict=True)):
            return name
    return ""


@dataclass(frozen=True, kw_only=True)
class CycleSummary:
    """One cycle: its highest and lowest reading in °C, and its length in s."""

    high_c: float
    low_c: float
    period_s: float


@dataclass(frozen=True, kw_only=True)
class _Console:
    """How a console shows a heater: its target, and readings to a tenth of a degree."""

    target_c: float
    noise_c: float = DISPLAY_C / 2
    quantum_c: float = DISPLAY_C


@dataclass(frozen=True, kw_only=True)
class SummaryFit:
    """Gains chosen over all heaters that would swing so, and what they promise; how far off the
    ultimate gain may be (a share, 95 %); the gains that the controller made of its test, in its
    scale, and by which table ("" where by none known).
    """

    heater: str
    target_c: float
    cycles: tuple[CycleSummary, ...]
    amplitude_c: float
    period_s: float
    ultimate_gain: float
    relative_spread: float
    tuned: Tuned
    gains: Gains
    full_power: float
    own: Gains | None
    own_table: str
    verdict: Verdict
    remarks: tuple[Remark, ...]

    @property
    def scaled(self) -> Gains:
        """The gains in the controller's scale."""
        return times(self.gains, self.full_power)


def fit_summary(
    cycles: Sequence[CycleSummary],
    question: HeaterQuestion,
    powers: tuple[float, float],
    gain_scale: float,
    reported_gain: float | None = None,
) -> SummaryFit:
    """Gains from the summaries of some cycles.

    Parameters
    ----------
    cycles : as the console told them; the first third, in which the test settles, is left out
    question : target and heater
    powers : high and low, as shares of full power
    gain_scale : the number for full power in the controller's gains
    reported_gain : the ultimate gain that the controller printed, in its scale

    Raises
    ------
    Refusal
        If there are too few cycles, or they do not repeat, or never cross the target.
    UsageError
        If a cycle is upside down, or the powers are.

    References
    ----------
    Åström and Hägglund, Automatica 20 (1984), p. 645–651: Ku = 4 d / (π a), d half the step of
    power, a half the swing.
    """
    _refuse_senseless(cycles, powers)
    used = tuple(
        cycles[min(len(cycles) // 3, len(cycles) - FEWEST_CYCLES) :]
    )  # the relay has settled
    swings = np.array([c.high_c - c.low_c for c in used])
    periods = np.array([c.period_s for c in used])
    swing, period = float(np.median(swings)), float(np.median(periods))
    if not LEAST_SWING_C <= swing <= MOST_SWING_C:
        raise Refusal("no-such-swing", swing=swing)
    scatter = max(_scatter(swings), _scatter(periods))
    if scatter > MOST_SCATTER:
        raise Refusal("cycles-differ", scatter=scatter)
    middle = float(np.mean([(c.high_c + c.low_c) / 2 for c in used]))
    target = middle if question.target_c is None else question.target_c
    if not min(c.low_c for c in used) <= target <= max(c.high_c for c in used):
        raise Refusal("target-elsewhere", target=target, middle=middle)
    heater = question.heater or heater_at(target)
    least, most = (share * HEATERS[heater].unit_s for share in PERIODS)
    if not least <= period <= most:
        raise Refusal("no-such-period", period=period, least=least, most=most)
    gain = 4 * (powers[0] - powers[1]) / 2 / (math.pi * swing / 2)
    full_power = question.gain_scale or gain_scale
    own = question.own
    printed = reported_gain or full_power * gain
    present = question.present and times(question.present, 1 / full_power)
    tuned = tune(
        _Console(target_c=target),
        _rough(gain, period, target, powers, HEATERS[heater]),
        heater,
        replace(question, target_c=target),
        present,
        own=own and times(own, gain / printed),
    )
    keeps = present is not None and (worth_keeping(tuned) or not sure_enough(tuned))
    return SummaryFit(
        heater=heater,
        target_c=target,
        cycles=used,
        amplitude_c=swing / 2,
        period_s=period,
        ultimate_gain=gain,
        relative_spread=math.hypot(OWN_ERROR, 2 * scatter / math.sqrt(len(used))),
        tuned=tuned,
        gains=present if keeps and present is not None else tuned.new,
        verdict="keep" if keeps else "change",
        full_power=full_power,
        own=own,
        own_table="" if own is None else table_of(own, printed, period),
        remarks=(
            Remark("summaries", count=len(used)),
            *(_own_scale(printed / gain, full_power) if reported_gain else ()),
        ),
    )


def _refuse_senseless(cycles: Sequence[CycleSummary], powers: tuple[float, float]) -> None:
    """Refuse powers and cycles that are upside down, and too few of these."""
    if powers[0] <= powers[1]:
        raise UsageError(
            f"--power-high {powers[0]:g} --power-low {powers[1]:g}: upside down",
            "the high power heats, the low one cools",
        )
    for one in cycles:
        if one.high_c <= one.low_c:
            raise UsageError(
                f"--cycle {one.low_c:g}:{one.high_c:g}:{one.period_s:g}: the high reading is not "
                "above the low one",
                "give LOW:HIGH:SECONDS",
            )
    if len(cycles) < FEWEST_CYCLES:
        raise Refusal("few-summaries", count=len(cycles), fewest=FEWEST_CYCLES)


def _rough(
    gain: float, period_s: float, target_c: float, powers: tuple[float, float], kind: HeaterKind
) -> RoughHeater:
    """What the cycles leave open of the heater; the holding power is about the mean
    of the two, where these were printed.

    Raises Refusal where no heater of the kind would swing so.
    """
    low, high = HOLDS
    if powers != (1.0, 0.0):
        low, high = (share * sum(powers) / 2 for share in (1 - HOLDS_WITHIN, 1 + HOLDS_WITHIN))
    rough = RoughHeater(
        ultimate_gain=gain,
        period_s=period_s,
        target_c=target_c,
        holding=(low, high),
        rms_c=DISPLAY_C / 2,
    )
    slow = period_s <= rough.model.time_constant_s <= MOST_MASS * kind.unit_s
    if not slow or sum(powers) / 2 < LEAST_HOLDING:
        step = powers[0] - powers[1]
        raise Refusal(
            "no-such-heater", swing=2 * step / (math.pi * gain), period=period_s, step=step
        )
    return rough


def _scatter(values: np.ndarray) -> float:
    """Deviation by the median, as a share of it."""
    return robust_deviation(values - np.median(values)) / float(np.median(values))


def _own_scale(printed: float, full_power: float) -> tuple[Remark, ...]:
    """A word where the ultimate gain that a controller printed is of another full power, `printed`,
    than the gains here.
    """
    scale = min(FULL_POWERS, key=lambda full: abs(math.log(printed / full)))
    if abs(math.log(printed / scale)) > SCALE_WITHIN or scale == full_power:
        return ()
    return (Remark("own-scale", scale=scale, here=full_power),)
