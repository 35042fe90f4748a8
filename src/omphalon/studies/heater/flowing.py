"""What plastic that flows does to a hotend's loop, and where full power ends."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from omphalon.physics import loop as loops
from omphalon.physics.loop import Gains, Loop
from omphalon.physics.thermal import ThermalModel
from omphalon.studies.heater.question import HeaterQuestion

WATTS_OFF = 0.1  # a cartridge's power may lie off what is printed on it, or off its supply
ROOM = 0.98  # of full power, beyond which nothing is held
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
    which full power ends, lowest, expected, highest. `dip_c`: of the flow that was asked for, in
    the same order; None where none was, or where full power does not hold it.
    """

    target_c: float
    flow_mm3_s: float  # that was asked for; 0 where none was
    heat_w: float  # that it takes
    dip_c: tuple[float, float, float] | None
    most_mm3_s: tuple[float, float, float]


def flowing(
    parts: Mapping[float, AtGoal], gains: Gains, loop: Loop, question: HeaterQuestion
) -> Flowing | None:
    """The dip when plastic begins to flow, and the flow at which power ends; None where neither
    the plastic nor the heater's power is known.

    parts: by target; each model reads the loop's target when it holds its own.
    """
    plastic, watts = question.plastic, question.watts
    if plastic is None or watts is None:
        return None
    goal = max(parts)
    at = parts[goal]
    models = [at.model, *at.draws]
    spread = [2 * (np.arange(len(models)) * step % 1) - 1 for step in STEPS]
    for each in spread:
        each[0] = 0.0  # the fitted heater, with what is expected
    heat = plastic.heat_j_mm3(goal - at.model.ambient_c) * (1 + plastic.doubt * spread[0])
    power = watts * (1 + WATTS_OFF * spread[1])
    doubt = question.cooling_doubt("hotend")
    fan = loop.fan_extra * np.interp(spread[2], (-1, 0, 1), (doubt[0], 1, doubt[1]))
    blown = [one.losing(1 + more) for one, more in zip(models, fan, strict=True)]
    holding = np.array([one.holding_power for one in blown])
    most = np.maximum(loop.limit - holding, 0.0) * power / heat
    flow = question.flow_mm3_s or 0.0
    dip = None
    if flow and most[0] > flow:
        held = holding < ROOM * loop.limit
        some = [one for one, holds in zip(blown, held, strict=True) if holds]
        share = (flow * heat / power / holding)[held]
        dips = loops.run_loop(some, gains.row(), loop, fan=share).dip_c[:, 0]
        low, high = np.quantile(dips[1:], TWO_SIDED)
        dip = float(FAR * low), float(dips[0]), float(CLOSE * high)
    low, high = np.quantile(most[1:], TWO_SIDED)
    return Flowing(
        target_c=goal,
        flow_mm3_s=flow,
        heat_w=float(flow * heat[0]),
        dip_c=dip,
        most_mm3_s=(float(low), float(most[0]), float(high)),
    )
