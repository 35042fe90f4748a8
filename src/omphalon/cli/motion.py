"""omphalon motion plan | fit | check."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import click

from omphalon.base.errors import UsageError
from omphalon.base.files import put_lines
from omphalon.cli.common import Answer, Leaving, answering, readings_template
from omphalon.cli.groups import Asking, Verbs
from omphalon.cli.known import build, of_filament, print_in_bench
from omphalon.cli.numbers import Measure, Numbers, parsed
from omphalon.cli.options import OWN, Ask, argument, nested, number, one_of, text, typed
from omphalon.recordings.columns import MOTION, MOVED
from omphalon.tables.constants import BUILDS

if TYPE_CHECKING:
    from omphalon.bench.work import State
    from omphalon.recordings.recording import Readings

QUANTITIES = {"speed": "speed_mm_s", "acceleration": "acceleration_mm_s2", "corner": "corner_mm_s"}
ACROSS = {"x": "y", "y": "x"}
LEVELS, ENDS = "FROM:TO:STEP", Numbers("LOW:HIGH", Measure("length"), "10:180")
ONE_OF_THEM = "give one of them, as FROM:TO:STEP"


@click.group(cls=Verbs)
def motion() -> None:
    """Highest speed and acceleration before steps are lost."""


def _travel(state: State, axis: str | None) -> str | None:
    """Of an axis; of X where a print's way is run."""
    ends = state.facts.get(f"travel.{axis or 'x'}")
    return f"{ends[0]:g}:{ends[1]:g}" if isinstance(ends, list) else None


def _travel_across(state: State, given: MotionPlanOptions) -> str | None:
    """The other axis's, where corners were asked for, or diagonals are run too."""
    two = given.corner is not None or build(state, given) == "crossed-belts"
    if given.from_print is not None:
        return _travel(state, "y")
    return _travel(state, ACROSS[given.axis]) if given.axis in ACROSS and two else None


def _printing_temp(state: State, given: MotionPlanOptions) -> object:
    """The filament's, where the extruder is to run."""
    return of_filament("temp")(state, given) if given.axis == "e" else None


def _beside_axis(options: MotionPlanOptions) -> str:
    return (
        ""
        if options.axis == "e"
        else "--from-print"
        if options.from_print
        else f"--axis {options.axis}"
    )


def _beside_extruder(options: MotionPlanOptions) -> str:
    return "--axis e" if options.axis == "e" else ""


def _beside_one_axis(options: MotionPlanOptions) -> str:
    """A run of one axis alone has no other travel."""
    two = options.corner or options.from_print or options.build == "crossed-belts"
    return _beside_extruder(options) or ("" if two else f"--axis {options.axis} alone")


