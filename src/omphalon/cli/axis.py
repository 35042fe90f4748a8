"""omphalon axis plan | fit | check."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from omphalon.cli.common import ABOVE_ZERO, answering, check_plot, chosen_readings, leave, options

if TYPE_CHECKING:
    from omphalon.recording import Readings
    from omphalon.studies.axis import AxisQuestion

AXIS = click.Choice(["x", "y", "z"])


@click.group()
def axis() -> None:
    """Steps per mm of X, Y and Z."""


@axis.command("plan", short_help="Which moves to measure, and how often.")
@click.option("--axis", "name", type=AXIS, default="x", show_default=True, help="Which axis.")
@click.option("--longest", type=ABOVE_ZERO, default=150.0, show_default=True, metavar="MM", help="Longest move to measure.")
@click.option("--resolution", type=ABOVE_ZERO, default=0.01, show_default=True, metavar="MM", help="What the caliper reads to.")
@click.option("--wanted", type=click.FloatRange(0.0001, 0.05), default=0.001, show_default=True, metavar="F",
              help="Certainty wanted, as a share (0.001 is a tenth of a percent).")
@answering(plot=False)
def plan(name: str, longest: float, resolution: float, wanted: float, as_json: bool, dialect: str | None,
         quiet: bool) -> None:
    """Say which moves to measure, and how often for the wanted certainty.

    \b
    Example:
      omphalon axis plan --axis y --longest 150
    """
    from omphalon.bench.dialect import load_dialect
    from omphalon.studies.axis import plan_axis

    leave(plan_axis(name, longest, resolution, wanted, load_dialect(dialect)), as_json, quiet)


measured = options(
    click.argument("readings", required=False, metavar="[READINGS.csv]"),
    click.option("--axis", "name", type=AXIS, help="Which axis, for readings given as options."),
    click.option("--steps", multiple=True, required=True, metavar="N", help="Present steps per mm; X=N for each of several."),
    click.option("--asked", multiple=True, metavar="MM", help="Length commanded or drawn; negative when moving back."),
    click.option("--moved", multiple=True, metavar="MM", help="Length measured."),
    click.option("--kind", type=click.Choice(["move", "outside", "inside"]), default="move", show_default=True,
                 help="A move, or a printed part measured outside or inside."),
    click.option("--resolution", type=ABOVE_ZERO, metavar="MM", help="What the caliper reads to.  [from the digits]"),
    click.option("--placing", type=click.FloatRange(min=0), metavar="MM", help="How alike it is set.  [0.05 move, 0.03 part]"),
    click.option("--belt-pitch", type=ABOVE_ZERO, metavar="MM", help="Check against theory: belt,"),
    click.option("--teeth", type=ABOVE_ZERO, metavar="N", help="teeth of its pulley,"),
    click.option("--screw-lead", type=ABOVE_ZERO, metavar="MM", help="or the screw's travel a turn,"),
    click.option("--motor-steps", type=ABOVE_ZERO, default=200.0, metavar="N", help="full steps a turn,  [200]"),
    click.option("--microsteps", type=ABOVE_ZERO, metavar="N", help="microsteps,"),
    click.option("--gear", type=ABOVE_ZERO, default=1.0, metavar="RATIO", help="motor turns a turn of the output.  [1]"),
    click.option("--diagonal", type=ABOVE_ZERO, nargs=2, metavar="MM MM", help="Both diagonals of a printed rectangle,"),
    click.option("--sides", type=ABOVE_ZERO, nargs=2, metavar="MM MM", help="and its sides: skew of X to Y."),
)


@axis.command("fit", short_help="New steps per mm from measured moves or parts.")
@measured
@answering()
def fit(as_json: bool, plot: str | None, dialect: str | None, quiet: bool, **given: Any) -> None:
    """Turn measured moves or parts into steps per mm.

    \b
    Example:
      omphalon axis fit axis-parts.csv --steps x=80 --steps y=80 --plot axis.png
    """
    check_plot(plot)
    from omphalon.bench.dialect import load_dialect
    from omphalon.studies.axis import fit_axis

    leave(fit_axis(*_asked(given), load_dialect(dialect)), as_json, quiet, plot)


@axis.command("check", short_help="Judges the steps now in force.")
@measured
@answering()
def check(as_json: bool, plot: str | None, dialect: str | None, quiet: bool, **given: Any) -> None:
    """Judge whether the steps now in force move and print what is asked.

    \b
    Example:
      omphalon axis check --axis x --steps 80 --asked 50 --moved 50.02 --asked 150 --moved 150.01
    """
    check_plot(plot)
    from omphalon.bench.dialect import load_dialect
    from omphalon.studies.axis import check_axis

    leave(check_axis(*_asked(given), load_dialect(dialect)), as_json, quiet, plot)


def _asked(given: dict[str, Any]) -> tuple[Readings, AxisQuestion]:
    from omphalon.errors import UsageError
    from omphalon.studies.axis import COLUMNS, WORDS, AxisQuestion, Travel

    if given["readings"] is None and given["name"] is None:
        raise UsageError("no axis", "give --axis x, y or z with the readings")
    readings = chosen_readings(given["readings"], {"asked_mm": given["asked"], "moved_mm": given["moved"]}, COLUMNS, WORDS,
                               {"axis": given["name"] or "", "kind": given["kind"]})
    travel = (given["belt_pitch"] or 0) * (given["teeth"] or 0) or given["screw_lead"]
    return readings, AxisQuestion(
        _steps(given["steps"], given["name"]), given["resolution"], given["placing"],
        Travel(given["motor_steps"], given["microsteps"], given["gear"], travel) if travel and given["microsteps"] else None,
        given["diagonal"], given["sides"])


def _steps(texts: tuple[str, ...], name: str | None) -> dict[str, float]:
    """X=N options, or one number for the axis named."""
    from omphalon.errors import UsageError

    out = {}
    for text in texts:
        axis_name, equals, number = text.rpartition("=")
        key = axis_name.strip().lower() if equals else name
        try:
            value = float(number.replace(",", "."))
        except ValueError:
            value = 0.0
        if key not in ("x", "y", "z") or not 0 < value < 1e6:
            raise UsageError(f"--steps {text}: not steps per mm of an axis", "give x=80, or a number above 0 with --axis")
        out[key] = value
    return out
