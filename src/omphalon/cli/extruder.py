"""omphalon extruder plan | fit | check."""

from __future__ import annotations

import math
from typing import Any

import click

from omphalon.base.errors import UsageError
from omphalon.cli.common import (
    Answer,
    Leaving,
    answering,
    chosen_readings,
    filled,
    number,
    options,
    refuse_idle,
)
from omphalon.cli.groups import Verbs
from omphalon.cli.measured import Asked, MeasuredCommands, add_fit_and_check, together
from omphalon.recordings.columns import EXTRUDER as COLUMNS


@click.group(cls=Verbs)
def extruder() -> None:
    """Steps per mm of the extruder."""


fed = options(
    number("--asked", "size", "Length to feed.", within=(5, 1000), default=80.0),
    number("--temp", "feeding temperature", "Nozzle temperature.", default=220.0),
)


@extruder.command("plan", short_help="How to feed and measure, and how often.")
@fed
@number("--resolution", "fine length", "What the rule reads to.", default=0.5)
@number(
    "--wanted",
    "share",
    "Certainty wanted, as a share (0.01 is one percent).",
    within=(0.0005, 0.2),
    default=0.01,
)
@number("--speed", "speed", "Feeding speed.", within=(0.1, 20), default=1.5)
@answering(plot=False, tool=True)
def plan(how: Leaving, **given: Any) -> Answer:
    """Say how to run the feeding test, and how many runs make the wanted certainty.

    \b
    Example:
      omphalon extruder plan --asked 80 --resolution 0.5 --wanted 0.01
    """
    from omphalon.studies.measured.extruder import FeedingTest, plan_extruder

    return plan_extruder(filled(FeedingTest, given), how.lines())


def _asked(given: dict[str, Any]) -> Asked:
    from omphalon.studies.measured.engine import Parts
    from omphalon.studies.measured.extruder import EXTRUDER, ExtruderQuestion

    readings = chosen_readings(given["path"], {c.name: given[c.name] for c in COLUMNS}, COLUMNS)
    other = next((n for n in ("before", "fed") if given[f"{n}_mm"]), None)
    if other and not given["left_mm"]:
        refuse_idle(f"--{other}", "mark_mm", "placing_mm")
    parts = None
    if any(given[name] is not None for name in ("motor_steps", "microsteps", "gear", "wheel_mm")):
        together(
            "give both to check against theory, or none of --motor-steps, --microsteps, --gear "
            "and --wheel",
            microsteps=given["microsteps"],
            wheel=given["wheel_mm"],
        )
        if given["wheel_mm"] is None:
            raise UsageError(
                "--motor-steps or --gear without --microsteps --wheel",
                "give both to check against theory",
            )
        parts = filled(Parts, given, per_turn_mm=math.pi * given["wheel_mm"])
    return EXTRUDER, readings, filled(ExtruderQuestion, given, parts=parts)


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
        columns=COLUMNS,
        head="fed-filament readings",
        before=(number("--steps", "steps", "Present steps per mm.", required=True),),
        after=(
            number("--resolution", "fine length", "What the rule reads to.  [from the digits]"),
            number("--placing", "fine length", "How well a mark is placed.", default=0.3),
            number("--motor-steps", "count", "Full steps a turn.  [200]", within=(20, 1000)),
            number("--microsteps", "count", "With --wheel: check against theory.", within=(1, 512)),
            number("--gear", "ratio", "Motor turns a turn of the wheel.  [1]", metavar="RATIO"),
            number("--wheel", "size", "Diameter at the teeth of the drive wheel.", within=(1, 100)),
        ),
        short=("New steps per mm from fed-filament readings.", "Judges a verification run."),
        help=(FIT, CHECK),
        asked=_asked,
    ),
)
