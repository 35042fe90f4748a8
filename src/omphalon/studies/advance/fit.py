"""From what was read off a print to a pressure advance: the value, the verdict, the next print.

No sentences: `words` has them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from omphalon.answers.commands import Command, command
from omphalon.answers.finding import Verdict
from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.errors import UsageError
from omphalon.physics.lead import (
    END_READ,
    SHARES,
    SHARP_SHARES,
    VALUE_READ,
    Best,
    NoAnswer,
    Why,
    clean_range,
    crossing,
    peak,
    picked,
)
from omphalon.physics.scale import readings_needed
from omphalon.recordings.recording import Readings
from omphalon.studies.advance.drives import Drive
from omphalon.studies.advance.question import AdvanceQuestion, Readout, readout

HEIGHT_READ_MM = 1.0  # deviation of one look along a corner
BULGE_READ_MM = 0.02  # deviation of a bulge or a width under a caliper or a loupe
# of what an eye tells: what a print itself leaves open, read by hand, and from a picture (its
# widths after the ticks cross within that of the true value on the stand-in)
EYE_FLOOR, PICTURE_FLOOR = 0.5, 0.12
APART = 6.0  # deviations beyond which two readings contradict each other
SCATTERED = 2.2  # deviations of a look beyond which readers disagree
# where in a clean range the best value lies, and how far off it may be, as a share of the range;
# set on stand-in prints read by three kinds of eyes (benchmarks/eyes.py)
CLEAN_AT = {"direct": 0.5, "bowden": 1 / 3}
END = 0.02  # of the printed range: a best value so near its end lies beyond it
TOWER_STEPS, LINE_STEPS = 40, 16  # of the next print
NICE = (1.0, 2.0, 2.5, 5.0, 10.0)


@dataclass(frozen=True, kw_only=True)
class NextPrint:
    """A further print: its range and its step (per mm of height on a tower, else per line)."""

    style: str
    drive: str
    start_s: float
    stop_s: float
    step_s: float
    line_given: Mapping[str, str]
    out: str
    for_eye: bool = False

    @property
    def command(self) -> Command:
        """The command that writes it."""
        return command(
            "advance plan",
            style=self.style,
            drive=self.drive,
            from_=f"{self.start_s:.6g}",
            to=f"{self.stop_s:.6g}",
            step=f"{self.step_s:g}",
            out=self.out,
            for_="eye" if self.for_eye else None,
            **self.line_given,
        )

    def __str__(self) -> str:
        """As a table of sentences takes it."""
        return f"`{self.command}`"


@dataclass(frozen=True, kw_only=True)
class AdvanceFit:
    """The best value and how sure it is, by so many `rounds`; what is to be set, the next print
    (None: the search is over), and what was odd.
    """

    readout: Readout
    best: Best
    value_s: float
    half_width_s: float
    setting_s: float
    present_s: float | None
    refine: NextPrint | None
    verdict: Verdict
    remarks: tuple[Remark, ...]
    rounds: int = 1

    @property
    def left_out(self) -> list[str]:
        """Where the readings stand that take no part."""
        return [w for w, keep in zip(self.readout.where, self.best.keep, strict=True) if not keep]


def fit_advance(readings: Readings, question: AdvanceQuestion) -> AdvanceFit:
    """Find the pressure advance at which corners are best.

    `readings`: rows with height_mm, or advance_s with bulge_mm, score or both widths. Raises
    Refusal where they cannot carry a value, with the print that could; UsageError, BadReading if
    they are missing or cannot be.
    """
    if readings.any_has("round"):
        return _of_rounds(readings, question)
    read = readout(readings, question)
    return _advance_fit(read, _solved(read, question), question)


def _solved(read: Readout, question: AdvanceQuestion) -> Best:
    """The best value of one print."""
    try:
        return SOLVERS[read.method](read, question)
    except NoAnswer as none:
        raise _without_answer(none.why, read, question) from none


def _of_rounds(readings: Readings, question: AdvanceQuestion) -> AdvanceFit:
    """One answer from several prints, the last one the finest: each is read by its own scale of
    scores, and weighs by its own interval. One that has no answer leaves it to the others.
    """
    readings.refuse_gaps("round")
    if readings.has("height_mm"):
        raise UsageError("--round with heights", "give one tower at a time; or values, not heights")
    found: list[tuple[Readout, Best]] = []
    without: list[Refusal] = []
    for number in sorted({row.value("round") for row in readings.rows}):
        rows = tuple(row for row in readings.rows if row.value("round") == number)
        try:
            read = readout(replace(readings, rows=rows), question)
            found.append((read, _solved(read, question)))
        except Refusal as refusal:
            without.append(refusal)
    if not found:
        raise without[-1]
    read, best = found[-1]
    halves = np.array([one.half_width for _, one in found])
    values = np.array([one.value for _, one in found])
    value = float(np.average(values, weights=halves**-2.0))
    if np.any(np.abs(values - value) > 2 * halves):
        low, high = float(values.min()), float(values.max())
        raise Refusal("rounds-apart", read.remarks, low=low, high=high)
    half = float(1 / np.sqrt(np.sum(halves**-2.0)))
    fit = _advance_fit(read, replace(best, value=value, half_width=half), question)
    return replace(fit, rounds=len(found))


def _advance_fit(read: Readout, best: Best, question: AdvanceQuestion) -> AdvanceFit:
    value, present, drive = max(best.value, 0.0), question.present_s, read.drive
    sharp = question.read_mm is not None and read.method == "widths"
    floor = PICTURE_FLOOR if sharp else EYE_FLOOR
    half = math.hypot(best.half_width, floor * drive.eye_s, 2 * question.shared_mm / _slope(best))
    certain = present is not None and abs(present - value) <= half
    rough = present is None and not (read.clean or read.method == "values")  # eyes are rough
    if half > drive.matters_s and (certain or half > value or rough):
        raise Refusal(
            "wide-advance",
            read.remarks,
            half_width=half,
            matters=drive.matters_s,
            count=readings_needed(half, drive.matters_s, len(read.values_s)),
            print=next_print(read, question, max(value - 2 * half, 0.0), value + 2 * half),
        )
    return AdvanceFit(
        readout=read,
        best=best,
        value_s=value,
        half_width_s=half,
        setting_s=present if certain and present is not None else value,
        present_s=present,
        refine=None if _over(half, certain, drive) else _refined(read, question, value, half),
        verdict="keep" if certain else "change",
        remarks=(*read.remarks, *_remarks(read, best, question)),
    )


def _slope(best: Best) -> float:
    """How fast the fitted curve falls at the best value; infinite where none was fitted."""
    if best.curve is None:
        return math.inf
    values, of = np.unique(best.curve[0], return_inverse=True)  # a value may stand there twice
    if len(values) < 2:
        return math.inf
    heights = np.bincount(of, best.curve[1]) / np.bincount(of)
    return abs(float(np.interp(best.value, values, np.gradient(heights, values))))


def _by_eye(read: Readout, question: AdvanceQuestion) -> Best:
    """Heights or values chosen by looking: the eye's doubt, and where choices at one end leave the
    best value open.
    """
    eye = read.drive.eye_s
    look = VALUE_READ * min(read.step, 5 * eye)
    one = math.hypot(HEIGHT_READ_MM * read.step if read.of_heights else look, eye)
    if len(read.values_s) == 2 and abs(float(np.diff(read.values_s)[0])) > APART * one:
        raise Refusal("two-apart", read.remarks)
    # heights on a tower: it is known where they end
    best = picked(read.values_s, one, math.inf if read.of_heights else read.step, read.span)
    if read.of_heights and question.stop_s is not None:
        low, high = read.span
        room = END * (high - low)
        if best.value > high - room or (low > 0 and best.value < low + room):
            raise NoAnswer("above" if best.value > (low + high) / 2 else "below")
    return best


def _by_range(read: Readout, question: AdvanceQuestion) -> Best:
    """A range that looks clean: its middle, where neither fault is seen; behind a tube the lower
    third, since starved corners show later there than fat ones. Its ends are read to a look each.
    """
    low, high = (float(v) for v in read.values_s)
    eye = read.drive.eye_s
    look = HEIGHT_READ_MM if read.of_heights else END_READ
    one = math.hypot(look * min(read.step, 5 * eye), eye)
    return clean_range(low, high, CLEAN_AT[read.drive.name], one)


def _by_bulge(read: Readout, question: AdvanceQuestion) -> Best:
    one = question.read_mm or math.hypot(
        BULGE_READ_MM, (question.resolution_mm or 0.01) / math.sqrt(12)
    )
    known = one * math.sqrt(2) if read.method == "widths" else one
    shares = SHARES if question.read_mm is None else SHARP_SHARES
    return crossing(read.values_s, read.seen, known, shares)


def _by_score(read: Readout, question: AdvanceQuestion) -> Best:
    if np.ptp(read.seen) == 0:
        raise Refusal("scores-alike", read.remarks, score=float(read.seen[0]))
    return peak(read.values_s, read.seen, float(np.diff(np.unique(read.seen)).min()))


SOLVERS: dict[str, Callable[[Readout, AdvanceQuestion], Best]] = {
    "heights": _by_eye,
    "values": _by_eye,
    "clean": _by_range,
    "clean-heights": _by_range,
    "height-bulge": _by_bulge,
    "bulge": _by_bulge,
    "widths": _by_bulge,
    "score": _by_score,
}


def _without_answer(why: Why, read: Readout, question: AdvanceQuestion) -> Refusal:
    """What each way of having no answer means, and the print that would have one."""
    low, high = read.span
    width = high - low
    if why == "few" or why == "flat" or why == "rising":
        return Refusal(why, read.remarks, count=len(np.unique(read.values_s)))
    if why == "below" and low <= 0:
        return Refusal("starved", read.remarks)
    above = why == "above"
    end = high if above else low
    wanted = (
        (high - 0.2 * width, high + width) if above else (max(low - width, 0), low + 0.2 * width)
    )
    odd = Remark("beyond", end=end)
    return Refusal(why, (*read.remarks, odd), end=end, print=next_print(read, question, *wanted))


def next_print(
    read: Readout, question: AdvanceQuestion, start_s: float, stop_s: float
) -> NextPrint:
    """A print over a range, with round numbers."""
    step = _nice((stop_s - start_s) / (TOWER_STEPS if read.of_heights else LINE_STEPS))
    style = "tower" if read.of_heights else "ladder"
    return NextPrint(
        style=style,
        drive=read.drive.name,
        start_s=round(max(math.floor(start_s / step + 1e-9) * step, 0.0), 9),
        stop_s=round(math.ceil(stop_s / step - 1e-9) * step, 9),
        step_s=step,
        line_given=question.line_given,
        out=question.next_out.format(style=style),
        for_eye=style == "ladder" and read.by_eye,
    )


def _over(half: float, certain: bool, drive: Drive) -> bool:
    """The search ends when another print would not tell more: close enough, or the same as before
    within the spread.
    """
    return half <= drive.enough_s or (certain and half <= 2 * drive.enough_s)


def _refined(read: Readout, question: AdvanceQuestion, value: float, half: float) -> NextPrint:
    """Two or three intervals to both sides, never narrower than eye or caliper can use."""
    eye = read.drive.eye_s
    reach = max(2.0 * half, 3 * eye) if read.by_eye else max(3.0 * half, 5 * eye)
    return next_print(read, question, max(value - reach, 0.0), value + reach)


def _nice(value: float) -> float:
    """The nearest of 1, 2, 2.5, 5 times a power of ten."""
    power: float = 10.0 ** math.floor(math.log10(value))
    near: float = min((m * power for m in NICE), key=lambda v: abs(math.log(v / value)))
    return round(near, 9)


def _remarks(read: Readout, best: Best, question: AdvanceQuestion) -> list[Remark]:
    out = []
    for k in np.flatnonzero(~best.keep):
        if not best.second or read.method != "score":
            out.append(Remark("left-out-value", where=read.where[k], seen=float(read.seen[k])))
    out += _at_the_edge(read, best, question)
    if best.second:
        out.append(Remark("two-best"))
    least, most = read.drive.usual_s
    unnamed = question.drive is None and 0.1 < best.value < 0.2  # between the two kinds of drive
    if not least * 0.999 <= best.value <= most * 1.001 or unnamed:
        facts = {"value": best.value, "drive": read.drive.name, "least": least, "most": most}
        out.append(Remark("unusual-for-drive", **facts))
    values = read.values_s[best.keep]
    if read.by_eye and not read.clean and len(values) > 1:
        one = HEIGHT_READ_MM * read.step if read.of_heights else best.deviation
        if float(np.std(values, ddof=1)) > SCATTERED * one:
            out.append(Remark("eyes-apart", range=float(np.ptp(values))))
    return out


def _at_the_edge(read: Readout, best: Best, question: AdvanceQuestion) -> list[Remark]:
    """Whether the best value lies at the end of what was printed, or a reading at a tower's top."""
    low, high = read.span
    near = HEIGHT_READ_MM * read.step if read.of_heights else read.step
    known_end = question.stop_s is not None or not read.of_heights
    at_end = best.value > high - near or (low > 0 and best.value < low + near)
    picked = read.method == "values" and question.stop_s is None
    if math.isfinite(near) and not picked and known_end and at_end:
        return [Remark("at-end", value=best.value)]
    top = read.method == "heights" and question.stop_s is not None
    if top and (read.values_s[best.keep] >= high - 0.5 * near).any():
        return [Remark("at-top")]
    return []
