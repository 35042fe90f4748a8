"""omphalon advance plan | fit | check."""

from __future__ import annotations

import contextlib
import os
from dataclasses import dataclass
from typing import TYPE_CHECKING

import click

from omphalon.base.files import put_lines
from omphalon.cli.advance_common import DRIVES, LineOptions, SpanOptions, line_given, next_out
from omphalon.cli.advance_printed import as_printed, fit_picture
from omphalon.cli.common import Answer, Leaving, answering, chosen_readings, readings_template
from omphalon.cli.groups import Asking, Verbs
from omphalon.cli.known import fact, in_force, print_in_bench
from omphalon.cli.numbers import Measure, Numbers
from omphalon.cli.options import (
    OWN,
    Ask,
    argument,
    column,
    nested,
    number,
    numbers_by_column,
    one_of,
    text,
    typed,
)
from omphalon.cli.printing import PrintOptions, job_of, print_lines
from omphalon.recordings.columns import ADVANCE, CORNERS

if TYPE_CHECKING:
    from omphalon.bench.work import State
    from omphalon.recordings.recording import Readings
    from omphalon.tables.units import Number


HEADER_BYTES = 1000  # in which a table names its columns
PRINTS = ("advance-tower.gcode", "advance-ladder.gcode")


@click.group(cls=Verbs)
def advance() -> None:
    """Pressure advance, in seconds, for one filament."""


def _beside_tower(options: AdvancePlanOptions) -> str:
    return "" if options.style == "tower" else f"--style {options.style}"


def _beside_ladder(options: AdvancePlanOptions) -> str:
    return "" if options.style == "ladder" else f"--style {options.style}"


def _beside_corners(options: AdvancePlanOptions) -> str:
    return "" if options.style == "corners" else f"--style {options.style}"


def _file_in_bench(state: State, given: AdvancePlanOptions) -> str:
    return print_in_bench(state, f"advance-{given.style}")


@dataclass(frozen=True, kw_only=True)
class AdvancePlanOptions:
    """Options of `advance plan`."""

    style: str = one_of(
        "--style", ("tower", "ladder", "corners"), "Which test print.", required=True
    )
    span: SpanOptions = nested(SpanOptions)
    step_s: float | None = number(
        "--step",
        "advance",
        "Per mm of height (tower), line or corner.  [some 48 mm, or 25 of them]",
        within=(0, 1),
    )
    read_by: str = one_of(
        "--for",
        ("scan", "eye"),
        "Ladder: read by a scanner (doubled, mixed) or by eye (once, rising).",
        default="scan",
        idle=_beside_ladder,
    )
    side_mm: float = number(
        "--side", "size", "Tower's side.", within=(15, 200), default=36.0, idle=_beside_tower
    )
    layers: int = number(
        "--layers",
        "count",
        "Layers of each corner.",
        within=(1, 50),
        default=5,
        idle=_beside_corners,
    )
    out: str = text(
        "--out",
        "Where to write the print (G-code).",
        required=True,
        section=OWN,
        bench=_file_in_bench,
    )
    print: PrintOptions = nested(PrintOptions)


@advance.command("plan", short_help="Writes the test print: tower, ladder or corners.")
@answering(AdvancePlanOptions, tool=True)
def plan(how: Leaving, options: AdvancePlanOptions) -> Answer:
    """Write a test print for pressure advance as plain G-code, and say how to print and read it.

    Controllers share no code for pressure advance: give your controller's own line with --line, or
    in a dialect.

    \b
    Example:
      omphalon advance plan --style tower --drive bowden --dialect stand-in --out tower.gcode
    """
    how.check(out=options.out)
    from omphalon.prints.card import MOST_SPEEDS
    from omphalon.studies.advance.drives import EYE_LINES, LINES, TOWER_MM
    from omphalon.studies.advance.plan import AdvanceAsked, plan_advance
    from omphalon.studies.card.plan import most_values

    span, style = options.span, options.style
    for_eye = options.read_by == "eye"
    several = MOST_SPEEDS if style == "ladder" and not for_eye else 1
    job = job_of(options.print, span.print_defaults(), how.tool, most_speeds=several)
    room = most_values(job, for_eye) - 1 if style == "ladder" else LINES[0]
    steps = next((n for n in (EYE_LINES if for_eye else LINES) if n <= room), LINES[-1])
    usual_step = (span.highest_s - span.start_s) / (TOWER_MM if style == "tower" else steps)
    asked = AdvanceAsked(
        style=style,
        start_s=span.start_s,
        stop_s=span.highest_s,
        step_s=usual_step if options.step_s is None else options.step_s,
        drive=span.drive,
        present_s=span.present_s,
        side_mm=options.side_mm,
        leg_mm=span.usual.leg_mm,
        foot_mm=span.usual.foot_mm,
        layers=options.layers,
        for_eye=for_eye,
        of_speeds=bool(job.faster_mm_s),
        file=options.out,
    )
    chosen = print_lines(how, options.print).with_line("advance", span.line_template)
    found, printed = plan_advance(asked, job, chosen)
    put_lines(options.out, printed.lines(), ";")
    return found


