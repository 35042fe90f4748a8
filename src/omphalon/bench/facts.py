"""What is known of one printer: the keys of bench.toml, checked by the same table of quantities as
options; they stand in tables/facts.csv, a filament's in tables/filament.csv.
"""

from __future__ import annotations

import tomllib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from difflib import get_close_matches
from pathlib import Path

from omphalon.base.errors import CONTROL, UnknownFormat, UsageError, echoed
from omphalon.base.files import small_file
from omphalon.base.shapes import flat
from omphalon.tables.constants import BUILDS, SHAPER_NAMES
from omphalon.tables.plastics import PLASTICS
from omphalon.tables.quantities import QUANTITIES
from omphalon.tables.rows import rows_of, table_by
from omphalon.tables.tools import FIRST, MOST_TOOLS, Tool
from omphalon.tables.units import NoSuchNumber, number_in

MOST_FACTS_BYTES = 256_000
LONGEST_FACT = 200
TOOLS = tuple(str(n) for n in range(1, MOST_TOOLS))
Value = bool | float | str | list[float] | list[str]
Facts = Mapping[str, Value]


@dataclass(frozen=True, kw_only=True)
class Fact:
    """A key of bench.toml: what it is, and what it may be.

    One of: a `quantity` (in a narrower range where that is given, with `count` numbers where there
    are several), a `choice` of words (with `several` a list of them), a `flag`, or a free word.
    """

    key: str
    means: str = ""
    example: str
    quantity: str = ""
    lowest: float | None = None
    highest: float | None = None
    count: int = 1
    choice: tuple[str, ...] = ()
    several: bool = False
    flag: bool = False


WORDS = {"builds": BUILDS, "shapers": SHAPER_NAMES, "plastics": tuple(PLASTICS)}
FACTS = tuple(rows_of("facts", Fact, choice=WORDS))
FILAMENT = tuple(rows_of("filament", Fact, choice=WORDS))
BY_KEY = table_by("key", *FACTS)
# the dialect's setting → the fact that says where it lives
LIVES_FACTS = {"advance": "advance.lives", "flow": "flow.lives"}
# what a dialect knows of the controller's loop → the fact that knows better
LOOP_FACTS = {
    "full_power": "controller.gain_scale",
    "period_s": "controller.loop_period",
    "filter_s": "controller.filter",
    "band_c": "controller.band",
}


# keys that a tool of several may have for itself, as `tool.N.KEY`; tool 0 has the plain ones
FACTS_OF_TOOL = (
    "printer.loaded",
    "heaters.hotend_target",
    "heaters.hotend_watts",
    "nozzle.width",
) + tuple(fact.key for fact in FACTS if fact.key.startswith("extruder."))


def tools_of(facts: Facts) -> list[Tool]:
    """The tools that a bench has facts of, the first always among them."""
    return sorted(
        {FIRST} | {Tool(int(key.split(".")[1])) for key in facts if key.startswith("tool.")}
    )


def facts_of_tool(facts: Facts, tool: Tool) -> dict[str, Value]:
    """The facts as they are for one tool: its own in place of tool 0's, which are not its."""
    if not tool:
        return dict(facts)
    head = tool.fact("")
    shared = {key: value for key, value in facts.items() if key not in FACTS_OF_TOOL}
    return shared | {k.removeprefix(head): v for k, v in facts.items() if k.startswith(head)}


def loaded_in(facts: Facts) -> dict[Tool, str]:
    """The filament that is loaded in each tool, where it is known."""
    named = {tool: facts_of_tool(facts, tool).get("printer.loaded") for tool in tools_of(facts)}
    return {tool: str(name) for tool, name in named.items() if name is not None}


def fact_of(key: str) -> Fact:
    """The row of a key; `filament.NAME.key` for a filament's own, `tool.N.KEY` for a tool's.

    Raises UsageError where there is no such key.
    """
    parts = key.split(".")
    if parts[0] == "filament" and len(parts) == 3 and parts[1]:
        for fact in FILAMENT:
            if fact.key == parts[2]:
                return fact
        known = [f"filament.{parts[1]}.{f.key}" for f in FILAMENT]
    elif parts[0] == "tool" and len(parts) > 2 and parts[1] in TOOLS:
        if ".".join(parts[2:]) in FACTS_OF_TOOL:
            return BY_KEY[".".join(parts[2:])]
        known = list(map(Tool(int(parts[1])).fact, FACTS_OF_TOOL))
    elif key in BY_KEY:
        return BY_KEY[key]
    else:
        known = list(BY_KEY)
    near = get_close_matches(key, known, 1)
    remedy = f"did you mean {near[0]}?" if near else "its keys stand in docs/bench.md"
    raise UsageError(f"bench.toml: no key {echoed(key)}", remedy)


