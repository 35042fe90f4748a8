"""omphalon demo: a whole tune-up on the sample data, through the real commands."""

from __future__ import annotations

import contextlib
import hashlib
from pathlib import Path
from typing import TYPE_CHECKING

import click

from omphalon.cli.common import as_json
from omphalon.cli.writing import put_bytes
from omphalon.errors import UnwritableFile, UsageError, echoed

if TYPE_CHECKING:
    from omphalon.finding import Finding, Plan

# Each stop of the tour: the command's words; FILE.png and FILE.json are saved beside it.
TOUR = (
    ("hotend", ("heater", "fit", "hotend-oscillation.csv")),
    ("check", ("heater", "check", "hold-before.csv", "hold-after.csv", "--target", "235")),
    ("extruder", ("extruder", "fit", "extruder-runs.csv", "--steps", "412")),
    ("axis", ("axis", "fit", "axis-parts.csv", "--steps", "x=80", "--steps", "y=80")),
    ("flow", ("flow", "fit", "flow-walls.csv", "--flow", "1", "--expected", "0.45")),
    (
        "advance",
        (
            "advance",
            "fit",
            "tower-heights.csv",
            "--from",
            "0",
            "--per-mm",
            "0.025",
            "--to",
            "1.2",
            "--drive",
            "bowden",
            "--advance",
            "0.35",
        ),
    ),
    ("corners", ("advance", "check", "cube-corners.csv", "--seam", "rear-left")),
    ("shaper", ("shaper", "fit", "--x", "sweep-x.csv.gz", "--y", "sweep-y.csv.gz")),
    ("bed", ("heater", "fit", "bed-console.txt", "--heater", "bed")),
)
WRITTEN = "written-by-the-demo.txt"


@click.command(short_help="Tune up a made-up printer: sample data, answers, figures.")
@click.argument("folder", required=False, default="omphalon-demo")
def demo(folder: str) -> None:
    """Tune up a made-up printer in FOLDER: sample data, answers, figures.

    \b
    Example:
      omphalon demo omphalon-demo
    """
    from importlib import resources

    place = Path(folder)
    _refuse_others(place)
    try:
        place.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise UnwritableFile(
            f"{folder}: cannot be made ({error.strerror})", "give another folder"
        ) from error
    names = []
    for sample in (resources.files("omphalon") / "samples").iterdir():
        put_bytes(str(place / sample.name), sample.read_bytes())
        names.append(sample.name)
    click.echo(
        "Fulmar, the printer of a lighthouse museum's model shop. All data are made up; they are "
        f"in {echoed(folder)}/."
    )
    for number, (name, words) in enumerate(TOUR, 1):
        click.echo(f"\n{number} of {len(TOUR)}")
        click.echo(f"$ cd {echoed(folder)} && omphalon {' '.join(words)} --plot {name}.png\n")
        _run(place, name, words)
        names += [f"{name}.png", f"{name}.json"]
        _keep_account(place, names)
    click.echo(
        f"\nSaved in {echoed(folder)}/: the logs, and a figure and a JSON document of each answer."
    )
    click.echo(
        "Try next: omphalon heater plan --target 235; with your own log: omphalon heater fit LOG"
    )


def _run(place: Path, name: str, words: tuple[str, ...]) -> None:
    """One stop: the command itself, as text on the screen and as a document beside it."""
    program = click.get_current_context().find_root().command
    answers: list[Finding | Plan] = []
    code: object = None
    with contextlib.chdir(place):
        try:
            program.main(
                [*words, "--plot", f"{name}.png", "--force"],
                prog_name="omphalon",
                standalone_mode=False,
                obj=answers.append,
            )
        except SystemExit as left:
            code = left.code
    if code or not answers:
        raise click.ClickException(f"the demo's {name} step failed with exit code {code}")
    put_bytes(str(place / f"{name}.json"), f"{as_json(answers[0])}\n".encode())


def _keep_account(place: Path, names: list[str]) -> None:
    """A list of what the demo wrote, with a digest of each: the next demo replaces these, and
    nothing else.
    """
    rows = [
        f"{hashlib.sha256((place / name).read_bytes()).hexdigest()}  {name}"
        for name in sorted(names)
    ]
    put_bytes(str(place / WRITTEN), ("\n".join(rows) + "\n").encode())


def _refuse_others(place: Path) -> None:
    """Refuse a folder that holds anything that a demo did not write, or that was changed since."""
    if not place.exists():
        return
    if not place.is_dir():
        raise UsageError(f"{echoed(str(place))}: is a file", "give a folder")
    account = place / WRITTEN
    lines = account.read_text("utf-8", "replace").splitlines() if account.is_file() else []
    known = {line[66:]: line[:64] for line in lines}
    for path in sorted(place.iterdir()):
        if path.name == WRITTEN and lines:
            continue
        if path.name not in known or not path.is_file():
            raise UsageError(
                f"{echoed(str(place))}: holds {echoed(path.name)}, which no demo wrote",
                "give another folder, or an empty one",
            )
        if hashlib.sha256(path.read_bytes()).hexdigest() != known[path.name]:
            raise UsageError(
                f"{echoed(str(place))}: {echoed(path.name)} was changed since the demo wrote it",
                "give another folder, or move that file away",
            )
