"""From what was read off a print to a pressure advance: the value, the verdict, the next print.

No sentences: `words` has them.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

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
from omphalon.studies.advance.further import NextPrint, next_print, refined
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


@dataclass(frozen=True, kw_only=True)
class AtSpeed:
    """One fast speed of a print that has several: the best value there, and how much wider (below
    0: narrower) a line is behind a change to slow than behind one to fast at the value that is set.
    """

    fast_mm_s: float
    value_s: float
    half_width_s: float
    off_mm: float


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
    speeds: tuple[AtSpeed, ...] = ()

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
    if readings.any_has("fast_mm_s"):
        return _of_speeds(readings, question)
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


def _of_speeds(readings: Readings, question: AdvanceQuestion) -> AdvanceFit:
    """One answer from lines of several speeds: one value where it serves all; else that of the
    slowest, which outer walls are printed at, and what it makes of the others.
    """
    readings.refuse_gaps("fast_mm_s")
    if not readings.has("speedup_mm"):
        raise UsageError("fast_mm_s without widths", "give it with speedup_mm and slowdown_mm")
    found = []
    for speed in sorted({row.value("fast_mm_s") for row in readings.rows}):
        rows = tuple(row for row in readings.rows if row.value("fast_mm_s") == speed)
        read = readout(replace(readings, rows=rows), question)
        best = _solved(read, question)
        found.append((speed, read, best, _half_width(read, best, question)))
    halves = np.array([half for *_, half in found])
    values = np.array([best.value for _, _, best, _ in found])
    value = float(np.average(values, weights=halves**-2.0))
    one_serves = bool(np.all(np.abs(values - value) <= np.hypot(halves, halves.min())))
    _, read, best, half = found[0] if not one_serves else found[int(np.argmin(halves))]
    if one_serves:
        best = replace(best, value=value)
    fit = _advance_fit(read, best, question)
    speeds = tuple(
        AtSpeed(
            fast_mm_s=speed,
            value_s=own.value,
            half_width_s=own_half,
            off_mm=_off_mm(own, fit.setting_s),
        )
        for speed, _, own, own_half in found
    )
    odd = () if one_serves else (Remark("speeds-apart", slow=found[0][0], fast=found[-1][0]),)
    return replace(fit, speeds=speeds, remarks=(*fit.remarks, *odd))


def _off_mm(best: Best, value_s: float) -> float:
    """How much wider a line is behind a change to slow than behind one to fast, at another value
    than the best.
    """
    slope = _slope(best)
    return slope * (best.value - value_s) if math.isfinite(slope) else 0.0


def _half_width(read: Readout, best: Best, question: AdvanceQuestion) -> float:
    """Of the best value: by the readings, and what a print itself leaves open."""
    sharp = question.read_mm is not None and read.method == "widths"
    floor = PICTURE_FLOOR if sharp else EYE_FLOOR
    shared = 2 * question.shared_mm / _slope(best)
    return math.hypot(best.half_width, floor * read.drive.eye_s, shared)


def _advance_fit(read: Readout, best: Best, question: AdvanceQuestion) -> AdvanceFit:
    value, present, drive = max(best.value, 0.0), question.present_s, read.drive
    half = _half_width(read, best, question)
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
        refine=None if _over(half, certain, drive) else refined(read, question, value, half),
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


def _over(half: float, certain: bool, drive: Drive) -> bool:
    """The search ends when another print would not tell more: close enough, or the same as before
    within the spread.
    """
    return half <= drive.enough_s or (certain and half <= 2 * drive.enough_s)


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
