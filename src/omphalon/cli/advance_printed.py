"""What a print of ours tells `advance fit`: its values, or what a picture of it shows."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import TYPE_CHECKING

from omphalon.base.errors import UsageError, echoed
from omphalon.base.files import put_lines
from omphalon.base.shapes import fits
from omphalon.cli.advance_common import DRIVES
from omphalon.cli.common import Answer

if TYPE_CHECKING:
    from omphalon.cli.advance import AdvanceFitOptions
    from omphalon.lines.dialect import Dialect
    from omphalon.studies.advance.question import AdvanceQuestion
    from omphalon.studies.card.sight import CardSight


def as_printed(
    options: AdvanceFitOptions, question: AdvanceQuestion, printed: str
) -> AdvanceQuestion:
    """The question with what the print knows of itself: its values, the drive."""
    from omphalon.prints.card import card_in
    from omphalon.readers.text import read_plan
    from omphalon.studies.advance.silhouette import PLAN

    given = (options.start_s, options.per_mm, options.stop_s, options.step_s)
    if any(value is not None for value in given):
        raise UsageError("--print and --from, --per-mm, --to or --step", "the print knows them")
    plan = read_plan(printed)
    if plan["print"] == "tower":
        if not fits(plan, PLAN):
            raise UsageError(f"{echoed(printed)}: its plan was changed by hand", "plan it again")
        by_value = "step_s" if options.advance_s or options.clean_s else "per_mm"
        values = {"start_s": plan["start"], "stop_s": plan["stop"], by_value: plan["per_mm"]}
    elif options.height_mm or options.clean_height_mm:
        raise UsageError(f"heights, and {echoed(printed)} is no tower", "give --value or --clean")
    else:
        lines = sorted(set(card_in(plan, printed).values_s))
        steps = [b - a for a, b in zip(lines, lines[1:], strict=False)]
        values = {"start_s": lines[0], "stop_s": lines[-1], "step_s": min(steps)}
    return replace(question, drive=question.drive or plan["drive"], **values)


def fit_picture(options: AdvanceFitOptions, question: AdvanceQuestion, dialect: Dialect) -> Answer:
    """The answer from a picture of a ladder, or of a tower."""
    from omphalon.readers.picture import cut_around, read_picture
    from omphalon.readers.text import read_plan

    printed = options.printed
    if printed is None:
        raise UsageError(
            "a picture without what was printed",
            "give --print FILE, the G-code that `omphalon advance plan --style ladder` wrote",
        )
    plan = read_plan(printed)
    picture = read_picture(str(options.path))
    if question.drive is None and plan.get("drive") in DRIVES:
        question = replace(question, drive=plan["drive"])
    if options.print_at is not None:
        x, y = options.print_at
        picture = cut_around(picture, round(x), round(y))

    def keep(rows: Iterable[str]) -> None:
        if options.readings is not None:
            put_lines(options.readings, rows)

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
    if card.once:
        raise UsageError(
            f"{echoed(printed)}: a ladder for eyes, each value once; a picture takes one with "
            "each twice",
            "give --value of the line that looks best, or --clean FROM:TO; or plan it --for scan",
        )

    def seen(sight: CardSight) -> None:
        keep(widths_csv(sight.readings, sight.rungs))

    return ladder_answer(picture, card, printed, question, dialect, seen)
