"""Gains from what a console sums up of each cycle of an oscillation test: its highest and lowest
reading and how long it took. A log says more.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.errors import UsageError
from omphalon.physics.linear import textbook
from omphalon.physics.loop import Gains
from omphalon.physics.scale import robust_deviation
from omphalon.recordings.reports import FULL_POWERS
from omphalon.studies.heater.fit import times
from omphalon.studies.heater.question import HeaterQuestion, heater_at

FEWEST = 3  # cycles
LEAST_SWING_C = 0.2  # between highest and lowest: less is the display's own step
MOST_SWING_C = 60.0  # a larger one is a transcription error
MOST_SCATTER = 0.35  # of the swing or the period, from cycle to cycle
# of the ultimate gain, 95 %: what a describing function leaves out, a judgement; how good the gains
# come out is measured (docs/heater.md)
OWN_ERROR = 0.3


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
class SummaryFit:
    """Careful gains, what they rest on, and how far off they may be (a share, 95 %); the gains that
    the controller made of its test, in its scale, and by which table ("" where by none known).
    """

    heater: str
    target_c: float
    cycles: tuple[CycleSummary, ...]
    amplitude_c: float
    period_s: float
    ultimate_gain: float
    relative_spread: float
    gains: Gains
    full_power: float
    own: Gains | None
    own_table: str
    remarks: tuple[Remark, ...]

    verdict = "change"

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
    if len(cycles) < FEWEST:
        raise Refusal("few-summaries", count=len(cycles), fewest=FEWEST)
    used = tuple(cycles[min(len(cycles) // 3, len(cycles) - FEWEST) :])  # the relay has settled
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
    gain = 4 * (powers[0] - powers[1]) / 2 / (math.pi * swing / 2)
    full_power = question.gain_scale or gain_scale
    own = question.own
    printed = reported_gain or full_power * gain
    return SummaryFit(
        heater=question.heater or heater_at(target),
        target_c=target,
        cycles=used,
        amplitude_c=swing / 2,
        period_s=period,
        ultimate_gain=gain,
        relative_spread=math.hypot(OWN_ERROR, 2 * scatter / math.sqrt(len(used))),
        gains=textbook(gain, period),
        full_power=full_power,
        own=own,
        own_table="" if own is None else table_of(own, printed, period),
        remarks=(
            Remark("summaries", {"count": len(used)}),
            *(_own_scale(printed / gain, full_power) if reported_gain else ()),
        ),
    )


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
    return (Remark("own-scale", {"scale": scale, "here": full_power}),)
