"""omphalon extruder plan | fit | check."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from omphalon.cli.common import ABOVE_ZERO, answering, check_plot, chosen_readings, leave, options

if TYPE_CHECKING:
    from omphalon.recording import Readings
    from omphalon.studies.extruder import ExtruderQuestion


@click.group()
def extruder() -> None:
    """Steps per mm of the extruder."""


@extruder.command("plan", short_help="How to feed and measure, and how often.")
@click.option("--asked", type=ABOVE_ZERO, default=80.0, show_default=True, metavar="MM", help="Length to feed.")
@click.option("--resolution", type=ABOVE_ZERO, default=0.5, show_default=True, metavar="MM", help="What the rule reads to.")
@click.option("--wanted", type=click.FloatRange(0.0005, 0.2), default=0.005, show_default=True, metavar="F",
              help="Certainty wanted, as a share (0.005 is half a percent).")
@click.option("--temp", type=ABOVE_ZERO, default=220.0, show_default=True, metavar="C", help="Nozzle temperature.")
@click.option("--speed", type=ABOVE_ZERO, default=1.5, show_default=True, metavar="MM_S", help="Feeding speed.")
@answering(plot=False)
def plan(asked: float, resolution: float, wanted: float, temp: float, speed: float, as_json: bool, dialect: str | None,
         quiet: bool) -> None:
    """Say how to run the feeding test, and how many runs make the wanted certainty.

    \b
    Example:
      omphalon extruder plan --asked 80 --resolution 0.5 --wanted 0.005
    """
    from omphalon.bench.dialect import load_dialect
    from omphalon.studies.extruder import plan_extruder

    leave(plan_extruder(asked, resolution, wanted, temp, speed, load_dialect(dialect)), as_json, quiet)


measured = options(
    click.argument("readings", required=False, metavar="[READINGS.csv]"),
    click.option("--steps", type=ABOVE_ZERO, required=True, metavar="N", help="Present steps per mm."),
    click.option("--asked", multiple=True, metavar="MM", help="Length commanded; once for all, or once a reading."),
    click.option("--mark", multiple=True, metavar="MM", help="Where the mark was, from a fixed edge,"),
    click.option("--left", multiple=True, metavar="MM", help="and what was left of it; negative when it went in."),
    click.option("--before", multiple=True, metavar="MM", help="Distance of a flag from a fixed edge before,"),
    click.option("--after", multiple=True, metavar="MM", help="and after."),
    click.option("--fed", multiple=True, metavar="MM", help="Length of the piece that came, measured itself."),
    click.option("--back", multiple=True, metavar="MM", help="Fed too much and pulled back by this before measuring."),
    click.option("--speed", multiple=True, metavar="MM_S", help="Speed of each reading."),
    click.option("--resolution", type=ABOVE_ZERO, metavar="MM", help="What the rule reads to.  [from the digits]"),
    click.option("--placing", type=click.FloatRange(min=0), default=0.3, show_default=True, metavar="MM",
                 help="How well a mark is placed."),
    click.option("--motor-steps", type=ABOVE_ZERO, default=200.0, metavar="N", help="Full steps a turn.  [200]"),
    click.option("--microsteps", type=ABOVE_ZERO, metavar="N", help="With --gear and --wheel: check against theory."),
    click.option("--gear", type=ABOVE_ZERO, default=1.0, metavar="RATIO", help="Motor turns a turn of the wheel.  [1]"),
    click.option("--wheel", type=ABOVE_ZERO, metavar="MM", help="Diameter at the teeth of the drive wheel."),
)


@extruder.command("fit", short_help="New steps per mm from fed-filament readings.")
@measured
@answering()
def fit(as_json: bool, plot: str | None, dialect: str | None, quiet: bool, **given: Any) -> None:
    """Turn fed-filament readings into steps per mm.

    \b
    Example:
      omphalon extruder fit --steps 412 --asked 80 --mark 110 --left 34.6 --left 34.9 --left 34.4
    """
    check_plot(plot)
    from omphalon.bench.dialect import load_dialect
    from omphalon.studies.extruder import fit_extruder

    leave(fit_extruder(*_asked(given), load_dialect(dialect)), as_json, quiet, plot)


@extruder.command("check", short_help="Judges a verification run.")
@measured
@answering()
def check(as_json: bool, plot: str | None, dialect: str | None, quiet: bool, **given: Any) -> None:
    """Judge whether the steps now in force feed what is asked, within the error of the readings.

    \b
    Example:
      omphalon extruder check --steps 437.1 --asked 80 --mark 110 --left 30.2 --left 29.9
    """
    check_plot(plot)
    from omphalon.bench.dialect import load_dialect
    from omphalon.studies.extruder import check_extruder

    leave(check_extruder(*_asked(given), load_dialect(dialect)), as_json, quiet, plot)


def _asked(given: dict[str, Any]) -> tuple[Readings, ExtruderQuestion]:
    from omphalon.studies.extruder import COLUMNS, Drive, ExtruderQuestion

    names = {c: c.removesuffix("_mm").removesuffix("_mm_s") for c in COLUMNS if c not in ("temp_c", "speed_mm_s")}
    names["speed_mm_s"] = "speed"
    readings = chosen_readings(given["readings"], {column: given[name] for column, name in names.items()}, COLUMNS)
    drive = Drive(given["motor_steps"], given["microsteps"], given["gear"], given["wheel"]) \
        if given["microsteps"] and given["wheel"] else None
    return readings, ExtruderQuestion(given["steps"], given["resolution"], given["placing"], drive)