def checked(key: str, value: object) -> Value:
    """A value as its key may hold it, numbers in our units.

    `value`: as TOML or the command line gave it; texts of numbers may carry a unit. Raises
    UsageError with the key and the range or the words that it may be.
    """
    fact = fact_of(key)
    if fact.flag:
        if isinstance(value, str) and value.lower() in ("true", "yes", "false", "no"):
            return value.lower() in ("true", "yes")
        if isinstance(value, bool):
            return value
        raise UsageError(f"{key}: {echoed(str(value))} is neither true nor false", "write one")
    if fact.quantity and fact.count > 1:
        parts = value.split(":") if isinstance(value, str) else value
        if not isinstance(parts, list) or len(parts) != fact.count:
            raise UsageError(f"{key}: not {fact.count} numbers", f"for example {fact.example}")
        return [_number(key, fact, part) for part in parts]
    if fact.quantity:
        return _number(key, fact, value)
    if fact.several:
        words = value.split(",") if isinstance(value, str) else value
        if not isinstance(words, list):
            raise UsageError(f"{key}: no list", f"for example {fact.example}")
        return [_word(key, fact, word) for word in words]
    return _word(key, fact, value)


def _number(key: str, fact: Fact, value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float | str):
        raise UsageError(f"{key}: {echoed(str(value))} is no number", f"for example {fact.example}")
    text = value if isinstance(value, str) else repr(value)
    try:
        return number_in(text, QUANTITIES[fact.quantity], fact.lowest, fact.highest).value
    except NoSuchNumber as error:
        raise UsageError(f"{key} {echoed(text)}: {error.problem}", error.remedy) from error


def _word(key: str, fact: Fact, value: object) -> str:
    if not isinstance(value, str) or not value.strip():
        raise UsageError(f"{key}: {echoed(str(value))} is no word", f"for example {fact.example}")
    word = value.strip()
    if fact.choice and word.lower() not in fact.choice:
        raise UsageError(f"{key}: {echoed(word)}", "it may be " + ", ".join(fact.choice))
    if CONTROL.search(word) or len(word) > LONGEST_FACT:
        raise UsageError(f"{key}: a control character, or too long", "write a short plain word")
    return word.lower() if fact.choice else word


def fact_words(value: Value) -> str:
    """A fact as a person writes it."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(map(fact_words, value))
    return f"{value:g}" if isinstance(value, float) else value


def read_facts(path: Path) -> dict[str, Value]:
    """The facts of a bench, each checked.

    Raises UnreadableFile, UnknownFormat with the line of a slip in the file, or the key and what it
    may be.
    """
    data = small_file(str(path), MOST_FACTS_BYTES, "bench's facts", "look at the bench's folder")
    try:
        table = tomllib.loads(data.decode("utf-8-sig"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, RecursionError) as error:
        words = "nested too deeply" if isinstance(error, RecursionError) else str(error)
        raise UnknownFormat(f"{path}: {words}", "mend that line") from error
    try:
        return {key: checked(key, value) for key, value in flat(table)}
    except UsageError as wrong:
        raise UnknownFormat(f"{path}: {wrong.problem}", wrong.remedy) from wrong


def blank_lines() -> Iterator[str]:
    """A bench.toml with every key, commented out, and what it means."""
    yield "# Facts about one printer. Take the # away from what you know; the rest may stay."
    yield "# `omphalon bench set KEY=VALUE` does the same, and keeps your comments."
    section = ""
    for fact in FACTS:
        head, name = fact.key.split(".")
        if head != section:
            section = head
            yield ""
            yield f"[{section}]"
        words = f"  # {fact.means}" if fact.means else ""
        yield f"# {name} = {fact.example}{words}"
    yield ""
    yield "# a second hotend and its extruder: what differs from the first"
    yield "# [tool.1]"
    yield "# nozzle.width = 0.6"
    yield '# printer.loaded = "red-pla"'
    yield ""
    yield "# one table for each filament, under a name of your own"
    yield "# [filament.grey-petg]"
    for fact in FILAMENT:
        words = f"  # {fact.means}" if fact.means else ""
        yield f"# {fact.key} = {fact.example}{words}"
