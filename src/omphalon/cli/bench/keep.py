"""omphalon bench report | back-up | restore."""

from __future__ import annotations

from pathlib import Path

import click

from omphalon.cli.bench.common import opened, where
from omphalon.cli.writing import check_outputs
from omphalon.errors import UsageError, echoed
from omphalon.files import put_bytes


@click.command("report", short_help="One page with everything.")
@click.option("--out", default="report.html", show_default=True, metavar="FILE", help="The page.")
@click.option("--force", is_flag=True, help="Replace a file that Omphalon did not write.")
@where
def report(out: str, force: bool, place: str | None) -> None:
    """Write one page with facts, settings and their history, findings with figures, trials, and
    what is next. It needs no network and no script, and prints on paper.

    \b
    Example:
      omphalon bench report --out fulmar.html
    """
    from omphalon.report.page import page_of

    check_outputs(force, (), out=out)
    put_bytes(out, page_of(opened(place)).encode())
    click.echo(f"page    {echoed(out)}")


@click.command("back-up", short_help="Everything into one archive.")
@click.argument("file", metavar="FILE")
@click.option("--force", is_flag=True, help="Replace a file that stands there.")
@where
def back_up(file: str, force: bool, place: str | None) -> None:
    """Put the whole bench into one archive, FILE.zip.

    \b
    Example:
      omphalon bench back-up fulmar-backed-up.zip
    """
    from omphalon.bench.archive import pack

    one = opened(place)
    if Path(file).resolve().is_relative_to(one.place.resolve()):
        raise UsageError(f"{echoed(file)}: inside the bench", "keep a back-up somewhere else")
    check_outputs(force, (), file=file)
    packed = pack(one, Path(file))
    click.echo(f"backed up {packed.files} files into {echoed(file)}")
    if packed.left_out:
        click.echo(f"left out  {', '.join(map(echoed, packed.left_out))}: no part of the bench")


@click.command("restore", short_help="A bench from an archive.")
@click.argument("file", metavar="FILE")
@click.argument("folder", metavar="DIR")
def restore(file: str, folder: str) -> None:
    """Make a bench in DIR from a back-up FILE; every part of it is checked.

    \b
    Example:
      omphalon bench restore fulmar.zip fulmar-again
    """
    from omphalon.bench.archive import unpack

    count = unpack(Path(file), Path(folder))
    click.echo(f"restored {count} files into {echoed(folder)}")
