"""The gains that a heater has now: given, or of the bench; and their one scale."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.cli.common import Leaving
from omphalon.cli.known import facts_of_bench, held
from omphalon.cli.options import OF_BENCH, Known, given_by_hand, number
from omphalon.tables.tools import FIRST

if TYPE_CHECKING:
    from omphalon.bench.work import State
    from omphalon.physics.loop import Gains
    from omphalon.recordings.recording import TemperatureLog
    from omphalon.studies.heater.question import HeaterQuestion


def scale_of_bench(state: State, given: Any) -> float:
    """Full power in the gains of the bench's controller, as its sheet has them; of a dialect that
    was named, where it is another.
    """
    from omphalon.lines.dialect import load_dialect

    found, named = held(), click.get_current_context().params.get("dialect")
    if found is None or named not in (None, found[0].dialect_path(state.facts)):
        return load_dialect(named).gain_scale
    return found[0].dialect(state.facts).gain_scale


def _gain(field: str) -> Known:
    """A present gain in the controller's own scale, where the heater was named."""

    def known(state: State, given: Any) -> float | None:
        setting = state.settings.get(f"{given.heater}-gains")
        scale = given.gain_scale or scale_of_bench(state, given)
        return None if setting is None else float(setting.value[field]) * scale

    return known


@dataclass(frozen=True, kw_only=True)
class GainOptions:
    """The present gains, in one of two forms."""

    kp: float | None = number(
        "--kp", "gain", "Present kp, per °C in the controller's scale.", bench=_gain("kp")
    )
    ki: float | None = number("--ki", "gain", "Present ki, per °C·s.", bench=_gain("ki"))
    kd: float | None = number("--kd", "gain", "Present kd, per °C/s.", bench=_gain("kd"))
    ti_s: float | None = number("--ti", "time", "Integral time in place of ki.", section=OF_BENCH)
    td_s: float | None = number("--td", "time", "Derivative time in place of kd.", section=OF_BENCH)

    def gains(self) -> Gains | None:
        """The present gains from either form, or None; part of them is a mistake."""
        from omphalon.physics.loop import Gains

        kp, ki, kd, ti_s, td_s = self.kp, self.ki, self.kd, self.ti_s, self.td_s
        values = {"kp": kp, "ki": ki, "kd": kd, "ti": ti_s, "td": td_s}
        given = [name for name, value in values.items() if value is not None]
        if not given:
            return None
        if kp == 0 or ti_s == 0:
            raise UsageError(
                f"--{'kp' if kp == 0 else 'ti'} 0: no loop", "give the gains that are in force"
            )
        if kp is not None and ki is not None and kd is not None and len(given) == 3:
            return Gains(kp, ki, kd)
        if kp is not None and ti_s is not None and td_s is not None and len(given) == 3:
            return Gains(kp, kp / ti_s, kp * td_s)
        raise UsageError(
            "present gains: " + ", ".join("--" + name for name in given) + " is neither form",
            "give --kp --ki --kd, or --kp --ti --td",
        )


def gains_of_bench(
    logs: list[TemperatureLog], question: HeaterQuestion, gain_scale: float
) -> Gains | None:
    """The gains in force of the heater that the logs show, in the controller's scale."""
    from omphalon.answers.settings import GAINS
    from omphalon.physics.loop import Gains
    from omphalon.studies.heater.question import heater_at

    found, known = held(), question.of_logs(logs)
    goal = known.target_c or max(float(log.temperature_c.max()) for log in logs)
    heater = known.heater or heater_at(goal)
    tool = FIRST if logs[0].heater is None else logs[0].heater.tool
    key = tool.setting(f"{heater}-gains")
    setting = None if found is None else found[1].settings.get(key)
    if setting is None:
        return None
    return Gains(*(float(setting.value[name]) * gain_scale for name in GAINS))


def refuse_two_scales(how: Leaving, gain_scale: float | None) -> None:
    """One scale of the gains: that of the option, or of a dialect or a bench that says another."""
    from omphalon.bench.facts import LOOP_FACTS
    from omphalon.lines.dialect import SHIPPED

    if gain_scale is None or "gain_scale" not in given_by_hand():
        return
    named = None if how.dialect in (None, *SHIPPED) else how.lines().gain_scale
    known = facts_of_bench(**LOOP_FACTS).get("full_power")
    for other, whose in ((named, f"dialect {how.dialect}"), (known, "bench")):
        if other is not None and other != gain_scale:
            raise UsageError(
                f"--gain-scale {gain_scale:g}, and {other:g} in the {echoed(whose)}",
                "leave the option out, or correct what the other says",
            )
