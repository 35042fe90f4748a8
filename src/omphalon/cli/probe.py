"""omphalon probe plan | fit | check."""

from __future__ import annotations

from typing import Any

import click

from omphalon.base.errors import UsageError
from omphalon.cli.common import Answer, Leaving, answering, choice, filled, number, refuse_idle
from omphalon.cli.groups import Verbs
from omphalon.cli.measured import Asked, MeasuredCommands, add_fit_and_check
from omphalon.recordings.columns import PROBE as COLUMNS


@click.group(cls=Verbs)
def probe() -> None:
    """Nozzle-to-bed zero."""


PAPER = number("--paper", "size", "Thickness of the paper.", within=(0.02, 1), default=0.10)


@probe.command("plan", short_help="How to find the zero.")
@PAPER
@answering(plot=False, dialect=False)
def plan(how: Leaving, paper_mm: float) -> Answer:
    """Say how to find the zero with paper and probe.

    \b
    Example:
      omphalon probe plan --paper 0.1
    """
    from omphalon.studies.measured.probe import plan_probe

    return plan_probe(paper_mm)


def _asked(given: dict[str, Any]) -> Asked:
    from omphalon.readers.readings import option_readings, read_readings
    from omphalon.recordings.recording import Readings
    from omphalon.studies.measured.probe import PROBE, ProbeQuestion

    question = filled(ProbeQuestion, given)
    if given["path"] is not None:
        if given["drag_mm"] or given["trigger_mm"]:
            raise UsageError("readings in a file and in options", "give one of the two")
        return PROBE, read_readings(given["path"], COLUMNS), question
    if not given["drag_mm"]:
        refuse_idle("no --drag", "larger", "paper_mm")
    each = [option_readings({name: given[name]}, COLUMNS) for name in ("drag_mm", "trigger_mm")]
    rows = tuple(row for one in each for row in one.rows)
    return PROBE, Readings("the options", rows), question


FIT = """\
Turn drag heights of paper, and trigger heights of the probe, into the offset.

READINGS.csv holds drag_mm, trigger_mm or both.

\b
Example:
  omphalon probe fit --offset -1.85 --drag 0.22 --drag 0.24 --drag 0.22 --trigger 0.012
"""
CHECK = """\
Judge whether the paper now drags at its own thickness.

READINGS.csv holds the columns of `fit`.

\b
Example:
  omphalon probe check --offset -1.72 --drag 0.10 --drag 0.12 --drag 0.10
"""
add_fit_and_check(
    probe,
    MeasuredCommands(
        columns=COLUMNS,
        head="drag heights of paper, trigger heights of the probe",
        before=(
            number("--offset", "offset", "Offset now in force.", required=True),
            click.option(
                "--larger",
                type=choice("lifts", "lowers"),
                help="What a larger offset does to the nozzle; needed where it is above 0.",
            ),
        ),
        after=(PAPER,),
        short=("New offset from drag and trigger heights.", "Judges the offset on fresh drags."),
        help=(FIT, CHECK),
        asked=_asked,
        dialect=False,
    ),
)
