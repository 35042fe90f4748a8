"""omphalon flow plan | fit | check."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from omphalon.cli.common import ABOVE_ZERO, answering, check_plot, chosen_readings, leave, options

if TYPE_CHECKING:
    from omphalon.recording import Readings
    from omphalon.studies.flow import FlowQuestion


@click.group()
def flow() -> None:
    """Flow multiplier, for one filament."""


@flow.command("plan", short_help="How to print and measure the hollow cube.")
@click.option("--expected", type=ABOVE_ZERO, default=0.45, show_default=True, metavar="MM", help="Width of one line.")
@answering(plot=False)
def plan(expected: float, as_json: bool, dialect: str | None, quiet: bool) -> None:
    """Say how to print and measure the hollow cube.

    \b
    Example:
      omphalon flow plan --expected 0.45
    """
    from omphalon.bench.dialect import load_dialect
    from omphalon.studies.flow import plan_flow

    leave(plan_flow(expected, load_dialect(dialect)), as_json, quiet)


measured = options(
    click.argument("readings", required=False, metavar="[READINGS.csv]"),
    click.option("--flow", type=ABOVE_ZERO, required=True, metavar="F", help="Present multiplier; 1 is 100 %."),
    click.option("--expected", type=ABOVE_ZERO, required=True, metavar="MM", help="Thickness a wall should have."),
    click.option("--wall", multiple=True, metavar="MM", help="A wall's thickness; once for each reading."),
    click.option("--resolution", type=ABOVE_ZERO, metavar="MM", help="What the caliper reads to.  [from the digits]"),
    click.option("--squeeze", type=click.FloatRange(min=0), default=0.01, show_default=True, metavar="MM",
                 help="How unlike a caliper presses a thin wall."),
)


@flow.command("fit", short_help="New multiplier from wall thicknesses.")
@measured
@answering()
def fit(as_json: bool, plot: str | None, dialect: str | None, quiet: bool, **given: Any) -> None:
    """Turn wall thicknesses of a hollow cube into a flow multiplier.

    \b
    Example:
      omphalon flow fit flow-walls.csv --flow 1.0 --expected 0.45 --plot flow.png
    """
    check_plot(plot)
    from omphalon.bench.dialect import load_dialect
    from omphalon.studies.flow import fit_flow

    leave(fit_flow(*_asked(given), load_dialect(dialect)), as_json, quiet, plot)


@flow.command("check", short_help="Judges the walls of a fresh print.")
@measured
@answering()
def check(as_json: bool, plot: str | None, dialect: str | None, quiet: bool, **given: Any) -> None:
    """Judge whether the walls of a fresh print are as thick as they should be.

    \b
    Example:
      omphalon flow check --flow 0.94 --expected 0.45 --wall 0.45 --wall 0.46 --wall 0.45 --wall 0.44
    """
    check_plot(plot)
    from omphalon.bench.dialect import load_dialect
    from omphalon.studies.flow import check_flow

    leave(check_flow(*_asked(given), load_dialect(dialect)), as_json, quiet, plot)


def _asked(given: dict[str, Any]) -> tuple[Readings, FlowQuestion]:
    from omphalon.studies.flow import COLUMNS, WORDS, FlowQuestion

    readings = chosen_readings(given["readings"], {"wall_mm": given["wall"]}, COLUMNS, WORDS)
    return readings, FlowQuestion(given["flow"], given["expected"], given["resolution"], given["squeeze"])
