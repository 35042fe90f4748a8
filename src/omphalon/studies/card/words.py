"""A test card's answers in words: each question has its own, and the card one of all."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from omphalon import __version__
from omphalon.answers.commands import command, prose
from omphalon.answers.finding import Finding, Shown, answer
from omphalon.answers.remarks import Refusal, Remark
from omphalon.lines.dialect import Dialect
from omphalon.lines.template import Entered, block, lines_in
from omphalon.physics.swing import Swings
from omphalon.prints.card import Card
from omphalon.recordings.recording import GreyPicture
from omphalon.studies.advance.question import AdvanceQuestion
from omphalon.studies.advance.words import advance_answer
from omphalon.studies.card.modes import readings_of, swings_of
from omphalon.studies.card.rungs import noise_mm
from omphalon.studies.card.scale import Scale, fit_scale
from omphalon.studies.card.sight import CardSight, look
from omphalon.studies.shaper.modes import AxisReading
from omphalon.studies.shaper.question import ShaperQuestion
from omphalon.studies.shaper.words import shaper_answer
from omphalon.tables.units import digits


@dataclass(frozen=True, kw_only=True)
class CardQuestion:
    """What is known besides the pictures: the caliper's length of the frame, the settings in force,
    what moves by which motors, the questions that the studies of each part ask.
    """

    length_mm: float | None = None
    steps: Mapping[str, float]
    build: str = ""
    advance: AdvanceQuestion
    shaper: Callable[[Mapping[str, AxisReading]], ShaperQuestion]


@dataclass(frozen=True, kw_only=True)
class CardRead:
    """What is drawn of a card: how it was seen, the modes' swing by axis, the answers."""

    sight: CardSight
    swings: Mapping[str, Swings]
    parts: tuple[Finding, ...]


def card_answer(
    kind: str,
    pictures: Sequence[GreyPicture],
    cards: Sequence[Card],
    file: str | None,
    question: CardQuestion,
    dialect: Dialect,
) -> Finding:
    """What one print says, in words.

    `kind`: card-fit, or card-check: whether the settings in force are right. `pictures`: one, or
    two scans a quarter turn apart. `cards`: that they may show.
    """

    def find() -> Finding:
        sights = [look(picture, cards, file) for picture in pictures]
        if len({s.card.number for s in sights}) > 1:
            raise Refusal("two-prints")
        return replace(_finding(sights, question, dialect), kind=kind)

    return answer(kind, (), find)


def ladder_answer(
    picture: GreyPicture,
    card: Card,
    file: str,
    question: AdvanceQuestion,
    dialect: Dialect,
    seen: Callable[[CardSight], None],
) -> Finding:
    """The pressure advance off the picture of a ladder, or of a card that has its lines, in words.

    `seen`: is handed what was read in the picture.
    """

    def find() -> Finding:
        sight = look(picture, [card], file)
        if not sight.rungs:
            raise Refusal("no-rungs", file=file)
        found = _advance(sight, question, dialect)
        seen(sight)
        left_out = {f"{n}": r.why for n, r in enumerate(sight.rungs, 1) if r.why is not None}
        lines = f"{len(sight.rungs) - len(left_out)} of {len(sight.rungs)} lines"
        picked = {
            "um_a_pixel": sight.um_a_pixel,
            "slant_deg": sight.slant_deg,
            "mirrored": sight.pose.mirrored,
            "channel": picture.channel,
            "lines": len(sight.rungs),
            "left_out": left_out,
            "edge_blur_mm": sight.blur_mm,
            "width_deviation_mm": noise_mm(sight.rungs),
        }
        return replace(
            found,
            evidence={**found.evidence, "picture": picked},
            warnings=(*found.warnings, *sight.notes),
            table=(*found.table, Shown("read", (lines,)), *_table([sight], {})),
            picture=found.picture and (found.picture[0], sight),
        )

    return answer("advance-fit", (), find)


def _finding(sights: Sequence[CardSight], question: CardQuestion, dialect: Dialect) -> Finding:
    first = sights[0]
    swings: dict[str, Swings] = {}
    parts: list[Finding] = []
    if first.rungs:
        parts.append(_advance(first, question.advance, dialect))
    if first.combs:
        parts.append(_shaper(first, question, dialect, swings))
    if "frame" in first.card.parts:
        parts.append(_scale(sights, question, dialect))
    verdicts = [p.verdict for p in parts]
    worst = next((v for v in ("retest", "change") if v in verdicts), "keep")
    lines = dict.fromkeys(line for p in parts for line in lines_in(p.lines))
    ends = [line for n in ("store", "list") if (line := Entered(dialect.line(n) or "")) in lines]
    entered = block([*(line for line in lines if line not in ends), *ends])
    return Finding(
        kind="card-fit",
        verdict=worst,
        because="; ".join(f"{_name(p)}: {p.verdict}" for p in parts),
        evidence={
            "number": first.card.number,
            "answers": {_name(p): p.document(__version__) for p in parts},
            "tilt_mm": list(first.tilt_mm),
            "um_a_pixel": first.um_a_pixel,
            "seen_to_hz": {axis: one.seen_to_hz for axis, one in swings.items()},
        },
        warnings=tuple(note for s in sights for note in s.notes),
        lines=entered,
        table=_table(sights, swings),
        next=prose(
            "after the lines are entered, print and picture the card once more:",
            command("card check", "PICTURE"),
        ),
        picture=CardRead(sight=first, swings=swings, parts=tuple(parts)),
        parts=tuple(parts),
    )


