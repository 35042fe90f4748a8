"""Settings as a fit gives them, and where each stands in an answer's document: one table for
writing and for reading back, so that fit, bench, farm and lines speak of one and the same number.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from omphalon.tables.rows import rows_of
from omphalon.tables.tools import Tool

GAINS = ("kp", "ki", "kd")


@dataclass(frozen=True)
class Setting:
    """One field of a setting, in full precision: the bench's key and field, the value, the half
    width of its 95 % interval (None: it has none), and what the data say is best, where it is read
    back and another was kept.
    """

    key: str
    field: str
    value: float | str
    half_width: float | None = None
    best: float | None = None

    @property
    def unit(self) -> str:
        """Its unit; nothing where it has none."""
        return UNITS[Tool.in_key(self.key)[0]].get(self.field, "")

    @property
    def of(self) -> str:
        """Of what: hotend, x, …; nothing where there is one."""
        name = self.key.removesuffix("-gains")
        if name != self.key:
            return name
        return self.key[-1] if self.key[-2] == "-" and self.key != "steps-e" else ""


@dataclass(frozen=True, kw_only=True)
class _Units:
    """The units of a setting's fields, in the table of settings."""

    key: str
    fields: tuple[str, ...]
    units: tuple[str, ...] = ("",)


UNITS = {
    row.key: dict(zip(row.fields, row.units, strict=False)) for row in rows_of("settings", _Units)
}
# kind of answer → key, field, and the steps to it; {of} is an axis, or the heater of the evidence
PLACES: Mapping[str, tuple[tuple[str, str, tuple[str, ...]], ...]] = {
    "heater-fit": tuple(("{of}-gains", gain, (gain,)) for gain in GAINS),
    "extruder-fit": (("steps-e", "steps", ("steps_per_mm",)),),
    "axis-fit": (("steps-{of}", "steps", ("{of}", "steps_per_mm")),),
    "flow-fit": (("flow", "flow", ("flow",)),),
    "advance-fit": (("advance", "advance", ("advance_s",)),),
    "shaper-fit": (
        ("shaper-{of}", "shaper", ("{of}", "shaper")),
        ("shaper-{of}", "frequency", ("{of}", "frequency_hz")),
        ("shaper-{of}", "damping", ("{of}", "damping")),
        ("acceleration", "acceleration", ("acceleration_mm_s2",)),
    ),
    "motion-fit": (
        ("speed-limit-{of}", "speed", ("{of}", "speed_mm_s")),
        ("acceleration-limit-{of}", "acceleration", ("{of}", "acceleration_mm_s2")),
        ("corner-limit-{of}", "corner", ("{of}", "corner_mm_s")),
    ),
    "probe-fit": (("probe-offset", "offset", ("offset_mm",)),),
}
AXES = ("x", "y", "z", "e")


def _rows(kind: str, heater: object = None) -> Iterator[tuple[str, str, str, tuple[str, ...]]]:
    """Of what, key, field and steps of all settings that a kind of answer can hold."""
    places = PLACES.get(kind, ())
    for of in AXES if heater is None else (str(heater),):
        for key, field, steps in places:
            if "{of}" in key:
                yield of, key.format(of=of), field, tuple(s.format(of=of) for s in steps)
    yield from (("", *place) for place in places if "{of}" not in place[0])


def documents(kind: str, settings: Iterable[Setting]) -> tuple[dict[str, Any], dict[str, Any]]:
    """Settings and spread as the document of an answer has them."""
    values: dict[str, Any] = {}
    spread: dict[str, Any] = {}
    for one in settings:
        heater = one.of if kind == "heater-fit" else None
        steps = next(s for _, k, f, s in _rows(kind, heater) if (k, f) == (one.key, one.field))
        for place, value in ((values, one.value), (spread, one.half_width)):
            if value is not None:
                for step in steps[:-1]:
                    place = place.setdefault(step, {})
                place[steps[-1]] = value
    return values, spread


def settings_in(document: Mapping[str, Any]) -> list[Setting]:
    """The settings in the document of an answer, by their tool; none where it gives none."""
    tool = Tool(document.get("tool") or 0)
    kind, evidence = str(document.get("kind")), document.get("evidence") or {}
    values, spread = document.get("settings") or {}, document.get("spread") or {}
    heater = evidence.get("heater") if kind == "heater-fit" else None
    found = []
    for of, key, field, steps in _rows(kind, heater):
        value = _at(values, steps)
        if value is not None:
            own = _at(evidence, (of, "best", steps[-1])) if steps[0] == of else None
            best = next((b for b in (own, _at(evidence, ("best", *steps))) if b is not None), None)
            found.append(Setting(tool.setting(key), field, value, _at(spread, steps), best))
    return found


def _at(place: Any, steps: Iterable[str]) -> Any:
    """What stands at some steps into a document; None where nothing does."""
    for step in steps:
        place = place.get(step) if isinstance(place, Mapping) else None
    return place
