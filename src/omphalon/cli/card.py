"""omphalon card plan | fit | check."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.base.files import put_lines
from omphalon.cli.advance_common import DRIVES, LineOptions, SpanOptions, line_given, next_out
from omphalon.cli.common import Answer, Leaving, answering
from omphalon.cli.groups import Verbs
from omphalon.cli.known import build, fact, held, in_force, print_in_bench, steps_across
from omphalon.cli.numbers import Measure, Numbers
from omphalon.cli.options import OWN, argument, nested, number, one_of, text, typed
from omphalon.cli.printing import PrintOptions, job_of, print_lines
from omphalon.cli.shaper_common import InUseOptions, LimitOptions, Names, OfferedOptions
from omphalon.tables.constants import BUILDS

if TYPE_CHECKING:
    from omphalon.prints.card import Card
    from omphalon.studies.card.words import CardQuestion
    from omphalon.studies.shaper.modes import AxisReading


@click.group(cls=Verbs)
def card() -> None:
    """Advance, shaper and X against Y, from pictures of one printed card."""


@dataclass(frozen=True, kw_only=True)
class CardPlanOptions:
    """Options of `card plan`."""

    parts: tuple[str, ...] = typed(
        "--parts", Names(), "What is on it.", default="advance,combs,frame", metavar="PARTS"
    )
    span: SpanOptions = nested(SpanOptions)
    shake_mm_s2: float = number(
        "--shake", "acceleration", "Acceleration of the combs.", default=3500.0
    )
    present: InUseOptions = nested(InUseOptions)
    out: str = text(
        "--out",
        "Where to write the print (G-code).",
        required=True,
        section=OWN,
        bench=lambda state, given: print_in_bench(state, "card"),
    )
    print: PrintOptions = nested(PrintOptions)


@card.command("plan", short_help="Writes the test card as G-code.")
@answering(CardPlanOptions, tool=True)
def plan(how: Leaving, options: CardPlanOptions) -> Answer:
    """Write a test card: one layer that a scan or a photo is read from.

    On it: lines for pressure advance, combs that ring behind a sharp corner, and a frame. Shapers
    are off for the combs where the dialect has a line for it, and put back at the end.

    \b
    Example:
      omphalon card plan --dialect stand-in --out card.gcode
    """
    how.check(out=options.out)
    from omphalon.prints.card import PARTS
    from omphalon.studies.card.plan import CARD_SPEEDS, CardAsked, plan_card

    unknown = [word for word in options.parts if word not in PARTS]
    if unknown:
        raise UsageError(
            f"--parts {echoed(','.join(options.parts))}: no part '{echoed(unknown[0])}'",
            "choose from " + ",".join(PARTS),
        )
    span = options.span
    job = job_of(options.print, span.print_defaults(), how.tool, most_speeds=CARD_SPEEDS)
    asked = CardAsked(
        parts=tuple(part for part in PARTS if part in options.parts),
        start_s=span.start_s,
        stop_s=span.highest_s,
        drive=span.drive,
        present_s=span.present_s,
        shake_mm_s2=options.shake_mm_s2,
        shapers=options.present.by_axis(),
    )
    chosen = print_lines(how, options.print).with_line("advance", span.line_template)
    found, printed = plan_card(asked, job, chosen)
    put_lines(options.out, printed.lines(), ";")
    return found


@dataclass(frozen=True, kw_only=True)
class CardOptions(LineOptions):
    """Options of `card fit` and `check`."""

    picture: str = argument("PICTURE", required=True)
    second: str | None = argument("[SECOND]")
    printed: str | None = text(
        "--print", "The card's G-code, as `card plan` wrote it.  [the bench's, by the card's strip]"
    )
    length_mm: float | None = number(
        "--length", "size", "The frame along X, over its outer edges, by caliper."
    )
    steps: tuple[float, float] | None = typed(
        "--steps",
        Numbers("X:Y", Measure("steps"), "80:80"),
        "Present steps per mm of X and Y.",
        bench=steps_across,
    )
    build: str | None = one_of("--build", BUILDS, "What moves, by which motors.", bench=build)
    drive: str | None = one_of(
        "--drive",
        DRIVES,
        "Where the extruder sits.  [from the print]",
        bench=fact("extruder.drive"),
    )
    present_s: float | None = number(
        "--advance", "advance", "Present pressure advance.", bench=in_force("advance", "advance")
    )
    present: InUseOptions = nested(InUseOptions)
    choice: OfferedOptions = nested(OfferedOptions)
    limit: LimitOptions = nested(LimitOptions)


@card.command("fit", short_help="Settings from pictures of the card.")
@answering(CardOptions, tool=True)
def fit(how: Leaving, options: CardOptions) -> Answer:
    """Turn one or two pictures of a printed test card into settings.

    PICTURE is a scan, or a photo from straight above; SECOND another scan, the plate turned by a
    quarter, which takes the scanner's own error out of X against Y.

    \b
    Example:
      omphalon card fit card-1.jpg card-2.jpg --print card.gcode --length 144.5 --steps 80:80
    """
    return _answered(how, "card-fit", options)


@card.command("check", short_help="Judges the settings in force on a fresh card.")
@answering(CardOptions, tool=True)
def check(how: Leaving, options: CardOptions) -> Answer:
    """Judge the settings in force by a card that was printed with them.

    They are taken from the bench, or given with --advance, --present-x, --present-y and --steps.

    \b
    Example:
      omphalon card check card-1.jpg card-2.jpg --print card.gcode --length 144.5 --steps 80:80
    """
    return _answered(how, "card-check", options)


def _answered(how: Leaving, kind: str, options: CardOptions) -> Answer:
    how.check(options.picture, options.second, options.printed)
    from omphalon.readers.picture import read_picture
    from omphalon.studies.card.words import card_answer

    cards = cards_of(options.printed)
    paths = (options.picture, options.second)
    pictures = [read_picture(path) for path in paths if path is not None]
    dialect = how.lines().with_line("advance", options.line_template)
    return card_answer(kind, pictures, cards, options.printed, _question(how, options), dialect)


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


def _question(how: Leaving, options: CardOptions) -> CardQuestion:
    from omphalon.studies.advance.question import AdvanceQuestion
    from omphalon.studies.card.words import CardQuestion
    from omphalon.studies.shaper.question import ShaperQuestion

    def shaper(read: Mapping[str, AxisReading]) -> ShaperQuestion:
        return ShaperQuestion(
            logs={},
            read=read,
            offered=options.choice.offered,
            limits=options.limit.limits(),
            present=options.present.by_axis(),
        )

    advance = AdvanceQuestion(
        drive=options.drive,
        present_s=options.present_s,
        line_given=line_given(how, options.line_template),
        next_out=next_out(),
    )
    return CardQuestion(
        length_mm=options.length_mm,
        steps={} if options.steps is None else dict(zip("xy", options.steps, strict=True)),
        build=options.build or "",
        advance=advance,
        shaper=shaper,
    )
