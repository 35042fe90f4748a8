"""The test print for pressure advance: what is asked for, checked for sense, and how to run and
read it.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from omphalon.answers.commands import Prose, command, prose
from omphalon.answers.finding import Plan
from omphalon.base.errors import UsageError
from omphalon.lines.dialect import Dialect
from omphalon.prints.advance import Corners, Tower
from omphalon.prints.card import Card
from omphalon.prints.job import Job, levels
from omphalon.prints.strokes import Survey, survey
from omphalon.studies.advance.drives import DRIVES, LINES, TOWER_MM
from omphalon.studies.card.plan import LADDER, check_reached, check_speeds, ladder
from omphalon.studies.printed import TestPrint, clock, plan_of, print_steps

FEWEST_LINES, MOST_LINES = 5, 200  # values in one print
LOWEST_TOWER_MM = 10.0  # lower, nobody sees a height in it
UNITS = {"tower": "s", "ladder": "thousandths of a second", "corners": "s"}
READ = {
    "tower": (
        "Let it cool. Look along the clean corner, the one at the bar on the plate, front right, "
        "in side light, from bottom to top: it bulges at first and is starved at last. Measure "
        "with the caliper from the plate to where it is cleanest. Marks on the left side count 5 "
        "mm, on the rear 10 mm.",
        "Read five times, looking away between, or let others read too. Write each height down.",
        "Or take a photo of it: upright, along its diagonal, the bar and the clean corner to the "
        "right, before something plain, the camera level with it and half a metre away. (In two "
        "bands the clean corner is passed slowly and always looks right: what the outline is held "
        "against.)",
    ),
    "ladder": (
        "Scan it with 600 dots per inch, on the plate, or take a photo from straight above, and "
        "let it be read.",
        "Or look at each line at the ticks above and below all, where its speed changes; a line "
        "begins at its number, in thousandths of a second: thin after speeding up and fat after "
        "slowing down is too little, the other way round too much. Give each line a score (higher "
        "is better), all of them; or measure the widths just after a change to fast and one to "
        "slow. Write a file with the columns advance_s and score, or advance_s, speedup_mm, "
        "slowdown_mm.",
    ),
    "ladder of speeds": (
        "Scan it with 600 dots per inch, on the plate, or take a photo from straight above, and "
        "let it be read.",
        "Or measure the widths of each line just after a change to fast and one to slow, at the "
        "ticks above and below all. The fast speeds come in turn, from the lowest line on. Write "
        "a file with the columns fast_mm_s, advance_s, speedup_mm, slowdown_mm.",
    ),
    "ladder for eyes": (
        "Look at the lines in side light, at the ticks above and below all, where the speed "
        "changes; a line begins at its number, in thousandths of a second. Thin after speeding up "
        "and fat after slowing down is too little, the reverse too much.",
        "Choose the line that looks best; or say from which line to which they look clean, which "
        "is easier and usually more exact. Look twice, or let somebody else look.",
        "Or give each line a score (higher is better): columns advance_s and score in a file.",
    ),
    "corners": (
        "Look at each corner in side light: an outward blob is too little, a cut corner too much.",
        "Give each a score (higher is better), all of them; or measure across the corner with the "
        "caliper how far it stands out (positive) or falls short (negative). Write a file with the "
        "columns advance_s and score, or advance_s and bulge_mm.",
    ),
}


@dataclass(frozen=True, kw_only=True)
class AdvanceAsked:
    """What was asked for: style, range and step (s; s per mm of height on a tower), drive, and what
    replaces defaults.
    """

    style: str
    start_s: float
    stop_s: float
    step_s: float
    drive: str
    present_s: float | None = None
    side_mm: float = 36.0
    leg_mm: float = 20.0
    foot_mm: float = 9.0
    layers: int = 5
    for_eye: bool = False
    of_speeds: bool = False
    file: str = "FILE"

    @property
    def read_by(self) -> tuple[str, ...]:
        """How it is read."""
        if self.style == "ladder" and (self.for_eye or self.of_speeds):
            return READ["ladder for eyes" if self.for_eye else "ladder of speeds"]
        return READ[self.style]


def plan_advance(asked: AdvanceAsked, job: Job, dialect: Dialect) -> tuple[Plan, TestPrint]:
    """Say how to print and read the test, and make the print.

    Raises UsageError if a range, a step, a speed or the bed make no sense.
    """
    job.check()
    _check_range(asked)
    _check_speed(asked, job)
    values = () if asked.style == "tower" else levels(asked.start_s, asked.stop_s, asked.step_s)
    count = len(values)
    figure: Tower | Card | Corners
    if asked.style == "tower":
        leg = DRIVES[asked.drive].band_leg_mm
        figure = Tower(
            start=asked.start_s,
            stop=asked.stop_s,
            per_mm=asked.step_s,
            side_mm=asked.side_mm,
            band_leg_mm=leg,
        )
        words = (
            f"{figure.height_mm:.0f} mm high, value at height h: {asked.start_s:g} + "
            f"{asked.step_s:g} h"
        )
        values = tuple(
            asked.start_s + asked.step_s * (n + 0.5) * job.layer_mm
            for n in range(min(figure.layers(job), 20))
        )
    elif asked.style == "ladder":
        figure = ladder(values, asked.drive, job, asked.for_eye)
        words = (
            f"{count} values, {asked.start_s:g} to {values[-1]:g} by {asked.step_s:.6g}, "
            f"{_order(asked, job)}, in thousandths of a second at the start of its line"
        )
    else:
        figure = Corners(values, asked.leg_mm, asked.foot_mm, asked.layers)
        words = (
            f"{count} corners, {figure.words[0]} to {figure.words[-1]} by {asked.step_s:g}, "
            "values printed below each"
        )
    set_line = _setter(dialect, values)
    acceleration = dialect.line("acceleration", acceleration=job.acceleration_mm_s2)
    present = asked.present_s
    last = None if present is None else dialect.line("advance", advance=round(present, 9))
    strokes = functools.partial(figure.strokes, job)
    whole = survey(job, strokes())
    head = _head(asked, job, whole, words, acceleration)
    printed = TestPrint(
        title=f"{asked.style.capitalize()} for pressure advance: values in {UNITS[asked.style]}",
        job=job,
        strokes=strokes,
        labels=figure.labels(job),
        head=head,
        set_line=set_line,
        acceleration_line=acceleration,
        last_line=last,
        whole=whole,
        plan=_told_by(figure, asked, job),
        side_view=asked.style == "tower",
    )
    return _plan_of(asked, job, whole, words, printed), printed


def _told_by(figure: Tower | Card | Corners, asked: AdvanceAsked, job: Job) -> Mapping[str, object]:
    """What the file says of itself."""
    if isinstance(figure, Card):
        return figure.plan
    if isinstance(figure, Tower):
        return figure.plan(asked.drive, job)
    values = [round(value, 9) for value in figure.values]
    return {"print": "corners", "drive": asked.drive, "values_s": values, **plan_of(job)}


def _check_range(asked: AdvanceAsked) -> None:
    """Refuse a range or a step that makes no sense."""
    start, stop, step = asked.start_s, asked.stop_s, asked.step_s
    span = stop - start
    if span <= 0:
        raise UsageError(
            f"--from {start:g} --to {stop:g}: the range is upside down",
            "give the lower value with --from",
        )
    if step <= 0:
        raise UsageError(
            f"--step {step:g}: not above 0",
            "give a small step, for example "
            f"{span / (TOWER_MM if asked.style == 'tower' else LINES[0]):.2g}",
        )
    if step > span:
        raise UsageError(
            f"--step {step:g}: larger than the range of {span:g}", f"give at most {span / 10:.2g}"
        )
    if asked.style == "tower":
        if span / step < LOWEST_TOWER_MM:
            raise UsageError(
                f"--step {step:g} per mm makes a tower of {span / step:.1f} mm",
                f"give a smaller step: {span / TOWER_MM:.2g} makes one of {TOWER_MM:g} mm",
            )
    elif not FEWEST_LINES - 1 - 1e-6 <= span / step <= MOST_LINES:
        raise UsageError(
            f"--step {step:g} makes {span / step + 1:.0f} values",
            f"choose one that makes {FEWEST_LINES} to {MOST_LINES}: {span / LINES[0]:.2g} makes "
            f"{LINES[0] + 1}",
        )


def _check_speed(asked: AdvanceAsked, job: Job) -> None:
    """The fast stretch must be long enough to reach its speed and come down again, and fast enough
    to show anything.
    """
    if asked.style == "ladder":
        check_speeds(job, LADDER[asked.drive][1])
    elif asked.style == "tower":
        check_reached(job, asked.side_mm / 2, "a side")
    else:
        check_reached(job, 2 * asked.foot_mm, "the short leg")


def _order(asked: AdvanceAsked, job: Job) -> str:
    """In which order the values of a ladder come."""
    if job.faster_mm_s:
        fasts = ", ".join(f"{speed:g}" for speed in job.fast_speeds_mm_s)
        return f"each twice at each of {fasts} mm/s in turn"
    return "from small to large" if asked.for_eye else "each twice and mixed"


def _setter(dialect: Dialect, values: tuple[float, ...]) -> Callable[[float], str]:
    """The function that writes the line for a value; UsageError where there is none, or it does not
    tell values apart.
    """
    if not dialect.has_code("advance"):
        raise UsageError(
            "no line that sets pressure advance: controllers share no code for it",
            "give your controller's own with --line '… {advance:.4f} …', or a dialect with "
            "--dialect FILE",
        )
    template = dialect.templates["advance"].text

    def set_line(value: float) -> str:
        # neighbours must differ; more is not asked of what a print passes through
        values: dict[str, object] = {"advance": round(value, 9)}
        return dialect.lines_within("advance", values, {"advance": math.inf})[0].text

    lines = [set_line(v) for v in values]
    if len(set(lines)) < len(lines):
        raise UsageError(
            f"--line {template}: writes neighbouring values alike",
            "give it more decimals: {advance:.5f}",
        )
    return set_line


def _head(
    asked: AdvanceAsked, job: Job, whole: Survey, words: str, acceleration: str | None
) -> tuple[str, ...]:
    """The comment header: what it is, for which printer, how to read it."""
    fasts = ":".join(f"{speed:g}" for speed in job.fast_speeds_mm_s)
    return (
        f"{asked.style} for pressure advance: {words}",
        f"for a {job.bed.words}; {asked.drive} drive; nozzle {job.nozzle_mm:g}, filament "
        f"{job.filament_mm:g} mm",
        f"line {job.width_mm:g} x {job.layer_mm:g} mm; slow {job.slow_mm_s:g}, fast {fasts}, first "
        f"layer and digits {job.first_mm_s:g} mm/s; {job.temp_c:g} °C, "
        f"bed {job.bed_temp_c:g} °C; retraction {job.retract_mm:g} mm; fan {job.fan:.0%}",
        f"acceleration {job.acceleration_mm_s2:g} mm/s²"
        + ("" if acceleration else ": set it on the printer, no line here does"),
        f"about {clock(whole.time_s)} and {whole.filament_mm / 1000:.2f} m of filament",
        *asked.read_by,
    )


def _then(asked: AdvanceAsked) -> Prose:
    """The commands that read the print: a picture of it, or what eyes and a caliper found."""
    picture = command("advance fit", "PICTURE", print=asked.file)
    table = command("advance fit", "READINGS.csv", drive=asked.drive)
    if asked.style == "corners":
        return prose(table)
    if asked.for_eye:
        pick = command("advance fit", value="S", print=asked.file)
        clean = command("advance fit", clean="FROM:TO", print=asked.file)
        return prose(pick, "or, clean from here to there:", clean)
    if asked.style == "ladder":
        return prose(picture, "or, read by eye:", table)
    heights = command(
        "advance fit",
        from_=f"{asked.start_s:.6g}",
        per_mm=f"{asked.step_s:.6g}",
        to=f"{asked.stop_s:.6g}",
        drive=asked.drive,
        height=("MM",) * 3,
    )
    return prose(heights, "or from a photo:", picture)


def _plan_of(asked: AdvanceAsked, job: Job, whole: Survey, words: str, printed: TestPrint) -> Plan:
    first = (
        "Set steps, flow and the printing temperature first; pressure advance is for one filament.",
        "Switch off everything else that works against oozing: a feed that stops before a line "
        "ends, a nozzle drawn over the print without feeding, extra filament after a pause, any "
        "other correction of the feed at corners. This file has none. A high corner speed and a "
        "low acceleration hide the effect: leave them as you print.",
    )
    return Plan(
        "advance-plan",
        f"{asked.style.capitalize()} for pressure advance: {words}",
        (
            *first,
            *print_steps(printed),
            *asked.read_by,
            "The last value stays in force until it is set again."
            if asked.present_s is None
            else f"The file ends by setting {asked.present_s:g} again.",
            "Afterwards switch on again what you switched off, and shorten the retraction "
            "step by step: less is needed now. The value holds for this filament, temperature and "
            "nozzle.",
        ),
        (),
        _then(asked),
        settings={
            "style": asked.style,
            "from": asked.start_s,
            "to": asked.stop_s,
            "step": asked.step_s,
            "time_s": whole.time_s,
            "filament_mm": whole.filament_mm,
            "drive": asked.drive,
        },
        picture=printed,
    )