@dataclass(frozen=True, kw_only=True)
class MotionPlanOptions:
    """Options of `motion plan`."""

    axis: str | None = one_of("--axis", MOVED, "Which axis; e is the extruder.")
    from_print: str | None = text(
        "--from-print",
        "Instead of one axis: the way of a print of yours (G-code).",
        metavar="FILE",
        excludes=("axis", "corner", "build", "limit"),
    )
    speed: tuple[float, float, float] | None = typed(
        "--speed",
        Numbers(LEVELS, Measure("speed"), "100:300:25"),
        "Levels of speed, mm/s,",
        excludes=("acceleration", "corner"),
        remedy=ONE_OF_THEM,
    )
    acceleration: tuple[float, float, float] | None = typed(
        "--acceleration",
        Numbers(LEVELS, Measure("acceleration"), "1000:4000:500"),
        "or of acceleration, mm/s²,",
        excludes=("corner",),
        remedy=ONE_OF_THEM,
    )
    corner: tuple[float, float, float] | None = typed(
        "--corner",
        Numbers(LEVELS, Measure("corner"), "4:24:4"),
        "or of the speed kept through right-angled corners, mm/s; X and Y run both.",
    )
    travel_mm: tuple[float, float] = typed(
        "--travel",
        ENDS,
        "Allowed travel of the axis, mm.",
        default="10:180",
        bench=lambda state, given: _travel(state, given.axis),
        idle=_beside_extruder,
    )
    across_mm: tuple[float, float] | None = typed(
        "--travel-across",
        ENDS,
        "Travel of the other axis, mm, for corners and diagonals.  [as --travel]",
        bench=_travel_across,
        idle=_beside_one_axis,
    )
    build: str | None = one_of("--build", BUILDS, "What moves, by which motors.", bench=build)
    temp_c: float | None = number(
        "--temp",
        "feeding temperature",
        "With --axis e: the printing temperature.",
        bench=_printing_temp,
        idle=_beside_axis,
    )
    retract_mm: float = number(
        "--retract",
        "size",
        "With --axis e: length drawn back and given back.",
        within=(0.1, 15),
        default=2.0,
        idle=_beside_axis,
    )
    line_template: str | None = text(
        "--line",
        "Line that sets the acceleration: '… {acceleration:.0f}'.",
        metavar="TEMPLATE",
        needs=("acceleration",),
    )
    present: float | None = number(
        "--present",
        "acceleration",
        "Acceleration in force, set again at the end.",
        needs=("acceleration",),
    )
    limit: str | None = text(
        "--limit",
        "The controller's own limit of it: lifted for the run, put back.  [left alone]",
        metavar="N",
    )
    out: str = text(
        "--out",
        "Where to write the dry run (G-code).",
        required=True,
        section=OWN,
        bench=lambda state, given: print_in_bench(state, f"motion-{given.axis}"),
    )

    def raised(self) -> tuple[str, tuple[float, float, float] | None]:
        """What is raised, and its levels; None where a print's own speed says them."""
        for what, levels in (
            ("speed", self.speed),
            ("acceleration", self.acceleration),
            ("corner", self.corner),
        ):
            if levels is not None:
                return what, levels
        if self.from_print is not None:
            return "speed", None
        raise UsageError("--speed, --acceleration or --corner", ONE_OF_THEM)


@motion.command("plan", short_help="Writes a dry run that goes faster level by level.")
@answering(MotionPlanOptions, plot=False)
def plan(how: Leaving, options: MotionPlanOptions) -> Answer:
    """Write a dry run that goes faster level by level: an axis, X and Y through corners, or the
    extruder, hot, with its filament in and out.

    \b
    Example:
      omphalon motion plan --axis y --speed 100:300:25 --travel 10:180 --out dry-run.gcode
      omphalon motion plan --axis x --corner 4:24:4 --travel 10:200 --out corners.gcode
      omphalon motion plan --axis e --speed 20:80:10 --temp 215 --out retractions.gcode
      omphalon motion plan --from-print ladder.gcode --travel 0:220 --out dry-print.gcode
    """
    how.check(options.from_print, out=options.out)
    if options.from_print is not None:
        return _from_print(how, options, options.from_print)
    from omphalon.prints.dryrun import dry_run_lines
    from omphalon.studies.motion.plan import DryRunAsked, plan_motion

    what, levels = options.raised()
    if options.axis is None or levels is None:
        raise UsageError("no --axis", "name one; or give --from-print FILE")
    limit = options.limit
    asked = DryRunAsked(
        axis=options.axis,
        quantity=QUANTITIES[what],
        levels=levels,
        travel_mm=options.travel_mm,
        across_mm=options.across_mm,
        temp_c=options.temp_c,
        retract_mm=options.retract_mm,
        present=options.present,
        limit=None if limit is None else parsed(limit, Measure(what), "--limit").value,
        build=options.build or "",
    )
    lines = how.lines().with_line("acceleration", options.line_template)
    found, run = plan_motion(asked, lines)
    put_lines(options.out, dry_run_lines(run, "the printer whose travel was given"), ";")
    return found


PART_S = 40.0  # of a print that each level runs


def _from_print(how: Leaving, options: MotionPlanOptions, printed: str) -> Answer:
    """The dry run of a user's own print."""
    from omphalon.prints.dryrun import dry_run_lines
    from omphalon.readers.gcode import read_path
    from omphalon.studies.motion.printed import DryPrintAsked, plan_dry_print

    what, levels = options.raised()
    way = read_path(printed).part(PART_S)
    asked = DryPrintAsked(
        places=way.places,
        speeds_mm_s=way.speeds_mm_s,
        left_out=way.left_out,
        quantity=QUANTITIES[what],
        levels=levels,
        travel_mm=options.travel_mm,
        across_mm=options.across_mm or options.travel_mm,
        present=options.present,
    )
    found, run = plan_dry_print(asked, how.lines().with_line("acceleration", options.line_template))
    put_lines(options.out, dry_run_lines(run, "the printer whose travel was given"), ";")
    return found


