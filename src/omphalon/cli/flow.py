"""omphalon flow plan | fit | check."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import click

from omphalon.base.errors import UsageError
from omphalon.base.files import put_lines
from omphalon.cli.common import Answer, Leaving, answering, chosen_readings
from omphalon.cli.groups import Verbs
from omphalon.cli.known import in_force, of_filament
from omphalon.cli.measured import Asked, MeasuredCommands, add_fit_and_check
from omphalon.cli.options import (
    Ask,
    argument,
    column,
    nested,
    number,
    numbers_by_column,
    refuse_beside,
    text,
)
from omphalon.cli.printing import NEEDS_OUT, PrintDefaults, PrintOptions, job_of, print_lines
from omphalon.recordings.columns import FILAMENT
from omphalon.recordings.columns import FLOW as WALLS
from omphalon.tables.constants import FILAMENT_MM

if TYPE_CHECKING:
    from omphalon.bench.work import State
    from omphalon.recordings.recording import Readings
    from omphalon.tables.units import Number

CUBE = PrintDefaults(fast_mm_s=45.0, acceleration_mm_s2=1500.0, retract_mm=0.7)


@click.group(cls=Verbs)
def flow() -> None:
    """Flow multiplier, for one filament."""


def _slicers_flow(state: State, given: FlowPlanOptions) -> float | None:
    """The flow in force where the slicer would have applied it, for a print that it does not
    make.
    """
    setting = state.settings.get("flow")
    if setting is None or state.facts.get("flow.lives") != "slicer" or given.out is None:
        return None
    return float(setting.value["flow"])


@dataclass(frozen=True, kw_only=True)
class FlowPlanOptions:
    """Options of `flow plan`."""

    expected_mm: float = number(
        "--expected",
        "wall",
        "Width of one line.",
        within=(0.1, 3),
        default=0.45,
        bench=of_filament("line"),
    )
    out: str | None = text("--out", "Write the cube as a print (G-code).")
    flow: float | None = number(
        "--flow",
        "flow",
        "Feed at this multiplier, where it lives in the slicer.",
        bench=_slicers_flow,
        needs=("out",),
        remedy=NEEDS_OUT,
    )
    print: PrintOptions = nested(PrintOptions, needs=("out",), remedy=NEEDS_OUT)


@flow.command("plan", short_help="How to print and measure the hollow cube; writes it.")
@answering(FlowPlanOptions, tool=True)
def plan(how: Leaving, options: FlowPlanOptions) -> Answer:
    """Say how to print and measure the hollow cube; write it as a print.

    \b
    Example:
      omphalon flow plan --expected 0.45
      omphalon flow plan --expected 0.48 --out cube.gcode --plot cube.png
    """
    how.check(out=options.out)
    from omphalon.studies.measured.flow import cube_print, plan_flow

    if options.print.width_mm is not None:
        raise UsageError("--width and --expected", "the wall is one line wide: give --expected")
    if options.out is None:
        return plan_flow(options.expected_mm)
    job = job_of(options.print, CUBE, how.tool, width_mm=options.expected_mm)
    job = replace(job, flow=1.0 if options.flow is None else options.flow)
    printed = cube_print(job, print_lines(how, options.print))
    put_lines(options.out, printed.lines(), ";")
    return plan_flow(options.expected_mm, printed)


@dataclass(frozen=True, kw_only=True)
class FlowCheckOptions:
    """Options of `flow check`: the walls alone."""

    path: str | None = argument("[READINGS.csv]")
    flow: float = number(
        "--flow",
        "flow",
        "Present multiplier; 1 is 100 %.",
        required=True,
        bench=in_force("flow", "flow", 1.0),
        ask="present flow, 1 is 100 %",
    )
    expected_mm: float | None = number(
        "--expected",
        "wall",
        "Thickness a wall should have.",
        bench=of_filament("line"),
        ask="width of one line",
    )
    wall_mm: tuple[Number, ...] = column(WALLS, ask=Ask(words="a wall's thickness", many=True))
    resolution_mm: float | None = number(
        "--resolution", "fine length", "What the caliper reads to.  [from the digits]"
    )
    squeeze_mm: float = number(
        "--squeeze",
        "distance",
        "How differently a caliper squeezes a thin wall.",
        within=(0, 0.5),
        default=0.01,
    )


@dataclass(frozen=True, kw_only=True)
class FlowFitOptions(FlowCheckOptions):
    """Options of `flow fit`: walls, the filament's width, or both."""

    diameter_mm: tuple[Number, ...] = column(FILAMENT)
    nominal_mm: float = number(
        "--nominal",
        "filament width",
        "The filament's width in the slicer.",
        default=FILAMENT_MM,
        bench=of_filament("width"),
    )


def _asked(options: FlowCheckOptions) -> Asked:
    """Walls, with the filament's widths beside them; or its widths alone."""
    from omphalon.readers.readings import option_readings
    from omphalon.studies.measured.filament import WIDTH, FlowQuestion
    from omphalon.studies.measured.flow import FLOW

    given = numbers_by_column(options, WALLS)
    walls, widths = chosen_readings(options.path, given, (*WALLS, *FILAMENT)).apart("diameter_mm")
    question = FlowQuestion(
        flow=options.flow,
        expected_mm=options.expected_mm,
        resolution_mm=options.resolution_mm,
        squeeze_mm=options.squeeze_mm,
    )
    if not isinstance(options, FlowFitOptions):  # a check looks at walls alone
        return FLOW, walls, question
    if options.diameter_mm:
        widths = option_readings(numbers_by_column(options, FILAMENT), FILAMENT).after(widths)
    _refuse_idle(walls, widths)
    question = replace(question, nominal_mm=options.nominal_mm)
    if widths.rows and not walls.rows:
        return WIDTH, widths, question
    return FLOW, walls, replace(question, widths=widths if widths.rows else None)


def _refuse_idle(walls: Readings, widths: Readings) -> None:
    """Refuse options of what was not measured, by hand or in a file."""
    if widths.rows and not walls.rows:
        refuse_beside("widths alone", "expected_mm", "squeeze_mm")
    elif not widths.rows:
        refuse_beside("walls alone", "nominal_mm")


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
        fit=FlowFitOptions,
        check=FlowCheckOptions,
        columns=WALLS,
        head="wall thicknesses of a hollow cube, filament widths",
        short=("New multiplier from wall thicknesses.", "Judges the walls of a fresh print."),
        help=(FIT, CHECK),
        asked=_asked,
    ),
)
