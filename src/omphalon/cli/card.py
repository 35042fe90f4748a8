"""omphalon card plan | fit | check."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.base.files import put_lines
from omphalon.cli.advance import DRIVE, LINE, line_words, spanned
from omphalon.cli.common import (
    Answer,
    Leaving,
    Measure,
    answering,
    choice,
    filled,
    number,
    numbers_of,
    options,
)
from omphalon.cli.groups import Verbs
from omphalon.cli.known import held
from omphalon.cli.printing import job_of, print_lines, printing
from omphalon.cli.shaper_common import IN_USE, OFFERED, limits, limits_of, names_of, shapers_in_use
from omphalon.tables.constants import BUILDS

if TYPE_CHECKING:
    from omphalon.prints.card import Card
    from omphalon.studies.card.words import CardQuestion
    from omphalon.studies.shaper.modes import AxisReading


@click.group(cls=Verbs)
def card() -> None:
    """Advance, shaper and X against Y, from pictures of one printed card."""


@card.command("plan", short_help="Writes the test card as G-code.")
@click.option(
    "--parts",
    default="advance,combs,frame",
    show_default=True,
    metavar="PARTS",
    help="What is on it.",
)
@spanned
@number("--shake", "acceleration", "Acceleration of the combs.", default=3500.0)
@IN_USE
@click.option("--out", required=True, metavar="FILE", help="Where to write the print (G-code).")
@printing
@answering(tool=True)
def plan(how: Leaving, parts: str, out: str, **given: Any) -> Answer:
    """Write a test card: one layer that a scan or a photo is read from.

    On it: lines for pressure advance, combs that ring behind a sharp corner, and a frame. Shapers
    are off for the combs where the dialect has a line for it, and put back at the end.

    \b
    Example:
      omphalon card plan --dialect stand-in --out card.gcode
    """
    how.check(out=out)
    from omphalon.prints.card import PARTS
    from omphalon.studies.advance.drives import DRIVES
    from omphalon.studies.card.plan import CardAsked, plan_card

    wanted = [word.strip() for word in parts.split(",")]
    unknown = [word for word in wanted if word not in PARTS]
    if unknown:
        raise UsageError(
            f"--parts {echoed(parts)}: no part '{echoed(unknown[0])}'",
            "choose from " + ",".join(PARTS),
        )
    usual = DRIVES[given["drive"]]
    job = job_of(given, usual.fast_mm_s, usual.acceleration_mm_s2, usual.retract_mm)
    asked = filled(
        CardAsked,
        given,
        parts=tuple(part for part in PARTS if part in wanted),
        stop_s=usual.to_s if given["stop_s"] is None else given["stop_s"],
        shapers=shapers_in_use(given),
    )
    chosen = print_lines(how, given).with_line("advance", given["line_template"])
    found, printed = plan_card(asked, job, chosen)
    put_lines(out, printed.lines(), ";")
    return found


reading = options(
    click.argument("picture"),
    click.argument("second", required=False),
    click.option(
        "--print",
        "printed",
        metavar="FILE",
        help="The card's G-code, as `card plan` wrote it.  [the bench's, by the card's strip]",
    ),
    number("--length", "size", "The frame along X, over its outer edges, by caliper."),
    click.option("--steps", metavar="X:Y", help="Present steps per mm of X and Y."),
    click.option("--build", type=choice(*BUILDS), help="What moves, by which motors."),
    click.option("--drive", type=DRIVE, help="Where the extruder sits.  [from the print]"),
    number("--advance", "advance", "Present pressure advance.", name="present_s"),
    IN_USE,
    OFFERED,
    limits,
    LINE,
)


@card.command("fit", short_help="Settings from pictures of the card.")
@reading
@answering(tool=True)
def fit(
    how: Leaving, picture: str, second: str | None, printed: str | None, **given: Any
) -> Answer:
    """Turn one or two pictures of a printed test card into settings.

    PICTURE is a scan, or a photo from straight above; SECOND another scan, the plate turned by a
    quarter, which takes the scanner's own error out of X against Y.

    \b
    Example:
      omphalon card fit card-1.jpg card-2.jpg --print card.gcode --length 144.5 --steps 80:80
    """
    return _answered(how, "card-fit", (picture, second), printed, given)


@card.command("check", short_help="Judges the settings in force on a fresh card.")
@reading
@answering(tool=True)
def check(
    how: Leaving, picture: str, second: str | None, printed: str | None, **given: Any
) -> Answer:
    """Judge the settings in force by a card that was printed with them.

    They are taken from the bench, or given with --advance, --present-x, --present-y and --steps.

    \b
    Example:
      omphalon card check card-1.jpg card-2.jpg --print card.gcode --length 144.5 --steps 80:80
    """
    return _answered(how, "card-check", (picture, second), printed, given)


def _answered(
    how: Leaving,
    kind: str,
    paths: tuple[str, str | None],
    printed: str | None,
    given: dict[str, Any],
) -> Answer:
    how.check(*paths, printed)
    from omphalon.readers.picture import read_picture
    from omphalon.studies.card.words import card_answer

    cards = cards_of(printed)
    pictures = [read_picture(path) for path in paths if path is not None]
    dialect = how.lines().with_line("advance", given["line_template"])
    return card_answer(kind, pictures, cards, printed, _question(how, given), dialect)


def cards_of(printed: str | None) -> list[Card]:
    """The card that was named, or all that lie in the bench's folder of prints."""
    from omphalon.prints.card import card_in
    from omphalon.readers.text import read_plan

    if printed is not None:
        return [card_in(read_plan(printed), printed)]
    if (found := held()) is None:
        raise UsageError(
            "a picture without what was printed",
            "give --print FILE, the G-code that `omphalon card plan` wrote",
        )
    cards = []
    for path in sorted((found[0].place / "prints").glob("*.gcode")):
        try:
            cards.append(card_in(read_plan(str(path)), path.name))
        except UsageError:
            continue  # some other print
    if not cards:
        raise UsageError("no test card in the bench's prints/", "give --print FILE")
    return cards


def _question(how: Leaving, given: dict[str, Any]) -> CardQuestion:
    from omphalon.studies.advance.question import AdvanceQuestion
    from omphalon.studies.card.words import CardQuestion
    from omphalon.studies.shaper.question import ShaperQuestion

    def shaper(read: Mapping[str, AxisReading]) -> ShaperQuestion:
        return ShaperQuestion(
            logs={},
            read=read,
            offered=names_of(given["offered"]),
            limits=limits_of(given),
            present=shapers_in_use(given),
        )

    steps = {}
    if given["steps"] is not None:
        both = numbers_of(given["steps"], Measure("steps"), 2, "--steps", "80:80")
        steps = dict(zip("xy", both, strict=True))
    words = line_words(how, given["line_template"])
    advance = filled(AdvanceQuestion, given, line_words=words)
    return filled(CardQuestion, given, steps=steps, advance=advance, shaper=shaper)
