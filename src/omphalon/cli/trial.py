"""omphalon trial plan | fit."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.base.files import put_lines
from omphalon.cli.common import Answer, Leaving, answering, chosen_readings, readings_template
from omphalon.cli.groups import Verbs
from omphalon.cli.known import print_in_bench
from omphalon.cli.numbers import Measure, Numbers
from omphalon.cli.options import (
    OWN,
    argument,
    column,
    nested,
    number,
    numbers_by_column,
    one_of,
    text,
    typed,
)
from omphalon.cli.printing import PrintDefaults, PrintOptions, job_of, print_lines
from omphalon.recordings.columns import TRIAL

if TYPE_CHECKING:
    from omphalon.bench.work import State
    from omphalon.studies.trial.question import TrialAsked

VARIED = ("temperature", "retraction", "speed", "flow")
PRINT = PrintDefaults(fast_mm_s=40.0, acceleration_mm_s2=1500.0, retract_mm=0.7)
VALUE = Measure("block value")


@click.group(cls=Verbs)
def trial() -> None:
    """Stepped prints of temperature, retraction, speed or flow, judged by eye."""


def _vary(**more: Any) -> Any:
    return one_of("--vary", VARIED, "What changes from block to block.", **more)


@dataclass(frozen=True, kw_only=True)
class TrialPlanOptions:
    """Options of `trial plan`."""

    values: str = argument("FROM:TO:STEP", required=True)
    vary: str = _vary(required=True)
    out: str = text(
        "--out",
        "Where to write the print (G-code).",
        required=True,
        section=OWN,
        bench=lambda state, given: print_in_bench(state, f"trial-{given.vary}"),
    )
    print: PrintOptions = nested(PrintOptions)


@trial.command("plan", short_help="Writes a stepped print: a value a block.")
@answering(TrialPlanOptions, tool=True)
def plan(how: Leaving, options: TrialPlanOptions) -> Answer:
    """Write a stepped print: a column that leans out, a thin wall and a post across a gap, in
    blocks of one value each, from the foot upwards. FROM may be the higher one.

    \b
    Example:
      omphalon trial plan --vary temperature 230:200:5 --out temperature.gcode
      omphalon trial plan --vary retraction 0.2:1.4:0.2 --out retraction.gcode --plot blocks.png
    """
    how.check(out=options.out)
    from omphalon.cli.numbers import numbers_of
    from omphalon.studies.trial.plan import plan_trial, trial_print
    from omphalon.studies.trial.question import TrialAsked

    start, stop, step = numbers_of(options.values, VALUE, 3, "FROM:TO:STEP", "200:230:5")
    asked = TrialAsked(vary=options.vary, start=start, stop=stop, step=step)
    job = job_of(options.print, PRINT, how.tool)
    printed = trial_print(asked, job, print_lines(how, options.print))
    put_lines(options.out, printed.lines(), ";")
    return plan_trial(asked, printed, options.out)


def _last_printed(state: State, given: TrialFitOptions) -> str | None:
    """The newest stepped print in the bench's prints/, of what is named."""
    names = [given.vary] if given.vary else VARIED
    there = [Path(print_in_bench(state, f"trial-{name}")) for name in names]
    newest = max((p for p in there if p.is_file()), key=os.path.getmtime, default=None)
    return None if newest is None else str(newest)


@dataclass(frozen=True, kw_only=True)
class TrialFitOptions:
    """Options of `trial fit`."""

    path: str | None = argument("[READINGS.csv]")
    vary: str | None = _vary()
    printed: str | None = text(
        "--print", "The G-code that `trial plan` wrote.", section=OWN, bench=_last_printed
    )
    blocks: tuple[float, float, float] | None = typed(
        "--blocks",
        Numbers("FROM:TO:STEP", VALUE, "200:230:5"),
        "Without --print: the values that were printed.",
        section=OWN,
        needs=("vary",),
        excludes=("printed",),
    )
    clean: tuple[float, float] | None = typed(
        "--clean", Numbers("FROM:TO", VALUE, "205:215"), "Blocks look good from here to there."
    )
    value: tuple[Any, ...] = column(TRIAL)
    score: tuple[Any, ...] = column(TRIAL)
    present: float | None = number("--present", "block value", "The value in force.")

    def asked(self) -> TrialAsked:
        """What was printed, by the file or by the options."""
        from omphalon.base.shapes import fits
        from omphalon.readers.text import read_plan
        from omphalon.studies.trial.question import PLAN, TrialAsked

        if self.blocks is not None:
            start, stop, step = self.blocks
            return TrialAsked(vary=str(self.vary), start=start, stop=stop, step=step)
        if self.printed is None:
            raise UsageError(
                "not known what was printed", "give --print FILE, or --vary with --blocks"
            )
        plan = read_plan(self.printed)
        if plan["print"] != "trial" or plan.get("vary") not in VARIED or not fits(plan, PLAN):
            raise UsageError(f"{echoed(self.printed)}: no trial print", "give one of trial plan")
        if self.vary not in (None, plan["vary"]):
            raise UsageError(
                f"--vary {self.vary}, and {echoed(self.printed)} varies {plan['vary']}",
                "leave --vary out",
            )
        return TrialAsked(vary=plan["vary"], **{name: float(plan[name]) for name in PLAN})


@trial.command("fit", short_help="The best value, from the blocks that look good.")
@readings_template(TRIAL, "scores of a stepped print's blocks")
@answering(TrialFitOptions, plot=False, dialect=False)
def fit(how: Leaving, options: TrialFitOptions) -> Answer:
    """Turn a look at a stepped print into a value: the block that is best (--value, once a look), a
    range of blocks that are good (--clean), or scores of all blocks (READINGS.csv: value, score).

    \b
    Example:
      omphalon trial fit --vary temperature --blocks 230:200:5 --clean 205:215 --present 220
      omphalon trial fit --vary retraction --blocks 0.2:1.4:0.2 --value 0.8 --value 0.6
    """
    how.check(options.path, options.printed)
    from omphalon.recordings.recording import Readings
    from omphalon.studies.trial.question import TrialQuestion
    from omphalon.studies.trial.words import trial_answer

    question = TrialQuestion(asked=options.asked(), present=options.present, clean=options.clean)
    given = numbers_by_column(options, TRIAL)
    if options.clean is not None and options.path is None and not any(given.values()):
        return trial_answer(Readings("the options", ()), question)
    return trial_answer(chosen_readings(options.path, given, TRIAL), question)
