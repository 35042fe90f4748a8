"""How to print and measure the hollow cube, and the cube itself."""

from __future__ import annotations

from omphalon.finding import Plan
from omphalon.lines.dialect import Dialect
from omphalon.prints.job import Job
from omphalon.prints.pieces import Cube
from omphalon.studies.printed import TestPrint, plain_print, print_steps

MEASURE = (
    "Let it cool. Zero the caliper. Measure with the tips' flat part, lightly, away from corners, "
    "seam and first layers.",
    "All four sides, two heights or more: eight readings. Write down each, the odd ones too.",
)


def plan_flow(expected_mm: float, printed: TestPrint | None = None) -> Plan:
    """Say how to print and measure a hollow cube with walls of one line.

    Parameters
    ----------
    expected_mm : width of one line
    printed : the cube, where a file of it is written
    """
    side = Cube().side_mm
    made = (
        (
            f"Print a hollow cube of {side:g} mm: one wall, line width {expected_mm:g} mm, no top, "
            "flow as it is now, usual temperature and speed. --out FILE writes one.",
        )
        if printed is None
        else ("The flow as it is now: this file has no line for it.", *print_steps(printed))
    )
    settings: dict[str, float] = {"expected_mm": expected_mm}
    if printed is not None:
        whole = printed.whole
        settings |= {"time_s": whole.time_s, "filament_mm": whole.filament_mm}
    return Plan(
        "flow-plan",
        f"Walls of a hollow cube, one line of {expected_mm:g} mm",
        (
            "Set the extruder's steps first: flow corrects what is left, for one filament.",
            *made,
            *MEASURE,
        ),
        (),
        f"omphalon flow fit --flow F --expected {expected_mm:g} --wall MM --wall MM --wall MM",
        settings=settings,
        picture=printed,
    )


def cube_print(job: Job, dialect: Dialect) -> TestPrint:
    """The hollow cube as a print.

    Parameters
    ----------
    job : the printer; its line is the wall
    dialect : the line that sets the acceleration

    Raises
    ------
    UsageError
        If it does not fit the bed or cannot be laid.
    """
    cube = Cube()
    return plain_print(
        f"Hollow cube of {cube.side_mm:g} mm, one wall of {job.width_mm:g} mm",
        job,
        lambda: cube.strokes(job),
        cube.labels(job),
        (
            f"flow: hollow cube of {cube.side_mm:g} mm, one wall of {job.width_mm:g} mm, no floor, "
            "no top",
            "measure its walls with the caliper, all four sides, two heights or more, away from "
            "corners, seam and first layers",
            "the seam is at the rear left corner, the bar on the plate is at the front",
        ),
        dialect.line("acceleration", acceleration=job.acceleration_mm_s2),
    )