def _beside_picture(options: AdvanceFitOptions) -> str:
    return "a picture" if options.pictured else ""


def _without_picture(options: AdvanceFitOptions) -> str:
    return "" if options.pictured else "no picture"


def _last_printed(state: State, given: AdvanceFitOptions) -> str | None:
    """The print that a bench planned last, where something was read that needs it."""
    heights = bool(given.height_mm or given.clean_height_mm or _holds_heights(given))
    picked = heights or bool(given.clean_s or (given.advance_s and not given.score))
    ranged = (given.start_s, given.per_mm, given.stop_s, given.step_s)
    if not (picked or given.pictured) or any(value is not None for value in ranged):
        return None
    names = ("advance-tower.gcode",) if heights else PRINTS
    places = [state.place / "prints" / name for name in names]
    there = sorted((p for p in places if p.is_file()), key=lambda p: p.stat().st_mtime)
    return os.path.relpath(there[-1]) if there else None


def _holds_heights(given: AdvanceFitOptions) -> bool:
    """Whether a file of readings was read off a tower, by its header."""
    if given.path is None or given.pictured:
        return False
    with contextlib.suppress(OSError), open(given.path, "rb") as file:
        return b"height" in file.read(HEADER_BYTES).lower()
    return False


@dataclass(frozen=True, kw_only=True)
class AdvanceFitOptions(LineOptions):
    """Options of `advance fit`."""

    path: str | None = argument("[READINGS.csv|PICTURE]")
    printed: str | None = text(
        "--print",
        "The print's G-code, as `advance plan` wrote it: it knows its values.",
        bench=_last_printed,
        farm="file",
    )
    print_at: tuple[float, float] | None = typed(
        "--print-at",
        Numbers("X:Y", Measure("count", 0, 100_000), "1200:900"),
        "Picture: pixel in the print's middle, where more than one print is seen.",
        idle=_without_picture,
    )
    readings: str | None = text(
        "--readings",
        "Picture: where to write the widths.",
        metavar="FILE.csv",
        idle=_without_picture,
        farm="",
    )
    drive: str | None = one_of(
        "--drive",
        DRIVES,
        "Where the extruder sits.  [from the values]",
        bench=fact("extruder.drive"),
        ask="where the extruder sits",
    )
    start_s: float | None = number(
        "--from",
        "advance",
        "Tower: value at its foot; ladder: its lowest.",
        ask="the value at the tower's foot",
        idle=_beside_picture,
    )
    per_mm: float | None = number(
        "--per-mm",
        "advance per mm",
        "Tower: how much the value grows with a mm of height.",
        ask="by how much it grows a mm",
        idle=_beside_picture,
    )
    stop_s: float | None = number(
        "--to",
        "advance",
        "Tower: value at its top; ladder: its highest.",
        ask="the value at its top",
        idle=_beside_picture,
    )
    step_s: float | None = number(
        "--step",
        "advance",
        "Ladder: from one line's value to the next one's; with --value or --clean.",
        within=(1e-6, 1),
        idle=_beside_picture,
    )
    clean_s: tuple[float, float] | None = typed(
        "--clean",
        Numbers("FROM:TO", Measure("advance"), "0.06:0.09"),
        "Lines look clean from this value to that one.",
        excludes=("height_mm", "advance_s", "clean_height_mm"),
        idle=_beside_picture,
    )
    clean_height_mm: tuple[float, float] | None = typed(
        "--clean-height",
        Numbers("FROM:TO", Measure("distance"), "10:40"),
        "Tower: the corner looks clean from this height to that one, mm.",
        excludes=("height_mm", "advance_s"),
        idle=_beside_picture,
    )
    height_mm: tuple[Number, ...] = column(
        ADVANCE, ask=Ask(words="height where the corner is best", many=True), idle=_beside_picture
    )
    advance_s: tuple[Number, ...] = column(ADVANCE, idle=_beside_picture)
    score: tuple[Number, ...] = column(ADVANCE, idle=_beside_picture)
    bulge_mm: tuple[Number, ...] = column(ADVANCE, idle=_beside_picture)
    speedup_mm: tuple[Number, ...] = column(ADVANCE, idle=_beside_picture)
    fast_mm_s: tuple[Number, ...] = column(ADVANCE, idle=_beside_picture)
    round: tuple[Number, ...] = column(ADVANCE, idle=_beside_picture)
    slowdown_mm: tuple[Number, ...] = column(ADVANCE, idle=_beside_picture)
    present_s: float | None = number(
        "--advance", "advance", "Present value.", bench=in_force("advance", "advance")
    )
    resolution_mm: float | None = number(
        "--resolution",
        "fine length",
        "What the caliper reads to.  [from the digits]",
        idle=_beside_picture,
    )

    @property
    def pictured(self) -> bool:
        """Whether a picture is read."""
        from omphalon.readers.picture import is_picture

        return self.path is not None and is_picture(self.path)


