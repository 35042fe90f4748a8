"""A heater's health in an ordinary log: its holding power, how fast it rises at full
power, how late its sensor answers; and what has changed of it between two logs.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

import numpy as np

from omphalon.answers.remarks import Refusal, Remark
from omphalon.physics.scale import autocorrelation_time
from omphalon.recordings.recording import TemperatureLog
from omphalon.studies.changes import Change, Pair
from omphalon.studies.heater.excerpt import BUSY
from omphalon.studies.heater.excited import FULL, SETTLES_DELAYS, Excited, excited

# what the same heater differs by from one day to the next, as a deviation: the room, the supply,
# how the sensor sits; shares, and s of the delay; judgements
DELAY = "delay_s"
OTHER_DAY = {"holding_power": 0.012, "rise_c_s": 0.012, DELAY: 0.0}
OTHER_DAY_S = 0.05
PACE, START = (0.3, 0.7), (0.04, 0.12)  # shares of the way between which the rise is read
# figure → the remark where it rose, and where it fell
Sign = Literal["loses-more", "loses-less", "stronger", "weaker", "answers-later", "answers-sooner"]
SIGNS: Mapping[str, tuple[Sign, Sign]] = {
    "holding_power": ("loses-more", "loses-less"),
    "rise_c_s": ("stronger", "weaker"),
    DELAY: ("answers-later", "answers-sooner"),
}


def health(log: TemperatureLog, target_c: float) -> dict[str, tuple[float, float]]:
    """Each figure with its standard deviation; nothing where the log cannot tell them.

    `log`: with a heat-up from cold at full power, and a hold.
    """
    try:
        read = excited(log, target_c)
    except Refusal:
        return {}
    found = {**_holding(read), **_heat_up(read)}
    return {
        name: (value, float(np.hypot(own, OTHER_DAY[name] * value + OTHER_DAY_S * (name == DELAY))))
        for name, (value, own) in found.items()
    }


def _holding(read: Excited) -> dict[str, tuple[float, float]]:
    """The mean power of the first hold, once settled and before its losses first change."""
    hold = next((s for s in read.stretches if s.kind == "holds"), None)
    if hold is None:
        return {}
    ends = [at for at, _ in read.clear_losses if at > hold.start_s]
    start = hold.start_s + SETTLES_DELAYS * read.fit.log.delay_s
    rows = (read.time_s >= start) & (read.time_s < min([hold.end_s, *ends]))
    if rows.sum() < 20:
        return {}
    power = read.power[rows]
    own = float(np.std(power)) * np.sqrt(max(autocorrelation_time(power), 1.0) / len(power))
    return {"holding_power": (float(power.mean()), float(own))}


def _heat_up(read: Excited) -> dict[str, tuple[float, float]]:
    """The rise in the middle of the heat-up, and how late its beginning answers: where the line
    through it would have left the room's temperature.
    """
    log, t, y, u = read.fit.log, read.time_s, read.temperature_c, read.power
    full = u > FULL * u.max()
    on = int(np.argmax(u > BUSY))
    if not log.at_rest or on == 0:
        return {}
    crossed = [log.ambient_c + share * log.reference_c for share in (*START, *PACE)]
    at = [float(np.interp(c, np.maximum.accumulate(y), t)) for c in crossed]
    ends = np.searchsorted(t, at)
    if not full[on + 1 : ends[-1]].all():
        return {}
    early, pace = ((crossed[k + 1] - crossed[k]) / max(at[k + 1] - at[k], 1e-6) for k in (0, 2))
    # a mean says when in its interval the power came on, a sample, or a full mean, that it did
    mean = log.averaged and not full[on]
    share = float(u[on] / u.max()) if mean else 0.5
    switched = t[on] - share * (t[on] - t[on - 1])
    noise = log.sigma_c / early * 2
    late = 0.02 if mean else log.interval_s / np.sqrt(12)
    delay = at[0] - (crossed[0] - log.ambient_c) / early - switched
    own = pace * float(np.sqrt(2)) * log.sigma_c / (crossed[3] - crossed[2])
    return {"rise_c_s": (pace, own), DELAY: (float(delay), float(np.hypot(noise, late)))}


def health_pairs(
    before: Mapping[str, tuple[float, float]], after: Mapping[str, tuple[float, float]]
) -> list[Pair]:
    """Each figure of health that is known of both times."""
    return [
        Pair(
            name=name,
            before=before[name][0],
            before_deviation=before[name][1],
            after=after[name][0],
            after_deviation=after[name][1],
        )
        for name in before
        if name in after
    ]


def health_remarks(changes: Sequence[Change]) -> list[Remark]:
    """A word on each figure of health that changed beyond chance."""
    odd = []
    for one in changes:
        if one.pair.name in SIGNS and one.differs:
            share = 1.0 if one.pair.name == DELAY else one.pair.before
            facts = {"by": abs(one.change) / share, "half": one.half_width / share}
            odd.append(Remark(SIGNS[one.pair.name][one.change < 0], **facts))
    return odd
