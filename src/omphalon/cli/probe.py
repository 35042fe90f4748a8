"""omphalon probe plan | fit | check."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import click

from omphalon.base.errors import UsageError
from omphalon.cli.common import Answer, Leaving, answering
from omphalon.cli.groups import Verbs
from omphalon.cli.known import in_force
from omphalon.cli.measured import Asked, MeasuredCommands, add_fit_and_check
from omphalon.cli.options import Ask, argument, column, nested, number, numbers_by_column, one_of
from omphalon.recordings.columns import PROBE as COLUMNS

if TYPE_CHECKING:
    from omphalon.tables.units import Number


@click.group(cls=Verbs)
def probe() -> None:
    """Nozzle-to-bed zero."""


@dataclass(frozen=True, kw_only=True)
class Paper:
    """What is dragged."""

    paper_mm: float = number(
        "--paper", "size", "Thickness of the paper.", within=(0.02, 1), default=0.10
    )


@probe.command("plan", short_help="How to find the zero.")
@answering(Paper, plot=False, dialect=False)
def plan(how: Leaving, options: Paper) -> Answer:
    """Say how to find the zero with paper and probe.

    \b
    Example:
      omphalon probe plan --paper 0.1
    """
    from omphalon.studies.measured.probe import plan_probe

    return plan_probe(options.paper_mm)


def _undragged(options: ProbeCheckOptions) -> str:
    return "" if options.path is not None or options.drag_mm else "no --drag"


@dataclass(frozen=True, kw_only=True)
class ProbeCheckOptions:
    """Options of `probe check`: the offset on fresh drags."""

    path: str | None = argument("[READINGS.csv]")
    offset_mm: float = number(
        "--offset",
        "offset",
        "Offset now in force.",
        required=True,
        bench=in_force("probe-offset", "offset"),
        ask="present offset",
    )
    larger: str | None = one_of(
        "--larger",
        ("lifts", "lowers"),
        "What a larger offset does to the nozzle; needed where it is above 0.",
        idle=_undragged,
    )
    drag_mm: tuple[Number, ...] = column(
        COLUMNS, ask=Ask(words="height at which paper drags", many=True)
    )
    paper: Paper = nested(Paper, idle=_undragged)


@dataclass(frozen=True, kw_only=True)
class ProbeFitOptions(ProbeCheckOptions):
    """Options of `probe fit`: drags, and what the probe says beside them."""

    trigger_mm: tuple[Number, ...] = column(COLUMNS)


def _asked(options: ProbeCheckOptions) -> Asked:
    from omphalon.readers.readings import option_readings, read_readings
    from omphalon.recordings.recording import Readings
    from omphalon.studies.measured.probe import PROBE, ProbeQuestion

    question = ProbeQuestion(
        offset_mm=options.offset_mm, larger=options.larger, paper_mm=options.paper.paper_mm
    )
    numbers = numbers_by_column(options, COLUMNS)
    if options.path is not None:
        if numbers:
            raise UsageError("readings in a file and in options", "give one of the two")
        return PROBE, read_readings(options.path, COLUMNS), question
    each = [option_readings({name: seen}, COLUMNS) for name, seen in numbers.items()]
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
        fit=ProbeFitOptions,
        check=ProbeCheckOptions,
        columns=COLUMNS,
        head="drag heights of paper, trigger heights of the probe",
        short=("New offset from drag and trigger heights.", "Judges the offset on fresh drags."),
        help=(FIT, CHECK),
        asked=_asked,
        dialect=False,
    ),
)
