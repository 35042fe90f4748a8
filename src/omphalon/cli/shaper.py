"""omphalon shaper plan | fit | check."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import click

from omphalon.cli.asking import Asking
from omphalon.cli.common import (
    Leaving,
    Measure,
    answering,
    choice,
    numbers_of,
    options,
    pairs,
    parsed,
    template,
)
from omphalon.cli.printing import job_of, printing
from omphalon.constants import SHAPER_NAMES
from omphalon.errors import UsageError, echoed
from omphalon.files import put_lines

if TYPE_CHECKING:
    from omphalon.physics.shaping import Limits
    from omphalon.readers.acceleration import AxesWanted
    from omphalon.studies.shaper.question import Setting

SENSOR, FREQUENCY, DAMPING = choice("x", "y", "z"), Measure("frequency"), Measure("damping")
ASSUMED_DAMPING = 0.05  # of a frame whose damping nobody measured


def _empty_log() -> Iterator[str]:
    yield (
        "# one row a sample: seconds, and the sensor's three axes in g; 1000 a second or more, "
        "while one axis sweeps"
    )
    yield "time_s,x_g,y_g,z_g"


logging = options(
    click.option(
        "--kind",
        type=choice("sweep", "taps"),
        default="sweep",
        show_default=True,
        help="What the logs hold.",
    ),
    click.option(
        "--unit",
        type=choice("g", "m/s²", "mm/s²", "m/s2", "mm/s2"),
        help="Unit of the logs.  [from the header, or gravity]",
    ),
    click.option(
        "--every",
        type=Measure("interval"),
        metavar="S",
        help="Seconds between samples that are numbered, not timed;",
    ),
    click.option(
        "--rate", "samples_hz", type=Measure("rate"), metavar="HZ", help="or samples a second."
    ),
    click.option(
        "--column", multiple=True, metavar="NAME=HEADER", help="Column of time, x, y or z."
    ),
)
limits = options(
    click.option(
        "--ringing-limit",
        type=Measure("fine length"),
        default=0.01,
        show_default=True,
        metavar="MM",
        help="Ringing that may stay.",
    ),
    click.option(
        "--rounding-limit",
        type=Measure("fine length"),
        default=0.10,
        show_default=True,
        metavar="MM",
        help="Rounding of corners.",
    ),
    click.option(
        "--drift",
        type=Measure("share", 0, 0.3),
        default=0.05,
        show_default=True,
        metavar="F",
        help="How far a resonance may wander, as a share.",
    ),
)


@click.group()
def shaper() -> None:
    """Input shaper, and the acceleration that stays clean."""


@shaper.command("plan", short_help="How to log a sweep; writes one as moves, or a ringing print.")
@click.option("--axis", type=choice("x", "y"), default="x", show_default=True, help="Which axis.")
@click.option("--bed-moves-y", is_flag=True, help="The bed moves in Y: two mountings.")
@click.option(
    "--sweep", default="8:120", show_default=True, metavar="FROM:TO", help="Frequencies, Hz."
)
@click.option(
    "--rate",
    type=Measure("pace"),
    default=0.8,
    show_default=True,
    metavar="HZ_S",
    help="How fast it sweeps.",
)
@click.option(
    "--microstep",
    type=Measure("fine length"),
    default=0.0125,
    show_default=True,
    metavar="MM",
    help="What one microstep of the axis moves.",
)
@click.option(
    "--ringing", metavar="FILE", help="Write a ringing print instead, for an axis without a sensor."
)
@click.option("--out", metavar="FILE", help="Write the sweep as plain moves (G-code).")
@printing
@answering()
def plan(
    how: Leaving,
    axis: str,
    bed_moves_y: bool,
    sweep: str,
    rate: float,
    microstep: float,
    ringing: str | None,
    out: str | None,
    **given: Any,
) -> None:
    """Say how to mount the sensor and log a sweep; write the sweep as plain moves, or a ringing
    print.

    \b
    Example:
      omphalon shaper plan --axis y --sweep 8:100 --dialect stand-in --out sweep-y.gcode
    """
    how.check(out=out, ringing=ringing)
    from omphalon.prints.shake import Shake, shake_lines
    from omphalon.studies.shaper.plan import plan_ringing, plan_shaper

    if ringing is not None and out is not None:
        raise UsageError("--out and --ringing", "give one of the two")
    job = job_of(given, 90.0, 2000.0 if out is not None else 3000.0, 0.7)
    chosen = how.lines().with_line(
        "acceleration", given["acceleration_line"], "--acceleration-line"
    )
    if ringing is not None:
        found, printed = plan_ringing(job, chosen)
        put_lines(ringing, printed.lines(), ";")
        how.leave(found)
    low, high = numbers_of(sweep, FREQUENCY, 2, "--sweep", "8:120")
    shake = (
        Shake(
            axis=axis,
            low_hz=low,
            high_hz=high,
            rate_hz_s=rate,
            acceleration_mm_s2=job.acceleration_mm_s2,
            at=job.middle,
            microstep_mm=microstep,
        )
        if out is not None
        else None
    )
    told = plan_shaper(axis, bed_moves_y, shake, job, chosen)
    if shake is not None and out is not None:
        put_lines(
            out,
            shake_lines(
                shake, job.bed, chosen.line("acceleration", acceleration=job.acceleration_mm_s2)
            ),
            ";",
        )
    how.leave(told)


@shaper.command("fit", cls=Asking, short_help="Shapers and acceleration from accelerometer logs.")
@click.option("--x", "log_x", metavar="LOG", help="Log of axis X.")
@click.option("--y", "log_y", metavar="LOG", help="Log of axis Y.")
@click.option(
    "--sensor-x", type=SENSOR, help="Sensor's axis that lay along X in X's log.  [from the log]"
)
@click.option(
    "--sensor-y", type=SENSOR, help="Sensor's axis that lay along Y in Y's log.  [from the log]"
)
@logging
@click.option(
    "--ripple-x",
    type=Measure("fine length"),
    multiple=True,
    metavar="MM",
    help="Ripple to ripple on a print, for X; may be repeated.",
)
@click.option(
    "--ripple-y", type=Measure("fine length"), multiple=True, metavar="MM", help="The same for Y."
)
@click.option(
    "--speed",
    type=Measure("speed"),
    metavar="MM_S",
    help="Speed of the walls that show the ripples.",
)
@click.option(
    "--offered",
    default=",".join(SHAPER_NAMES),
    show_default=True,
    metavar="NAMES",
    help="Shapers the controller has.",
)
@limits
@click.option(
    "--present-x",
    metavar="NAME:HZ:DAMPING",
    help="Setting of X now in force, for example mzv:42:0.05.",
)
@click.option("--present-y", metavar="NAME:HZ:DAMPING", help="Setting of Y now in force.")
@template(_empty_log)
@answering()
def fit(
    how: Leaving,
    log_x: str | None,
    log_y: str | None,
    speed: float | None,
    offered: str,
    **given: Any,
) -> None:
    """Turn accelerometer logs into the shapers and the acceleration that keep ringing and rounding
    below their limits.

    A LOG is a table with time_s and three axes in g, m/s² or mm/s² (x_g, y_g, z_g).

    \b
    Example:
      omphalon shaper fit --x sweep-x.csv.gz --y sweep-y.csv.gz --plot shaper.png
    """
    how.check(log_x, log_y)
    from omphalon.readers.acceleration import read_motion
    from omphalon.studies.shaper.fit import fit_shaper
    from omphalon.studies.shaper.question import ShaperQuestion
    from omphalon.studies.shaper.words import shaper_finding

    _refuse_lonely(log_x, log_y, speed, given)
    wanted = _wanted(given)
    present = {
        axis: _setting(given[f"present_{axis}"], f"--present-{axis}")
        for axis in "xy"
        if given[f"present_{axis}"] is not None
    }
    logs = {
        axis: read_motion(path, wanted)
        for axis, path in (("x", log_x), ("y", log_y))
        if path is not None
    }
    question = ShaperQuestion(
        logs=logs,
        sensor={axis: given[f"sensor_{axis}"] for axis in "xy"},
        ripples_mm={axis: given[f"ripple_{axis}"] for axis in "xy"},
        speed_mm_s=speed,
        offered=tuple(n.strip().lower() for n in offered.split(",")),
        limits=_limits(given),
        present=present,
        kind=given["kind"],
    )
    lines = how.lines()
    how.leave(shaper_finding(fit_shaper(question), question, lines))


def _refuse_lonely(
    log_x: str | None, log_y: str | None, speed: float | None, given: dict[str, Any]
) -> None:
    """Refuse options that nothing reads: an axis's words without its log or ripples, a speed
    without ripples, one log twice.
    """
    for axis, log in (("x", log_x), ("y", log_y)):
        ripples = given[f"ripple_{axis}"]
        if log is not None and ripples:
            raise UsageError(f"--{axis} and --ripple-{axis}", "give one of the two")
        if log is None and given[f"sensor_{axis}"] is not None:
            raise UsageError(f"--sensor-{axis} without --{axis}", "give both")
        if log is None and not ripples and given[f"present_{axis}"] is not None:
            raise UsageError(f"--present-{axis} without --{axis}", "give both")
    if speed is not None and not (given["ripple_x"] or given["ripple_y"]):
        raise UsageError(
            "--speed without --ripple-x or --ripple-y",
            "it belongs to ripples on a print; leave it out",
        )
    if log_x is not None and log_x == log_y:
        raise UsageError("--x and --y are one log", "log each axis by itself")


@shaper.command("check", short_help="Does a setting still fit? One log, or before and after.")
@click.argument("logs", nargs=-1, required=True, metavar="LOG [LATER]")
@click.option("--axis", type=choice("x", "y"), required=True, help="Which axis.")
@click.option("--sensor", type=SENSOR, help="Sensor's axis that lay along it.  [from the log]")
@click.option(
    "--shaper", "name", type=choice(*SHAPER_NAMES), required=True, help="Shaper in force."
)
@click.option("--frequency", type=FREQUENCY, required=True, metavar="HZ", help="Its frequency.")
@click.option(
    "--damping",
    type=DAMPING,
    default=ASSUMED_DAMPING,
    show_default=True,
    metavar="Z",
    help="Its damping.",
)
@click.option(
    "--acceleration",
    type=Measure("acceleration"),
    required=True,
    metavar="MM_S2",
    help="Acceleration in use.",
)
@logging
@limits
@answering(dialect=False)
def check(
    how: Leaving,
    logs: tuple[str, ...],
    axis: str,
    sensor: str | None,
    name: str,
    frequency: float,
    damping: float,
    acceleration: float,
    **given: Any,
) -> None:
    """Judge whether a setting still fits a fresh log; with two logs, before and after a repair.

    \b
    Example:
      omphalon shaper check sweep-y.csv.gz --axis y --shaper ei --frequency 31 --acceleration 900
    """
    how.check(*logs)
    from omphalon.readers.acceleration import read_motion
    from omphalon.studies.shaper.check import check_shaper
    from omphalon.studies.shaper.question import Setting, ShaperCheckQuestion
    from omphalon.studies.shaper.words import shaper_check_finding

    if len(logs) > 2:
        raise UsageError(f"{len(logs)} logs", "give one log, or two: before and after")
    if len(set(logs)) < len(logs):
        raise UsageError("before and after are one log", "give two, or one")
    wanted = _wanted(given)
    question = ShaperCheckQuestion(
        logs=tuple(read_motion(path, wanted) for path in logs),
        axis=axis,
        setting=Setting(shaper=name, frequency_hz=frequency, damping=damping),
        acceleration_mm_s2=acceleration,
        sensor=sensor,
        limits=_limits(given),
        kind=given["kind"],
    )
    how.leave(shaper_check_finding(check_shaper(question), question))


def _wanted(given: dict[str, Any]) -> AxesWanted:
    from omphalon.readers.acceleration import AxesWanted

    if given["every"] is not None and given["samples_hz"] is not None:
        raise UsageError("--every and --rate", "give one of the two")
    every = given["every"] if given["samples_hz"] is None else 1 / given["samples_hz"]
    unit = None if given["unit"] is None else given["unit"].replace("2", "²")
    return AxesWanted(unit=unit, every_s=every, columns=pairs(given["column"]))


def _limits(given: dict[str, Any]) -> Limits:
    from omphalon.physics.shaping import Limits

    return Limits(
        ringing_mm=given["ringing_limit"],
        rounding_mm=given["rounding_limit"],
        drift=given["drift"],
    )


def _setting(text: str, option: str) -> Setting:
    from omphalon.studies.shaper.question import Setting

    name, colon, rest = text.partition(":")
    if name.lower() not in SHAPER_NAMES or not colon or rest.count(":") != 1:
        raise UsageError(f"{option} {echoed(text)}: not NAME:HZ:DAMPING", "for example mzv:42:0.05")
    frequency, damping = rest.split(":")
    return Setting(
        shaper=name.lower(),
        frequency_hz=parsed(frequency, FREQUENCY, option).value,
        damping=parsed(damping, DAMPING, option).value,
    )
