"""What printers are compared by: numbers with intervals that the answers hold, and what points
where when one of them is not like its fellows'.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from omphalon.settings import settings_in

Document = Mapping[str, Any]
# (of what: hotend, x, …; "" where there is one; value; half width of its 95 % interval)
Seen = tuple[str, float, float]
Picking = Callable[[Document], Iterator[Seen]]


@dataclass(frozen=True, kw_only=True)
class Figure:
    """One number of a study's answers: its words, unit, how it is picked; `ratio`: compared by
    shares of itself; what a high and a low one points at.
    """

    study: str
    name: str
    words: str
    unit: str
    pick: Picking
    ratio: bool = True
    high: str = ""
    low: str = ""


def _setting(field: str) -> Picking:
    """A setting as the data say it is best: one that is kept hides what was measured."""

    def pick(document: Document) -> Iterator[Seen]:
        for one in settings_in(document):
            if one.field == field:
                best = one.value if one.best is None else one.best
                yield from _seen(one.of, best, one.half_width)

    return pick


def _heater(*path: str) -> Picking:
    """A number of a heater's evidence, its spread beside it or under `spread`."""

    def pick(document: Document) -> Iterator[Seen]:
        place = document["evidence"]
        of = str(place.get("heater", ""))
        for step in path[:-1]:
            place = place.get(step) or {}
        name = path[-1]
        spread = (place.get("spread") or {}).get(name, place.get(f"{name}_spread"))
        yield from _seen(of, place.get(name), spread)

    return pick


def _axis_offset(document: Document) -> Iterator[Seen]:
    for axis, seen in document["evidence"].items():
        if isinstance(seen, Mapping):
            yield from _seen(axis, seen.get("offset_mm"), seen.get("offset_spread_mm"))


def _mode(name: str) -> Picking:
    """Of the mode with the largest share, on each axis."""

    def pick(document: Document) -> Iterator[Seen]:
        for axis, seen in document["evidence"].items():
            modes = seen.get("modes") if isinstance(seen, Mapping) else None
            if modes:
                main = max(modes, key=lambda mode: mode.get("share") or 0.0)
                yield from _seen(axis, main.get(name), (main.get("spread") or {}).get(name))

    return pick


def _limit(name: str) -> Picking:
    """Between the highest level that passed and the lowest that failed."""

    def pick(document: Document) -> Iterator[Seen]:
        for axis, seen in document["evidence"].items():
            one = seen.get(name) if isinstance(seen, Mapping) else None
            if one and one.get("highest_pass") and one.get("lowest_fail"):
                low, high = one["highest_pass"], one["lowest_fail"]
                if high > low:
                    yield from _seen(axis, (low + high) / 2, (high - low) / 2)

    return pick


def _seen(of: str, value: object, half_width: object) -> Iterator[Seen]:
    if isinstance(value, (int, float)) and isinstance(half_width, (int, float)):
        yield of, float(value), float(half_width)


WEAK = "a weak heater: cartridge, supply or wiring; or more air on the block"
FIGURES = (
    Figure(
        study="heater",
        name="ultimate_gain",
        words="gain at which it swings",
        unit="per °C",
        pick=_heater("ultimate_gain"),
        high="it answers less, or sooner: see its rise at full power and its dead time",
        low="it answers more, or later: see its rise at full power and its dead time",
    ),
    Figure(
        study="heater",
        name="gain_c",
        words="rise at full power",
        unit="°C",
        pick=_heater("model", "gain_c"),
        high="less heat lost: a sock or a fan unlike its fellows'",
        low=WEAK,
    ),
    Figure(
        study="heater",
        name="dead_time_s",
        words="dead time",
        unit="s",
        pick=_heater("model", "dead_time_s"),
        ratio=False,
        high="a sensor that sits loose, or far from the cartridge",
        low="a sensor that sits closer than its fellows'",
    ),
    Figure(study="heater", name="kp", words="kp", unit="per °C", pick=_setting("kp")),
    Figure(study="heater", name="ki", words="ki", unit="per °C·s", pick=_setting("ki")),
    Figure(study="heater", name="kd", words="kd", unit="per °C/s", pick=_setting("kd")),
    Figure(
        study="extruder",
        name="steps_per_mm",
        words="steps per mm",
        unit="",
        pick=_setting("steps"),
        high="a worn drive wheel, slip, or a part-clogged nozzle",
        low="a larger drive wheel, or readings with the wrong length asked",
    ),
    Figure(
        study="axis",
        name="steps_per_mm",
        words="steps per mm",
        unit="",
        pick=_setting("steps"),
        high="another pulley or belt pitch than its fellows'",
        low="another pulley, a stretched belt, or readings of the wrong length",
    ),
    Figure(
        study="axis",
        name="offset_mm",
        words="zero error",
        unit="mm",
        pick=_axis_offset,
        ratio=False,
        high="lines wider than the slicer believes, or another hand at the caliper",
        low="lines narrower than the slicer believes, or backlash",
    ),
    Figure(
        study="flow",
        name="flow",
        words="flow multiplier",
        unit="",
        pick=_setting("flow"),
        high="thin filament, slip, or steps per mm that are too low",
        low="thick filament, or steps per mm that are too high",
    ),
    Figure(
        study="advance",
        name="advance_s",
        words="pressure advance",
        unit="s",
        pick=_setting("advance"),
        ratio=False,
        high="a longer or wider tube, softer filament, or a part-clogged nozzle",
        low="a shorter tube, or a larger nozzle",
    ),
    Figure(
        study="shaper",
        name="frequency_hz",
        words="main resonance",
        unit="Hz",
        pick=_mode("frequency_hz"),
        high="a tighter belt, or less mass on the axis",
        low="a loose belt, more mass on the axis, or loose feet",
    ),
    Figure(
        study="shaper",
        name="damping",
        words="its damping",
        unit="",
        pick=_mode("damping"),
        high="friction, a soft belt, or a soft sensor mount",
        low="less friction than its fellows have, or a part that rings",
    ),
    Figure(
        study="shaper",
        name="acceleration_mm_s2",
        words="acceleration allowed",
        unit="mm/s²",
        pick=_setting("acceleration"),
        low="a softer frame or a loose belt",
    ),
    Figure(
        study="motion",
        name="speed_mm_s",
        words="speed before steps are lost",
        unit="mm/s",
        pick=_limit("speed_mm_s"),
        low="friction, a tight belt, or less motor current",
    ),
    Figure(
        study="motion",
        name="acceleration_mm_s2",
        words="acceleration before steps are lost",
        unit="mm/s²",
        pick=_limit("acceleration_mm_s2"),
        low="friction, more mass, or less motor current",
    ),
    Figure(
        study="probe",
        name="offset_mm",
        words="nozzle to probe",
        unit="mm",
        pick=_setting("offset"),
        ratio=False,
        high="a probe or a nozzle mounted otherwise",
        low="a probe or a nozzle mounted otherwise",
    ),
)
