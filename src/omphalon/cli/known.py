"""What a bench knows of a command's options."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import click

from omphalon.answers.settings import GAINS

if TYPE_CHECKING:
    from omphalon.bench.bench import Bench
    from omphalon.bench.work import State

HELD = "omphalon.bench"
Known = Callable[["State", Mapping[str, Any]], Any]


def held() -> tuple[Bench, State] | None:
    """The bench of the running command, and what it knows."""
    found: tuple[Bench, State] | None = click.get_current_context().meta.get(HELD)
    return found


def facts_of_bench(**keys: str) -> dict[str, Any]:
    """Facts of the running command's bench under names of the caller's, those that are known."""
    found = held()
    facts = {} if found is None else found[1].facts
    return {name: facts[key] for name, key in keys.items() if key in facts}


def _fact(key: str) -> Known:
    return lambda state, given: state.facts.get(key)


def _filament(key: str) -> Known:
    return lambda state, given: state.facts.get(f"filament.{state.filament}.{key}")


def _value(key: str, field: str, usual: float | None = None) -> Known:
    """A setting's field; `{axis}` in the key is the axis that was asked for."""

    def known(state: State, given: Mapping[str, Any]) -> Any:
        axis = given.get("axis") or given.get("name") or "x"
        setting = state.settings.get(key.replace("{axis}", str(axis)))
        return usual if setting is None else setting.value[field]

    return known


def _gain_scale(state: State, given: Mapping[str, Any]) -> Any:
    """Full power in the gains of the bench's controller, as its sheet has them."""
    from omphalon.lines.dialect import load_dialect

    found, named = held(), given.get("dialect")
    if found is None or named not in (None, found[0].dialect_path(state.facts)):
        return load_dialect(named).gain_scale
    return found[0].dialect(state.facts).gain_scale


def _gain(field: str) -> Known:
    """A present gain in the controller's own scale, where the heater was named."""

    def known(state: State, given: Mapping[str, Any]) -> Any:
        setting = state.settings.get(f"{given.get('heater')}-gains")
        scale = given.get("gain_scale") or _gain_scale(state, given)
        return None if setting is None else setting.value[field] * float(str(scale))

    return known


def _target(state: State, given: Mapping[str, Any]) -> Any:
    return state.facts.get(f"heaters.{given.get('heater') or 'hotend'}_target")


def _run_target(state: State, given: Mapping[str, Any]) -> Any:
    """The usual target, where a run was asked for."""
    return _target(state, given) if given.get("run") else None


def _steps(state: State, given: Mapping[str, Any]) -> Any:
    found = [
        f"{axis}={state.settings[f'steps-{axis}'].value['steps']!r}"
        for axis in "xyz"
        if f"steps-{axis}" in state.settings and given.get("name") in (None, axis)
    ]
    return found or None


def _steps_across(state: State, given: Mapping[str, Any]) -> Any:
    """Steps of X and Y as one option has them."""
    both = [state.settings.get(f"steps-{axis}") for axis in "xy"]
    values = [one.value["steps"] for one in both if one is not None]
    return ":".join(f"{value!r}" for value in values) if len(values) == 2 else None


def _build(state: State, given: Mapping[str, Any]) -> Any:
    moves = "moving-bed" if state.facts.get("printer.bed_moves_y") else None
    return state.facts.get("printer.build", moves)


def _bed_moves(state: State, given: Mapping[str, Any]) -> Any:
    build = state.facts.get("printer.build")
    return build == "moving-bed" if build else state.facts.get("printer.bed_moves_y")


def _bed_fact(key: str) -> Known:
    """A fact of the bed that towers settle: round, with its zero in the middle."""
    return lambda state, given: state.facts.get(
        key, state.facts.get("printer.build") == "delta" or None
    )


def _bed(state: State, given: Mapping[str, Any]) -> Any:
    x, y = state.facts.get("bed.x"), state.facts.get("bed.y")
    if _bed_fact("bed.round")(state, given) and isinstance(x, float):
        return f"round:{x:g}"
    return f"{x:g}:{y:g}" if isinstance(x, float) and isinstance(y, float) else None


def _travel(state: State, given: Mapping[str, Any]) -> Any:
    ends = state.facts.get(f"travel.{given.get('name')}")
    return f"{ends[0]:g}:{ends[1]:g}" if isinstance(ends, list) else None


def _travel_across(state: State, given: Mapping[str, Any]) -> Any:
    """The other axis's, where corners were asked for, or diagonals are run too."""
    other = {"x": "y", "y": "x"}.get(str(given.get("name")))
    two = given.get("corner") or _build(state, given) == "crossed-belts"
    return _travel(state, {"name": other}) if other and two else None


def _extruder_temp(state: State, given: Mapping[str, Any]) -> Any:
    """The filament's, where the extruder is to run."""
    return _filament("temp")(state, given) if given.get("name") == "e" else None


