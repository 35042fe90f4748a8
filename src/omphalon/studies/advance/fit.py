"""Pressure advance from heights on a tower, bulges, scores, or the widths of a line's stretches."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from omphalon.errors import UsageError
from omphalon.finding import Finding, Shown, Warned, digits
from omphalon.lines.dialect import Dialect
from omphalon.physics.lead import Best, NoAnswer, crossing, peak, told_by
from omphalon.recording import Readings
from omphalon.studies.advance.drives import Drive, drive_of
from omphalon.studies.answer import refuse_gaps
from omphalon.studies.wording import Unsupported, lines_for, noted

Array = NDArray[np.float64]

HEIGHT_READ_MM = 1.0  # deviation of one look along a corner
SHARED = 0.35  # of one reading's deviation: what all readings of one print share
BULGE_READ_MM = 0.02  # deviation of a bulge or a width under a caliper or a loupe
TELLING = 1.2  # intervals: below that, a change would chase noise too often


@dataclass(frozen=True)
class AdvanceQuestion:
    """A tower's start, growth per mm and end (s), the drive, the present value (s), the caliper's
    step (mm).
    """

    start_s: float | None = None
    per_mm: float | None = None
    stop_s: float | None = None
    drive: str | None = None
    present_s: float | None = None
    resolution_mm: float | None = None
    line_words: str = ""  # the options that give the next print its line, ready to paste


@dataclass(frozen=True)
class Refine:
    """The next, finer print: its range and its step (per mm of height on a tower, else per
    line).
    """

    start_s: float
    stop_s: float
    step_s: float


@dataclass(frozen=True)
class AdvancePicture:
    """What plots/ draws: readings (n,) at values (n,); `read` names what was read."""

    values_s: Array
    seen: Array
    read: str
    best: Best
    answer_s: float
    half_s: float
    span_s: tuple[float, float]
    present_s: float | None


@dataclass(frozen=True)
class _Data:
    """Values (n,), what was read there (n,), which method answers, and what is to be said of rows
    left aside.
    """

    method: str
    values_s: Array
    seen: Array
    where: tuple[str, ...]
    warnings: tuple[Warned, ...]
    step: float
    span: tuple[float, float]


METHODS = {
    "heights": "best-looking heights",
    "height-bulge": "bulge, mm",
    "bulge": "bulge, mm",
    "score": "score",
    "widths": "width after slowing down − after speeding up, mm",
    "values": "best-looking values",
}


def fit_advance(readings: Readings, question: AdvanceQuestion, dialect: Dialect) -> Finding:
    """The advance with its interval, the verdict against the present value, and the next print or
    the end of the search.
    """
    try:
        data = _data(readings, question)
        drive = drive_of(question.drive, data.span[1])
        try:
            best = SOLVERS[data.method](data, drive, question)
        except NoAnswer as none:
            raise _refusal(none.why, data, drive, question) from none
        return _told(data, drive, best, question, dialect, readings)
    except Unsupported as refusal:
        return refusal.finding("advance-fit", noted(readings))


def _data(readings: Readings, question: AdvanceQuestion) -> _Data:
    """Which kind of readings these are, as values and what was seen there."""
    refuse_gaps(
        readings, "height_mm", "advance_s", "score", "bulge_mm", "speedup_mm", "slowdown_mm"
    )
    _refuse_unread(readings, question)
    if readings.has("height_mm"):
        return _from_tower(readings, question)
    if not readings.has("advance_s"):
        raise UsageError(
            "no readings",
            "give --height with --from and --per-mm, or a file with height_mm or advance_s",
        )
    values = _column(readings, "advance_s")
    where = tuple(r.where for r in readings.rows)
    step = float(np.min(np.diff(np.unique(values)), initial=np.inf))
    span = (float(values.min()), float(values.max()))
    for method, columns in (
        ("widths", ("speedup_mm", "slowdown_mm")),
        ("bulge", ("bulge_mm",)),
        ("score", ("score",)),
    ):
        if readings.has(*columns):
            seen = _column(readings, columns[-1]) - (
                _column(readings, columns[0]) if len(columns) > 1 else 0.0
            )
            return _Data(method, values, seen, where, (), step, span)
    alone = next((c for c in ("speedup_mm", "slowdown_mm") if readings.any_has(c)), None)
    if alone is not None:
        raise UsageError(
            f"{alone} without its partner",
            "a line is read just after both ticks: speedup_mm and slowdown_mm",
        )
    return _Data("values", values, values, where, (), step, span)


def _refuse_unread(readings: Readings, question: AdvanceQuestion) -> None:
    """Refuse options that these readings make no use of."""
    tower = readings.any_has("height_mm")
    given = [
        name
        for name, value in (
            ("--from", question.start_s),
            ("--per-mm", question.per_mm),
            ("--to", question.stop_s),
        )
        if value is not None
    ]
    if given and readings.rows and not tower:
        raise UsageError(
            f"{given[0]} without heights",
            "it belongs to a tower's --height or height_mm; leave it out",
        )
    kinds = [c for c in ("score", "bulge_mm", "speedup_mm") if readings.any_has(c)]
    if len(kinds) > 1 or (
        tower and (readings.any_has("advance_s") or any(k != "bulge_mm" for k in kinds))
    ):
        raise UsageError(
            "two kinds of reading at once",
            "give height_mm (with bulge_mm), or advance_s with bulge_mm, score or widths",
        )
    if question.resolution_mm is not None and not any(k != "score" for k in kinds):
        raise UsageError(
            "--resolution without bulges or widths", "no caliper was read here; leave it out"
        )


def _from_tower(readings: Readings, question: AdvanceQuestion) -> _Data:
    if question.start_s is None or question.per_mm is None:
        raise UsageError(
            "heights without the tower's values",
            "give --from S and --per-mm S, as the tower was planned",
        )
    if question.stop_s is not None and question.stop_s <= question.start_s:
        raise UsageError(
            f"--from {question.start_s:g} --to {question.stop_s:g}: the range is upside down",
            "give the lower value with --from",
        )
    top = (
        math.inf
        if question.stop_s is None
        else (question.stop_s - question.start_s) / question.per_mm
    )
    heights = _column(readings, "height_mm")
    inside = heights <= top + 0.5
    warned = tuple(
        Warned(
            "outside-tower",
            f"{readings.rows[k].where}: {heights[k]:g} mm on a tower of {top:.0f} mm was left "
            "aside",
        )
        for k in np.flatnonzero(~inside)
    )
    if not inside.any():
        raise Unsupported(
            f"all heights lie above the tower of {top:.0f} mm",
            "measure from the plate upwards, in mm",
            warned,
        )
    values = question.start_s + question.per_mm * np.minimum(heights[inside], top)
    end = question.stop_s if question.stop_s is not None else float(values.max())
    bulge = readings.has("bulge_mm")
    seen = _column(readings, "bulge_mm")[inside] if bulge else heights[inside]
    return _Data(
        "height-bulge" if bulge else "heights",
        values,
        seen,
        tuple(r.where for r, k in zip(readings.rows, inside, strict=True) if k),
        warned,
        question.per_mm,
        (question.start_s, end),
    )


def _column(readings: Readings, name: str) -> Array:
    return np.array([r.value(name) for r in readings.rows])


def _by_eye(data: _Data, drive: Drive, question: AdvanceQuestion) -> Best:
    """Heights or values chosen by looking: the eye's doubt, and where choices at one end leave the
    best value open.
    """
    reading = (
        HEIGHT_READ_MM * data.step
        if data.method == "heights"
        else 0.6 * min(data.step, 5 * drive.eye_s)
    )
    one = math.hypot(reading, drive.eye_s)
    if len(data.values_s) == 2 and abs(float(np.diff(data.values_s)[0])) > 6 * one:
        raise Unsupported(
            "the two readings disagree beyond what an eye gets wrong",
            "read the print once or twice more",
        )
    best = told_by(data.values_s, one, SHARED * one)
    if data.method == "heights" and question.stop_s is not None:
        low, high = data.span
        if best.value > high - 0.02 * (high - low) or (
            low > 0 and best.value < low + 0.02 * (high - low)
        ):
            raise NoAnswer(NoAnswer.ABOVE if best.value > (low + high) / 2 else NoAnswer.BELOW)
    return best


def _by_bulge(data: _Data, drive: Drive, question: AdvanceQuestion) -> Best:
    one = math.hypot(BULGE_READ_MM, (question.resolution_mm or 0.01) / math.sqrt(12))
    return crossing(
        data.values_s, data.seen, one * math.sqrt(2) if data.method == "widths" else one
    )


def _by_score(data: _Data, drive: Drive, question: AdvanceQuestion) -> Best:
    if np.ptp(data.seen) == 0:
        raise Unsupported(
            f"all scores are {data.seen[0]:g}: nothing to choose by",
            "score them apart, best highest, worst lowest",
        )
    steps = np.diff(np.unique(data.seen))
    return peak(data.values_s, data.seen, float(steps.min()))


SOLVERS: dict[str, Callable[[_Data, Drive, AdvanceQuestion], Best]] = {
    "heights": _by_eye,
    "values": _by_eye,
    "height-bulge": _by_bulge,
    "bulge": _by_bulge,
    "widths": _by_bulge,
    "score": _by_score,
}


def plan_command(
    data: _Data, drive: Drive, question: AdvanceQuestion, start: float, stop: float, step: float
) -> str:
    """The command that writes the next print, ready to paste."""
    style = "tower" if data.method.startswith("height") else "ladder"
    start, stop = math.floor(start / step + 1e-9) * step, math.ceil(stop / step - 1e-9) * step
    return (
        f"`omphalon advance plan --style {style} --drive {drive.name} --from {max(start, 0):.6g} "
        f"--to {stop:.6g} --step {step:g} "
        f"{question.line_words} --out {style}.gcode`"
    )


def _count(method: str) -> int:
    return 40 if method.startswith("height") else 16


def _refusal(why: str, data: _Data, drive: Drive, question: AdvanceQuestion) -> Unsupported:
    """What each way of having no answer means, and the print that would have one."""
    low, high = data.span
    width = high - low
    if why == NoAnswer.FEW:
        return Unsupported(
            f"readings at {len(np.unique(data.values_s))} values are too few to see where it is "
            "best",
            "read five values or more, on both sides of the best",
        )
    if why == NoAnswer.FLAT:
        return Unsupported(
            "what was read does not depend on the value beyond the readings' scatter",
            "print over a wider range, with a faster fast speed, and read in side light",
        )
    if why == NoAnswer.RISING:
        return Unsupported(
            "the bulge grows with the value, which cannot be",
            "write a bulging corner as positive, a starved one as negative; check the values",
        )
    end, towards = ("end", "higher") if why == NoAnswer.ABOVE else ("start", "lower")
    if why == NoAnswer.BELOW and low <= 0:
        return Unsupported(
            "corners are starved from 0 s on: no advance could be low enough",
            "look at flow and retraction first, and whether something else already corrects the "
            "corners",
        )
    start, stop = (
        (high - 0.2 * width, high + width)
        if why == NoAnswer.ABOVE
        else (max(low - width, 0.0), low + 0.2 * width)
    )
    return Unsupported(
        f"it is still getting better at the {end} of what was printed, "
        f"{high if end == 'end' else low:g} s",
        f"print {towards} values: "
        + plan_command(
            data, drive, question, start, stop, _nice((stop - start) / _count(data.method))
        ),
        [
            Warned(
                "edge-of-range", f"the best value lies beyond {high if end == 'end' else low:g} s"
            )
        ],
    )


def _told(
    data: _Data,
    drive: Drive,
    best: Best,
    question: AdvanceQuestion,
    dialect: Dialect,
    readings: Readings,
) -> Finding:
    value, present = max(best.value, 0.0), question.present_s
    half = math.hypot(best.half_width, 0.5 * drive.eye_s)
    certain = present is not None and abs(present - value) <= TELLING * half
    if half > drive.matters_s and (certain or half > value or present is None):
        count = len(data.values_s) * (half / drive.matters_s) ** 2
        raise Unsupported(
            f"the best value is known to ±{digits(half, least=2)} s only, where a corner shows "
            f"{drive.matters_s:g} s",
            f"read about {math.ceil(count)} times, or "
            + plan_command(
                data,
                drive,
                question,
                max(value - 2 * half, 0),
                value + 2 * half,
                _nice(4 * half / _count(data.method)),
            ),
            data.warnings,
        )
    setting = present if certain and present is not None else value
    refine = None if _over(half, certain, drive) else _refined(data, value, half, drive)
    left_out = [w for w, keep in zip(data.where, best.keep, strict=True) if not keep]
    read = METHODS[data.method]
    because = (
        f"the present {present:g} s lies within the error of the best value, "
        f"{digits(value, half)} ± {digits(half, least=2)} s"
        if certain
        else f"{len(data.values_s) - len(left_out)} readings ({read}) put the best corner at "
        f"{digits(value, half)} ± {digits(half, least=2)} s"
    )
    table = [
        Shown(
            "readings",
            (
                f"{len(data.values_s) - len(left_out)} of {len(data.values_s)} used, {read}; "
                "printed "
                f"{data.span[0]:g} to {data.span[1]:g} s",
            ),
        ),
        Shown("one reading", (_one_reading(data, best),)),
        Shown(
            "drive",
            (
                f"{drive.name}{'' if question.drive else ' (from the values)'}, usually "
                f"{drive.usual_s[0]:g} to "
                f"{drive.usual_s[1]:g} s",
            ),
        ),
        Shown(
            "next print",
            (
                f"--from {refine.start_s:g} --to {refine.stop_s:g} --step {refine.step_s:g}"
                if refine
                else "none: the search is over",
            ),
        ),
    ]
    return Finding(
        "advance-fit",
        "keep" if certain else "change",
        because,
        {"advance_s": setting},
        {"advance_s": half},
        {
            "method": data.method,
            "best_s": value,
            "readings": len(data.values_s),
            "left_out": left_out,
            "drive": drive.name,
            "refine": None
            if refine is None
            else {"from": refine.start_s, "to": refine.stop_s, "step": refine.step_s},
        },
        (*_warnings(data, best, drive, question), *noted(readings)),
        ()
        if certain
        else lines_for(
            dialect,
            "advance",
            f"pressure advance {digits(value, half)} s (for your controller's own line: --line "
            "TEMPLATE)",
            advance=value,
        ),
        _next(data, refine, certain, drive, question),
        (
            Shown("advance", ("present", "new", "", "")),
            Shown(
                "pressure advance",
                (
                    "–" if present is None else f"{present:g}",
                    digits(setting, half),
                    "± " + digits(half, least=2),
                    "s",
                ),
            ),
        ),
        tuple(table),
        AdvancePicture(data.values_s, data.seen, read, best, value, half, data.span, present),
    )


def _over(half: float, certain: bool, drive: Drive) -> bool:
    """The search ends when another print would not tell more: close enough, or the same as before
    within the spread.
    """
    return half <= drive.enough_s or (certain and half <= 2 * drive.enough_s)


def _refined(data: _Data, value: float, half: float, drive: Drive) -> Refine:
    """The next print: two or three intervals to both sides, never narrower than eye or caliper can
    use.
    """
    reach = (
        max(2.0 * half, 3 * drive.eye_s)
        if data.method in ("heights", "values")
        else max(3.0 * half, 5 * drive.eye_s)
    )
    start, stop = max(value - reach, 0.0), value + reach
    step = _nice((stop - start) / _count(data.method))
    start, stop = math.floor(start / step + 1e-9) * step, math.ceil(stop / step - 1e-9) * step
    return Refine(round(start, 9), round(stop, 9), step)


def _nice(value: float) -> float:
    """The nearest of 1, 2, 2.5, 5 times a power of ten."""
    if value <= 0:
        return 0.0
    power = 10.0 ** math.floor(math.log10(value))
    near: list[float] = [m * power for m in (1.0, 2.0, 2.5, 5.0, 10.0)]
    nearest = min(near, key=lambda v: abs(math.log(v / value)))
    return round(nearest, 9)


def _one_reading(data: _Data, best: Best) -> str:
    if data.method in ("heights", "values"):
        per = (
            f", {2 * best.deviation / data.step:.1f} mm of height"
            if data.method == "heights"
            else ""
        )
        return f"± {2 * best.deviation:.2g} s{per}, by what eyes can tell and by their scatter"
    return (
        f"± {2 * best.deviation:.2g} {'points' if data.method == 'score' else 'mm'} about the "
        "fitted curve"
    )


def _warnings(
    data: _Data, best: Best, drive: Drive, question: AdvanceQuestion
) -> tuple[Warned, ...]:
    out = list(data.warnings)
    for k in np.flatnonzero(~best.keep):
        if not best.second or data.method != "score":
            out.append(
                Warned(
                    "reading-left-out",
                    f"{data.where[k]}: {data.seen[k]:g} disagrees with its fellows beyond chance",
                )
            )
    low, high = data.span
    near = HEIGHT_READ_MM * data.step if data.method.startswith("height") else data.step
    known_end = question.stop_s is not None or not data.method.startswith("height")
    if (
        math.isfinite(near)
        and data.method != "values"
        and known_end
        and (best.value > high - near or best.value < low + near and low > 0)
    ):
        out.append(
            Warned(
                "edge-of-range",
                f"the best value, {best.value:.3g} s, lies at the end of what was printed",
            )
        )
    elif (
        data.method == "heights"
        and question.stop_s is not None
        and (data.values_s[best.keep] >= high - 0.5 * near).any()
    ):
        out.append(Warned("edge-of-range", "a reading lies at the top of the tower"))
    if best.second:
        out.append(Warned("two-optima", "two values apart from each other look equally good"))
    least, most = drive.usual_s
    if not least * 0.999 <= best.value <= most * 1.001 or (
        question.drive is None and 0.1 < best.value < 0.2
    ):
        out.append(
            Warned(
                "unusual-advance",
                f"{best.value:.3g} s is unusual for a {drive.name} drive ({least:g} to {most:g} s)",
            )
        )
    if data.method in ("heights", "values") and best.keep.sum() > 1:
        one = best.deviation
        if float(np.std(data.values_s[best.keep], ddof=1)) > 2.2 * (
            HEIGHT_READ_MM * data.step if data.method == "heights" else one
        ):
            out.append(
                Warned(
                    "readings-disagree",
                    f"single readings lie {np.ptp(data.values_s[best.keep]):.2g} s apart",
                )
            )
    return tuple(out)


def _next(
    data: _Data, refine: Refine | None, certain: bool, drive: Drive, question: AdvanceQuestion
) -> str:
    after = (
        "keep the value with this filament, temperature and nozzle; shorten the retraction step "
        "by step, and judge a cube's "
        "corners: `omphalon advance check READINGS.csv`"
    )
    if refine is None:
        first = "nothing to enter" if certain else "enter it"
        return f"{first}; the search is over: another print would not tell more. Then {after}"
    command = plan_command(data, drive, question, refine.start_s, refine.stop_s, refine.step_s)
    return (
        f"{'' if certain else 'enter it, or first '}print finer, if you want it surer: "
        f"{command}; then {after}"
    )
