"""What plastic that flows does to a hotend's loop, and where full power ends."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from omphalon.physics import loop as loops
from omphalon.physics.arrival import pieces
from omphalon.physics.loop import Gains, Loop
from omphalon.physics.scale import Estimate, student_95
from omphalon.physics.thermal import ThermalModel
from omphalon.recordings.recording import TemperatureLog
from omphalon.studies.heater.question import HeaterQuestion

WATTS_OFF = 0.1  # a cartridge's power may lie off what is printed on it, or off its supply
ROOM = 0.98  # of full power, beyond which nothing is held
LEAST_EACH = 1e-5  # share of full power that a mm³/s takes at the least
STEADY_C, PIECE_S, FEWEST_PIECES = 3.0, 30.0, 12  # of a hold: near its target, in pieces
LEAST_MOVES_MM3_S = 2.0  # of the flow, or nothing is learnt
STEPS = 0.8191725134, 0.6710436067, 0.5497004779  # that fill a cube evenly: physics/choice.py
TWO_SIDED = (0.025, 0.975)
# plastic takes its heat where it flows, not from all that loses: less of a dip where the sensor
# sits far from there, more of it where it sits close; set on the families "five nodes" and
# "radiation" of benchmarks/temperatures.py
FAR, CLOSE = 0.6, 1.3


class AtGoal(Protocol):
    """The heater at one target: its model and draws of what it may be, the part fan off."""

    @property
    def model(self) -> ThermalModel: ...

    @property
    def draws(self) -> Sequence[ThermalModel]: ...


@dataclass(frozen=True, kw_only=True)
class Flowing:
    """Plastic that flows while the part fan blows, at the hottest target; `most_mm3_s`: the flow at
    which full power ends, lowest, expected, highest. `dip_c`: with the given flow, in the same
    order; None without one, or where full power does not hold it.
    """

    target_c: float
    flow_mm3_s: float  # as given; 0 where none was
    takes: float  # of full power, for that flow
    measured: bool  # in the log, not worked out from the plastic
    dip_c: tuple[float, float, float] | None
    most_mm3_s: tuple[float, float, float]


def flow_share(log: TemperatureLog, target_c: float | None) -> Estimate | None:
    """Share of full power that 1 mm³/s of plastic takes, by a log that has the flow: the power of
    pieces of its hold against their flow, the part fan's and the temperature's own part taken out.
    None where the log has no flow, or too little of it.
    """
    flow, power = log.flow_mm3_s, log.power
    if flow is None or power is None or target_c is None:
        return None
    near = np.abs(log.temperature_c - target_c) < STEADY_C
    piece = np.floor(log.time_s / PIECE_S).astype(int)
    fan = np.zeros(len(power)) if log.fan is None else log.fan
    rows = []
    for n in np.unique(piece[near]):
        own = piece == n
        if near[own].all():
            drift = log.temperature_c[own][-1] - log.temperature_c[own][0]
            off = float(np.mean(log.temperature_c[own] - target_c))
            means = (float(np.mean(each[own])) for each in (power, flow, fan))
            rows.append((*means, off, float(drift)))
    table = np.array(rows)
    if len(table) < FEWEST_PIECES or np.ptp(table[:, 1]) < LEAST_MOVES_MM3_S:
        return None
    columns = np.column_stack([np.ones(len(table)), table[:, 1:]])
    columns = columns[:, [0, *(k for k in range(1, columns.shape[1]) if np.ptp(columns[:, k]) > 0)]]
    best = np.linalg.lstsq(columns, table[:, 0], rcond=None)[0]
    misses = table[:, 0] - columns @ best
    free = max(pieces(misses) - columns.shape[1], 1.0)
    deviation = float(
        np.std(misses) * np.sqrt(len(table) / free * np.linalg.pinv(columns.T @ columns)[1, 1])
    )
    return Estimate(float(best[1]), student_95(free) * deviation, deviation, free)


def flowing(
    parts: Mapping[float, AtGoal], gains: Gains, loop: Loop, question: HeaterQuestion
) -> Flowing | None:
    """The dip when plastic begins to flow, and the flow at which power ends; None where neither
    the plastic nor the heater's power is known.

    parts: by target; each model reads the loop's target when it holds its own.
    """
    known, plastic, watts = question.per_flow, question.plastic, question.watts
    if known is None and (plastic is None or watts is None):
        return None
    goal = max(parts)
    at = parts[goal]
    models = [at.model, *at.draws]
    spread = [2 * (np.arange(len(models)) * step % 1) - 1 for step in STEPS]
    for each in spread:
        each[0] = 0.0  # the fitted heater, with what is expected
    if known is not None:
        each = known.value + known.half_width * spread[0]  # of full power, for 1 mm³/s
    else:
        assert plastic is not None and watts is not None
        heat = plastic.heat_j_mm3(at.model.reference_c) * (1 + plastic.doubt * spread[0])
        each = heat / (watts * (1 + WATTS_OFF * spread[1]))
    each = np.maximum(each, LEAST_EACH)
    doubt = question.cooling_doubt("hotend")
    fan = loop.fan_extra * np.interp(spread[2], (-1, 0, 1), (doubt[0], 1, doubt[1]))
    blown = [one.losing(1 + more) for one, more in zip(models, fan, strict=True)]
    holding = np.array([one.holding_power for one in blown])
    most = np.maximum(loop.limit - holding, 0.0) / each
    flow = question.flow_mm3_s or 0.0
    dip = None
    if flow and most[0] > flow:
        held = holding < ROOM * loop.limit
        some = [one for one, holds in zip(blown, held, strict=True) if holds]
        share = (flow * each / holding)[held]
        dips = loops.run_loop(some, gains.row(), loop, fan=share).dip_c[:, 0]
        low, high = np.quantile(dips[1:], TWO_SIDED)
        dip = float(FAR * low), float(dips[0]), float(CLOSE * high)
    low, high = np.quantile(most[1:], TWO_SIDED)
    return Flowing(
        target_c=goal,
        flow_mm3_s=flow,
        takes=float(flow * each[0]),
        measured=known is not None,
        dip_c=dip,
        most_mm3_s=(float(low), float(most[0]), float(high)),
    )