@advance.command("fit", cls=Asking, short_help="The value from what was read off the print.")
@readings_template(ADVANCE, "what was read off a tower, a ladder or corners")
@answering(AdvanceFitOptions, tool=True)
def fit(how: Leaving, options: AdvanceFitOptions) -> Answer:
    """Turn what was read off a tower, a ladder or corners into the pressure advance.

    READINGS.csv holds height_mm (where the tower's corner is best), or height_mm and bulge_mm,
    advance_s and bulge_mm, advance_s and score, or advance_s with the widths speedup_mm and
    slowdown_mm behind a line's changes of speed. PICTURE is a scan or photo of a ladder, or
    a photo of a tower along its diagonal: widths, or its outline, are read off it, with --print
    to say what was printed. By eye: --value of the line that looks best, or --clean FROM:TO.

    \b
    Example:
      omphalon advance fit ladder-scan.jpg --print ladder.gcode
      omphalon advance fit --value 0.08 --from 0 --to 0.12 --step 0.005
      omphalon advance fit tower-heights.csv --from 0 --per-mm 0.025 --to 1.2 --drive bowden
    """
    how.check(options.path, options.printed, readings=options.readings)
    from omphalon.recordings.recording import Readings
    from omphalon.studies.advance.question import AdvanceQuestion
    from omphalon.studies.advance.words import advance_answer

    dialect = how.lines().with_line("advance", options.line_template)
    question = AdvanceQuestion(
        start_s=options.start_s,
        per_mm=options.per_mm,
        stop_s=options.stop_s,
        step_s=options.step_s,
        clean_s=options.clean_s,
        clean_height_mm=options.clean_height_mm,
        drive=options.drive,
        present_s=options.present_s,
        resolution_mm=options.resolution_mm,
        line_given=line_given(how, options.line_template),
        next_out=next_out(),
    )
    if options.pictured:
        return fit_picture(options, question, dialect)
    if options.printed is not None:
        question = as_printed(options, question, options.printed)
    numbers = numbers_by_column(options, ADVANCE)
    ranged = options.clean_s or options.clean_height_mm
    if ranged and options.path is None:
        return advance_answer(Readings("the options", ()), question, dialect)
    return advance_answer(chosen_readings(options.path, numbers, ADVANCE), question, dialect)


@dataclass(frozen=True, kw_only=True)
class AdvanceCheckOptions:
    """Options of `advance check`."""

    path: str | None = argument("[READINGS.csv]")
    before_mm: tuple[Number, ...] = number(
        "--before",
        "bulge",
        "A corner's bulge before; once for each corner.",
        reading=True,
        many=True,
        excludes=("path",),
    )
    after_mm: tuple[Number, ...] = number(
        "--after", "bulge", "A corner's bulge after.", reading=True, many=True, excludes=("path",)
    )
    seam: str | None = text(
        "--seam", "The corner with the seam, of a file: left out.", metavar="CORNER"
    )
    resolution_mm: float | None = number(
        "--resolution", "fine length", "What the caliper reads to.  [from the digits]"
    )


@advance.command("check", short_help="Did it help? Corners before and after.")
@answering(AdvanceCheckOptions, dialect=False, tool=True)
def check(how: Leaving, options: AdvanceCheckOptions) -> Answer:
    """Judge whether a cube's corners are better than before, against the caliper's error.

    READINGS.csv holds print (before or after) and corner with bulge_mm, or with diagonal_mm across
    the cube, x_mm and y_mm.

    \b
    Example:
      omphalon advance check cube-corners.csv --seam rear-left
    """
    how.check(options.path)
    from omphalon.studies.advance.words import advance_check_answer

    return advance_check_answer(_corners(options), options.seam, options.resolution_mm)


def _corners(options: AdvanceCheckOptions) -> Readings:
    from omphalon.readers.readings import option_readings, read_readings
    from omphalon.recordings.recording import Readings

    if options.path is not None:
        return read_readings(options.path, CORNERS)
    prints = (("before", options.before_mm), ("after", options.after_mm))
    read = [
        option_readings({"bulge_mm": numbers}, CORNERS, {"print": name}) for name, numbers in prints
    ]
    return Readings("the options", tuple(row for one in read for row in one.rows))
