"""omphalon flow plan | fit | check."""

from __future__ import annotations

from typing import Any

import click

from omphalon.base.errors import UsageError
from omphalon.base.files import put_lines
from omphalon.cli.common import (
    Answer,
    Leaving,
    answering,
    by_hand,
    chosen_readings,
    filled,
    number,
    reading_options,
    refuse_idle,
)
from omphalon.cli.groups import Verbs
from omphalon.cli.measured import Asked, MeasuredCommands, add_fit_and_check
from omphalon.cli.printing import job_of, print_lines, printing, refuse_printing
from omphalon.recordings.columns import FILAMENT
from omphalon.recordings.columns import FLOW as WALLS
from omphalon.tables.constants import FILAMENT_MM


@click.group(cls=Verbs)
def flow() -> None:
    """Flow multiplier, for one filament."""


@flow.command("plan", short_help="How to print and measure the hollow cube; writes it.")
@number("--expected", "wall", "Width of one line.", within=(0.1, 3), default=0.45)
@click.option("--out", metavar="FILE", help="Write the cube as a print (G-code).")
@printing
@answering(tool=True)
def plan(how: Leaving, expected_mm: float, out: str | None, **given: Any) -> Answer:
    """Say how to print and measure the hollow cube; write it as a print.

    \b
    Example:
      omphalon flow plan --expected 0.45
      omphalon flow plan --expected 0.48 --out cube.gcode --plot cube.png
    """
    how.check(out=out)
    from omphalon.studies.measured.flow import cube_print, plan_flow

    if by_hand("width_mm"):
        raise UsageError("--width and --expected", "the wall is one line wide: give --expected")
    if out is None:
        refuse_printing("--out FILE")
        return plan_flow(expected_mm)
    job = job_of({**given, "width_mm": expected_mm}, 45.0, 1500.0, 0.7)
    lines = print_lines(how, given)
    printed = cube_print(job, lines)
    put_lines(out, printed.lines(), ";")
    return plan_flow(expected_mm, printed)


def _asked(given: dict[str, Any]) -> Asked:
    """Walls, with the filament's widths beside them; or its widths alone."""
    from omphalon.readers.readings import option_readings
    from omphalon.studies.measured.filament import WIDTH, FlowQuestion
    from omphalon.studies.measured.flow import FLOW

    both = (*WALLS, *FILAMENT)
    walls, widths = chosen_readings(given["path"], {"wall_mm": given["wall_mm"]}, both).apart(
        "diameter_mm"
    )
    if given.get("diameter_mm"):
        widths = option_readings({"diameter_mm": given["diameter_mm"]}, FILAMENT).after(widths)
    fits = "nominal_mm" in given  # a check looks at walls alone
    beside = widths if fits and walls.rows and widths.rows else None
    question = filled(FlowQuestion, given, widths=beside)
    alone = fits and widths.rows and not walls.rows
    if alone:
        refuse_idle("widths alone", "expected_mm", "squeeze_mm")
    elif fits and not widths.rows:
        refuse_idle("walls alone", "nominal_mm")
    return (WIDTH, widths, question) if alone else (FLOW, walls, question)


FIT = """\
Turn wall thicknesses of a hollow cube, or the filament's width, into a flow multiplier.

READINGS.csv holds wall_mm and, where it is known, side; or diameter_mm, two rows a place.

\b
Example:
  omphalon flow fit flow-walls.csv --flow 1.0 --expected 0.45 --plot flow.png
  omphalon flow fit --flow 1.0 --diameter 1.71 --diameter 1.72 --diameter 1.70 --diameter 1.72 \
--diameter 1.71 --diameter 1.70
"""
CHECK = """\
Judge whether the walls of a fresh print are as thick as they should be.

READINGS.csv holds the columns of `fit`.

\b
Example:
  omphalon flow check flow-walls.csv --flow 0.94 --expected 0.48
"""
add_fit_and_check(
    flow,
    MeasuredCommands(
        tool=True,
        columns=WALLS,
        head="wall thicknesses of a hollow cube, filament widths",
        before=(
            number("--flow", "flow", "Present multiplier; 1 is 100 %.", required=True),
            number("--expected", "wall", "Thickness a wall should have."),
        ),
        after=(
            number("--resolution", "fine length", "What the caliper reads to.  [from the digits]"),
            number(
                "--squeeze",
                "distance",
                "How unlike a caliper presses a thin wall.",
                within=(0, 0.5),
                default=0.01,
            ),
        ),
        fit_only=(
            *reading_options(FILAMENT),
            number(
                "--nominal",
                "filament width",
                "The filament's width as the slicer believes it.",
                default=FILAMENT_MM,
            ),
        ),
        short=("New multiplier from wall thicknesses.", "Judges the walls of a fresh print."),
        help=(FIT, CHECK),
        asked=_asked,
    ),
)
