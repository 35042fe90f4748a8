"""omphalon extruder plan | fit | check."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from omphalon.cli.asking import Asking
from omphalon.cli.common import (
    Leaving,
    Measure,
    answering,
    chosen_readings,
    options,
    reading_options,
    readings_template,
    together,
)
from omphalon.columns import EXTRUDER
from omphalon.errors import UsageError

if TYPE_CHECKING:
    from omphalon.recording import Readings
    from omphalon.studies.extruder.question import ExtruderQuestion


@click.group()
def extruder() -> None:
    """Steps per mm of the extruder."""


fed = options(
    click.option(
        "--asked",
        type=Measure("size", 5, 1000),
        default=80.0,
        show_default=True,
        metavar="MM",
        help="Length to feed.",
    ),
    click.option(
        "--temp",
        type=Measure("hotend temperature", 150),
        default=220.0,
        show_default=True,
        metavar="C",
        help="Nozzle temperature.",
    ),
)


@extruder.command("plan", short_help="How to feed and measure, and how often.")
@fed
@click.option(
    "--resolution",
    type=Measure("fine length"),
    default=0.5,
    show_default=True,
    metavar="MM",
    help="What the rule reads to.",
)
@click.option(
    "--wanted",
    type=Measure("share", 0.0005, 0.2),
    default=0.01,
    show_default=True,
    metavar="F",
    help="Certainty wanted, as a share (0.01 is one percent).",
)
@click.option(
    "--speed",
    type=Measure("speed", 0.1, 20),
    default=1.5,
    show_default=True,
    metavar="MM_S",
    help="Feeding speed.",
)
@answering(plot=False)
def plan(
    how: Leaving, asked: float, resolution: float, wanted: float, temp: float, speed: float
) -> None:
    """Say how to run the feeding test, and how many runs make the wanted certainty.

    \b
    Example:
      omphalon extruder plan --asked 80 --resolution 0.5 --wanted 0.01
    """
    from omphalon.studies.extruder.plan import FeedingTest, plan_extruder

    test = FeedingTest(
        asked_mm=asked, resolution_mm=resolution, wanted=wanted, temp_c=temp, speed_mm_s=speed
    )
    how.leave(plan_extruder(test, how.lines()))


measured = options(
    click.argument("path", required=False, metavar="[READINGS.csv]"),
    click.option(
        "--steps", type=Measure("steps"), required=True, metavar="N", help="Present steps per mm."
    ),
    *reading_options(EXTRUDER),
    click.option(
        "--resolution",
        type=Measure("fine length"),
        metavar="MM",
        help="What the rule reads to.  [from the digits]",
    ),
    click.option(
        "--placing",
        type=Measure("fine length"),
        default=0.3,
        show_default=True,
        metavar="MM",
        help="How well a mark is placed.",
    ),
    click.option(
        "--motor-steps",
        type=Measure("count", 20, 1000),
        metavar="N",
        help="Full steps a turn.  [200]",
    ),
    click.option(
        "--microsteps",
        type=Measure("count", 1, 512),
        metavar="N",
        help="With --wheel: check against theory.",
    ),
    click.option(
        "--gear",
        type=Measure("ratio"),
        metavar="RATIO",
        help="Motor turns a turn of the wheel.  [1]",
    ),
    click.option(
        "--wheel",
        type=Measure("size", 1, 100),
        metavar="MM",
        help="Diameter at the teeth of the drive wheel.",
    ),
)


@extruder.command("fit", cls=Asking, short_help="New steps per mm from fed-filament readings.")
@measured
@readings_template(EXTRUDER, "fed-filament readings")
@answering()
def fit(how: Leaving, **given: Any) -> None:
    """Turn fed-filament readings into steps per mm.

    READINGS.csv holds asked_mm, and mark_mm with left_mm, before_mm with after_mm, or fed_mm;
    back_mm, speed_mm_s, temp_c where they are known.

    \b
    Example:
      omphalon extruder fit --steps 412 --asked 80 --mark 110 --left 34.6 --left 34.9 --left 34.4
    """
    how.check(given["path"])
    from omphalon.studies.extruder.fit import fit_extruder
    from omphalon.studies.extruder.words import extruder_finding

    readings, question = _asked(given)
    how.leave(extruder_finding(fit_extruder(readings, question), question, readings, how.lines()))


@extruder.command("check", short_help="Judges a verification run.")
@measured
@answering(dialect=False)
def check(how: Leaving, **given: Any) -> None:
    """Judge whether the steps now in force feed what is asked, within the error of the readings.

    READINGS.csv holds the columns of `fit`.

    \b
    Example:
      omphalon extruder check --steps 437.1 --asked 80 --mark 110 --left 30.2 --left 29.9
    """
    how.check(given["path"])
    from omphalon.studies.extruder.fit import fit_extruder
    from omphalon.studies.extruder.words import extruder_finding

    readings, question = _asked(given)
    how.leave(
        extruder_finding(
            fit_extruder(readings, question), question, readings, how.lines(), checking=True
        )
    )


def _asked(given: dict[str, Any]) -> tuple[Readings, ExtruderQuestion]:
    from omphalon.studies.extruder.question import DriveParts, ExtruderQuestion

    readings = chosen_readings(given["path"], {c.name: given[c.name] for c in EXTRUDER}, EXTRUDER)
    parts = None
    if any(given[name] is not None for name in ("motor_steps", "microsteps", "gear", "wheel")):
        together(
            "give both to check against theory, or none of --motor-steps, --microsteps, --gear "
            "and --wheel",
            microsteps=given["microsteps"],
            wheel=given["wheel"],
        )
        if given["wheel"] is None:
            raise UsageError(
                "--motor-steps or --gear without --microsteps --wheel",
                "give both to check against theory",
            )
        parts = DriveParts(
            motor_steps=given["motor_steps"] or 200,
            microsteps=given["microsteps"],
            gear=given["gear"] or 1.0,
            wheel_mm=given["wheel"],
        )
    return readings, ExtruderQuestion(
        steps=given["steps"],
        resolution_mm=given["resolution"],
        placing_mm=given["placing"],
        parts=parts,
    )
