"""What both forms of a temperature log share: how a user wants it read, and the columns it
gives.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from omphalon.remarks import Remark


@dataclass(frozen=True)
class Wanted:
    """How a user wants a log read."""

    heater: str | None = None
    full_power: float | None = None
    every_s: float | None = None
    columns: dict[str, str] = field(default_factory=dict)


@dataclass(kw_only=True)
class LogColumns:
    """What a form gives: columns as they stand, times in s, and what was seen on the way."""

    time_s: list[float]
    temperature_c: list[float]
    power: list[float] | None
    target_c: list[float] | None
    percent: bool
    notes: list[Remark]
