"""omphalon advance plan | fit | check."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.base.files import put_lines
from omphalon.base.shapes import fits
from omphalon.cli.common import (
    Answer,
    Leaving,
    Measure,
    answering,
    choice,
    chosen_readings,
    filled,
    number,
    numbers_of,
    options,
    reading_options,
    readings_template,
    refuse_idle,
)
from omphalon.cli.groups import Asking, Verbs
from omphalon.cli.printing import job_of, print_lines, printing
from omphalon.recordings.columns import ADVANCE, CORNERS

if TYPE_CHECKING:
    from omphalon.lines.dialect import Dialect
    from omphalon.recordings.recording import Readings
    from omphalon.studies.advance.question import AdvanceQuestion
    from omphalon.studies.card.sight import CardSight

DRIVE = choice("direct", "bowden")
SECONDS = Measure("advance")
LINE = click.option(
    "--line",
    "line_template",
    metavar="TEMPLATE",
    help="Line that sets the value: '… {advance:.4f} …'.",
)
MOST_PLACES = 6
spanned = options(
    click.option(
        "--drive", type=DRIVE, default="direct", show_default=True, help="Where the extruder sits."
    ),
    number("--from", "advance", "Lowest pressure advance.", name="start_s", default=0.0),
    number("--to", "advance", "Highest.  [direct 0.12, bowden 1.2]", name="stop_s"),
    LINE,
    number("--advance", "advance", "Present value, set again at the end.", name="present_s"),
)


@click.group(cls=Verbs)
def advance() -> None:
    """Pressure advance, in seconds, for one filament."""


@advance.command("plan", short_help="Writes the test print: tower, ladder or corners.")
@click.option(
    "--style", type=choice("tower", "ladder", "corners"), required=True, help="Which test print."
)
@spanned
@number(
    "--step",
    "advance",
    "Per mm of height (tower), line or corner.  [some 48 mm, or 25 of them]",
    within=(0, 1),
)
@number("--side", "size", "Tower's side.", within=(15, 200), default=36.0)
@number("--layers", "count", "Layers of each corner.", within=(1, 50), default=5)
@click.option("--out", required=True, metavar="FILE", help="Where to write the print (G-code).")
@printing
@answering(tool=True)
def plan(how: Leaving, style: str, out: str, **given: Any) -> Answer:
    """Write a test print for pressure advance as plain G-code, and say how to print and read it.

    Controllers share no code for pressure advance: give your controller's own line with --line, or
    in a dialect.

    \b
    Example:
      omphalon advance plan --style tower --drive bowden --dialect stand-in --out tower.gcode
    """
    how.check(out=out)
    from omphalon.studies.advance.drives import DRIVES, LINES, TOWER_MM
    from omphalon.studies.advance.plan import AdvanceAsked, plan_advance
    from omphalon.studies.card.plan import most_values

    if style != "tower":
        refuse_idle(f"--style {style}", "side_mm")
    if style != "corners":
        refuse_idle(f"--style {style}", "layers")
    usual, start = DRIVES[given["drive"]], given["start_s"]
    stop = usual.to_s if given["stop_s"] is None else given["stop_s"]
    job = job_of(given, usual.fast_mm_s, usual.acceleration_mm_s2, usual.retract_mm)
    room = most_values(job.bed) - 1 if style == "ladder" else LINES[0]
    steps = next((n for n in LINES if n <= room), LINES[-1])
    usual_step = (stop - start) / (TOWER_MM if style == "tower" else steps)
    chosen = print_lines(how, given).with_line("advance", given["line_template"])
    asked = filled(
        AdvanceAsked,
        given,
        style=style,
        stop_s=stop,
        step_s=usual_step if given["step_s"] is None else given["step_s"],
        leg_mm=usual.leg_mm,
        foot_mm=usual.foot_mm,
    )
    found, printed = plan_advance(asked, job, chosen)
    put_lines(out, printed.lines(), ";")
    return found


@advance.command("fit", cls=Asking, short_help="The value from what was read off the print.")
@click.argument("path", required=False, metavar="[READINGS.csv|PICTURE]")
@click.option(
    "--print",
    "printed",
    metavar="FILE",
    help="Picture: the print's G-code, as `advance plan` wrote it.",
)
@click.option(
    "--print-at",
    "print_at",
    metavar="X:Y",
    help="Picture: pixel in the print's middle, where more than one print is seen.",
)
@click.option("--readings", metavar="FILE.csv", help="Picture: where to write the widths.")
@number("--from", "advance", "Tower: value at its foot.", name="start_s")
@number("--per-mm", "advance per mm", "Tower: how much the value grows with a mm of height.")
@number("--to", "advance", "Tower: value at its top.", name="stop_s")
@options(*reading_options(ADVANCE))
@click.option("--drive", type=DRIVE, help="Where the extruder sits.  [from the values]")
@number("--advance", "advance", "Present value.", name="present_s")
@number("--resolution", "fine length", "What the caliper reads to.  [from the digits]")
@LINE
@readings_template(ADVANCE, "what was read off a tower, a ladder or corners")
@answering(tool=True)
def fit(
    how: Leaving,
    path: str | None,
    printed: str | None,
    print_at: str | None,
    readings: str | None,
    line_template: str | None,
    **given: Any,
) -> Answer:
    """Turn what was read off a tower, a ladder or corners into the pressure advance.

    READINGS.csv holds height_mm (where the tower's corner is best), or height_mm and bulge_mm,
    advance_s and bulge_mm, advance_s and score, or advance_s with the widths speedup_mm and
    slowdown_mm behind a line's changes of speed. PICTURE is a scan or photo of a ladder, or
    a photo of a tower along its diagonal: widths, or its outline, are read off it, with --print
    to say what was printed.

    \b
    Example:
      omphalon advance fit ladder-scan.jpg --print ladder.gcode
      omphalon advance fit tower-heights.csv --from 0 --per-mm 0.025 --to 1.2 --drive bowden
    """
    how.check(path, printed, readings=readings)
    from omphalon.studies.advance.question import AdvanceQuestion
    from omphalon.studies.advance.words import advance_answer

    numbers = {c.name: given[c.name] for c in ADVANCE if c.quantity}
    dialect = how.lines().with_line("advance", line_template)
    question = filled(AdvanceQuestion, given, line_words=line_words(how, line_template))
    if _is_pictured(path, printed, print_at, readings):
        _refuse_beside_picture(numbers, question)
        return _fit_picture(str(path), str(printed), print_at, readings, question, dialect)
    read = chosen_readings(path, numbers, ADVANCE)
    return advance_answer(read, question, dialect)


def _is_pictured(
    path: str | None, printed: str | None, print_at: str | None, readings: str | None
) -> bool:
    """Whether a picture was given; what belongs to one alone is refused without it."""
    from omphalon.readers.picture import is_picture

    if path is not None and is_picture(path):
        if printed is None:
            raise UsageError(
                "a picture without what was printed",
                "give --print FILE, the G-code that `omphalon advance plan --style ladder` wrote",
            )
        return True
    own = (("--print", printed), ("--print-at", print_at), ("--readings", readings))
    for name, given in own:
        if given is not None:
            raise UsageError(
                f"{name} without a picture", "give the scan or photo of a ladder, or leave it out"
            )
    return False


def _refuse_beside_picture(numbers: dict[str, Any], question: AdvanceQuestion) -> None:
    """Refuse options that a picture makes no use of."""
    unread = (
        ("--from", question.start_s),
        ("--per-mm", question.per_mm),
        ("--to", question.stop_s),
        ("--resolution", question.resolution_mm),
    )
    words = [c.option for c in ADVANCE if numbers.get(c.name)]
    words += [name for name, value in unread if value is not None]
    if words:
        raise UsageError(
            f"{words[0]} beside a picture", "all is read from the picture; leave it out"
        )


def _fit_picture(
    path: str,
    printed: str,
    print_at: str | None,
    readings: str | None,
    question: AdvanceQuestion,
    dialect: Dialect,
) -> Answer:
    """The answer from a picture of a ladder, or of a tower."""
    from omphalon.readers.picture import cut_around, read_picture
    from omphalon.readers.text import read_plan

    plan = read_plan(printed)
    picture = read_picture(path)
    if question.drive is None and plan.get("drive") in DRIVE.choices:
        question = replace(question, drive=plan["drive"])
    if print_at is not None:
        pixel = Measure("count", 0, 100_000)
        x, y = numbers_of(print_at, pixel, 2, "--print-at", "1200:900")
        picture = cut_around(picture, round(x), round(y))

    def keep(rows: Iterable[str]) -> None:
        if readings is not None:
            put_lines(readings, rows)

    if plan["print"] == "tower":
        from omphalon.studies.advance.silhouette import PLAN, outline_csv
        from omphalon.studies.advance.words import tower_answer

        if not fits(plan, PLAN):
            raise UsageError(f"{echoed(printed)}: its plan was changed by hand", "plan it again")
        return tower_answer(picture, plan, question, dialect, lambda seen: keep(outline_csv(seen)))
    from omphalon.prints.card import card_in
    from omphalon.studies.card.rungs import widths_csv
    from omphalon.studies.card.words import ladder_answer

    card = card_in(plan, printed)

    def seen(sight: CardSight) -> None:
        keep(widths_csv(sight.readings, sight.rungs))

    return ladder_answer(picture, card, printed, question, dialect, seen)


def line_words(how: Leaving, line_template: str | None) -> str:
    """The options that give the next print its line, with enough decimals for any step."""
    import shlex

    from omphalon.lines.template import Template

    if line_template is not None:
        line = Template(line_template)
        return "--line " + shlex.quote(
            line.with_places("advance", max(line.places("advance") or 0, MOST_PLACES)).text
        )
    if how.dialect is not None:
        return "--dialect " + shlex.quote(how.dialect)
    return "--dialect FILE"


@advance.command("check", short_help="Did it help? Corners before and after.")
@click.argument("path", required=False, metavar="[READINGS.csv]")
@number(
    "--before",
    "bulge",
    "A corner's bulge before; once for each corner.",
    reading=True,
    multiple=True,
)
@number("--after", "bulge", "A corner's bulge after.", reading=True, multiple=True)
@click.option("--seam", metavar="CORNER", help="The corner with the seam, of a file: left out.")
@number("--resolution", "fine length", "What the caliper reads to.  [from the digits]")
@answering(dialect=False, tool=True)
def check(
    how: Leaving,
    path: str | None,
    before_mm: tuple[Any, ...],
    after_mm: tuple[Any, ...],
    seam: str | None,
    resolution_mm: float | None,
) -> Answer:
    """Judge whether a cube's corners are better than before, against the caliper's error.

    READINGS.csv holds print (before or after) and corner with bulge_mm, or with diagonal_mm across
    the cube, x_mm and y_mm.

    \b
    Example:
      omphalon advance check cube-corners.csv --seam rear-left
    """
    how.check(path)
    from omphalon.studies.advance.words import advance_check_answer

    readings = _corners(path, before_mm, after_mm)
    return advance_check_answer(readings, seam, resolution_mm)


def _corners(path: str | None, before: tuple[Any, ...], after: tuple[Any, ...]) -> Readings:
    from omphalon.readers.readings import option_readings, read_readings
    from omphalon.recordings.recording import Readings

    if path is not None and (before or after):
        raise UsageError("readings in a file and in options", "give one of the two")
    if path is not None:
        return read_readings(path, CORNERS)
    words = [
        option_readings({"bulge_mm": numbers}, CORNERS, {"print": name})
        for name, numbers in (("before", before), ("after", after))
    ]
    return Readings("the options", tuple(row for one in words for row in one.rows))
