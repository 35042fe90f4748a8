"""omphalon demo: a whole tune-up on the sample data, through the real commands."""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import shlex
import shutil
from collections.abc import Iterator
from pathlib import Path

import click

from omphalon.cli.common import as_json
from omphalon.errors import UnwritableFile, UsageError, echoed
from omphalon.files import put_bytes

BENCH, SHEET = "fulmar", "printer-lists.txt"
Tour = tuple[tuple[str, tuple[str, ...]], ...]
FACTS = (
    *("printer.name=Fulmar", "printer.bed_moves_y=true", "printer.loaded=grey-petg"),
    *("bed.x=220", "bed.y=220", "bed.height=250", "extruder.drive=bowden"),
    *("heaters.hotend_target=235", "heaters.bed_target=75", "controller.dialect=stand-in"),
    *("filament.grey-petg.line=0.45", "filament.grey-petg.temp=235"),
)
SETS = tuple(word for fact in FACTS for word in ("--set", fact))
SHAKES = ("--x", "sweep-x.csv.gz", "--y", "sweep-y.csv.gz")
CARD = ("card-1.jpg", "card-2.jpg", "--print", "card.gcode", "--length", "144.5", "--no-record")
TOWER = ("--from", "0", "--per-mm", "0.025", "--to", "1.2")
FED = ("--asked", "80", "--mark", "110", "--left", "30.2", "--left", "29.9", "--left", "30.1")


def _readings(option: str, *values: str) -> tuple[str, ...]:
    return tuple(word for value in values for word in (option, value))


DRAGS = _readings("--drag", "0.12", "0.13", "0.12", "0.13")
ZEROED = _readings("--drag", "0.1", "0.11", "0.1", "0.1")
WALLS = _readings("--wall", "0.45", "0.455", "0.445", "0.45", "0.45")
LEVELS = (*_readings("--pass", "100", "150", "200"), "--fail", "250")
MOVED = ("--axis", "y", *_readings("--asked", "50", "100", "150"))
TRUE_MOVES = (*MOVED, *_readings("--moved", "50.01", "99.99", "150.01"))
ADOPT = ("", ("bench", "adopt"))
# Each stop of the tour: the command's words; where it has a name, its figure and its document are
# kept under it. What a group plans is measured, becomes the setting, and is checked.
TOUR: Tour = (
    ("", ("bench", "new", BENCH, *SETS, "--listing", "found-settings.txt")),
    ("", ("bench", "next")),
    ("", ("motion", "plan", "--axis", "x", "--speed", "100:300:50")),
    ("", ("motion", "fit", "--axis", "x", *LEVELS)),
    ADOPT,
    ("", ("motion", "check", "--axis", "x", "--limit", "160", *_readings("--pass", "160", "160"))),
    ("", ("probe", "plan")),
    ("", ("probe", "fit", "--offset", "-1.85", *DRAGS)),
    ADOPT,
    ("", ("probe", "check", *ZEROED)),
    ("", ("heater", "plan", "--heater", "hotend")),
    ("hotend", ("heater", "fit", "hotend-oscillation.csv", "--heater", "hotend")),
    ADOPT,
    ("check", ("heater", "check", "hold-before.csv", "hold-after.csv")),
    ("bed", ("heater", "fit", "bed-console.txt", "--heater", "bed")),
    ADOPT,
    ("", ("extruder", "plan")),
    ("extruder", ("extruder", "fit", "extruder-runs.csv")),
    ADOPT,
    ("", ("extruder", "check", *FED)),
    ("", ("card", "plan")),
    ("card", ("card", "fit", *CARD)),
    ("", ("axis", "plan", "--axis", "y")),
    ("axis", ("axis", "fit", "axis-parts.csv")),
    ADOPT,
    ("", ("axis", "check", *TRUE_MOVES)),
    ("", ("flow", "plan")),
    ("flow", ("flow", "fit", "flow-walls.csv")),
    ADOPT,
    ("", ("flow", "check", *WALLS)),
    ("", ("shaper", "plan", "--axis", "y")),
    ("", ("shaper", "check", "sensor-rest.csv.gz", "--kind", "rest")),
    ("shaper", ("shaper", "fit", *SHAKES)),
    ADOPT,
    ("", ("shaper", "check", "sweep-y.csv.gz", "--axis", "y")),
    ("", ("advance", "plan", "--style", "tower")),
    ("advance", ("advance", "fit", "tower-heights.csv", *TOWER)),
    ADOPT,
    ("corners", ("advance", "check", "cube-corners.csv", "--seam", "rear-left")),
    ("", ("bench", "sheet", "--out", SHEET)),
    ("", ("bench", "readback", SHEET)),
    ("", ("bench", "changed", "nozzle", "--note", "0.6 mm, hardened")),
    ("", ("bench", "next")),
    ("", ("bench", "report", "--out", "report.html")),
)
WRITTEN = "written-by-the-demo.txt"


@click.command(short_help="Tune up a made-up printer: sample data, answers, figures.")
@click.argument("folder", required=False)
@click.option("--live", is_flag=True, help="Over the wire, at a printer that is not there.")
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
        from omphalon.cli.demo_live import live_tour

        live_tour(place, lambda tour: _follow(place, tour))
    else:
        for sample in (resources.files("omphalon") / "samples").iterdir():
            put_bytes(str(place / sample.name), sample.read_bytes())
        _follow(place, TOUR)
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
    with contextlib.chdir(place), _standing(BENCH):
        answer = program.main([*words, *figure], prog_name="omphalon", standalone_mode=False)
    code = getattr(answer, "exit_code", answer)
    if code not in (None, 0, 4):
        raise click.ClickException(f"the demo's {words} step failed with exit code {code}")
    if name:
        put_bytes(str(place / f"{name}.json"), f"{as_json(answer)}\n".encode())


@contextlib.contextmanager
def _standing(bench: str) -> Iterator[None]:
    """The demo's own bench, whatever bench the user works in."""
    before = os.environ.get("OMPHALON_BENCH")
    os.environ["OMPHALON_BENCH"] = bench if Path(bench).is_dir() else ""
    try:
        yield
    finally:
        if before is None:
            del os.environ["OMPHALON_BENCH"]
        else:
            os.environ["OMPHALON_BENCH"] = before


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
