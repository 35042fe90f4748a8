"""omphalon axis plan | fit | check."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.base.files import put_lines
from omphalon.cli.common import (
    Answer,
    Leaving,
    Measure,
    answering,
    by_hand,
    choice,
    chosen_readings,
    filled,
    number,
    parsed,
)
from omphalon.cli.groups import Verbs
from omphalon.cli.measured import Asked, MeasuredCommands, add_fit_and_check, together
from omphalon.cli.printing import job_of, print_lines, printing, refuse_printing
from omphalon.recordings.columns import AXES, KINDS
from omphalon.recordings.columns import AXIS as COLUMNS
from omphalon.tables.constants import BUILDS

if TYPE_CHECKING:
    from omphalon.recordings.recording import Readings
    from omphalon.studies.measured.axis import Rectangle
    from omphalon.studies.measured.engine import Parts

AXIS_NAME = choice(*AXES)
LONGEST_GAUGE_MM = 120.0


@click.group(cls=Verbs)
def axis() -> None:
    """Steps per mm of X, Y and Z."""


@axis.command("plan", short_help="Which moves to measure, and how often.")
@click.option("--axis", "name", type=AXIS_NAME, default="x", show_default=True, help="Which axis.")
@number(
    "--longest",
    "size",
    "Longest move to measure, or the gauge's width.  [150, gauge 120]",
    within=(10, 2000),
)
@number("--resolution", "fine length", "What the caliper reads to.", default=0.01)
@number(
    "--wanted",
    "share",
    "Certainty wanted, as a share (0.001 is a tenth of a percent).",
    within=(0.0001, 0.05),
    default=0.001,
)
@click.option("--out", metavar="FILE", help="Write a gauge for X and Y as a print (G-code).")
@printing
@answering()
def plan(how: Leaving, name: str, out: str | None, **given: Any) -> Answer:
    """Say which moves to measure, and how often for the wanted certainty; or write a gauge to print
    and measure, with outside and inside lengths in X and Y.

    \b
    Example:
      omphalon axis plan --axis y --longest 150
      omphalon axis plan --longest 120 --out gauge.gcode --plot gauge.png
    """
    how.check(out=out)
    from omphalon.studies.measured.axis import MoveTest, plan_axis
    from omphalon.studies.measured.gauge import plan_gauge

    if out is None:
        refuse_printing("--out FILE")
        return plan_axis(filled(MoveTest, given, axis=name), how.lines())
    if option := by_hand("name", "resolution_mm", "wanted"):
        raise UsageError(f"{option} and --out", "the gauge is for X and Y: leave it out")
    job = job_of(given, 60.0, 1500.0, 0.7)
    lines = print_lines(how, given)
    found, printed = plan_gauge(given["longest_mm"] or LONGEST_GAUGE_MM, job, lines)
    put_lines(out, printed.lines(), ";")
    return found


def _asked(given: dict[str, Any]) -> Asked:
    from omphalon.studies.measured.axis import AXIS, AxisQuestion

    path, name = given["path"], given["name"]
    if path is None and name is None:
        raise UsageError("no axis", "give --axis x, y or z with the readings")
    readings = chosen_readings(
        path,
        {c.name: given[c.name] for c in COLUMNS if c.quantity},
        COLUMNS,
        {"axis": name or "", "kind": given["kind"] or "move"},
    )
    if path is not None:
        readings = _of_file(readings, name, given["kind"])
    steps = _steps(given["steps"], name)
    if not by_hand("steps"):  # a bench knows axes that were not measured now
        measured = {row.words.get("axis", name) for row in readings.rows}
        steps = {axis: value for axis, value in steps.items() if axis in measured}
    more = {"steps": steps, "parts": _parts(given), "rectangle": _rectangle(given)}
    return AXIS, readings, filled(AxisQuestion, given, **more)


def _of_file(readings: Readings, name: str | None, kind: str | None) -> Readings:
    """A file's rows: --axis filters them, or names the axis where the file has no such column; so
    does --kind.
    """
    from dataclasses import replace

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


def _parts(given: dict[str, Any]) -> Parts | None:
    from omphalon.studies.measured.engine import Parts

    belt = together("give both", belt_pitch=given["belt_pitch_mm"], teeth=given["teeth"])
    screw = given["screw_lead_mm"] is not None
    if belt and screw:
        raise UsageError("--belt-pitch and --screw-lead", "an axis has one of the two")
    some = [n for n in ("motor_steps", "microsteps", "gear") if given[n] is not None]
    if not (belt or screw):
        if some:
            raise UsageError(
                f"--{some[0].replace('_', '-')} without a belt or a screw",
                "give --belt-pitch with --teeth, or --screw-lead, to check against theory",
            )
        return None
    if given["microsteps"] is None:
        raise UsageError(
            f"{'--belt-pitch --teeth' if belt else '--screw-lead'} without --microsteps",
            "give both",
        )
    travel = given["belt_pitch_mm"] * given["teeth"] if belt else given["screw_lead_mm"]
    return filled(Parts, given, per_turn_mm=travel)


def _rectangle(given: dict[str, Any]) -> Rectangle | None:
    from omphalon.studies.measured.axis import Rectangle

    if not together(
        "give both: diagonals and sides", diagonal=given["diagonal_mm"], sides=given["sides_mm"]
    ):
        return None
    one, two = given["diagonal_mm"]
    a, b = given["sides_mm"]
    if not all(abs(a - b) < d < a + b for d in (one, two)):
        raise UsageError(
            f"--diagonal {one:g} {two:g} --sides {a:g} {b:g}: no such rectangle",
            "measure both diagonals and both sides again",
        )
    return Rectangle(diagonals_mm=(one, two), sides_mm=(a, b))


def _steps(texts: tuple[str, ...], name: str | None) -> dict[str, float]:
    """x=N options, or one number for the axis named."""
    out: dict[str, float] = {}
    for text in texts:
        axis_name, equals, number = text.rpartition("=")
        key = axis_name.strip().lower() if equals else name
        if key not in AXES:
            raise UsageError(
                f"--steps {echoed(text)}: of which axis?", "give x=80, or a number with --axis"
            )
        if key in out:
            raise UsageError(
                f"--steps {echoed(text)}: axis {key} twice", "give one number for each axis"
            )
        out[key] = parsed(number, Measure("steps"), "--steps").value
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
        columns=COLUMNS,
        head="measured moves or parts",
        before=(
            click.option(
                "--axis", "name", type=AXIS_NAME, help="Which axis, for readings given as options."
            ),
            click.option(
                "--steps",
                multiple=True,
                required=True,
                metavar="N",
                help="Present steps per mm; x=N for each of several.",
            ),
        ),
        after=(
            click.option(
                "--kind",
                type=choice(*KINDS),
                help="A move, or a printed part measured outside or inside.  [move]",
            ),
            click.option(
                "--build",
                type=choice(*BUILDS),
                help="What moves, and by which motors; for X and Y.",
            ),
            number("--resolution", "fine length", "What the caliper reads to.  [from the digits]"),
            number(
                "--placing",
                "fine length",
                "How well the caliper is set each time.  [0.05 move, 0.03 part]",
            ),
            number("--belt-pitch", "size", "Check against theory: belt,", within=(0.5, 20)),
            number("--teeth", "count", "teeth of its pulley,", within=(5, 300)),
            number("--screw-lead", "size", "or the screw's travel a turn,", within=(0.2, 100)),
            number("--motor-steps", "count", "full steps a turn,  [200]", within=(20, 1000)),
            number("--microsteps", "count", "microsteps,", within=(1, 512)),
            number("--gear", "ratio", "motor turns a turn of the output.  [1]", metavar="RATIO"),
            number(
                "--diagonal",
                "size",
                "Both diagonals of a printed rectangle,",
                metavar="MM MM",
                nargs=2,
            ),
            number("--sides", "size", "and its sides: skew of X to Y.", metavar="MM MM", nargs=2),
        ),
        short=("New steps per mm from measured moves or parts.", "Judges the steps now in force."),
        help=(FIT, CHECK),
        asked=_asked,
    ),
)
