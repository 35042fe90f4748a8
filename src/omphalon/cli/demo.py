"""omphalon demo: a whole tune-up on the sample data, through the real commands."""

from __future__ import annotations

import click

# Each stop of the tour: the command's words; FILE.png and FILE.json are saved beside it.
TOUR = (
    ("hotend", ("heater", "fit", "hotend-oscillation.csv")),
    ("check", ("heater", "check", "hold-before.csv", "hold-after.csv", "--target", "235")),
    ("extruder", ("extruder", "fit", "extruder-runs.csv", "--steps", "412")),
    ("axis", ("axis", "fit", "axis-parts.csv", "--steps", "x=80", "--steps", "y=80")),
    ("flow", ("flow", "fit", "flow-walls.csv", "--flow", "1", "--expected", "0.45")),
    ("advance", ("advance", "fit", "tower-heights.csv", "--from", "0", "--per-mm", "0.02", "--to", "1", "--drive", "bowden",
                 "--advance", "0.35")),
    ("corners", ("advance", "check", "cube-corners.csv", "--seam", "rear-left")),
    ("shaper", ("shaper", "fit", "--x", "sweep-x.csv.gz", "--y", "sweep-y.csv.gz")),
    ("bed", ("heater", "fit", "bed-console.txt", "--heater", "bed")),
)


@click.command()
@click.argument("folder", required=False, default="omphalon-demo")
def demo(folder: str) -> None:
    """Tune up a made-up printer in FOLDER: sample data, answers, figures.

    \b
    Example:
      omphalon demo omphalon-demo
    """
    import subprocess
    import sys
    from importlib import resources
    from pathlib import Path

    from omphalon.errors import UnwritableFile

    place = Path(folder)
    try:
        place.mkdir(parents=True, exist_ok=True)
        for sample in (resources.files("omphalon") / "samples").iterdir():
            (place / sample.name).write_bytes(sample.read_bytes())
    except OSError as error:
        raise UnwritableFile(f"{folder}: cannot be written ({error.strerror})", "give another folder") from error
    click.echo(f"Fulmar, the printer of a lighthouse museum's model shop. All data are made up; they are in {place}/.")
    for name, words in TOUR:
        click.echo(f"\n$ cd {place} && omphalon {' '.join(words)} --plot {name}.png\n")
        command = [sys.executable, "-m", "omphalon", *words]
        with open(place / f"{name}.json", "wb") as document, subprocess.Popen([*command, "--json"], cwd=place,
                                                                              stdout=document) as kept:
            shown = subprocess.run([*command, "--plot", f"{name}.png"], cwd=place)
        if shown.returncode or kept.returncode:
            raise click.ClickException(f"the demo's {name} step failed with exit code {shown.returncode}")
    click.echo(f"\nSaved in {place}/: the logs, and a figure and a JSON document of each answer.")
    click.echo("Try next: omphalon heater plan --target 235; with your own log: omphalon heater fit LOG")
