"""omphalon motion plan | fit | check."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from omphalon.cli.axis import AXIS
from omphalon.cli.common import ABOVE_ZERO, answering, check_plot, leave, options
from omphalon.cli.printing import numbers_of, write_lines

if TYPE_CHECKING:
    from omphalon.recording import Readings


@click.group()
def motion() -> None:
    """Highest speed and acceleration before steps are lost."""


@motion.command("plan", short_help="Writes a dry run that goes faster level by level.")
@click.option("--axis", "name", type=AXIS, required=True, help="Which axis.")
@click.option("--speed", metavar="FROM:TO:STEP", help="Levels of speed, mm/s,")
@click.option("--acceleration", metavar="FROM:TO:STEP", help="or of acceleration, mm/s².")
@click.option("--travel", default="10:180", show_default=True, metavar="LOW:HIGH", help="Allowed travel of the axis, mm.")
@click.option("--line", "template", metavar="TEMPLATE", help="Line that sets the acceleration: '… {acceleration:.0f}'.")
@click.option("--out", required=True, metavar="FILE", help="Where to write the dry run (G-code).")
@answering(plot=False)
def plan(name: str, speed: str | None, acceleration: str | None, travel: str, template: str | None, out: str, as_json: bool,
         dialect: str | None, quiet: bool) -> None:
    """Write a dry run of one axis: nothing heated, nothing fed, faster level by level.

    \b
    Example:
      omphalon motion plan --axis y --speed 100:300:25 --travel 10:180 --out dry-run.gcode
    """
    from omphalon.bench.dialect import load_dialect
    from omphalon.errors import UsageError
    from omphalon.prints.dryrun import dry_run_lines
    from omphalon.studies.motion import plan_motion

    if (speed is None) == (acceleration is None):
        raise UsageError("--speed or --acceleration", "give one of the two, as FROM:TO:STEP")
    quantity = "speed_mm_s" if speed is not None else "acceleration_mm_s2"
    levels = numbers_of(speed or acceleration or "", 3, "--speed" if speed is not None else "--acceleration", "100:300:25")
    ends = numbers_of(travel, 2, "--travel", "10:180")
    found, run = plan_motion(name, quantity, (levels[0], levels[1], levels[2]), (ends[0], ends[1]), template,
                             load_dialect(dialect))
    write_lines(out, dry_run_lines(run, "the printer whose travel was given"))
    leave(found, as_json, quiet)


tried = options(
    click.argument("readings", required=False, metavar="[READINGS.csv]"),
    click.option("--axis", "name", type=AXIS, help="Which axis, for levels given as options."),
    click.option("--quantity", type=click.Choice(["speed", "acceleration"]), default="speed", show_default=True,
                 help="What the levels are of."),
    click.option("--pass", "passed", multiple=True, metavar="LEVEL", help="A level that passed; may be repeated."),
    click.option("--fail", "failed", multiple=True, metavar="LEVEL", help="A level that failed."),
)


@motion.command("fit", short_help="Limits from pass and fail.")
@tried
@click.option("--margin", type=click.FloatRange(0, 0.8), default=0.2, show_default=True, metavar="F",
              help="How far below the trusted level to stay.")
@answering()
def fit(name: str | None, quantity: str, readings: str | None, passed: tuple[str, ...], failed: tuple[str, ...],
        margin: float, as_json: bool, plot: str | None, dialect: str | None, quiet: bool) -> None:
    """Turn pass and fail of a dry run's levels into limits with a margin.

    \b
    Example:
      omphalon motion fit --axis y --pass 150 --pass 175 --pass 200 --fail 225 --fail 250
    """
    check_plot(plot)
    from omphalon.studies.motion import fit_motion

    leave(fit_motion(_tried(readings, name, quantity, passed, failed), margin), as_json, quiet, plot)


@motion.command("check", short_help="Judges a limit on fresh runs.")
@tried
@click.option("--limit", type=ABOVE_ZERO, required=True, metavar="N", help="The limit now in force.")
@answering(plot=False)
def check(name: str | None, quantity: str, readings: str | None, passed: tuple[str, ...], failed: tuple[str, ...],
          limit: float, as_json: bool, dialect: str | None, quiet: bool) -> None:
    """Judge whether everything at and below a limit still passes.

    \b
    Example:
      omphalon motion check --axis y --limit 160 --pass 120 --pass 160
    """
    from omphalon.studies.motion import check_motion

    column = "speed_mm_s" if quantity == "speed" else "acceleration_mm_s2"
    leave(check_motion(_tried(readings, name, quantity, passed, failed), {column: limit}), as_json, quiet)


def _tried(path: str | None, name: str | None, quantity: str, passed: tuple[str, ...], failed: tuple[str, ...]) -> Readings:
    from omphalon.errors import UsageError
    from omphalon.readers.readings import option_readings, read_readings
    from omphalon.recording import Readings
    from omphalon.studies.motion import QUANTITIES, WORDS

    if path is not None and not passed and not failed:
        return read_readings(path, tuple(QUANTITIES), WORDS)
    if path is not None or name is None or not (passed or failed):
        raise UsageError("no levels", "give a file, or --axis with --pass and --fail")
    column = "speed_mm_s" if quantity == "speed" else "acceleration_mm_s2"
    told: Any = [option_readings({column: levels}, {"axis": name, "result": result}).rows
                 for result, levels in (("pass", passed), ("fail", failed)) if levels]
    return Readings("the options", tuple(row for rows in told for row in rows))
