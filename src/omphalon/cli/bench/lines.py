"""omphalon bench sheet | readback."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import click

from omphalon.base.errors import UnreadableFile, UsageError, echoed, shown
from omphalon.base.files import put_bytes, put_lines, small_file
from omphalon.cli.bench.common import as_document, document, in_bench, loaded, table, take_found
from omphalon.cli.writing import check_outputs
from omphalon.tables.units import plural

DIFFERS = 4  # exit code of a readback that does not agree

if TYPE_CHECKING:
    from omphalon.bench.bench import Bench
    from omphalon.bench.settings import InForce
    from omphalon.bench.sheet import Compared
    from omphalon.bench.work import State
    from omphalon.lines.dialect import Dialect


@click.command("sheet", short_help="All lines to enter, from the dialect.")
@loaded
@click.option("--start", is_flag=True, help="Only what belongs to the start of a print.")
@click.option("--into", metavar="FILE", help="Write them into a copy of a settings file: --out.")
@click.option("--out", metavar="FILE", help="Write them into a file.")
@click.option("--force", is_flag=True, help="Replace a file that Omphalon did not write.")
@in_bench
def sheet(
    one: Bench, filament: str | None, start: bool, into: str | None, out: str | None, force: bool
) -> None:
    """Print every setting in force as the lines that enter it, with what each replaced; or write
    their values into a copy of a controller's settings file, where the dialect has sections.

    \b
    Example:
      omphalon bench sheet
    """
    from omphalon.bench.sheet import sheet_lines

    if into is not None and (out is None or start):
        raise UsageError("--into without --out, or with --start", "give --out, and no --start")
    check_outputs(force, () if into is None else (into,), out=out)
    state = one.state()
    if filament is not None and filament not in one.filaments():
        known = ", ".join(sorted(one.filaments())) or "none yet"
        raise UsageError(
            f"--filament {echoed(filament)}: no setting and no fact of it here",
            f"known are: {known}",
        )
    settings = state.settings if filament is None else one.with_filament(state, filament).settings
    if into is not None and out is not None:
        return _write_into(into, out, settings, one.dialect(state.facts))
    lines = list(sheet_lines(settings, one.replaced(settings), one.dialect(state.facts), start))
    if not lines:
        if start and settings:
            raise UsageError("nothing belongs to the start of a print", "omphalon bench sheet")
        raise UsageError("no settings yet", "omphalon bench next")
    if out is None:
        for line in lines:
            click.echo(shown(line))
    else:
        put_lines(out, lines, ";")
        click.echo(f"lines   {echoed(out)}")


def _write_into(path: str, out: str, settings: Mapping[str, InForce], dialect: Dialect) -> None:
    """A copy of a settings file with the settings in force, and what changed in it."""
    from omphalon.bench.sheet import filed
    from omphalon.lines.editing import written_into
    from omphalon.lines.listing import MOST_LISTING_BYTES

    wanted, without = filed(settings, dialect)
    if not wanted:
        raise UsageError(
            f"--into {echoed(path)}: the dialect {dialect.name} has no section for any setting",
            "give such settings a section and a line in it: docs/bench.md",
        )
    remedy = "give the controller's settings file, in UTF-8"
    raw = small_file(path, MOST_LISTING_BYTES, "settings file", remedy)
    try:
        text, edits = written_into(raw.decode(), wanted)
    except UnicodeDecodeError as error:
        raise UnreadableFile(f"{echoed(path)}: cannot be read as text", remedy) from error
    put_bytes(out, text.encode())
    section = None
    for edit in edits:
        if edit.section != section:
            section = edit.section
            click.echo(f"  [{shown(section)}]")
        if edit.old is not None:
            click.echo(f"- {shown(edit.old)}")
        click.echo(f"+ {shown(edit.new)}")
    words = plural(len(edits), "line") if edits else "no line"
    click.echo(f"written  {echoed(out)}: {words} of {echoed(path)} changed")
    if without:
        click.echo(f"not in it: {', '.join(kind.words for kind in without)}", err=True)


@click.command("readback", short_help="What the printer lists, against the bench.")
@click.argument("listing", metavar="LISTING")
@click.option("--adopt-found", is_flag=True, help="Take what the printer has.")
@as_document
@in_bench
def readback(one: Bench, listing: str, adopt_found: bool, as_json: bool) -> int:
    """Compare the printer's settings listing with the bench.

    \b
    Example:
      omphalon bench readback found-settings.txt
    """
    from omphalon.bench.sheet import BESIDE, SAME, compare
    from omphalon.lines.listing import listed, read_listing, sound

    state = one.state()
    dialect = one.dialect(state.facts)
    text = read_listing(listing)
    before = one.replaced(state.settings)
    rows = compare(state.settings, sound(listed(text, dialect)), dialect, before)
    differs = any(row.verdict not in (SAME, BESIDE) for row in rows)
    if as_json:
        compared = [
            {
                "setting": r.kind.key,
                "field": r.field,
                "bench": r.bench,
                "listed": r.listed,
                "verdict": r.verdict,
                "slip": r.slip or None,
            }
            for r in rows
        ]
        document("bench-readback", verdict="change" if differs else "keep", compared=compared)
    elif not rows:
        raise UsageError(
            f"{echoed(listing)}: no setting that the dialect {dialect.name} knows",
            "name the printer's dialect in bench.toml",
        )
    else:
        table(
            [
                (
                    f"{r.kind.words} {r.field if len(r.kind.fields) > 1 else ''}".strip(),
                    "–"
                    if r.bench is None
                    else r.bench
                    if isinstance(r.bench, str)
                    else f"{r.bench:.6g}",
                    r.listed or "–",
                    r.verdict,
                    r.slip,
                )
                for r in rows
            ]
        )
    if adopt_found:
        take_found(one, text)
    elif differs:
        if not as_json:
            _mending(rows, state, dialect)
        return DIFFERS
    return 0


def _mending(rows: Sequence[Compared], state: State, dialect: Dialect) -> None:
    """The lines that make the printer as the bench is, and what makes the bench as the printer."""
    from omphalon.bench.sheet import BESIDE, SAME, entered
    from omphalon.lines.template import Entered, block

    wrong = dict.fromkeys(r.kind.key for r in rows if r.verdict not in (SAME, BESIDE))
    own = [entered(state.settings[key], dialect) for key in wrong if key in state.settings]
    some = [line for lines in own for line in lines]
    store = dialect.line("store") if any(line.section is None for line in some) else None
    for n, line in enumerate(block([*some, *([Entered(store)] if store else [])])):
        click.echo(f"{'enter   ' if n == 0 else ' ' * 8}{shown(line)}")
    click.echo("or      --adopt-found, where what the printer has is what you want")