def _shaper(axis: str) -> Known:
    def known(state: State, given: Mapping[str, Any]) -> Any:
        one = state.settings.get(f"shaper-{axis}")
        if one is None or not (given.get(f"log_{axis}") or given.get(f"ripple_{axis}_mm")):
            return None
        v = one.value
        return f"{v['shaper']}:{v['frequency']!r}:{v['damping']!r}"

    return known


def _in_use(state: State, given: Mapping[str, Any]) -> Any:
    """The acceleration, where a setting is judged: a sensor at rest needs none."""
    known = _value("acceleration", "acceleration")(state, given)
    return None if given.get("kind") == "rest" else known


def _shapers(state: State, given: Mapping[str, Any]) -> Any:
    offered = state.facts.get("controller.shapers")
    return ",".join(map(str, offered)) if isinstance(offered, list) else None


def _sensor(axis: str) -> Known:
    def known(state: State, given: Mapping[str, Any]) -> Any:
        named = given.get(f"log_{axis}") or given.get("axis") == axis
        return state.facts.get(f"sensor.{axis}") if named else None

    return known


def _print(name: str) -> Known:
    """A file in the bench's prints/, named after what is asked."""

    def known(state: State, given: Mapping[str, Any]) -> Any:
        return os.path.relpath(state.place / "prints" / f"{name.format(**given)}.gcode")

    return known


CONTROLLER: dict[str, Known] = {
    "gain_scale": _gain_scale,
    "loop_period_s": _fact("controller.loop_period"),
    "filter_s": _fact("controller.filter"),
    "band_c": _fact("controller.band"),
    "power_limit": _fact("heaters.power_limit"),
    "full_power": _fact("heaters.full_power"),
}
PRINT: dict[str, Known] = {
    "bed": _bed,
    "centred": _bed_fact("bed.centred"),
    "height_mm": _fact("bed.height"),
    "nozzle_mm": _fact("nozzle.width"),
    "filament_mm": _filament("width"),
    "temp_c": _filament("temp"),
    "bed_temp_c": _filament("bed_temp"),
}
PARTS = {name: _fact(f"extruder.{name}") for name in ("motor_steps", "microsteps", "gear")}
PARTS["wheel_mm"] = _fact("extruder.wheel")
AXIS: dict[str, Known] = {"steps": _steps, "build": _build}
EXTRUDER = {"steps": _value("steps-e", "steps"), **PARTS}
FLOW = {"flow": _value("flow", "flow", 1.0), "expected_mm": _filament("line")}
PRESENT = {"present_s": _value("advance", "advance"), "drive": _fact("extruder.drive")}
WIRE = {"port": _fact("controller.port"), "speed": _fact("controller.speed")}
PROBE = {"offset_mm": _value("probe-offset", "offset")}
SHAPERS = {f"present_{axis}": _shaper(axis) for axis in "xy"}
CARD = {**PRESENT, **SHAPERS, "offered": _shapers, "steps": _steps_across, "build": _build}
# command → its parameters, and where a bench knows them from
KNOWN: dict[str, dict[str, Known]] = {
    "heater plan": {"target_c": _target},
    "heater fit": {**CONTROLLER, **{g: _gain(g) for g in GAINS}},
    "heater check": {"target_c": _target, "full_power": _fact("heaters.full_power")},
    "extruder plan": {"temp_c": _filament("temp")},
    "extruder fit": EXTRUDER,
    "extruder check": EXTRUDER,
    "axis fit": AXIS,
    "axis check": AXIS,
    "axis plan": PRINT,
    "flow plan": {**PRINT, "expected_mm": _filament("line")},
    "flow fit": {**FLOW, "nominal_mm": _filament("width")},
    "flow check": FLOW,
    "advance plan": {**PRINT, **PRESENT, "out": _print("advance-{style}")},
    "advance fit": PRESENT,
    "shaper plan": {**PRINT, "bed_moves_y": _bed_moves},
    "shaper fit": {"offered": _shapers, **SHAPERS, **{f"sensor_{a}": _sensor(a) for a in "xy"}},
    "shaper check": {
        "shaper": _value("shaper-{axis}", "shaper"),
        "frequency_hz": _value("shaper-{axis}", "frequency"),
        "damping": _value("shaper-{axis}", "damping"),
        "acceleration_mm_s2": _in_use,
    },
    "card plan": {**PRINT, **PRESENT, **SHAPERS, "out": _print("card")},
    "card fit": CARD,
    "card check": CARD,
    "motion plan": {
        "travel": _travel,
        "travel_across": _travel_across,
        "build": _build,
        "temp_c": _extruder_temp,
        "out": _print("motion-{name}"),
    },
    "probe fit": PROBE,
    "probe check": PROBE,
    "printer capture": {**WIRE, "target_c": _run_target},
    "printer send": WIRE,
    "printer cool": WIRE,
    "printer tune heater": {**WIRE, "target_c": _target},
    "printer tune extruder": {**WIRE, "temp_c": _filament("temp")},
}
