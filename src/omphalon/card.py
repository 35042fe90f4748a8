"""A test card in its picture: arrays go in, nothing is printed, or read from disk."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from omphalon.answers.remarks import Refusal
from omphalon.base.arrays import Array
from omphalon.base.errors import UsageError
from omphalon.lines.dialect import load_dialect
from omphalon.physics.swing import Swings
from omphalon.prints.card import Card, card_in
from omphalon.recordings.recording import GreyPicture, Readings
from omphalon.report.result import Result
from omphalon.studies.advance.question import AdvanceQuestion
from omphalon.studies.card.modes import swings_of
from omphalon.studies.card.scale import Scale, fit_scale
from omphalon.studies.card.sight import CardSight, look
from omphalon.studies.card.words import CardQuestion, card_answer
from omphalon.studies.shaper.question import ShaperQuestion

__all__ = [
    "Card",
    "CardSight",
    "Refusal",
    "Result",
    "Scale",
    "Swings",
    "card_of",
    "fit",
    "look_at",
    "modes",
    "scale",
    "widths",
]


def card_of(plan: Mapping[str, Any]) -> Card:
    """The card of a plan: the JSON object in the header of its print."""
    return card_in(plan, "plan")


def fit(
    pictures: Sequence[Array],
    card: Card,
    *,
    length_mm: float | None = None,
    steps: Mapping[str, float] | None = None,
    build: str = "",
    advance: AdvanceQuestion | None = None,
) -> Result:
    """What one print says, as `card fit` answers: its `parts` are advance, shaper and axes.

    Parameters
    ----------
    pictures : one, or two scans with the plate turned by a quarter; see `look_at`
    card : that was printed
    length_mm : of the frame along X over its outer edges, by caliper
    steps : per mm in force, by axis
    build : what moves, by which motors
    advance : the present value, the drive
    """
    question = CardQuestion(
        length_mm=length_mm,
        steps=steps or {},
        build=build,
        advance=advance or AdvanceQuestion(),
        shaper=lambda read: ShaperQuestion(logs={}, read=read),
    )
    shown = [_picture(grey) for grey in pictures]
    return Result(card_answer("card-fit", shown, [card], "plan", question, load_dialect(None)))


def look_at(grey: Array, card: Card) -> CardSight:
    """Find a card in a picture, and follow its lines.

    Parameters
    ----------
    grey : levels from 0 to 255 (rows, columns), the first row at the top
    card : that was printed

    Raises
    ------
    Refusal
        Where the picture does not show what is needed.
    """
    return look(_picture(grey), [card], "plan")


def _picture(grey: Array) -> GreyPicture:
    if np.ndim(grey) != 2:
        raise UsageError(f"a picture of {np.ndim(grey)} dimensions", "give one grey level a pixel")
    levels = np.asarray(np.clip(np.rint(grey), 0, 255), dtype=np.uint8)
    return GreyPicture(source="picture", grey=levels, channel="grey")


def modes(sight: CardSight) -> dict[str, Swings]:
    """The modes of X and Y that its combs show: `modes` of each with intervals, and up to which
    frequency one would have been seen.

    Raises
    ------
    Refusal
        Where too few lines can be read.
    """
    return swings_of(sight)


def widths(sight: CardSight) -> Readings:
    """What its lines for pressure advance say, as readings."""
    return sight.readings


def scale(one: CardSight, two: CardSight) -> Scale:
    """X against Y and the angle between them, from two scans with the plate turned by a quarter.

    Raises
    ------
    Refusal
        Where they are no such scans.
    """
    return fit_scale([one, two], None, {})
