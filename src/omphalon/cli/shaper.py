"""omphalon shaper plan | fit | check."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from omphalon.cli.common import ABOVE_ZERO, answering, check_plot, leave, options
from omphalon.cli.printing import job_of, numbers_of, printing, write_lines

if TYPE_CHECKING:
    from omphalon.physics.impulses import Limits
    from omphalon.studies.shaper.fit import Setting

SENSOR = click.Choice(["x", "y", "z"])
NAMES = click.Choice(["zv", "zvd", "mzv", "ei", "ei2", "ei3"])
UNIT = click.option("--unit", type=click.Choice(["g", "m/s²", "mm/s²"]), help="Unit of the logs.  [from the header, or gravity]")
KIND = click.option("--kind", type=click.Choice(["sweep", "taps"]), default="sweep", show_default=True, help="What the logs hold.")
limits = options(
    click.option("--ringing-limit", type=ABOVE_ZERO, default=0.01, show_default=True, metavar="MM", help="Ringing that may stay."),
    click.option("--rounding-limit", type=ABOVE_ZERO, default=0.10, show_default=True, metavar="MM", help="Rounding of corners."),
    click.option("--drift", type=click.FloatRange(0, 0.3), default=0.05, show_default=True, metavar="F",
                 help="How far a resonance may wander, as a share."),
)


@click.group()
def shaper() -> None:
    """Input shaper, and the acceleration that stays clean."""


@shaper.command("plan", short_help="How to log a sweep; writes one as moves, or a ringing print.")
@click.option("--axis", type=click.Choice(["x", "y"]), default="x", show_default=True, help="Which axis.")
@click.option("--bed-moves-y", is_flag=True, help="The bed moves in Y: two mountings.")
@click.option("--sweep", default="5:130", show_default=True, metavar="FROM:TO", help="Frequencies, Hz.")
@click.option("--rate", type=ABOVE_ZERO, default=1.0, show_default=True, metavar="HZ_S", help="How fast it sweeps.")
@click.option("--ringing", metavar="FILE", help="Write a ringing print instead, for an axis without a sensor.")
@click.option("--out", metavar="FILE", help="Write the sweep as plain moves (G-code).")
@printing
@answering()
def plan(axis: str, bed_moves_y: bool, sweep: str, rate: float, ringing: str | None, out: str | None, as_json: bool,
         dialect: str | None, quiet: bool, plot: str | None, **given: Any) -> None:
    """Say how to mount the sensor and log a sweep; write the sweep as plain moves, or a ringing print.

    \b
    Example:
      omphalon shaper plan --axis y --bed-moves-y --sweep 5:130 --dialect stand-in --out sweep-y.gcode
    """
    check_plot(plot)
    from omphalon.bench.dialect import load_dialect
    from omphalon.errors import UsageError
    from omphalon.prints.shake import Shake, shake_lines
    from omphalon.studies.shaper.plan import plan_ringing, plan_shaper

    if ringing is not None and out is not None:
        raise UsageError("--out and --ringing", "give one of the two")
    job = job_of(given, 100.0, 2000.0 if out is not None else 3000.0, 0.8)
    chosen = load_dialect(dialect).with_line("acceleration", given["acceleration_line"])
    if ringing is not None:
        found, printed = plan_ringing(job, chosen)
        write_lines(ringing, printed.lines())
        leave(found, as_json, quiet, plot)
    low, high = numbers_of(sweep, 2, "--sweep", "5:130")
    shake = Shake(axis, low, high, rate, job.acceleration_mm_s2, job.middle) if out is not None else None
    told = plan_shaper(axis, bed_moves_y, shake, job, chosen)
    if shake is not None and out is not None:
        write_lines(out, shake_lines(shake, job.bed, chosen.line("acceleration", acceleration=job.acceleration_mm_s2)))
    leave(told, as_json, quiet, plot)


@shaper.command("fit", short_help="Shapers and acceleration from accelerometer logs.")
@click.option("--x", "log_x", metavar="LOG", help="Log of axis X.")
@click.option("--y", "log_y", metavar="LOG", help="Log of axis Y.")
@click.option("--sensor-x", type=SENSOR, help="Sensor's axis that lay along X in X's log.  [from the log]")
@click.option("--sensor-y", type=SENSOR, help="Sensor's axis that lay along Y in Y's log.  [from the log]")
@KIND
@UNIT
@click.option("--ripple-x", type=float, multiple=True, metavar="MM", help="Ripple to ripple on a print, for X; may be repeated.")
@click.option("--ripple-y", type=float, multiple=True, metavar="MM", help="The same for Y.")
@click.option("--speed", type=ABOVE_ZERO, metavar="MM_S", help="Speed of the walls that show the ripples.")
@click.option("--offered", default="zv,zvd,mzv,ei,ei2,ei3", show_default=True, metavar="NAMES", help="Shapers the controller has.")
@limits
@click.option("--present-x", metavar="NAME:HZ:DAMPING", help="Setting of X now in force, for example mzv:42:0.05.")
@click.option("--present-y", metavar="NAME:HZ:DAMPING", help="Setting of Y now in force.")
@answering()
def fit(log_x: str | None, log_y: str | None, sensor_x: str | None, sensor_y: str | None, kind: str, unit: str | None,
        ripple_x: tuple[float, ...], ripple_y: tuple[float, ...], speed: float | None, offered: str, present_x: str | None,
        present_y: str | None, as_json: bool, plot: str | None, dialect: str | None, quiet: bool, **given: Any) -> None:
    """Turn accelerometer logs into the shapers and the acceleration that keep ringing and rounding below their limits.

    \b
    Example:
      omphalon shaper fit --x sweep-x.csv.gz --y sweep-y.csv.gz --plot shaper.png
    """
    check_plot(plot)
    from omphalon.bench.dialect import load_dialect
    from omphalon.readers.acceleration import read_motion
    from omphalon.studies.shaper.fit import ShaperQuestion, fit_shaper

    logs = {axis: read_motion(path, unit) for axis, path in (("x", log_x), ("y", log_y)) if path is not None}
    present = {axis: _setting(text, f"--present-{axis}") for axis, text in (("x", present_x), ("y", present_y)) if text is not None}
    names = tuple(n.strip() for n in offered.split(","))
    question = ShaperQuestion(logs, {"x": sensor_x, "y": sensor_y}, {"x": ripple_x, "y": ripple_y}, speed, names, _limits(given),
                              present, kind)
    leave(fit_shaper(question, load_dialect(dialect)), as_json, quiet, plot)


@shaper.command("check", short_help="Does a setting still fit? One log, or before and after.")
@click.argument("logs", nargs=-1, required=True, metavar="LOG [LATER]")
@click.option("--axis", type=click.Choice(["x", "y"]), required=True, help="Which axis.")
@click.option("--sensor", type=SENSOR, help="Sensor's axis that lay along it.  [from the log]")
@click.option("--shaper", "name", type=NAMES, required=True, help="Shaper in force.")
@click.option("--frequency", type=ABOVE_ZERO, required=True, metavar="HZ", help="Its frequency.")
@click.option("--damping", type=click.FloatRange(0, 0.9), default=0.1, show_default=True, metavar="Z", help="Its damping.")
@click.option("--acceleration", type=ABOVE_ZERO, required=True, metavar="MM_S2", help="Acceleration in use.")
@KIND
@UNIT
@limits
@answering()
def check(logs: tuple[str, ...], axis: str, sensor: str | None, name: str, frequency: float, damping: float, acceleration: float,
          kind: str, unit: str | None, as_json: bool, plot: str | None, dialect: str | None, quiet: bool, **given: Any) -> None:
    """Judge whether a setting still fits a fresh log; with two logs, before and after a repair.

    \b
    Example:
      omphalon shaper check sweep-y.csv.gz --axis y --shaper ei --frequency 31 --damping 0.06 --acceleration 1000
    """
    check_plot(plot)
    from omphalon.errors import UsageError
    from omphalon.readers.acceleration import read_motion
    from omphalon.studies.shaper.check import check_shaper
    from omphalon.studies.shaper.fit import Setting

    if len(logs) > 2:
        raise UsageError(f"{len(logs)} logs", "give one log, or two: before and after")
    found = check_shaper(tuple(read_motion(path, unit) for path in logs), axis, sensor, Setting(name, frequency, damping),
                         acceleration, _limits(given), kind)
    leave(found, as_json, quiet, plot)


def _limits(given: dict[str, Any]) -> Limits:
    from omphalon.physics.impulses import Limits

    return Limits(given["ringing_limit"], given["rounding_limit"], given["drift"])


def _setting(text: str, option: str) -> Setting:
    from omphalon.errors import UsageError
    from omphalon.physics.impulses import SHAPERS
    from omphalon.studies.shaper.fit import Setting

    name, colon, rest = text.partition(":")
    if name not in SHAPERS or not colon:
        raise UsageError(f"{option} {text}: not NAME:HZ:DAMPING", "for example mzv:42:0.05")
    frequency, damping = numbers_of(rest, 2, option, "mzv:42:0.05")
    if frequency <= 0 or not 0 <= damping < 1:
        raise UsageError(f"{option} {text}: no frequency or damping", "for example mzv:42:0.05")
    return Setting(name, frequency, damping)
