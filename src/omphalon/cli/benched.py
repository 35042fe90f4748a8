"""A command inside a bench: facts and present settings become the defaults of its options, and what
it finds is recorded.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import click
from click.core import ParameterSource

from omphalon.errors import UnwritableFile
from omphalon.settings import GAINS

if TYPE_CHECKING:
    from omphalon.bench.bench import Bench
    from omphalon.bench.work import State
    from omphalon.finding import Finding, Plan

HELD, INPUTS = "omphalon.bench", "omphalon.inputs"
Known = Callable[["State", Mapping[str, Any]], Any]


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


WITHIN = "a caller in the same process, who wants no more than the answer"


def asked_within() -> bool:
    """Whether such a caller runs the command: the root context's object says so."""
    return click.get_current_context().find_root().obj is WITHIN


def choose_bench(ctx: click.Context, _: click.Parameter, given: str | None) -> str | None:
    """Open the bench, if there is one, before any other option is read."""
    if ctx.resilient_parsing or ctx.find_root().obj is WITHIN:
        return given
    from omphalon.bench.bench import find_bench

    bench = find_bench(given)
    if bench is None:
        return given
    state = bench.state()
    ctx.meta[HELD] = (bench, state)
    rows = KNOWN.get(" ".join(ctx.command_path.split()[1:]), {})
    rows = {**rows, "dialect": lambda state, given: bench.dialect_path(state.facts)}
    ctx.default_map = _Defaults(rows, state, ctx)
    return given


class _Defaults(dict[str, Any]):
    """What a bench knows, looked up when the options given by hand are known; what it does not know
    is not there, so that the option's own default holds.
    """

    def __init__(self, rows: Mapping[str, Known], state: State, ctx: click.Context) -> None:
        super().__init__(rows)
        self.state, self.ctx = state, ctx

    def __contains__(self, name: object) -> bool:
        return self.get(str(name)) is not None

    def __getitem__(self, name: str) -> Any:
        return self.get(name)

    def get(self, name: str, default: Any = None) -> Any:
        known: Known | None = super().get(name)
        # Click has a sign of its own for what is not given
        given = {k: v for k, v in self.ctx.params.items() if isinstance(v, (str, float, tuple))}
        tool = self.ctx.params.get("tool")
        state = self.state.of_tool(tool if isinstance(tool, int) else None)
        value = None if known is None else known(state, given)
        return default if value is None else value


def held() -> tuple[Bench, State] | None:
    """The bench of the running command, and what it knows."""
    found: tuple[Bench, State] | None = click.get_current_context().meta.get(HELD)
    return found


def facts_of_bench(**keys: str) -> dict[str, Any]:
    """Facts of the running command's bench under names of the caller's, those that are known."""
    found = held()
    facts = {} if found is None else found[1].facts
    return {name: facts[key] for name, key in keys.items() if key in facts}


def taken_from_bench(ctx: click.Context) -> tuple[list[str], list[str]]:
    """Options that the bench filled, and those given by hand that the bench knows otherwise."""
    filled, by_hand = [], []
    for param in ctx.command.params:
        name = param.name or ""
        known = None if name == "dialect" else (ctx.default_map or {}).get(name)
        if known is None:
            continue
        option, source = param.opts[0], ctx.get_parameter_source(name)
        if source is ParameterSource.DEFAULT_MAP:
            filled.append(f"{option} {_plain(known)}")
        elif source is ParameterSource.COMMANDLINE and _plain(known) != _plain(ctx.params[name]):
            by_hand.append(f"{option}: {_plain(known)} in the bench")
    return filled, by_hand


def _plain(value: Any) -> str:
    if isinstance(value, (list, tuple)):
        return " ".join(map(_plain, value))
    return f"{value:g}" if isinstance(value, float) else str(value)


def doubted(answer: Finding | Plan) -> Finding | Plan:
    """An answer that would correct once more what was adopted and, by the readings, never entered:
    then it proposes nothing, and says so.
    """
    from dataclasses import replace

    from omphalon import __version__
    from omphalon.bench.work import not_entered
    from omphalon.finding import Finding

    found = held()
    if found is None or not isinstance(answer, Finding) or answer.verdict != "change":
        return answer
    bench, state = found
    findings = bench.journal.entries(kind="finding")
    twice = not_entered(answer.document(__version__), state, findings)
    if twice is None:
        return answer
    setting, then, now = twice
    return replace(
        answer,
        verdict="retest",
        because=f"a ratio of {now:.4f}, as before entry {setting.entry} was adopted ({then:.4f}), "
        f"and not the 1 that it promised: {setting.kind.words} look as if they were never entered",
        means="",
        settings=(),
        lines=(),
        headline=(),
        next="list what the printer holds (M503) into a file: `omphalon bench readback LISTING`",
    )


def record(answer: Finding | Plan) -> str | None:
    """Put a finding into the bench's journal; what is said of it, or None outside a bench."""
    from omphalon import __version__
    from omphalon.finding import Finding

    found = held()
    if found is None:
        return None
    bench, state = found
    ctx = click.get_current_context()
    filled, by_hand = taken_from_bench(ctx)
    words = [*([f"from the bench: {', '.join(filled)}"] if filled else [])]
    words += [f"given by hand: {', '.join(by_hand)}"] if by_hand else []
    if isinstance(answer, Finding):
        try:
            figure = _figure(answer, bench)
            numbers = [
                bench.record(
                    part.document(__version__),
                    _command(ctx),
                    ctx.meta.get(INPUTS, []),
                    figure,
                    state.of_tool(ctx.params.get("tool")).filament,
                )
                for part in (answer, *answer.parts)
            ]
        except UnwritableFile as error:
            remedy = f"{error.remedy}; --no-record answers without the bench"
            raise UnwritableFile(error.problem, remedy) from error
        which = "entry" if len(numbers) == 1 else "entries"
        words.insert(0, f"recorded as {which} {', '.join(map(str, numbers))}")
        for number, part in zip(numbers, (answer, *answer.parts), strict=True):
            if part.settings and part.kind.endswith("-fit"):
                words.append(f"omphalon bench adopt {number} makes it the setting in force")
    return "; ".join(words)


def _command(ctx: click.Context) -> list[str]:
    """The command line as it was understood: what was given, in the order of the options."""
    words = ctx.command_path.split()[1:]
    for param in ctx.command.params:
        if ctx.get_parameter_source(param.name or "") is not ParameterSource.COMMANDLINE:
            continue
        value = ctx.params.get(param.name or "")
        if param.name in ("bench", "no_record", "as_json", "quiet", "force"):
            continue
        values = list(value) if isinstance(value, tuple) else [value]
        for one in values:
            if isinstance(param, click.Argument):
                words.append(str(one))
            else:
                words += [param.opts[0], _written(one)]
    return words


def _written(value: Any) -> str:
    return str(getattr(value, "written", value))


def _figure(answer: Finding, bench: Bench) -> str | None:
    """A figure of the finding in figures/, by the moment and the kind; None where none is drawn."""
    from datetime import UTC, datetime

    from omphalon.bench.bench import inside
    from omphalon.files import put_with
    from omphalon.report.figure import draws, save_figure

    if not draws(answer):
        return None
    name = f"{datetime.now(UTC):%Y%m%d-%H%M%S-%f}-{os.getpid()}-{answer.kind}.svg"
    target = inside(bench.place, f"figures/{name}")
    put_with(str(target), lambda file, suffix: save_figure(answer, file, suffix))
    return name
