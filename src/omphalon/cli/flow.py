"""omphalon flow plan | fit | check."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from omphalon.cli.asking import Asking
from omphalon.cli.common import (
    Leaving,
    Measure,
    answering,
    by_hand,
    chosen_readings,
    options,
    reading_options,
    readings_template,
)
from omphalon.cli.printing import job_of, print_lines, printing, refuse_printing
from omphalon.columns import FILAMENT, FLOW
from omphalon.constants import FILAMENT_MM
from omphalon.errors import UsageError
from omphalon.files import put_lines

if TYPE_CHECKING:
    from omphalon.recording import Readings
    from omphalon.studies.flow.question import FlowQuestion


@click.group()
def flow() -> None:
    """Flow multiplier, for one filament."""


@flow.command("plan", short_help="How to print and measure the hollow cube; writes it.")
@click.option(
    "--expected",
    type=Measure("wall", 0.1, 3),
    default=0.45,
    show_default=True,
    metavar="MM",
    help="Width of one line.",
)
@click.option("--out", metavar="FILE", help="Write the cube as a print (G-code).")
@printing
@answering()
def plan(how: Leaving, expected: float, out: str | None, **given: Any) -> None:
    """Say how to print and measure the hollow cube; write it as a print.

    \b
    Example:
      omphalon flow plan --expected 0.45
      omphalon flow plan --expected 0.48 --out cube.gcode --plot cube.png
    """
    how.check(out=out)
    from omphalon.studies.flow.plan import cube_print, plan_flow

    if by_hand("width"):
        raise UsageError("--width and --expected", "the wall is one line wide: give --expected")
    if out is None:
        refuse_printing("--out FILE")
        how.leave(plan_flow(expected))
    job = job_of({**given, "width": expected}, 45.0, 1500.0, 0.7)
    lines = print_lines(how, given)
    printed = cube_print(job, lines)
    put_lines(out, printed.lines(), ";")
    how.leave(plan_flow(expected, printed))


measured = options(
    click.argument("path", required=False, metavar="[READINGS.csv]"),
    click.option(
        "--flow",
        type=Measure("flow"),
        required=True,
        metavar="F",
        help="Present multiplier; 1 is 100 %.",
    ),
    click.option(
        "--expected", type=Measure("wall"), metavar="MM", help="Thickness a wall should have."
    ),
    *reading_options(FLOW),
    click.option(
        "--resolution",
        type=Measure("fine length"),
        metavar="MM",
        help="What the caliper reads to.  [from the digits]",
    ),
    click.option(
        "--squeeze",
        type=Measure("distance", 0, 0.5),
        default=0.01,
        show_default=True,
        metavar="MM",
        help="How unlike a caliper presses a thin wall.",
    ),
)


@flow.command("fit", cls=Asking, short_help="New multiplier from wall thicknesses.")
@measured
@options(*reading_options(FILAMENT))
@click.option(
    "--nominal",
    type=Measure("filament width"),
    default=FILAMENT_MM,
    show_default=True,
    metavar="MM",
    help="The filament's width as the slicer believes it.",
)
@readings_template((*FLOW, *FILAMENT), "wall thicknesses of a hollow cube, filament widths")
@answering()
def fit(how: Leaving, **given: Any) -> None:
    """Turn wall thicknesses of a hollow cube, or the filament's width, into a flow multiplier.

    READINGS.csv holds wall_mm and, where it is known, side; or diameter_mm, two rows a place.

    \b
    Example:
      omphalon flow fit flow-walls.csv --flow 1.0 --expected 0.45 --plot flow.png
      omphalon flow fit --flow 1.0 --diameter 1.71 --diameter 1.72 --diameter 1.70 --diameter 1.72 \
--diameter 1.71 --diameter 1.70
    """
    how.check(given["path"])
    from omphalon.studies.flow.filament import fit_width
    from omphalon.studies.flow.filament_words import width_finding
    from omphalon.studies.flow.fit import fit_flow
    from omphalon.studies.flow.words import flow_finding

    walls, widths, question = _asked(given)
    lines = how.lines()
    if not walls.rows and widths.rows:
        how.leave(width_finding(fit_width(widths, question), question, widths, lines))
    fit = fit_flow(walls, question, widths if widths.rows else None)
    how.leave(flow_finding(fit, question, walls, lines))


@flow.command("check", short_help="Judges the walls of a fresh print.")
@measured
@answering(dialect=False)
def check(how: Leaving, **given: Any) -> None:
    """Judge whether the walls of a fresh print are as thick as they should be.

    READINGS.csv holds the columns of `fit`.

    \b
    Example:
      omphalon flow check flow-walls.csv --flow 0.94 --expected 0.48
    """
    how.check(given["path"])
    from omphalon.studies.flow.fit import fit_flow
    from omphalon.studies.flow.words import flow_finding

    walls, _, question = _asked(given)
    how.leave(flow_finding(fit_flow(walls, question), question, walls, how.lines(), checking=True))


def _asked(given: dict[str, Any]) -> tuple[Readings, Readings, FlowQuestion]:
    """The walls, the filament's widths, and what is asked."""
    from omphalon.readers.readings import option_readings
    from omphalon.studies.flow.question import FlowQuestion

    numbers = {"wall_mm": given["wall_mm"]}
    read = chosen_readings(given["path"], numbers, (*FLOW, *FILAMENT))
    walls, widths = read.apart("diameter_mm")
    if given.get("diameter_mm"):
        widths = option_readings({"diameter_mm": given["diameter_mm"]}, FILAMENT).after(widths)
    return (
        walls,
        widths,
        FlowQuestion(
            flow=given["flow"],
            expected_mm=given["expected"],
            resolution_mm=given["resolution"],
            squeeze_mm=given["squeeze"],
            nominal_mm=given.get("nominal", FILAMENT_MM),
        ),
    )
