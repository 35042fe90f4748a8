"""omphalon demo: a whole tune-up through the real commands (tables/tour.csv), on the samples, or
over the wire at a stand-in printer in a process of its own.
"""

from __future__ import annotations

import contextlib
import hashlib
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import click

from omphalon.base.errors import LinkFault, UnwritableFile, UsageError, echoed
from omphalon.base.files import put_bytes
from omphalon.cli.benched import within_environment
from omphalon.cli.common import as_json
from omphalon.tables.rows import rows_of

BENCH, SHEET, DESK = "fulmar", "printer-lists.txt", "desk"
PACE = 400  # an hour of the stand-in printer's in nine seconds
Tour = tuple[tuple[str, tuple[str, ...]], ...]


@dataclass(frozen=True, kw_only=True)
class Stop:
    """A command of a tour, over the samples or live; where it has a name, its figure and its
    document are kept under it.
    """

    tour: str
    name: str = ""
    command: str


def tour_of(name: str, port: str = "") -> Tour:
    """A tour's stops: what a group plans is measured, becomes the setting, and is checked."""
    stops = (stop for stop in rows_of("tour", Stop) if stop.tour == name)
    return tuple((s.name, tuple(shlex.split(s.command.replace("PORT", port)))) for s in stops)


WRITTEN = "written-by-the-demo.txt"


@click.command(short_help="Tune up a made-up printer: sample data, answers, figures.")
@click.argument("folder", required=False)
@click.option("--live", is_flag=True, help="Over the wire, at a simulated printer.")
def demo(folder: str | None, live: bool) -> None:
    """Tune up a made-up printer in FOLDER: sample data, answers, figures.

    \b
    Example:
      omphalon demo omphalon-demo
    """
    from importlib import resources

    folder = folder or ("omphalon-live" if live else "omphalon-demo")
    place = Path(folder)
    _clear(place)
    try:
        place.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise UnwritableFile(
            f"{folder}: cannot be made ({error.strerror})", "give another folder"
        ) from error
    click.echo("Fulmar, the printer of a lighthouse museum's model shop. All data are made up.")
    if live:
        (place / DESK).mkdir(exist_ok=True)
        with _stand_in(place) as port, tempfile.TemporaryDirectory() as notes:
            click.echo(f"Fulmar answers at {port}; its time runs {PACE} times as fast as ours.")
            # notes about this port are not the user's
            with within_environment("OMPHALON_STATE", notes):
                _follow(place, tour_of("live", port))
    else:
        for sample in (resources.files("omphalon") / "samples").iterdir():
            put_bytes(str(place / sample.name), sample.read_bytes())
        _follow(place, tour_of("samples"))
    click.echo(
        f"\nSaved in {echoed(folder)}/: the logs, a figure and a JSON document of each answer, and "
        f"the bench {BENCH}/."
    )
    click.echo(f"Try next: cd {echoed(folder)}/{BENCH} && omphalon bench show")


def _follow(place: Path, tour: Tour) -> None:
    """Every stop of a tour, with its command before what it says."""
    for number, (name, words) in enumerate(tour, 1):
        plot = f" --plot {name}.png" if name else ""
        click.echo(f"\n{number} of {len(tour)}")
        click.echo(f"$ {shlex.join(('omphalon', *words))}{plot}\n")
        _run(place, name, words)
        if words[:4] == ("bench", "sheet", "--out", SHEET):
            _mistype(place / SHEET)
            click.echo("(the user types it in, and swaps two digits)")
        _keep_account(place)


def _run(place: Path, name: str, words: tuple[str, ...]) -> None:
    """One stop: the command itself, as text on the screen and as a document beside it."""
    program = click.get_current_context().find_root().command
    figure = ("--plot", f"{name}.png", "--force") if name else ()
    bench = BENCH if (place / BENCH).is_dir() else ""
    with contextlib.chdir(place), within_environment("OMPHALON_BENCH", bench):
        answer = program.main([*words, *figure], prog_name="omphalon", standalone_mode=False)
    code = getattr(answer, "exit_code", answer)
    if code not in (None, 0, 4):
        raise click.ClickException(f"the demo's {words} step failed with exit code {code}")
    if name:
        put_bytes(str(place / f"{name}.json"), f"{as_json(answer)}\n".encode())


@contextlib.contextmanager
def _stand_in(place: Path) -> Iterator[str]:
    words = ("printer", "stand-in", "--tcp", "0", "--pace", str(PACE), "--desk", DESK)
    with subprocess.Popen(
        [sys.executable, "-m", "omphalon", *words, "--state", "fulmar-stored.json"],
        cwd=place,
        stdout=subprocess.PIPE,
        text=True,
    ) as process:
        try:
            assert process.stdout is not None
            line = process.stdout.readline()
            if not line.startswith("listening on "):
                raise LinkFault("the stand-in printer does not start", "look at the lines above")
            yield line.split()[-1]
        finally:
            process.terminate()


def _mistype(sheet: Path) -> None:
    """Two digits of the extruder's steps swapped, as a hand does it."""
    text = sheet.read_text(encoding="utf-8")
    put_bytes(str(sheet), re.sub(r"(M92 E\d)(\d)(\d)", r"\1\3\2", text).encode())


def _keep_account(place: Path) -> None:
    """A list of what the demo wrote, with a digest of each: the next demo replaces these, and
    nothing else.
    """
    rows = [
        f"{hashlib.sha256(path.read_bytes()).hexdigest()}  {path.relative_to(place)}"
        for path in sorted(place.rglob("*"))
        if path.is_file() and path.name != WRITTEN
    ]
    put_bytes(str(place / WRITTEN), ("\n".join(rows) + "\n").encode())


def _clear(place: Path) -> None:
    """Take away what a demo wrote; refuse a folder that holds anything else, or anything that was
    changed since.
    """
    if not place.exists():
        return
    if not place.is_dir():
        raise UsageError(f"{echoed(str(place))}: is a file", "give a folder")
    account = place / WRITTEN
    lines = account.read_text("utf-8", "replace").splitlines() if account.is_file() else []
    known = {line[66:]: line[:64] for line in lines}
    files = [p for p in sorted(place.rglob("*")) if not p.is_dir() and p != account]
    for path in files:
        name = str(path.relative_to(place))
        if name not in known:
            raise UsageError(
                f"{echoed(str(place))}: holds {echoed(name)}, which no demo wrote",
                "give another folder, or an empty one",
            )
        if hashlib.sha256(path.read_bytes()).hexdigest() != known[name]:
            raise UsageError(
                f"{echoed(str(place))}: {echoed(name)} was changed since the demo wrote it",
                "give another folder, or move that file away",
            )
    for path in files:
        path.unlink()
    if (place / BENCH).is_dir():
        shutil.rmtree(place / BENCH)
