"""omphalon shaper plan | fit | check."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.base.files import put_lines
from omphalon.cli.common import Answer, Leaving, answering, choice, number, numbers_of, template
from omphalon.cli.groups import Asking, Verbs
from omphalon.cli.printing import job_of, print_lines, printing
from omphalon.cli.shaper_check import check
from omphalon.cli.shaper_common import (
    FREQUENCY,
    IN_USE,
    OFFERED,
    SENSOR,
    bands_of,
    limits,
    limits_of,
    logging,
    names_of,
    shapers_in_use,
    wanted_of,
)

if TYPE_CHECKING:
    from omphalon.recordings.recording import MotionLog


def _empty_log() -> Iterator[str]:
    yield (
        "# one row a sample: seconds, and the sensor's three axes in g; 1000 a second or more, "
        "while one axis sweeps"
    )
    yield "time_s,x_g,y_g,z_g"


@click.group(cls=Verbs)
def shaper() -> None:
    """Input shaper, and the acceleration that stays clean."""


@shaper.command("plan", short_help="How to log a sweep; writes one as moves, or a ringing print.")
@click.option("--axis", type=choice("x", "y"), default="x", show_default=True, help="Which axis.")
@click.option("--bed-moves-y", is_flag=True, help="The bed moves in Y: two mountings.")
@click.option(
    "--sweep", default="8:120", show_default=True, metavar="FROM:TO", help="Frequencies, Hz."
)
@number("--rate", "sweep rate", "How fast it sweeps.", default=0.8)
@number("--microstep", "fine length", "What one microstep of the axis moves.", default=0.0125)
@click.option(
    "--ringing", metavar="FILE", help="Write a ringing print instead, for an axis without a sensor."
)
@click.option(
    "--bands",
    metavar="FROM:TO:STEP",
    help="Acceleration of the ringing print by height, mm/s²: the shaper stays as it is set.",
)
@click.option("--out", metavar="FILE", help="Write the sweep as plain moves (G-code).")
@printing
@answering()
def plan(
    how: Leaving,
    axis: str,
    bed_moves_y: bool,
    sweep: str,
    ringing: str | None,
    bands: str | None,
    out: str | None,
    **given: Any,
) -> Answer:
    """Say how to mount the sensor and log a sweep; write the sweep as plain moves, or a ringing
    print.

    \b
    Example:
      omphalon shaper plan --axis y --sweep 8:100 --dialect stand-in --out sweep-y.gcode
      omphalon shaper plan --ringing bands.gcode --bands 1000:4000:500 --dialect stand-in
    """
    how.check(out=out, ringing=ringing)
    from omphalon.prints.dryrun import Shake, shake_lines
    from omphalon.studies.shaper.plan import plan_ringing, plan_shaper

    if ringing is not None and out is not None:
        raise UsageError("--out and --ringing", "give one of the two")
    if bands is not None and ringing is None:
        raise UsageError("--bands without --ringing", "name the file: --ringing FILE")
    job = job_of(given, 90.0, 2000.0 if out is not None else 3000.0, 0.7)
    chosen = print_lines(how, given)
    if ringing is not None:
        print_bands = None if bands is None else bands_of(bands)
        if print_bands is not None and given["acceleration_mm_s2"] is not None:
            raise UsageError("--acceleration and --bands", "the bands say it; leave it out")
        found, printed = plan_ringing(job, chosen, print_bands)
        put_lines(ringing, printed.lines(), ";")
        return found
    low, high = numbers_of(sweep, FREQUENCY, 2, "--sweep", "8:120")
    shake = (
        Shake(
            axis=axis,
            low_hz=low,
            high_hz=high,
            rate_hz_s=given["rate"],
            acceleration_mm_s2=job.acceleration_mm_s2,
            at=job.middle,
            microstep_mm=given["microstep_mm"],
        )
        if out is not None
        else None
    )
    words = plan_shaper(axis, bed_moves_y, shake, job, chosen)
    if shake is not None and out is not None:
        put_lines(
            out,
            shake_lines(
                shake, job.bed, chosen.line("acceleration", acceleration=job.acceleration_mm_s2)
            ),
            ";",
        )
    return words


@shaper.command("fit", cls=Asking, short_help="Shapers and acceleration from accelerometer logs.")
@click.argument("log", required=False, metavar="[LOG]")
@click.option("--x", "log_x", metavar="LOG", help="Log of axis X.")
@click.option("--y", "log_y", metavar="LOG", help="Log of axis Y.")
@click.option(
    "--sensor-x", type=SENSOR, help="Sensor's axis that lay along X in X's log.  [from the log]"
)
@click.option(
    "--sensor-y", type=SENSOR, help="Sensor's axis that lay along Y in Y's log.  [from the log]"
)
@logging()
@number(
    "--ripple-x",
    "fine length",
    "Ripple to ripple on a print, for X; may be repeated.",
    multiple=True,
)
@number("--ripple-y", "fine length", "The same for Y.", multiple=True)
@number("--speed", "speed", "Speed of the walls that show the ripples.")
@OFFERED
@limits
@IN_USE
@template(_empty_log)
@answering()
def fit(
    how: Leaving,
    log: str | None,
    log_x: str | None,
    log_y: str | None,
    speed_mm_s: float | None,
    offered: str,
    **given: Any,
) -> Answer:
    """Turn accelerometer logs into the shapers and the acceleration that keep ringing and rounding
    below their limits.

    One LOG by itself is of the axis that moves in it. A LOG is a table with time_s and three axes
    in g, m/s² or mm/s² (x_g, y_g, z_g).

    \b
    Example:
      omphalon shaper fit --x sweep-x.csv.gz --y sweep-y.csv.gz --plot shaper.png
    """
    how.check(log, log_x, log_y)
    from omphalon.readers.acceleration import read_motion
    from omphalon.studies.shaper.question import ShaperQuestion
    from omphalon.studies.shaper.words import shaper_answer

    wanted = wanted_of(given)
    if log is not None:
        if log_x is not None or log_y is not None:
            raise UsageError("a LOG beside --x or --y", "name each by its axis")
        axis = _moved(read_motion(log, wanted))
        log_x, log_y = (log, None) if axis == "x" else (None, log)
    _refuse_lonely(log_x, log_y, speed_mm_s, given)
    logs = {
        axis: read_motion(path, wanted)
        for axis, path in (("x", log_x), ("y", log_y))
        if path is not None
    }
    question = ShaperQuestion(
        logs=logs,
        sensor={axis: given[f"sensor_{axis}"] for axis in "xy"},
        ripples_mm={axis: given[f"ripple_{axis}_mm"] for axis in "xy"},
        speed_mm_s=speed_mm_s,
        offered=names_of(offered),
        limits=limits_of(given),
        present=shapers_in_use(given),
        kind=given["kind"],
    )
    lines = how.lines()
    return shaper_answer(question, lines)


def _moved(log: MotionLog) -> str:
    """The axis that moved in a log, by the sensor's own; asked for where it is neither X nor Y."""
    from omphalon.studies.shaper.modes import SENSOR_AXES

    axis = SENSOR_AXES[int(log.acceleration_mm_s2.std(axis=0).argmax())]
    if axis not in ("x", "y"):
        raise UsageError(
            f"{echoed(log.source)}: its sensor's {axis} moves most: of which axis is it?",
            "give it with --x or --y",
        )
    return axis


def _refuse_lonely(
    log_x: str | None, log_y: str | None, speed: float | None, given: dict[str, Any]
) -> None:
    """Refuse options that nothing reads: an axis's words without its log or ripples, a speed
    without ripples, one log twice.
    """
    for axis, log in (("x", log_x), ("y", log_y)):
        ripples = given[f"ripple_{axis}_mm"]
        if log is not None and ripples:
            raise UsageError(f"--{axis} and --ripple-{axis}", "give one of the two")
        if log is None and given[f"sensor_{axis}"] is not None:
            raise UsageError(f"--sensor-{axis} without --{axis}", "give both")
        if log is None and not ripples and given[f"present_{axis}"] is not None:
            raise UsageError(f"--present-{axis} without --{axis}", "give both")
    if speed is not None and not (given["ripple_x_mm"] or given["ripple_y_mm"]):
        raise UsageError(
            "--speed without --ripple-x or --ripple-y",
            "it belongs to ripples on a print; leave it out",
        )
    if log_x is not None and log_x == log_y:
        raise UsageError("--x and --y are one log", "log each axis by itself")


shaper.add_command(check)
