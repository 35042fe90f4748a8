"""What the commands of the bench share: which bench, tables, documents."""

from __future__ import annotations

import functools
import json
import math
import re
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import CONTROL, UsageError, echoed, shown

if TYPE_CHECKING:
    from omphalon.bench.bench import Bench
    from omphalon.bench.settings import InForce, Taken

LISTED = 5e-4  # of a value may be lost in a listing

ESCAPED = re.compile(
    CONTROL.pattern.replace(r"\x00-\x1f", r"\x00-\x09\x0b-\x1f")
)  # all but line ends
as_document = click.option("--json", "as_json", is_flag=True, help="Print one JSON document.")
loaded = click.option(
    "--filament", metavar="NAME", help="With this filament loaded.  [printer.loaded]"
)


def opened(place: str | None) -> Bench:
    """The bench that was named, or the one of the environment or of this folder."""
    from omphalon.bench.bench import find_bench

    found = find_bench(place)
    if found is None:
        raise UsageError("no bench here", "give --bench DIR, or make one: omphalon bench new DIR")
    return found


def in_bench(command: Callable[..., Any]) -> Callable[..., Any]:
    """A command that is handed the bench it is about, first."""

    @click.option("--bench", metavar="DIR", help="The bench.  [OMPHALON_BENCH, or this folder]")
    @functools.wraps(command)
    def within(bench: str | None, **given: Any) -> Any:
        return command(opened(bench), **given)

    return within


def table(rows: Sequence[Sequence[str]]) -> None:
    """Rows in columns, shown."""
    for line in columns(rows):
        click.echo(line)


def columns(rows: Sequence[Sequence[str]]) -> list[str]:
    """Rows in columns, control characters shown."""
    safe = [[shown(cell) for cell in row] for row in rows]
    sizes = [max(len(row[n]) for row in safe) for n in range(len(safe[0]))] if safe else []
    return [
        "  " + "  ".join(c.ljust(s) for c, s in zip(row, sizes, strict=True)).rstrip()
        for row in safe
    ]


def document(kind: str, **parts: Any) -> None:
    """One JSON document."""
    from omphalon import __version__

    click.echo(plain_json({"omphalon": __version__, "kind": kind, **parts}, indent=1))


def plain_json(value: Any, indent: int | None = None) -> str:
    """JSON in which what a terminal would take for a command is escaped."""
    text = json.dumps(value, ensure_ascii=False, indent=indent)
    return ESCAPED.sub(lambda m: f"\\u{ord(m[0]):04x}", text)


def take_found(one: Bench, text: str) -> None:
    """What a listing holds becomes the settings found."""
    from omphalon.bench.facts import loaded_in
    from omphalon.bench.sheet import found_settings
    from omphalon.lines.listing import listed, sound

    facts = one.facts()
    dialect = one.dialect(facts)
    loaded = loaded_in(facts)
    held = one.settings(loaded)
    every = found_settings(sound(listed(text, dialect)), dialect)
    found = [each for each in every if not _stands(each, held.get(each.key))]
    one.set_all([(each, None, None) for each in found], "found")
    nothing = "nothing new" if every else "no setting that the dialect knows"
    click.echo(f"found   {', '.join(each.key for each in found) or nothing}")


def _stands(each: Taken, now: InForce | None) -> bool:
    """Whether a listed setting is the one in force, within the digits of a listing."""
    return now is not None and all(
        value == now.value[name]
        if isinstance(value, str)
        else math.isclose(value, float(now.value[name]), rel_tol=LISTED)
        for name, value in each.value.items()
    )


def iso_date(text: str) -> str:
    """A date as the journal writes it; without a zone it is UTC."""
    from datetime import UTC, datetime

    try:
        found = datetime.fromisoformat(text)
    except ValueError as error:
        raise UsageError(f"{echoed(text)}: no date", "for example 2026-11-25") from error
    return (found if found.tzinfo else found.replace(tzinfo=UTC)).isoformat(timespec="seconds")


def plain_note(text: str) -> str:
    """A word of the user's, not a book."""
    if CONTROL.search(text.replace("\n", " ").replace("\t", " ")):
        raise UsageError(
            f"{echoed(text)}: a sign in it that is no text, and could change how a line is shown",
            "type the note again, in plain letters",
        )
    if len(text) > 4000 or text.count("\n") > 50:
        raise UsageError("the note is too long", "4000 letters and 50 lines are enough")
    return text
