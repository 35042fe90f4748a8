"""The test card that a printer can print: its size, what is on it, and how to print and picture
it.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import TYPE_CHECKING

from omphalon.answers.commands import command, prose
from omphalon.answers.finding import Plan
from omphalon.base.errors import UsageError
from omphalon.lines.dialect import Dialect
from omphalon.prints.card import INNER_MM, LEAST_ROW_MM, LEG_MM, Card, group_mm
from omphalon.prints.job import Bed, Job
from omphalon.prints.strokes import survey
from omphalon.studies.printed import TestPrint, clock, print_steps

if TYPE_CHECKING:
    from omphalon.studies.shaper.question import ShaperInUse

MOST_MM, LEAST_MM, BOTH_MM = 170.0, 100.0, 168.0  # a card; and one with combs and rungs
VALUES, VALUES_OF_TWO = 11, 5  # of pressure advance on a card; at each of two fast speeds
CARD_SPEEDS = 2  # fast ones, at the most
LEAST_FASTER = 1.5  # one speed of the lines over the next slower one
COMB_SPEEDS, COMB_MM_S2 = (60.0, 100.0, 140.0), 3500.0  # of three speeds lags and modes part
# slow and fast, at the least; of a ladder, which has room for more changes of speed
LADDER = {"direct": (13.0, 30.0), "bowden": (22.0, 60.0)}
LEAST_SLOW = 0.6  # of a slow stretch must be left on a small bed
STRETCHES = {"direct": (16.0, 32.0), "bowden": (22.0, 60.0)}  # slow and fast, at the least
READ = (
    "Let it cool, leave it on the plate, and scan the plate with 600 dots per inch or more, grey, "
    "without sharpening; then turn the plate by a quarter and scan again: of two scans the "
    "scanner's own error can be told. Or take a photo from straight above, in side light, the card "
    "filling the picture.",
)


@dataclass(frozen=True, kw_only=True)
class CardAsked:
    """What was asked for: parts, range of pressure advance (s), drive, what is in force, and how
    the combs are laid.
    """

    parts: tuple[str, ...]
    start_s: float
    stop_s: float
    drive: str
    present_s: float | None = None
    shake_mm_s2: float
    shapers: Mapping[str, ShaperInUse]


def size_on(bed: Bed) -> float:
    """The largest card that a bed holds, in mm."""
    if bed.round:
        free = (bed.x_mm - 2 * bed.margin_mm) / math.sqrt(2)
    else:
        free = min(bed.x_mm, bed.y_mm) - 2 * bed.margin_mm
    return min(math.floor(free) - 1.0, MOST_MM)


def plan_card(asked: CardAsked, job: Job, dialect: Dialect) -> tuple[Plan, TestPrint]:
    """The card, and how to print and picture it.

    Raises UsageError if the bed is too small, or the dialect lacks a line that the card needs.
    """
    job.check()
    if asked.stop_s <= asked.start_s:
        raise UsageError(
            f"--from {asked.start_s:g} --to {asked.stop_s:g}: the range is upside down",
            "give the lower value with --from",
        )
    count = VALUES_OF_TWO if job.faster_mm_s else VALUES
    step = (asked.stop_s - asked.start_s) / (count - 1)
    values = tuple(round(asked.start_s + n * step, 6) for n in range(count))
    stretches = STRETCHES[asked.drive]
    if job.faster_mm_s:
        check_speeds(job, stretches[1])
    card = _card(asked.parts, values, stretches, asked.drive, job, asked.shake_mm_s2)
    _check_legs(card)
    before, ends = _lines(asked, card, dialect)
    whole = survey(job, card.strokes(job, before))
    words = f"{card.size_mm:.0f} mm square, with {', '.join(asked.parts)}; its strip: {card.number}"
    printed = TestPrint(
        title="Test card",
        job=job,
        strokes=lambda: card.strokes(job, before),
        labels=card.labels(job),
        head=(
            f"test card: {words}",
            f"for a {job.bed.words}; {asked.drive} drive; nozzle {job.nozzle_mm:g}, line "
            f"{job.width_mm:g} x {job.layer_mm:g} mm; {job.temp_c:g} °C, bed {job.bed_temp_c:g} °C",
            f"about {clock(whole.time_s)} and {whole.filament_mm / 1000:.2f} m of filament",
            *READ,
        ),
        set_line=_setter(dialect, card),
        acceleration_line=dialect.line("acceleration", acceleration=job.acceleration_mm_s2),
        last_line="\n".join(ends) or None,
        whole=whole,
        plan=card.plan,
    )
    by_hand = "combs" in card.parts and not dialect.has_code("shaper-off")
    return _plan_of(asked, card, printed, words, by_hand), printed


def check_speeds(job: Job, stretch_mm: float, what: str = "the fast stretch") -> None:
    """The fast speeds must be reached within their stretch, and far enough apart to show anything.

    Raises UsageError.
    """
    speeds = (job.slow_mm_s, *job.fast_speeds_mm_s)
    if any(b < LEAST_FASTER * a for a, b in pairwise(speeds)):
        words = ":".join(f"{speed:g}" for speed in speeds[1:])
        raise UsageError(
            f"--fast {words}, --slow {job.slow_mm_s:g}: too alike to see the change",
            "let each be half as fast again as the one before, or more"
            if job.faster_mm_s
            else "let fast be twice as fast",
        )
    check_reached(job, stretch_mm, what)


def check_reached(job: Job, length_mm: float, what: str) -> None:
    """The fastest speed must be reached within a length, and come down again.

    Raises UsageError.
    """
    fastest = job.fast_speeds_mm_s[-1]
    if fastest**2 / job.acceleration_mm_s2 > length_mm:
        raise UsageError(
            f"--fast {fastest:g} is never reached within {what} at "
            f"{job.acceleration_mm_s2:g} mm/s²",
            f"choose {0.9 * (length_mm * job.acceleration_mm_s2) ** 0.5:.0f} mm/s, or more "
            "acceleration",
        )


def most_values(job: Job, once: bool = False) -> int:
    """How many values a ladder on this bed can have, each once or twice at each fast speed."""
    rows = int((size_on(job.bed) - 2 * INNER_MM) / LEAST_ROW_MM + 1)
    return rows // ((1 if once else 2) * len(job.fast_speeds_mm_s))


def ladder(values_s: tuple[float, ...], drive: str, job: Job, once: bool = False) -> Card:
    """A card of lines for pressure advance alone; for eyes each value `once`.

    Raises UsageError if the bed does not hold so many values, or a line.
    """
    card = _card(("advance",), values_s, LADDER[drive], drive, job, COMB_MM_S2)
    card = replace(card, once=once)
    if card.row_mm < LEAST_ROW_MM:
        most = most_values(job, once)
        span = values_s[-1] - values_s[0]
        speeds = len(job.fast_speeds_mm_s)
        twice = "" if once else ", each twice," if speeds == 1 else f", each {2 * speeds} times,"
        raise UsageError(
            f"{len(values_s)} values{twice} do not fit a {job.bed.words}",
            f"give a larger --step: {span / (most - 1):.2g} makes {most}",
        )
    slow = card.rungs[0].stretches_mm[0]
    if slow < LEAST_SLOW * card.stretches_mm[0]:
        raise UsageError(
            f"a ladder's lines are longer than a {job.bed.words} has room for",
            "print a tower: --style tower",
        )
    return card


def _card(
    parts: tuple[str, ...],
    values_s: tuple[float, ...],
    stretches_mm: tuple[float, float],
    drive: str,
    job: Job,
    shake_mm_s2: float,
) -> Card:
    """The largest card that the bed holds."""
    size = size_on(job.bed)
    _refuse_small_bed(parts, size, job.bed)
    x, y = job.middle
    return Card(
        size_mm=size,
        origin_mm=(x - size / 2, y - size / 2),
        parts=parts,
        drive=drive,
        values_s=values_s,
        stretches_mm=stretches_mm,
        slow_mm_s=job.slow_mm_s,
        fast_mm_s=job.fast_mm_s,
        faster_mm_s=job.faster_mm_s,
        acceleration_mm_s2=job.acceleration_mm_s2,
        comb_speeds_mm_s=COMB_SPEEDS,
        comb_acceleration_mm_s2=shake_mm_s2,
        width_mm=job.width_mm,
        layer_mm=job.layer_mm,
        printer=job.printer,
    )


def _refuse_small_bed(parts: tuple[str, ...], size_mm: float, bed: Bed) -> None:
    """Refuse a bed that does not hold what is asked for."""
    least = BOTH_MM if {"advance", "combs"} <= set(parts) else LEAST_MM
    if "combs" in parts:
        least = max(least, 2 * INNER_MM + len(COMB_SPEEDS) * group_mm() * 2)
    if size_mm < least:
        alone = parts == ("advance",)
        smaller = "choose some of it: --parts advance,frame"
        if size_mm < LEAST_MM:
            smaller = "print a tower: --style tower" if alone else "no card fits it"
        what = "ladder" if alone else f"card with {', '.join(parts)}"
        raise UsageError(f"a {what} takes {least:.0f} mm, a {bed.words} has {size_mm:.0f}", smaller)


def _check_legs(card: Card) -> None:
    """A comb's leg must be long enough to come to its speed and to rest again."""
    need = max(card.comb_speeds_mm_s) ** 2 / card.comb_acceleration_mm_s2
    if "combs" in card.parts and need > LEG_MM:
        raise UsageError(
            f"--shake {card.comb_acceleration_mm_s2:g}: {max(card.comb_speeds_mm_s):g} mm/s are "
            f"not reached on {LEG_MM:g} mm",
            f"give {math.ceil(need / LEG_MM * card.comb_acceleration_mm_s2 / 100) * 100:g} or more",
        )


