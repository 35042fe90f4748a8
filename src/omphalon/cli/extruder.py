from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import click

from omphalon.cli.common import Answer, Leaving, answering, chosen_readings
from omphalon.cli.groups import Verbs
from omphalon.cli.known import fact, in_force, of_filament
from omphalon.cli.measured import Asked, MeasuredCommands, add_fit_and_check
from omphalon.cli.options import Ask, argument, column, nested, number, numbers_by_column
from omphalon.recordings.columns import EXTRUDER as COLUMNS
from omphalon.tables.constants import MOTOR_STEPS

if TYPE_CHECKING:
    from omphalon.studies.measured.engine import Parts
    from omphalon.tables.units import Number


@click.group(cls=Verbs)
def extruder() -> None:
    """Steps per mm of the extruder."""


@dataclass(frozen=True, kw_only=True)
class Fed:
    """A feeding test."""

    asked_mm: float = number("--asked", "size", "Length to feed.", within=(5, 1000), default=80.0)
    temp_c: float = number(
        "--temp",
        "feeding temperature",
        "Nozzle temperature.",
        default=220.0,
        bench=of_filament("temp"),
    )


@dataclass(frozen=True, kw_only=True)
class ExtruderPlanOptions:
    """Options of `extruder plan`."""

    fed: Fed = nested(Fed)
    resolution_mm: float = number(
        "--resolution", "fine length", "What the rule reads to.", default=0.5
    )
    wanted: float = number(
        "--wanted",
        "share",
        "Certainty wanted, as a share (0.01 is one percent).",
        within=(0.0005, 0.2),
        default=0.01,
    )
    speed_mm_s: float = number("--speed", "speed", "Feeding speed.", within=(0.1, 20), default=1.5)


@extruder.command("plan", short_help="How to feed and measure, and how often.")
@answering(ExtruderPlanOptions, plot=False, tool=True)
def plan(how: Leaving, options: ExtruderPlanOptions) -> Answer:
    """Say how to run the feeding test, and how many runs make the wanted certainty.

    \b
    Example:
      omphalon extruder plan --asked 80 --resolution 0.5 --wanted 0.01
    """
    from omphalon.studies.measured.extruder import FeedingTest, plan_extruder

    test = FeedingTest(
        asked_mm=options.fed.asked_mm,
        temp_c=options.fed.temp_c,
        resolution_mm=options.resolution_mm,
        wanted=options.wanted,
        speed_mm_s=options.speed_mm_s,
    )
    return plan_extruder(test, how.lines())


def _unmarked(options: ExtruderFitOptions) -> str:
    """How readings were taken without a mark."""
    if options.left_mm:
        return ""
    return "--before" if options.before_mm else "--fed" if options.fed_mm else ""


THEORY = (
    "give both to check against theory, or none of --motor-steps, --microsteps, --gear and --wheel"
)
BOTH = "give both to check against theory"


@dataclass(frozen=True, kw_only=True)
class ExtruderFitOptions:
    """Options of `extruder fit` and `check`."""

    path: str | None = argument("[READINGS.csv]")
    steps: float = number(
        "--steps",
        "steps",
        "Present steps per mm.",
        required=True,
        bench=in_force("steps-e", "steps"),
        ask="present steps per mm",
    )
    asked_mm: tuple[Number, ...] = column(COLUMNS, ask="length that was fed")
    mark_mm: tuple[Number, ...] = column(
        COLUMNS, ask="where the mark was, above the inlet", idle=_unmarked
    )
    left_mm: tuple[Number, ...] = column(COLUMNS, ask=Ask(words="what was left of it", many=True))
    before_mm: tuple[Number, ...] = column(COLUMNS)
    after_mm: tuple[Number, ...] = column(COLUMNS)
    fed_mm: tuple[Number, ...] = column(COLUMNS)
    back_mm: tuple[Number, ...] = column(COLUMNS)
    speed_mm_s: tuple[Number, ...] = column(COLUMNS)
    temp_c: tuple[Number, ...] = column(COLUMNS)
    resolution_mm: float | None = number(
        "--resolution", "fine length", "What the rule reads to.  [from the digits]"
    )
    placing_mm: float = number(
        "--placing", "fine length", "How well a mark is placed.", default=0.3, idle=_unmarked
    )
    motor_steps: float | None = number(
        "--motor-steps",
        "count",
        "Full steps a turn.  [200]",
        within=(20, 1000),
        bench=fact("extruder.motor_steps"),
        needs=("wheel_mm",),
        remedy=BOTH,
    )
    microsteps: float | None = number(
        "--microsteps",
        "count",
        "With --wheel: check against theory.",
        within=(1, 512),
        bench=fact("extruder.microsteps"),
        needs=("wheel_mm",),
        remedy=THEORY,
    )
    gear: float | None = number(
        "--gear",
        "ratio",
        "Motor turns a turn of the wheel.  [1]",
        bench=fact("extruder.gear"),
        needs=("wheel_mm",),
        remedy=BOTH,
    )
    wheel_mm: float | None = number(
        "--wheel",
        "size",
        "Diameter at the teeth of the drive wheel.",
        within=(1, 100),
        bench=fact("extruder.wheel"),
        needs=("microsteps",),
        remedy=THEORY,
    )


def _asked(options: ExtruderFitOptions) -> Asked:
    from omphalon.studies.measured.extruder import EXTRUDER, ExtruderQuestion

    readings = chosen_readings(options.path, numbers_by_column(options, COLUMNS), COLUMNS)
    question = ExtruderQuestion(
        steps=options.steps,
        resolution_mm=options.resolution_mm,
        placing_mm=options.placing_mm,
        parts=_parts(options),
    )
    return EXTRUDER, readings, question


def _parts(options: ExtruderFitOptions) -> Parts | None:
    """The drive, where enough of it is known to check against theory."""
    from omphalon.studies.measured.engine import Parts

    if options.microsteps is None or options.wheel_mm is None:
        return None
    return Parts(
        microsteps=options.microsteps,
        per_turn_mm=math.pi * options.wheel_mm,
        motor_steps=options.motor_steps or MOTOR_STEPS,
        gear=options.gear or 1.0,
    )


FIT = """\
Turn fed-filament readings into steps per mm.

READINGS.csv holds asked_mm, and mark_mm with left_mm, before_mm with after_mm, or fed_mm;
back_mm, speed_mm_s, temp_c where they are known.

\b
Example:
  omphalon extruder fit --steps 412 --asked 80 --mark 110 --left 34.6 --left 34.9 --left 34.4
"""
CHECK = """\
Judge whether the steps now in force feed what is asked, within the error of the readings.

READINGS.csv holds the columns of `fit`.

\b
Example:
  omphalon extruder check --steps 437.1 --asked 80 --mark 110 --left 30.2 --left 29.9
"""
add_fit_and_check(
    extruder,
    MeasuredCommands(
        tool=True,
        fit=ExtruderFitOptions,
        check=ExtruderFitOptions,
        columns=COLUMNS,
        head="fed-filament readings",
        short=("New steps per mm from fed-filament readings.", "Judges a verification run."),
        help=(FIT, CHECK),
        asked=_asked,
    ),
)