def _name(part: Finding) -> str:
    return part.kind.removesuffix("-fit")


def _table(sights: Sequence[CardSight], swings: Mapping[str, Swings]) -> tuple[Shown, ...]:
    one = sights[0]
    low = min(one.tilt_mm)
    corners = ("front left", "front right", "rear right", "rear left")
    heights = ", ".join(
        f"{name} {t - low:.2f}" for name, t in zip(corners, one.tilt_mm, strict=True)
    )
    how = "scan" if one.scanned else f"photo, {one.slant_deg:.0f}° off square"
    if one.pose.mirrored:
        how += ", mirrored"
    rows = [
        Shown("picture", (f"{how}, {one.um_a_pixel:.0f} µm a pixel, card {one.card.number}",)),
        Shown("nozzle above bed", (f"{heights} mm, by the frame's width",)),
    ]
    if swings:
        seen = ", ".join(f"{axis.upper()} {s.seen_to_hz:.0f} Hz" for axis, s in swings.items())
        rows.append(Shown("modes seen up to", (f"{seen}, where they hold a fifth of the motion",)))
    return tuple(rows)


def _advance(sight: CardSight, question: AdvanceQuestion, dialect: Dialect) -> Finding:
    """Pressure advance by the widths behind changes of speed."""
    drive = question.drive or sight.card.drive
    asked = replace(question, drive=drive, read_mm=noise_mm(sight.rungs))
    try:
        return advance_answer(sight.readings, asked, dialect)
    except Refusal as refusal:
        return _without("advance-fit", refusal)


def _shaper(
    sight: CardSight, question: CardQuestion, dialect: Dialect, swings: dict[str, Swings]
) -> Finding:
    """Shapers from the modes that the combs show."""
    try:
        swings |= swings_of(sight)
        readings = readings_of(sight, swings)
    except Refusal as refusal:
        return _without("shaper-fit", refusal)
    found = shaper_answer(question.shaper(readings), dialect)
    unseen = [Remark("axis-unseen", axis=axis) for axis in swings if axis not in readings]
    return replace(found, warnings=(*found.warnings, *unseen))


def _without(kind: str, refusal: Refusal) -> Finding:
    def find() -> Finding:
        raise refusal

    return answer(kind, (), find)


def _scale(sights: Sequence[CardSight], question: CardQuestion, dialect: Dialect) -> Finding:
    """X against Y and squareness."""

    def find() -> Finding:
        if question.build == "delta":
            raise Refusal("towers")
        crossed = question.build == "crossed-belts"
        scale = fit_scale(sights, question.length_mm, question.steps, crossed)
        if not scale.keeps and not scale.settings:
            code = "no-length" if scale.length is None else "no-steps"
            raise Refusal(code, scale.remarks, share=scale.ratio - 1, half=scale.ratio_half)
        return _scale_finding(scale, dialect)

    return answer("axis-fit", (), find)


def _scale_finding(scale: Scale, dialect: Dialect) -> Finding:
    because = (
        f"X measures {scale.ratio - 1:+.2%} ± {scale.ratio_half:.2%} against Y, and the angle "
        f"between them {scale.square_deg:+.3f} ± {scale.square_half_deg:.3f}° off a right one"
    )
    if scale.length is not None:
        because += f"; X itself {scale.length - 1:+.2%} ± {scale.length_half:.2%} by the caliper"
    settings = () if scale.keeps else scale.settings
    wanted: list[tuple[str, str, dict[str, object], dict[str, float]]] = [
        (
            "steps",
            f"steps {s.of.upper()} {digits(float(s.value), s.half_width)}",
            {"axis": s.of.upper(), "steps": s.value},
            {"steps": s.half_width or 0.0},
        )
        for s in settings
    ]
    return Finding(
        kind="axis-fit",
        verdict="keep" if scale.keeps else "change",
        because=because,
        settings=settings,
        evidence={
            "ratio_xy": scale.ratio,
            "ratio_half": scale.ratio_half,
            "squareness_deg": scale.square_deg,
            "squareness_half_deg": scale.square_half_deg,
            **{s.of: {"ratio": scale.steps[s.of] / float(s.value)} for s in settings},
        },
        warnings=scale.remarks,
        lines=dialect.entering(*wanted) if wanted else (),
        headline=_scale_headline(scale, settings),
        next=prose(
            "print the card again after the change, and turn it by a quarter for a second scan"
        ),
    )


def _scale_headline(scale: Scale, settings: Sequence[Any]) -> tuple[Shown, ...]:
    if not settings:
        return ()
    rows = [Shown("steps per mm", ("present", "new", "", ""))]
    for s in settings:
        half = f"± {digits(s.half_width, least=2)}"
        present, new = f"{scale.steps[s.of]:g}", digits(float(s.value), s.half_width)
        rows.append(Shown(s.of.upper(), (present, new, half, "steps/mm")))
    return tuple(rows)
