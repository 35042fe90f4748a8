"""omphalon demo --live: the same over the wire, at a stand-in printer in a process of its own."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import click

from omphalon.errors import LinkFault

Tour = tuple[tuple[str, tuple[str, ...]], ...]
PACE = 400  # an hour of the printer's in nine seconds
DESK, STORED = "desk", "fulmar-stored.json"
FED = ("M109 S220", "M83", *["G1 E80 F90"] * 3, "M104 S0")
FACTS = (
    *("printer.name=Fulmar", "printer.bed_moves_y=true", "printer.loaded=grey-petg"),
    *("bed.x=220", "bed.y=220", "bed.height=250", "extruder.drive=bowden"),
    *("heaters.hotend_target=235", "heaters.full_power=127"),
    *("controller.dialect=stand-in", "controller.gain_scale=255"),
)
ADOPT = ("", ("bench", "adopt"))
HOLD = ("printer", "capture", "--run", "hold", "--quiet", "--yes", "--out")
LIST = ("printer", "send", "--line", "M503", "--out")
LADDER = ("--style", "ladder", "--from", "0", "--to", "1", "--step", "0.05", "--out")
SHAKE = ("--sweep", "20:90", "--rate", "2")
SWEPT = tuple(f"{DESK}/sweep-{axis}.csv.gz" for axis in "xy")


def tour(port: str) -> Tour:
    """Found settings → log → gains → sent, stored, read back → heated again; steps; advance;
    shaper.
    """
    sets = tuple(w for fact in (*FACTS, f"controller.port={port}") for w in ("--set", fact))
    shakes = tuple(
        stop
        for axis in "xy"
        for stop in (
            ("", ("shaper", "plan", *SHAKE, "--axis", axis, "--out", f"sweep-{axis}.gcode")),
            ("", ("printer", "send", f"sweep-{axis}.gcode", "--yes")),
        )
    )
    return (
        ("", (*LIST, "found-settings.txt", "--port", port)),
        ("", ("bench", "new", "fulmar", *sets, "--listing", "found-settings.txt")),
        ("", (*HOLD, "hold-before.csv")),
        ("before", ("heater", "check", "hold-before.csv")),
        ("", (*HOLD[:3], "oscillation", *HOLD[4:], "test.csv", "--cycles", "9")),
        ("hotend", ("heater", "fit", "test.csv", "--heater", "hotend", "--fan", "on")),
        ADOPT,
        ("", ("printer", "send", *(w for x in FED for w in ("--line", x)))),
        ("extruder", ("extruder", "fit", f"{DESK}/fed.csv")),
        ADOPT,
        ("", ("bench", "sheet", "--out", "sheet.txt")),
        ("", ("printer", "send", "sheet.txt", "--readback", "--yes")),
        ("", (*LIST, "listed.txt")),
        ("", ("bench", "readback", "listed.txt")),
        ("", (*HOLD, "hold-after.csv")),
        ("after", ("heater", "check", "hold-before.csv", "hold-after.csv")),
        ("", ("advance", "plan", *LADDER, "ladder.gcode")),
        ("", ("printer", "send", "ladder.gcode", "--yes")),
        ("advance", ("advance", "fit", f"{DESK}/ladder-widths.csv")),
        ADOPT,
        *shakes,
        ("shaper", ("shaper", "fit", "--x", SWEPT[0], "--y", SWEPT[1])),
        ADOPT,
        ("", ("bench", "sheet", "--out", "sheet.txt")),
        ("", ("printer", "send", "sheet.txt", "--readback", "--yes")),
        ("", ("bench", "show")),
    )


def live_tour(place: Path, follow: Callable[[Tour], None]) -> None:
    """Start the stand-in, follow the tour at it, and switch it off."""
    (place / DESK).mkdir(exist_ok=True)
    with _stand_in(place) as port, _own_notes():
        click.echo(f"Fulmar answers at {port}; its time runs {PACE} times as fast as ours.")
        follow(tour(port))


@contextlib.contextmanager
def _stand_in(place: Path) -> Iterator[str]:
    words = ("printer", "stand-in", "--tcp", "0", "--pace", str(PACE), "--desk", DESK)
    with subprocess.Popen(
        [sys.executable, "-m", "omphalon", *words, "--state", STORED],
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


@contextlib.contextmanager
def _own_notes() -> Iterator[None]:
    """Notes about this port are not the user's."""
    before = os.environ.get("OMPHALON_STATE")
    with tempfile.TemporaryDirectory() as folder:
        os.environ["OMPHALON_STATE"] = folder
        try:
            yield
        finally:
            if before is None:
                del os.environ["OMPHALON_STATE"]
            else:
                os.environ["OMPHALON_STATE"] = before
