"""omphalon motion plan | fit | check."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError
from omphalon.base.files import put_lines
from omphalon.cli.common import (
    Answer,
    Leaving,
    Measure,
    answering,
    by_hand,
    choice,
    filled,
    number,
    numbers_of,
    options,
    parsed,
    readings_template,
)
from omphalon.cli.groups import Asking, Verbs
from omphalon.recordings.columns import MOTION, MOVED
from omphalon.tables.constants import BUILDS

if TYPE_CHECKING:
    from omphalon.recordings.recording import Readings

MOVED_NAME = choice(*MOVED)
QUANTITIES = {"speed": "speed_mm_s", "acceleration": "acceleration_mm_s2", "corner": "corner_mm_s"}
RANGES = {"speed": "100:300:25", "acceleration": "1000:4000:500", "corner": "4:24:4"}
RETRACT_RANGES = {"speed": "20:80:10", "acceleration": "500:4000:500"}


@click.group(cls=Verbs)
def motion() -> None:
    """Highest speed and acceleration before steps are lost."""


@motion.command("plan", short_help="Writes a dry run that goes faster level by level.")
@click.option(
    "--axis", "name", type=MOVED_NAME, required=True, help="Which axis; e is the extruder."
)
@click.option("--speed", metavar="FROM:TO:STEP", help="Levels of speed, mm/s,")
@click.option("--acceleration", metavar="FROM:TO:STEP", help="or of acceleration, mm/s²,")
@click.option(
    "--corner",
    metavar="FROM:TO:STEP",
    help="or of the speed kept through right-angled corners, mm/s; X and Y run both.",
)
@click.option(
    "--travel",
    default="10:180",
    show_default=True,
    metavar="LOW:HIGH",
    help="Allowed travel of the axis, mm.",
)
@click.option(
    "--travel-across",
    metavar="LOW:HIGH",
    help="Travel of the other axis, mm, for corners and diagonals.  [as --travel]",
)
@click.option("--build", type=choice(*BUILDS), help="What moves, by which motors.")
@number("--temp", "feeding temperature", "With --axis e: the printing temperature.")
@number(
    "--retract",
    "size",
    "With --axis e: length drawn back and given back.",
    within=(0.1, 15),
    default=2.0,
)
@click.option(
    "--line",
    "line_template",
    metavar="TEMPLATE",
    help="Line that sets the acceleration: '… {acceleration:.0f}'.",
)
@number("--present", "acceleration", "Acceleration in force, set again at the end.", name="present")
@click.option(
    "--limit",
    metavar="N",
    help="The controller's own limit of it: lifted for the run, put back.  [left alone]",
)
@click.option("--out", required=True, metavar="FILE", help="Where to write the dry run (G-code).")
@answering(plot=False)
def plan(
    how: Leaving, name: str, line_template: str | None, limit: str | None, out: str, **given: Any
) -> Answer:
    """Write a dry run that goes faster level by level: an axis, X and Y through corners, or the
    extruder, hot, with its filament in and out.

    \b
    Example:
      omphalon motion plan --axis y --speed 100:300:25 --travel 10:180 --out dry-run.gcode
      omphalon motion plan --axis x --corner 4:24:4 --travel 10:200 --out corners.gcode
      omphalon motion plan --axis e --speed 20:80:10 --temp 215 --out retractions.gcode
    """
    how.check(out=out)
    from omphalon.prints.dryrun import dry_run_lines
    from omphalon.studies.motion.plan import DryRunAsked, plan_motion

    what, raised = _raised(name, given)
    if what != "acceleration" and (line_template is not None or given["present"] is not None):
        raise UsageError(f"--line, --present with --{what}", "they belong to --acceleration")
    example = (RETRACT_RANGES if name == "e" else RANGES).get(what, RANGES[what])
    levels = numbers_of(raised, Measure(what), 3, f"--{what}", example)
    across = given["travel_across"]
    asked = filled(
        DryRunAsked,
        given,
        axis=name,
        quantity=QUANTITIES[what],
        levels=(levels[0], levels[1], levels[2]),
        travel_mm=_ends(given["travel"], "--travel"),
        across_mm=None if across is None else _ends(across, "--travel-across"),
        limit=None if limit is None else parsed(limit, Measure(what), "--limit").value,
    )
    found, run = plan_motion(asked, how.lines().with_line("acceleration", line_template))
    put_lines(out, dry_run_lines(run, "the printer whose travel was given"), ";")
    return found


def _raised(name: str, given: dict[str, Any]) -> tuple[str, str]:
    """What is raised, and its levels as they were given; options that nothing reads are refused."""
    found = [(what, given[what]) for what in QUANTITIES if given[what] is not None]
    if len(found) != 1:
        raise UsageError("--speed, --acceleration or --corner", "give one of them, as FROM:TO:STEP")
    if name != "e" and (by_hand("temp_c", "retract_mm")):
        raise UsageError("--temp, --retract without --axis e", "they are the extruder's")
    if name == "e" and (by_hand("travel", "travel_across")):
        raise UsageError("--travel with --axis e", "filament has none; give --retract MM")
    alone = found[0][0] != "corner" and given["build"] != "crossed-belts"
    if alone and by_hand("travel_across"):
        raise UsageError("--travel-across without --corner", "one axis runs; give --travel")
    return found[0]


def _ends(text: str, option: str) -> tuple[float, float]:
    low, high = numbers_of(text, Measure("length"), 2, option, "10:180")
    return low, high


tried = options(
    click.argument("path", required=False, metavar="[READINGS.csv]"),
    click.option(
        "--axis", "name", type=MOVED_NAME, help="Which axis; of a file, the only one that counts."
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
@number(
    "--margin", "share", "How far below the trusted level to stay.", within=(0, 0.8), default=0.2
)
@readings_template(MOTION, "levels of a dry run")
@answering(dialect=False)
def fit(how: Leaving, margin: float, **given: Any) -> Answer:
    """Turn pass and fail of a dry run's levels into limits with a margin.

    READINGS.csv holds axis, speed_mm_s, acceleration_mm_s2 or corner_mm_s, and result (pass or
    fail).

    \b
    Example:
      omphalon motion fit --axis y --pass 150 --pass 175 --pass 200 --fail 225 --fail 250
    """
    how.check(given["path"])
    from omphalon.studies.motion.words import motion_answer

    if given["path"] is not None and given["quantity"] is not None:
        raise UsageError(
            "--quantity beside a file", "its columns say what the levels are of; leave it out"
        )
    readings = _tried(**given)
    return motion_answer(readings, margin, given["name"])


@motion.command("check", short_help="Judges a limit on fresh runs.")
@tried
@click.option("--limit", required=True, metavar="N", help="The limit now in force.")
@answering(plot=False, dialect=False)
def check(how: Leaving, limit: str, **given: Any) -> Answer:
    """Judge whether everything at and below a limit still passes.

    READINGS.csv holds the columns of `fit`.

    \b
    Example:
      omphalon motion check --axis y --limit 160 --pass 120 --pass 160
    """
    how.check(given["path"])
    from omphalon.studies.motion.words import motion_check_answer

    what = given["quantity"] or "speed"
    readings = _tried(**given)
    value = parsed(limit, Measure(what), "--limit").value
    return motion_check_answer(readings, QUANTITIES[what], value, given["name"])


def _tried(
    path: str | None,
    name: str | None,
    quantity: str | None,
    passed: tuple[str, ...],
    failed: tuple[str, ...],
) -> Readings:
    from omphalon.readers.readings import option_readings, read_readings
    from omphalon.recordings.recording import Readings

    if path is not None and (passed or failed):
        raise UsageError("readings in a file and in options", "give one of the two")
    if path is not None:
        return read_readings(path, MOTION)
    if name is None or not (passed or failed):
        raise UsageError("no levels", "give a file, or --axis with --pass and --fail")
    what = quantity or "speed"
    words = [
        option_readings(
            {QUANTITIES[what]: [parsed(t, Measure(what), f"--{result}") for t in levels]},
            MOTION,
            {"axis": name, "result": result},
        )
        for result, levels in (("pass", passed), ("fail", failed))
        if levels
    ]
    return Readings("the options", tuple(row for one in words for row in one.rows))
