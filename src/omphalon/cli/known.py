"""Where a bench knows an option from: sources that the fields of options name."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from omphalon.bench.bench import Bench
    from omphalon.bench.work import State
    from omphalon.cli.options import Known

HELD = "omphalon.bench"


def held() -> tuple[Bench, State] | None:
    """The bench of the running command, and what it knows."""
    found: tuple[Bench, State] | None = click.get_current_context().meta.get(HELD)
    return found


def facts_of_bench(**keys: str) -> dict[str, Any]:
    """Facts of the running command's bench under names of the caller's, those that are known."""
    found = held()
    facts = {} if found is None else found[1].facts
    return {name: facts[key] for name, key in keys.items() if key in facts}


def fact(key: str) -> Known:
    """A fact of the printer."""
    return lambda state, given: state.facts.get(key)


def of_filament(key: str) -> Known:
    """A fact of the filament that is loaded."""
    return lambda state, given: state.facts.get(f"filament.{state.filament}.{key}")


def in_force(key: str, field: str, usual: float | None = None) -> Known:
    """A field of the setting in force."""

    def known(state: State, given: object) -> Any:
        setting = state.settings.get(key)
        return usual if setting is None else setting.value[field]

    return known


def shaper_in_force(axis: str) -> Known:
    """An axis's shaper as one option has it."""

    def known(state: State, given: object) -> str | None:
        one = state.settings.get(f"shaper-{axis}")
        if one is None:
            return None
        v = one.value
        return f"{v['shaper']}:{v['frequency']!r}:{v['damping']!r}"

    return known


def build(state: State, given: object) -> Any:
    """What moves, by which motors."""
    moves = "moving-bed" if state.facts.get("printer.bed_moves_y") else None
    return state.facts.get("printer.build", moves)


def bed_moves_in_y(state: State, given: object) -> Any:
    """Whether the bed moves."""
    known = state.facts.get("printer.build")
    return known == "moving-bed" if known else state.facts.get("printer.bed_moves_y")


def centred(state: State, given: object) -> Any:
    """Whether the zero is in the bed's middle: towers settle it."""
    return _of_towers(state, "bed.centred")


def _of_towers(state: State, key: str) -> Any:
    return state.facts.get(key, state.facts.get("printer.build") == "delta" or None)


def bed_size(state: State, given: object) -> str | None:
    """The bed as one option has it."""
    x, y = state.facts.get("bed.x"), state.facts.get("bed.y")
    if _of_towers(state, "bed.round") and isinstance(x, float):
        return f"round:{x:g}"
    return f"{x:g}:{y:g}" if isinstance(x, float) and isinstance(y, float) else None


def shapers_offered(state: State, given: object) -> str | None:
    """The shapers that the controller has, as one option has them."""
    offered = state.facts.get("controller.shapers")
    return ",".join(map(str, offered)) if isinstance(offered, list) else None


def steps_across(state: State, given: object) -> str | None:
    """Steps of X and Y as one option has them."""
    both = [state.settings.get(f"steps-{axis}") for axis in "xy"]
    values = [one.value["steps"] for one in both if one is not None]
    return ":".join(f"{value!r}" for value in values) if len(values) == 2 else None


def print_in_bench(state: State, name: str) -> str:
    """A file in the bench's prints/."""
    return os.path.relpath(state.place / "prints" / f"{name}.gcode")
