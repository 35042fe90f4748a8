"""omphalon motion plan | fit | check."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from omphalon.cli.asking import Asking
from omphalon.cli.axis import AXIS_NAME
from omphalon.cli.common import (
    Leaving,
    Measure,
    answering,
    choice,
    numbers_of,
    options,
    parsed,
    readings_template,
)
from omphalon.columns import MOTION
from omphalon.errors import UsageError
from omphalon.files import put_lines

if TYPE_CHECKING:
    from omphalon.recording import Readings

QUANTITIES = {"speed": "speed_mm_s", "acceleration": "acceleration_mm_s2"}


@click.group()
def motion() -> None:
    """Highest speed and acceleration before steps are lost."""


@motion.command("plan", short_help="Writes a dry run that goes faster level by level.")
@click.option("--axis", "name", type=AXIS_NAME, required=True, help="Which axis.")
@click.option("--speed", metavar="FROM:TO:STEP", help="Levels of speed, mm/s,")
@click.option("--acceleration", metavar="FROM:TO:STEP", help="or of acceleration, mm/s².")
@click.option(
    "--travel",
    default="10:180",
    show_default=True,
    metavar="LOW:HIGH",
    help="Allowed travel of the axis, mm.",
)
@click.option(
    "--line",
    "line_template",
    metavar="TEMPLATE",
    help="Line that sets the acceleration: '… {acceleration:.0f}'.",
)
@click.option(
    "--present",
    type=Measure("acceleration"),
    metavar="MM_S2",
    help="Acceleration in force, set again at the end.",
)
@click.option(
    "--limit",
    metavar="N",
    help="The controller's own limit of it: lifted for the run, put back.  [left alone]",
)
@click.option("--out", required=True, metavar="FILE", help="Where to write the dry run (G-code).")
@answering(plot=False)
def plan(
    how: Leaving,
    name: str,
    speed: str | None,
    acceleration: str | None,
    travel: str,
    line_template: str | None,
    present: float | None,
    limit: str | None,
    out: str,
) -> None:
    """Write a dry run of one axis: nothing heated, nothing fed, faster level by level.

    \b
    Example:
      omphalon motion plan --axis y --speed 100:300:25 --travel 10:180 --out dry-run.gcode
    """
    how.check(out=out)
    from omphalon.prints.dryrun import dry_run_lines
    from omphalon.studies.motion.plan import DryRunAsked, plan_motion

    if (speed is None) == (acceleration is None):
        raise UsageError("--speed or --acceleration", "give one of the two, as FROM:TO:STEP")
    if speed is not None and (line_template is not None or present is not None):
        raise UsageError("--line, --present with --speed", "they belong to --acceleration")
    what = "speed" if speed is not None else "acceleration"
    example = "100:300:25" if speed is not None else "1000:4000:500"
    levels = numbers_of(speed or acceleration or "", Measure(what), 3, f"--{what}", example)
    ends = numbers_of(travel, Measure("length"), 2, "--travel", "10:180")
    asked = DryRunAsked(
        axis=name,
        quantity=QUANTITIES[what],
        levels=(levels[0], levels[1], levels[2]),
        travel_mm=(ends[0], ends[1]),
        present=present,
        limit=None if limit is None else parsed(limit, Measure(what), "--limit").value,
    )
    found, run = plan_motion(asked, how.lines().with_line("acceleration", line_template))
    put_lines(out, dry_run_lines(run, "the printer whose travel was given"), ";")
    how.leave(found)


tried = options(
    click.argument("path", required=False, metavar="[READINGS.csv]"),
    click.option(
        "--axis", "name", type=AXIS_NAME, help="Which axis; of a file, the only one that counts."
    ),
    click.option("--quantity", type=choice(*QUANTITIES), help="What the levels are of.  [speed]"),
    click.option(
        "--pass",
        "passed",
        multiple=True,
        metavar="LEVEL",
        help="A level that passed; may be repeated.",
    ),
    click.option("--fail", "failed", multiple=True, metavar="LEVEL", help="A level that failed."),
)


@motion.command("fit", cls=Asking, short_help="Limits from pass and fail.")
@tried
@click.option(
    "--margin",
    type=Measure("share", 0, 0.8),
    default=0.2,
    show_default=True,
    metavar="F",
    help="How far below the trusted level to stay.",
)
@readings_template(MOTION, "levels of a dry run")
@answering(dialect=False)
def fit(how: Leaving, margin: float, **given: Any) -> None:
    """Turn pass and fail of a dry run's levels into limits with a margin.

    READINGS.csv holds axis, speed_mm_s or acceleration_mm_s2, and result (pass or fail).

    \b
    Example:
      omphalon motion fit --axis y --pass 150 --pass 175 --pass 200 --fail 225 --fail 250
    """
    how.check(given["path"])
    from omphalon.studies.motion.fit import fit_motion
    from omphalon.studies.motion.words import motion_finding

    if given["path"] is not None and given["quantity"] is not None:
        raise UsageError(
            "--quantity beside a file", "its columns say what the levels are of; leave it out"
        )
    readings = _tried(**given)
    how.leave(motion_finding(fit_motion(readings, margin, given["name"]), readings))


@motion.command("check", short_help="Judges a limit on fresh runs.")
@tried
@click.option("--limit", required=True, metavar="N", help="The limit now in force.")
@answering(plot=False, dialect=False)
def check(how: Leaving, limit: str, **given: Any) -> None:
    """Judge whether everything at and below a limit still passes.

    READINGS.csv holds the columns of `fit`.

    \b
    Example:
      omphalon motion check --axis y --limit 160 --pass 120 --pass 160
    """
    how.check(given["path"])
    from omphalon.studies.motion.check import check_motion
    from omphalon.studies.motion.words import motion_check_finding

    what = given["quantity"] or "speed"
    readings = _tried(**given)
    value = parsed(limit, Measure(what), "--limit").value
    how.leave(
        motion_check_finding(
            check_motion(readings, QUANTITIES[what], value, given["name"]), readings
        )
    )


def _tried(
    path: str | None,
    name: str | None,
    quantity: str | None,
    passed: tuple[str, ...],
    failed: tuple[str, ...],
) -> Readings:
    from omphalon.readers.readings import option_readings, read_readings
    from omphalon.recording import Readings

    if path is not None and (passed or failed):
        raise UsageError("readings in a file and in options", "give one of the two")
    if path is not None:
        return read_readings(path, MOTION)
    if name is None or not (passed or failed):
        raise UsageError("no levels", "give a file, or --axis with --pass and --fail")
    what = quantity or "speed"
    told = [
        option_readings(
            {QUANTITIES[what]: [parsed(t, Measure(what), f"--{result}") for t in levels]},
            MOTION,
            {"axis": name, "result": result},
        )
        for result, levels in (("pass", passed), ("fail", failed))
        if levels
    ]
    return Readings("the options", tuple(row for one in told for row in one.rows))
