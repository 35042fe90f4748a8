"""omphalon probe plan | fit | check."""

from __future__ import annotations

from typing import Any

import click

from omphalon.cli.common import answering, check_plot, leave, options


@click.group()
def probe() -> None:
    """Nozzle-to-bed zero."""


PAPER = click.option("--paper", type=click.FloatRange(0.02, 1.0), default=0.10, show_default=True, metavar="MM",
                     help="Thickness of the paper.")
measured = options(
    click.option("--offset", type=float, required=True, metavar="MM", help="Offset now in force; more lifts the nozzle."),
    click.option("--drag", multiple=True, metavar="MM", help="Height at which the paper just drags; once for each."),
    click.option("--trigger", multiple=True, metavar="MM", help="Height at which the probe triggered; once for each."),
    PAPER,
)


@probe.command("plan", short_help="How to find the zero.")
@PAPER
@answering(plot=False)
def plan(paper: float, as_json: bool, dialect: str | None, quiet: bool) -> None:
    """Say how to find the zero with paper and probe.

    \b
    Example:
      omphalon probe plan --paper 0.1
    """
    from omphalon.studies.probe import plan_probe

    leave(plan_probe(paper), as_json, quiet)


@probe.command("fit", short_help="New offset from drag and trigger heights.")
@measured
@answering()
def fit(as_json: bool, plot: str | None, dialect: str | None, quiet: bool, **given: Any) -> None:
    """Turn drag heights of paper, and trigger heights of the probe, into the offset.

    \b
    Example:
      omphalon probe fit --offset -1.85 --drag 0.22 --drag 0.24 --drag 0.22 --trigger 0.012 --trigger 0.008 --trigger 0.011
    """
    check_plot(plot)
    from omphalon.studies.probe import fit_probe

    leave(fit_probe(*_heights(given)), as_json, quiet, plot)


@probe.command("check", short_help="Judges the offset on fresh drags.")
@measured
@answering()
def check(as_json: bool, plot: str | None, dialect: str | None, quiet: bool, **given: Any) -> None:
    """Judge whether the paper now drags at its own thickness.

    \b
    Example:
      omphalon probe check --offset -1.72 --drag 0.10 --drag 0.12 --drag 0.10
    """
    check_plot(plot)
    from omphalon.studies.probe import check_probe

    leave(check_probe(*_heights(given)), as_json, quiet, plot)


def _heights(given: dict[str, Any]) -> tuple[Any, Any, Any]:
    from omphalon.readers.readings import option_readings
    from omphalon.studies.probe import ProbeQuestion

    drags, triggers = ([row.numbers[name] for row in option_readings({name: given[name]}).rows] for name in ("drag", "trigger"))
    return drags, triggers, ProbeQuestion(given["offset"], given["paper"])