def _beside_file(options: MotionTriedOptions) -> str:
    return "" if options.path is None else "a file"


@dataclass(frozen=True, kw_only=True)
class MotionTriedOptions:
    """What was tried, and how it went."""

    path: str | None = argument("[READINGS.csv]")
    axis: str | None = one_of(
        "--axis", MOVED, "Which axis; of a file, the only one that counts.", ask="which axis"
    )
    quantity: str | None = one_of(
        "--quantity", tuple(QUANTITIES), "What the levels are of.  [speed]", ask="what was raised"
    )
    passed: tuple[str, ...] = text(
        "--pass",
        "A level that passed; may be repeated.",
        metavar="LEVEL",
        many=True,
        idle=_beside_file,
        ask=Ask(words="a level that passed", many=True, levels_of="quantity"),
    )
    failed: tuple[str, ...] = text(
        "--fail",
        "A level that failed.",
        metavar="LEVEL",
        many=True,
        idle=_beside_file,
        ask=Ask(words="a level that failed", many=True, levels_of="quantity"),
    )

    @property
    def what(self) -> str:
        """What was raised."""
        return self.quantity or "speed"

    def readings(self) -> Readings:
        """The levels from a file or from options."""
        from omphalon.readers.readings import option_readings, read_readings
        from omphalon.recordings.recording import Readings

        if self.path is not None:
            return read_readings(self.path, MOTION)
        if self.axis is None or not (self.passed or self.failed):
            raise UsageError("no levels", "give a file, or --axis with --pass and --fail")
        measure = Measure(self.what)
        read = [
            option_readings(
                {QUANTITIES[self.what]: [parsed(text, measure, f"--{result}") for text in levels]},
                MOTION,
                {"axis": self.axis, "result": result},
            )
            for result, levels in (("pass", self.passed), ("fail", self.failed))
            if levels
        ]
        return Readings("the options", tuple(row for one in read for row in one.rows))


@dataclass(frozen=True, kw_only=True)
class MotionFitOptions:
    """Options of `motion fit`."""

    tried: MotionTriedOptions = nested(MotionTriedOptions)
    margin: float = number(
        "--margin",
        "share",
        "How far below the trusted level to stay.",
        within=(0, 0.8),
        default=0.2,
    )


@motion.command("fit", cls=Asking, short_help="Limits from pass and fail.")
@readings_template(MOTION, "levels of a dry run")
@answering(MotionFitOptions, dialect=False)
def fit(how: Leaving, options: MotionFitOptions) -> Answer:
    """Turn pass and fail of a dry run's levels into limits with a margin.

    READINGS.csv holds axis, speed_mm_s, acceleration_mm_s2 or corner_mm_s, and result (pass or
    fail).

    \b
    Example:
      omphalon motion fit --axis y --pass 150 --pass 175 --pass 200 --fail 225 --fail 250
    """
    tried = options.tried
    how.check(tried.path)
    from omphalon.studies.motion.words import motion_answer

    if tried.path is not None and tried.quantity is not None:
        raise UsageError(
            "--quantity beside a file", "its columns say what the levels are of; leave it out"
        )
    return motion_answer(tried.readings(), options.margin, tried.axis)


@dataclass(frozen=True, kw_only=True)
class MotionCheckOptions:
    """Options of `motion check`."""

    tried: MotionTriedOptions = nested(MotionTriedOptions)
    limit: str = text("--limit", "The limit now in force.", metavar="N", required=True)


@motion.command("check", short_help="Judges a limit on fresh runs.")
@answering(MotionCheckOptions, plot=False, dialect=False)
def check(how: Leaving, options: MotionCheckOptions) -> Answer:
    """Judge whether everything at and below a limit still passes.

    READINGS.csv holds the columns of `fit`.

    \b
    Example:
      omphalon motion check --axis y --limit 160 --pass 120 --pass 160
    """
    tried = options.tried
    how.check(tried.path)
    from omphalon.studies.motion.words import motion_check_answer

    readings = tried.readings()
    value = parsed(options.limit, Measure(tried.what), "--limit").value
    return motion_check_answer(readings, QUANTITIES[tried.what], value, tried.axis)