def _setter(dialect: Dialect, card: Card) -> Callable[[float], str]:
    """The function that writes the line for a value."""
    if "advance" in card.parts and not dialect.has_code("advance"):
        raise UsageError(
            "no line that sets pressure advance: controllers share no code for it",
            "give your controller's own with --line '… {advance:.4f} …', a dialect with --dialect "
            "FILE, or leave it out: --parts combs,frame",
        )
    return lambda value: dialect.line("advance", advance=round(value, 9)) or ""


def _lines(
    asked: CardAsked, card: Card, dialect: Dialect
) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """What is sent before the combs, and at the end."""
    shake = dialect.line("acceleration", acceleration=card.comb_acceleration_mm_s2)
    if shake is None and {"advance", "combs"} <= set(card.parts):
        raise UsageError(
            "no line that sets the acceleration: combs and lines for pressure advance want "
            "different ones",
            "give it with --acceleration-line '… {acceleration:.0f} …', or print one of the two: "
            "--parts combs,frame",
        )
    off = tuple(
        line for axis in "XY" if (line := dialect.line("shaper-off", axis=axis)) is not None
    )
    back = [
        dialect.line(
            "shaper",
            axis=axis.upper(),
            shaper=shaper.shaper,
            frequency=shaper.frequency_hz,
            damping=shaper.damping,
        )
        for axis, shaper in asked.shapers.items()
        if off
    ]
    usual = dialect.line("acceleration", acceleration=card.acceleration_mm_s2)
    present = (
        None
        if asked.present_s is None
        else dialect.line("advance", advance=round(asked.present_s, 9))
    )
    ends = tuple(line for line in (*back, usual, present) if line is not None)
    combs = () if "combs" not in card.parts else (*off, *([shake] if shake else []))
    return combs, ends


def _plan_of(asked: CardAsked, card: Card, printed: TestPrint, words: str, by_hand: bool) -> Plan:
    left_off = "combs" in card.parts and not by_hand and len(asked.shapers) < 2
    off = (
        "Switch the input shaper of X and Y off before you print it, and on again afterwards: the "
        "combs must ring, and the dialect has no line `shaper-off`."
    )
    return Plan(
        kind="card-plan",
        title=f"Test card: {words}",
        steps=(
            "Set steps, flow and the printing temperature first; clean the plate, and level it.",
            *((off,) if by_hand else ()),
            *print_steps(printed),
            *(("The file leaves the input shaper off: set it again behind.",) if left_off else ()),
            *READ,
            "If you can, measure the frame along X over its outer edges with a caliper: it makes "
            "the scale absolute (--length MM).",
        ),
        next=prose(command("card fit", "SCAN", "SECOND-SCAN", print="FILE", length="MM")),
        settings={
            "parts": list(card.parts),
            "size_mm": card.size_mm,
            "number": card.number,
            "from": asked.start_s,
            "to": asked.stop_s,
            "time_s": printed.whole.time_s,
            "filament_mm": printed.whole.filament_mm,
        },
        picture=printed,
    )
