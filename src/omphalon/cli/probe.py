"""omphalon probe plan | fit | check."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from omphalon.cli.asking import Asking
from omphalon.cli.common import (
    Leaving,
    Measure,
    answering,
    options,
    reading_options,
    readings_template,
)
from omphalon.columns import PROBE
from omphalon.errors import UsageError

if TYPE_CHECKING:
    from omphalon.recording import Readings
    from omphalon.studies.probe.question import ProbeQuestion


@click.group()
def probe() -> None:
    """Nozzle-to-bed zero."""


PAPER = click.option(
    "--paper",
    type=Measure("size", 0.02, 1),
    default=0.10,
    show_default=True,
    metavar="MM",
    help="Thickness of the paper.",
)
measured = options(
    click.argument("path", required=False, metavar="[READINGS.csv]"),
    click.option(
        "--offset",
        type=Measure("offset"),
        required=True,
        metavar="MM",
        help="Offset now in force; more lifts the nozzle.",
    ),
    *reading_options(PROBE),
    PAPER,
)


@probe.command("plan", short_help="How to find the zero.")
@PAPER
@answering(plot=False, dialect=False)
def plan(how: Leaving, paper: float) -> None:
    """Say how to find the zero with paper and probe.

    \b
    Example:
      omphalon probe plan --paper 0.1
    """
    from omphalon.studies.probe.plan import plan_probe

    how.leave(plan_probe(paper))


@probe.command("fit", cls=Asking, short_help="New offset from drag and trigger heights.")
@measured
@readings_template(PROBE, "drag heights of paper, trigger heights of the probe")
@answering(dialect=False)
def fit(how: Leaving, **given: Any) -> None:
    """Turn drag heights of paper, and trigger heights of the probe, into the offset.

    READINGS.csv holds drag_mm, trigger_mm or both.

    \b
    Example:
      omphalon probe fit --offset -1.85 --drag 0.22 --drag 0.24 --drag 0.22 --trigger 0.012
    """
    how.check(given["path"])
    from omphalon.studies.probe.fit import fit_probe
    from omphalon.studies.probe.words import probe_finding

    readings, question = _asked(given)
    how.leave(probe_finding(fit_probe(readings, question), question, readings))


@probe.command("check", short_help="Judges the offset on fresh drags.")
@measured
@answering(dialect=False)
def check(how: Leaving, **given: Any) -> None:
    """Judge whether the paper now drags at its own thickness.

    READINGS.csv holds the columns of `fit`.

    \b
    Example:
      omphalon probe check --offset -1.72 --drag 0.10 --drag 0.12 --drag 0.10
    """
    how.check(given["path"])
    from omphalon.studies.probe.fit import fit_probe
    from omphalon.studies.probe.words import probe_finding

    readings, question = _asked(given)
    how.leave(probe_finding(fit_probe(readings, question), question, readings, checking=True))


def _asked(given: dict[str, Any]) -> tuple[Readings, ProbeQuestion]:
    from omphalon.readers.readings import option_readings, read_readings
    from omphalon.recording import Readings
    from omphalon.studies.probe.question import ProbeQuestion

    question = ProbeQuestion(offset_mm=given["offset"], paper_mm=given["paper"])
    if given["path"] is not None:
        if given["drag_mm"] or given["trigger_mm"]:
            raise UsageError("readings in a file and in options", "give one of the two")
        return read_readings(given["path"], PROBE), question
    told = [option_readings({name: given[name]}, PROBE) for name in ("drag_mm", "trigger_mm")]
    return Readings("the options", tuple(row for one in told for row in one.rows)), question
