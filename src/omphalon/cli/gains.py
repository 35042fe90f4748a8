"""The gains that a heater has now: given, or of the bench; and their one scale."""

from __future__ import annotations

from typing import TYPE_CHECKING

from omphalon.base.errors import UsageError, echoed
from omphalon.cli.common import Leaving, by_hand
from omphalon.cli.known import facts_of_bench, held
from omphalon.tables.heaters import kind_of, tool_of

if TYPE_CHECKING:
    from omphalon.physics.loop import Gains
    from omphalon.recordings.recording import TemperatureLog
    from omphalon.studies.heater.question import HeaterQuestion


def gains_given(
    kp: float | None, ki: float | None, kd: float | None, ti_s: float | None, td_s: float | None
) -> Gains | None:
    """The present gains from either form, or None; part of them is a mistake."""
    from omphalon.physics.loop import Gains

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
    from omphalon.answers.settings import GAINS, tool_key
    from omphalon.physics.loop import Gains
    from omphalon.studies.heater.question import heater_at

    found, known = held(), question.of_logs(logs)
    goal = known.target_c or max(float(log.temperature_c.max()) for log in logs)
    heater = kind_of(known.heater or heater_at(goal)).name
    key = tool_key(f"{heater}-gains", tool_of(logs[0].heater) if logs[0].heater else 0)
    setting = None if found is None else found[1].settings.get(key)
    if setting is None:
        return None
    return Gains(*(float(setting.value[name]) * gain_scale for name in GAINS))


def refuse_two_scales(how: Leaving, gain_scale: float | None) -> None:
    """One scale of the gains: that of the option, or of a dialect or a bench that says another."""
    from omphalon.bench.facts import LOOP_FACTS
    from omphalon.lines.dialect import SHIPPED

    if gain_scale is None or not by_hand("gain_scale"):
        return
    named = None if how.dialect in (None, *SHIPPED) else how.lines().gain_scale
    known = facts_of_bench(**LOOP_FACTS).get("full_power")
    for other, whose in ((named, f"dialect {how.dialect}"), (known, "bench")):
        if other is not None and other != gain_scale:
            raise UsageError(
                f"--gain-scale {gain_scale:g}, and {other:g} in the {echoed(whose)}",
                "leave the option out, or correct what the other says",
            )
