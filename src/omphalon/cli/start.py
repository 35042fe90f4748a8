"""omphalon start: the first minute with a printer."""

from __future__ import annotations

import os
import re
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from omphalon.base.errors import OmphalonError, UnreadableFile, echoed
from omphalon.base.files import put_bytes
from omphalon.cli.asking import typed

if TYPE_CHECKING:
    from omphalon.bench.bench import Bench

PORT = re.compile(r"/dev/|COM\d|[a-z]+://", re.I)
# what the first experiments need to know of a printer: the key of bench.toml, and the question
FACTS = {
    "bed.x": "the bed's size in X, mm",
    "bed.y": "the bed's size in Y, mm",
    "extruder.drive": "where the extruder sits: direct (on the head) or bowden (on the frame)",
    "printer.loaded": "the filament that is loaded, a name of yours like grey-petg",
}


def first_words() -> list[str]:
    """What a bare `omphalon` means: a start at a terminal where no bench is yet, else the help."""
    from omphalon.bench.bench import find_bench

    at_terminal = sys.stdin.isatty() and sys.stdout.isatty()
    return ["start"] if at_terminal and find_bench(None) is None else []


@click.command("start")
def start() -> None:
    """A few questions make a bench; what to measure first.

    A bench is the folder of one printer: its facts, its settings, what was measured. Enter leaves a
    question out; Ctrl-C leaves nothing behind.

    \b
    Example:
      omphalon start
    """
    from omphalon.cli.bench.group import next_

    made, complaint = bench_by_questions()
    folder = str(made.place)
    click.echo(f"first   cd {echoed(folder)}, and then:")
    click.get_current_context().invoke(
        next_, every=False, seen=complaint, as_json=False, bench=folder
    )


def bench_by_questions(port: str = "") -> tuple[Bench, str | None]:
    """A new bench, and the complaint that its user has. `port`: of the printer, where it is
    known.
    """
    from omphalon.bench.bench import make
    from omphalon.lines.dialect import load_dialect

    click.echo("A few questions; Enter leaves one out.\n", err=True)
    folder = _folder()
    port, listing = (port, _listed_at(port)) if port else _printer()
    facts = {key: found for key, words in FACTS.items() if (found := _fact(key, words))}
    complaint = _complaint()
    if port:
        facts["controller.port"] = port
    if listing:
        facts["controller.dialect"] = _dialect_of(listing)
    made = make(folder)
    made.set_facts({"printer.name": folder.name, **facts})
    click.echo(f"\nbench   {echoed(str(folder))}: facts in bench.toml, to be filled in further")
    if listing:
        _take(made, listing)
    dialect = load_dialect(made.dialect_path(made.facts()))
    click.echo(
        f"lines   come in the dialect `{dialect.name}`, templates of what a controller takes;"
    )
    click.echo("        one of your own is a file, named in bench.toml: docs/bench.md")
    return made, complaint


def _folder() -> Path:
    while True:
        name = typed("what you call the printer")
        folder = Path(re.sub(r"[^\w.-]+", "-", name).strip("-."))
        if not name or not folder.name:
            click.echo("  a name is needed here: its folder is called so", err=True)
        elif os.path.lexists(folder):
            click.echo(f"  {echoed(str(folder))} stands there already: another name", err=True)
        else:
            return folder


def _printer() -> tuple[str, str]:
    """The printer's port, or the file of its settings listing; "" where not known."""
    from omphalon.lines.listing import read_listing
    from omphalon.printer.port import found_ports

    there = ", ".join(name for name, _ in found_ports())
    while True:
        answer = typed(
            f"its port{f' (here: {there})' if there else ''}, or a file of its settings listing "
            "(M503)"
        )
        if not answer:
            return "", ""
        try:
            if PORT.match(answer):
                return answer, _listed_at(answer)
            return "", read_listing(answer)
        except OmphalonError as error:
            remedy = "" if not isinstance(error, UnreadableFile) else "; a port is /dev/… or COM…"
            click.echo(f"  {error}{remedy}", err=True)


def _listed_at(port: str) -> str:
    from omphalon.cli.printer.wire import Wired, at_printer
    from omphalon.lines.dialect import load_dialect

    at = Wired(port=port, speed=None, dialect=None)
    with at_printer(at, load_dialect()) as printer:
        return printer.listing()


def _fact(key: str, words: str) -> str:
    from omphalon.bench.facts import checked

    while True:
        answer = typed(words)
        try:
            if answer:
                checked(key, answer)
        except OmphalonError as error:
            click.echo(f"  {error}", err=True)
        else:
            return answer


def _complaint() -> str | None:
    """What is wrong with a print, as the table of complaints knows it; None: nothing in particular,
    the order of work serves.
    """
    from omphalon.tables.complaints import complaint_of

    while True:
        answer = typed("what is wrong with a print, if anything: corners bulge, ripples, …")
        try:
            meant = complaint_of(answer) if answer else None
        except OmphalonError as error:
            click.echo(f"  {error}", err=True)
            continue
        if meant is None or meant.certain:
            return answer or None
        some = "; ".join(one.seen for one in meant.complaints)
        click.echo(f"  did you mean one of these? {some}", err=True)


def _dialect_of(listing: str) -> str:
    """The dialect that ships and knows most of a listing."""
    from omphalon.bench.sheet import found_settings
    from omphalon.lines.dialect import SHIPPED, load_dialect
    from omphalon.lines.listing import listed

    def known(name: str) -> int:
        dialect = load_dialect(name)
        return len(found_settings(listed(listing, dialect), dialect))

    return max(SHIPPED, key=known)


def _take(made: Bench, listing: str) -> None:
    from omphalon.cli.bench.common import take_found

    put_bytes(str(made.place / "data" / "found-settings.txt"), listing.encode())
    take_found(made, listing)
