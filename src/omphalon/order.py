"""The order of work: one table, which help, `bench next`, docs and answers read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from omphalon.tables import table_by


@dataclass(frozen=True, kw_only=True)
class Work:
    """A group of the order: what it is, in help and in a sentence, the minutes and the grams of
    filament that a first fit takes (judgements, from the plans), and whether only who asks for it
    needs it.
    """

    group: str
    help: str
    words: str
    minutes: int
    grams: int = 0
    asked: bool = False


ORDER: Mapping[str, Work] = table_by(
    "group",
    Work(group="probe", help="Nozzle-to-bed zero.", words="the nozzle's zero", minutes=15),
    Work(
        group="heater",
        help="Gains that hold the hotend or the bed still at its temperature.",
        words="the heaters",
        minutes=30,
    ),
    Work(group="axis", help="Steps per mm of X, Y and Z.", words="the axes", minutes=40, grams=12),
    Work(
        group="extruder",
        help="Steps per mm of the extruder.",
        words="the extruder",
        minutes=20,
        grams=1,
    ),
    Work(
        group="flow",
        help="Flow multiplier, for one filament.",
        words="the flow",
        minutes=30,
        grams=4,
    ),
    Work(
        group="shaper",
        help="Input shaper, and the acceleration that stays clean.",
        words="the input shaper",
        minutes=25,
    ),
    Work(
        group="advance",
        help="Pressure advance, in seconds, for one filament.",
        words="pressure advance",
        minutes=60,
        grams=15,
    ),
    Work(
        group="motion",
        help="Highest speed and acceleration before steps are lost.",
        words="the limits of motion",
        minutes=15,
        asked=True,
    ),
)


def comes_next(group: str) -> str:
    """What comes after a group, as an answer says it; nothing after the last."""
    names = [name for name, work in ORDER.items() if not work.asked]
    at = names.index(group) + 1 if group in names else len(names)
    return f"go on with {ORDER[names[at]].words}" if at < len(names) else ""
