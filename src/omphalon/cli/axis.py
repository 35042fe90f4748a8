"""omphalon axis plan | fit | check."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.base.files import put_lines
from omphalon.cli.common import Answer, Leaving, answering, chosen_readings
from omphalon.cli.groups import Verbs
from omphalon.cli.known import build
from omphalon.cli.measured import Asked, MeasuredCommands, add_fit_and_check
from omphalon.cli.numbers import Measure, parsed
from omphalon.cli.options import (
    Ask,
    argument,
    column,
    nested,
    number,
    numbers_by_column,
    one_of,
    text,
    typed,
)
from omphalon.cli.printing import NEEDS_OUT, PrintDefaults, PrintOptions, job_of, print_lines
from omphalon.recordings.columns import AXES, MEASURED_AS
from omphalon.recordings.columns import AXIS as COLUMNS
from omphalon.tables.constants import BUILDS, MOTOR_STEPS

if TYPE_CHECKING:
    from omphalon.bench.work import State
    from omphalon.recordings.recording import Readings
    from omphalon.studies.measured.axis import Rectangle
    from omphalon.studies.measured.engine import Parts
    from omphalon.tables.units import Number

LONGEST_MM, LONGEST_GAUGE_MM = 150.0, 120.0
GAUGE = PrintDefaults(fast_mm_s=60.0, acceleration_mm_s2=1500.0, retract_mm=0.7)
FOR_X_AND_Y = "the gauge is for X and Y: leave it out"


@click.group(cls=Verbs)
def axis() -> None:
    """Steps per mm of X, Y and Z."""


@dataclass(frozen=True, kw_only=True)
class AxisPlanOptions:
    """Options of `axis plan`."""

    axis: str = one_of(
        "--axis", AXES, "Which axis.", default="x", excludes=("out",), remedy=FOR_X_AND_Y
    )
    longest_mm: float | None = number(
        "--longest",
        "size",
        "Longest move to measure, or the gauge's width.  [150, gauge 120]",
        within=(10, 2000),
    )
    resolution_mm: float = number(
        "--resolution",
        "fine length",
        "What the caliper reads to.",
        default=0.01,
        excludes=("out",),
        remedy=FOR_X_AND_Y,
    )
    wanted: float = number(
        "--wanted",
        "share",
        "Certainty wanted, as a share (0.001 is a tenth of a percent).",
        within=(0.0001, 0.05),
        default=0.001,
        excludes=("out",),
        remedy=FOR_X_AND_Y,
    )
    out: str | None = text("--out", "Write a gauge for X and Y as a print (G-code).")
    print: PrintOptions = nested(PrintOptions, needs=("out",), remedy=NEEDS_OUT)


@axis.command("plan", short_help="Which moves to measure, and how often.")
@answering(AxisPlanOptions)
def plan(how: Leaving, options: AxisPlanOptions) -> Answer:
    """Say which moves to measure, and how often for the wanted certainty; or write a gauge to print
    and measure, with outside and inside lengths in X and Y.

    \b
    Example:
      omphalon axis plan --axis y --longest 150
      omphalon axis plan --longest 120 --out gauge.gcode --plot gauge.png
    """
    how.check(out=options.out)
    from omphalon.studies.measured.axis import MoveTest, plan_axis
    from omphalon.studies.measured.gauge import plan_gauge

    if options.out is None:
        test = MoveTest(
            axis=options.axis,
            longest_mm=options.longest_mm or LONGEST_MM,
            resolution_mm=options.resolution_mm,
            wanted=options.wanted,
        )
        return plan_axis(test, how.lines())
    lines = print_lines(how, options.print)
    width_mm = options.longest_mm or LONGEST_GAUGE_MM
    found, printed = plan_gauge(width_mm, job_of(options.print, GAUGE), lines)
    put_lines(options.out, printed.lines(), ";")
    return found


@dataclass(frozen=True)
class AxisSteps:
    """Present steps of an axis; "" for the axis that is named elsewhere. `of_bench`: known there,
    whether the axis was measured now or not.
    """

    axis: str
    steps: float
    of_bench: bool = False

    def __str__(self) -> str:
        return f"{self.axis}={self.steps!r}" if self.axis else f"{self.steps:g}"


class StepsOfAxes(click.ParamType):  # type: ignore[type-arg]
    """x=N, or N."""

    name = "N"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if not isinstance(value, str):
            return value
        name, equals, text = value.rpartition("=")
        axis_name = name.strip().lower()
        if equals and axis_name not in AXES:
            raise _of_which(value)
        return AxisSteps(axis_name, parsed(text, Measure("steps"), "--steps").value)


def _of_which(text: str) -> UsageError:
    return UsageError(
        f"--steps {echoed(text)}: of which axis?", "give x=80, or a number with --axis"
    )


def _steps_in_force(state: State, given: AxisFitOptions) -> list[AxisSteps] | None:
    """The steps of every axis, or of the one that was named."""
    found = [
        AxisSteps(axis, float(state.settings[f"steps-{axis}"].value["steps"]), of_bench=True)
        for axis in AXES
        if f"steps-{axis}" in state.settings and given.axis in (None, axis)
    ]
    return found or None


THEORY = "give --belt-pitch with --teeth, or --screw-lead, to check against theory"
BOTH_SIDES = "give both: diagonals and sides"


@dataclass(frozen=True, kw_only=True)
class AxisFitOptions:
    """Options of `axis fit` and `check`."""

    path: str | None = argument("[READINGS.csv]")
    axis: str | None = one_of(
        "--axis", AXES, "Which axis, for readings given as options.", ask="which axis"
    )
    build: str | None = one_of(
        "--build",
        BUILDS,
        "What moves, and by which motors; for X and Y.",
        bench=build,
        ask=Ask(
            words="what moves, by which motors",
            may_miss=True,
            unless=lambda given: bool(given.axis == "z"),
        ),
    )
    steps: tuple[AxisSteps, ...] = typed(
        "--steps",
        StepsOfAxes(),
        "Present steps per mm; x=N for each of several.",
        many=True,
        required=True,
        bench=_steps_in_force,
        ask=Ask(words="present steps per mm", each_axis=True),
    )
    asked_mm: tuple[Number, ...] = column(COLUMNS)
    moved_mm: tuple[Number, ...] = column(
        COLUMNS, ask=Ask(words="what was measured", many=True, beside="asked_mm")
    )
    kind: str | None = one_of(
        "--kind", MEASURED_AS, "A move, or a printed part measured outside or inside.  [move]"
    )
    resolution_mm: float | None = number(
        "--resolution", "fine length", "What the caliper reads to.  [from the digits]"
    )
    placing_mm: float | None = number(
        "--placing",
        "fine length",
        "How well the caliper is placed each time.  [0.05 move, 0.03 part]",
    )
    belt_pitch_mm: float | None = number(
        "--belt-pitch", "size", "Check against theory: belt,", within=(0.5, 20), needs=("teeth",)
    )
    teeth: float | None = number(
        "--teeth", "count", "teeth of its pulley,", within=(5, 300), needs=("belt_pitch_mm",)
    )
    screw_lead_mm: float | None = number(
        "--screw-lead",
        "size",
        "or the screw's travel a turn,",
        within=(0.2, 100),
        excludes=("belt_pitch_mm", "teeth"),
        remedy="an axis has one of the two",
    )
    motor_steps: float | None = number(
        "--motor-steps",
        "count",
        "full steps a turn,  [200]",
        within=(20, 1000),
        needs=("belt_pitch_mm", "screw_lead_mm"),
        remedy=THEORY,
    )
    microsteps: float | None = number(
        "--microsteps",
        "count",
        "microsteps,",
        within=(1, 512),
        needs=("belt_pitch_mm", "screw_lead_mm"),
        remedy=THEORY,
    )
    gear: float | None = number(
        "--gear",
        "ratio",
        "motor turns a turn of the output.  [1]",
        needs=("belt_pitch_mm", "screw_lead_mm"),
        remedy=THEORY,
    )
    diagonal_mm: tuple[float, float] | None = number(
        "--diagonal",
        "size",
        "Both diagonals of a printed rectangle,",
        metavar="MM MM",
        count=2,
        needs=("sides_mm",),
        remedy=BOTH_SIDES,
    )
    sides_mm: tuple[float, float] | None = number(
        "--sides",
        "size",
        "and its sides: skew of X to Y.",
        metavar="MM MM",
        count=2,
        needs=("diagonal_mm",),
        remedy=BOTH_SIDES,
    )


def _asked(options: AxisFitOptions) -> Asked:
    from omphalon.studies.measured.axis import AXIS, AxisQuestion

    if options.path is None and options.axis is None:
        raise UsageError("no axis", "give --axis x, y or z with the readings")
    readings = chosen_readings(
        options.path,
        numbers_by_column(options, COLUMNS),
        COLUMNS,
        {"axis": options.axis or "", "kind": options.kind or "move"},
    )
    if options.path is not None:
        readings = _of_file(readings, options.axis, options.kind)
    measured = {row.words.get("axis", options.axis) for row in readings.rows}
    question = AxisQuestion(
        steps=_steps(options, measured),
        resolution_mm=options.resolution_mm,
        placing_mm=options.placing_mm,
        parts=_parts(options),
        rectangle=_rectangle(options),
        build=options.build or "",
    )
    return AXIS, readings, question


def _of_file(readings: Readings, name: str | None, kind: str | None) -> Readings:
    """A file's rows: --axis filters them, or names the axis where the file has no such column; so
    does --kind.
    """
    rows = readings.rows
    if any(r.words.get("kind") for r in rows) and kind is not None:
        raise UsageError("--kind beside a file that has kind", "give one of the two")
    text = any(r.words.get("axis") for r in rows)
    rows = tuple(r for r in rows if not text or name is None or r.words.get("axis") == name)
    if not rows:
        raise UsageError(
            f"--axis {name}: no reading of that axis in {readings.source}",
            "leave it out, or give another file",
        )
    words = {
        **({} if text or name is None else {"axis": name}),
        **({} if kind is None else {"kind": kind}),
    }
    return replace(readings, rows=tuple(replace(r, words={**r.words, **words}) for r in rows))


def _parts(options: AxisFitOptions) -> Parts | None:
    """The drive, where it was given, to check against theory."""
    from omphalon.studies.measured.engine import Parts

    if options.belt_pitch_mm is not None and options.teeth is not None:
        travel, given = options.belt_pitch_mm * options.teeth, "--belt-pitch --teeth"
    elif options.screw_lead_mm is not None:
        travel, given = options.screw_lead_mm, "--screw-lead"
    else:
        return None
    if options.microsteps is None:
        raise UsageError(f"{given} without --microsteps", "give both")
    return Parts(
        microsteps=options.microsteps,
        per_turn_mm=travel,
        motor_steps=options.motor_steps or MOTOR_STEPS,
        gear=options.gear or 1.0,
    )


def _rectangle(options: AxisFitOptions) -> Rectangle | None:
    from omphalon.studies.measured.axis import Rectangle

    if options.diagonal_mm is None or options.sides_mm is None:
        return None
    one, two = options.diagonal_mm
    a, b = options.sides_mm
    if not all(abs(a - b) < d < a + b for d in (one, two)):
        raise UsageError(
            f"--diagonal {one:g} {two:g} --sides {a:g} {b:g}: no such rectangle",
            "measure both diagonals and both sides again",
        )
    return Rectangle(diagonals_mm=(one, two), sides_mm=(a, b))


def _steps(options: AxisFitOptions, measured: set[str | None]) -> dict[str, float]:
    """Present steps by axis; a bench knows axes that were not measured now."""
    out: dict[str, float] = {}
    for one in options.steps:
        name = one.axis or options.axis
        if name is None:
            raise _of_which(str(one))
        if name in out:
            raise UsageError(
                f"--steps {echoed(str(one))}: axis {name} twice", "give one number for each axis"
            )
        if name in measured or not one.of_bench:
            out[name] = one.steps
    return out


FIT = """\
Turn measured moves or parts into steps per mm.

READINGS.csv holds axis, asked_mm, moved_mm and, for parts, kind (move, outside or inside).

\b
Example:
  omphalon axis fit axis-parts.csv --steps x=80 --steps y=80 --plot axis.png
"""
CHECK = """\
Judge whether the steps now in force move and print what is asked.

READINGS.csv holds the columns of `fit`.

\b
Example:
  omphalon axis check --axis x --steps 80 --asked 50 --moved 50.02 --asked 150 --moved 150.01
"""
add_fit_and_check(
    axis,
    MeasuredCommands(
        fit=AxisFitOptions,
        check=AxisFitOptions,
        columns=COLUMNS,
        head="measured moves or parts",
        short=("New steps per mm from measured moves or parts.", "Judges the steps now in force."),
        help=(FIT, CHECK),
        asked=_asked,
    ),
)
