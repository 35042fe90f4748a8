"""What is asked of a heater: gains from an oscillation test, or a judgement of a hold."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from omphalon.physics.loop import Gains
from omphalon.physics.scale import Estimate
from omphalon.recordings.recording import TemperatureLog
from omphalon.tables.constants import BAND_C
from omphalon.tables.heaters import HEATERS
from omphalon.tables.plastics import Plastic

HOTEND_FROM_C = 135.0  # a target from here on is a hotend's
TOLD_FAN_DOUBT = 0.15  # share by which a cooling that is given may be off, and one that a log shows
SHOWN_FAN_DOUBT = 0.3  # of a fan's cooling that a log itself has shown
# of a cooling, where no test was made: air that hits what is far from the sensor makes less of a
# dip; so measured in docs/heater.md, "geometry"
FAR_FAN = 0.6


def heater_at(target_c: float) -> str:
    """hotend or bed, by the target's height."""
    return "hotend" if target_c >= HOTEND_FROM_C else "bed"


@dataclass(frozen=True, kw_only=True)
class HeaterQuestion:
    """What a user wants of the fit; `present` gains, and the controller's `own` from its test, are
    in the controller's scale, where `gain_scale` is full power.

    `fan_on`: whether the part fan blew during the test; `fan_cooling`: how much more heat is lost
    when it does. `band_c`: how near the target the loop starts to act; 0: it always does.
    """

    heater: str | None = None
    target_c: float | None = None
    aim: str = "even"
    power_limit: float = 1.0
    loop_period_s: float = 0.2
    filter_s: float = 1.0
    band_c: float = BAND_C
    gain_scale: float | None = None
    present: Gains | None = None
    own: Gains | None = None
    fan_on: bool | None = None
    fan_cooling: float | None = None
    max_temp_c: float | None = None
    range_c: tuple[float, float] | None = None  # one set of gains is wanted for all of it
    plastic: Plastic | None = None  # that is printed, and
    watts: float | None = None  # of the heater at full power: what it takes is a share of that
    flow_mm3_s: float | None = None  # of plastic, that the gains must bear
    per_flow: Estimate | None = None  # share of full power for 1 mm³/s, where a log shows it
    cooling_off: float | None = TOLD_FAN_DOUBT
    far_fan: float = 1.0

    def targets(self, tested_c: float) -> tuple[float, ...]:
        """Where the gains must do: the target, else the test's; of a range its middle first."""
        if self.range_c is not None:
            low, high = self.range_c
            return (low + high) / 2, low, high
        return (tested_c if self.target_c is None else self.target_c,)

    def with_cooling(self, value: float, half_width: float, alone: bool) -> HeaterQuestion:
        """The question, where a log itself shows how much more heat is lost with the fan on;
        `alone`: nothing else took more heat in it, that may be mistaken for the fan.
        """
        off = min(max(SHOWN_FAN_DOUBT, half_width / value), 0.8) if alone else None
        return replace(self, fan_cooling=value, cooling_off=off)

    def of_logs(self, logs: Sequence[TemperatureLog]) -> HeaterQuestion:
        """The question, where the logs themselves say whose they are, and that the fan blew all the
        time, or never.
        """
        named = {log.heater.name for log in logs if log.heater is not None}
        blew = {bool(v > 0) for log in logs if log.fan is not None for v in log.fan}
        return replace(
            self,
            heater=named.pop() if self.heater is None and len(named) == 1 else self.heater,
            fan_on=blew.pop() if self.fan_on is None and len(blew) == 1 else self.fan_on,
        )

    def fan_blew(self, heater: str) -> bool:
        """Whether the fan is taken to have blown: as told; else as `heater plan` has it."""
        return heater == "hotend" if self.fan_on is None else self.fan_on

    def fan_unsure(self, heater: str) -> bool:
        """Whether nobody said, and it matters: on a bed the fan takes little."""
        return self.fan_on is None and heater == "hotend"

    def cooling(self, heater: str) -> float:
        """How much more heat is lost with the fan on: as told, or the usual share."""
        return HEATERS[heater].fan_cooling if self.fan_cooling is None else self.fan_cooling

    def cooling_doubt(self, heater: str) -> tuple[float, float]:
        """How far the cooling may lie off, as factors."""
        if self.fan_cooling is None or self.cooling_off is None:
            low, high = HEATERS[heater].fan_doubt
        else:
            low, high = 1 - self.cooling_off, 1 + self.cooling_off
        return self.far_fan * low, high


@dataclass(frozen=True, kw_only=True)
class CheckQuestion:
    """What a user wants judged; from_s and to_s choose a part of the log, fan_at_s says when the
    fan came on. `health`: the heater's figures and their deviations as they once were.
    """

    target_c: float
    heater: str | None = None
    from_s: float | None = None
    to_s: float | None = None
    fan_at_s: float | None = None
    max_temp_c: float | None = None
    health: Mapping[str, tuple[float, float]] = field(default_factory=dict)

    @property
    def which(self) -> str:
        """The heater, as told or by the target."""
        return self.heater or heater_at(self.target_c)
