"""A stepped print of one setting, and how to judge it."""

from __future__ import annotations

from omphalon.answers.commands import command, prose
from omphalon.answers.finding import Plan
from omphalon.base.errors import UsageError
from omphalon.lines.dialect import Dialect
from omphalon.prints.job import Job, feed
from omphalon.prints.strokes import survey
from omphalon.prints.trial import BLOCK_MM, FIN_MM, Blocks
from omphalon.studies.printed import TestPrint, clock, plan_of, print_steps
from omphalon.studies.trial.question import TrialAsked


def trial_print(asked: TrialAsked, job: Job, dialect: Dialect) -> TestPrint:
    """The print of these blocks.

    Raises UsageError if it does not fit the printer, or a block cannot be laid.
    """
    job.check()
    fastest = max(asked.values) if asked.vary == "speed" else job.fast_mm_s
    if fastest**2 / job.acceleration_mm_s2 > 2 * FIN_MM:
        raise UsageError(
            f"{fastest:g} mm/s with {job.acceleration_mm_s2:g} mm/s²: never reached on so small a "
            "print",
            "choose a lower speed, or --acceleration",
        )
    blocks = Blocks(vary=asked.vary, values=asked.values)
    whole = survey(job, blocks.strokes(job))
    shown = [asked.varied.shown(value) for value in asked.values]
    tool = job.tool_word
    return TestPrint(
        title=f"{asked.varied.words}, {shown[0]} to {shown[-1]}",
        job=job,
        strokes=lambda: blocks.strokes(job),
        labels=blocks.labels(job),
        head=(
            f"trial print: {asked.varied.words}, a block of {BLOCK_MM:g} mm each, from the foot:",
            ", ".join(shown),
            f"for a {job.bed.words}; {job.temp_c:g} °C, bed {job.bed_temp_c:g} °C; "
            f"{job.fast_mm_s:g} mm/s ({feed(job.fast_mm_s)}), retraction {job.retract_mm:g} mm",
            f"about {clock(whole.time_s)} and {whole.filament_mm / 1000:.2f} m of filament",
        ),
        set_line=lambda value: f"M104 {tool}S{value:.0f}",
        acceleration_line=dialect.line("acceleration", acceleration=job.acceleration_mm_s2),
        last_line=None,
        whole=whole,
        plan={
            "print": "trial",
            "vary": asked.vary,
            "start": asked.start,
            "stop": asked.stop,
            "step": asked.step,
            **plan_of(job),
        },
    )


def plan_trial(asked: TrialAsked, printed: TestPrint, out: str) -> Plan:
    """How to print and judge it."""
    row = asked.varied
    shown = [row.shown(value) for value in asked.values]
    change = (
        ("A block's first millimetre is still on the way to its temperature: judge above it.",)
        if asked.vary == "temperature"
        else ()
    )
    return Plan(
        kind="trial-plan",
        title=f"Trial print: {row.words}, {len(shown)} blocks from {shown[0]} to {shown[-1]}",
        steps=(
            *print_steps(printed),
            f"From the foot upwards: {', '.join(shown)}. A ring around the post tops each block; "
            "the numbers on the plate stand in the same order, front to rear.",
            *change,
            f"Look for {row.look}.",
            "Point at the block that is best, or say from which block to which it is good, which "
            "is easier; look twice, or let somebody else look. Or score every block in a file with "
            "the columns value and score.",
        ),
        next=prose(
            command("trial fit", print=out, value="V"),
            "or:",
            command("trial fit", print=out, clean="FROM:TO"),
        ),
        picture=printed,
    )
