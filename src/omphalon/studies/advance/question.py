"""What is asked about pressure advance, and what was read off a print, checked once."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.arrays import Array
from omphalon.base.errors import UsageError
from omphalon.prints.advance import Tower
from omphalon.recordings.recording import Readings
from omphalon.studies.advance.drives import Drive, drive_of

# method → what was read
METHODS = {
    "heights": "best-looking heights",
    "height-bulge": "bulge, mm",
    "bulge": "bulge, mm",
    "score": "score",
    "widths": "width after slowing down − after speeding up, mm",
    "values": "best-looking values",
    "clean": "ends of what looks clean",
    "clean-heights": "heights between which corners look clean",
}
READ = ("height_mm", "advance_s", "score", "bulge_mm", "speedup_mm", "slowdown_mm")
TOP_ROOM_MM = 0.5  # a caliper on a tower's top may read a little more


@dataclass(frozen=True, kw_only=True)
class AdvanceQuestion:
    """A tower's start, growth per mm and end (s), the drive, the present value (s), the caliper's
    step.

    `step_s`: between two printed values that are no tower's. `clean_s`, `clean_height_mm`: looks
    clean from here to there. `line_given` are the options that give the next print its line,
    `next_out` is where it goes, by its style. `read_mm` is the deviation of what was read from a
    picture; None: a caliper read. `shared_mm` is what all of it may be off by alike.
    """

    start_s: float | None = None
    per_mm: float | None = None
    stop_s: float | None = None
    step_s: float | None = None
    clean_s: tuple[float, float] | None = None
    clean_height_mm: tuple[float, float] | None = None
    drive: str | None = None
    present_s: float | None = None
    resolution_mm: float | None = None
    line_given: Mapping[str, str] = field(default_factory=dict)
    next_out: str = "{style}.gcode"
    read_mm: float | None = None
    shared_mm: float = 0.0


@dataclass(frozen=True, kw_only=True)
class Readout:
    """Values (n,) in s, what was read there (n,), where each stands, and which method reads them.

    `step` lies between two printed values (per mm of height on a tower), `span` is what was
    printed.
    """

    method: str
    values_s: Array
    seen: Array
    where: tuple[str, ...]
    step: float
    span: tuple[float, float]
    drive: Drive
    remarks: tuple[Remark, ...] = ()

    @property
    def of_heights(self) -> bool:
        """Whether a tower was read."""
        return "height" in self.method

    @property
    def by_eye(self) -> bool:
        """Whether the best was chosen by looking."""
        return self.method in ("heights", "values") or self.clean

    @property
    def clean(self) -> bool:
        """Whether a range was given, from its first value to its last."""
        return self.method.startswith("clean")


def readout(readings: Readings, question: AdvanceQuestion) -> Readout:
    """Which kind of readings these are, as values and what was seen there.

    Raises UsageError, BadReading if something is missing, or options are given that these readings
    make no use of; Refusal if all heights lie outside the tower.
    """
    readings.refuse_gaps(*READ)
    if question.clean_s is not None or question.clean_height_mm is not None:
        return _from_range(readings, question)
    _refuse_unread(readings, question)
    if readings.has("height_mm"):
        return _from_tower(readings, question)
    if not readings.has("advance_s"):
        raise UsageError(
            "no readings",
            "give --height with --from and --per-mm, --value of the line that is best, --clean "
            "FROM:TO, or a file with height_mm or advance_s",
        )
    values = _column(readings, "advance_s")
    method, seen = "values", values
    for name, columns in (
        ("widths", ("speedup_mm", "slowdown_mm")),
        ("bulge", ("bulge_mm",)),
        ("score", ("score",)),
    ):
        if readings.has(*columns):
            first = _column(readings, columns[0]) if len(columns) > 1 else 0.0
            method, seen = name, _column(readings, columns[-1]) - first
            break
    alone = next((c for c in ("speedup_mm", "slowdown_mm") if readings.any_has(c)), None)
    if alone is not None and method != "widths":
        raise UsageError(
            f"{alone} without its partner",
            "a line is read just after both ticks: speedup_mm and slowdown_mm",
        )
    if method != "values" and question.step_s is not None:
        raise UsageError("--step with other than --value", "the readings tell it; leave it out")
    span = _printed(values, question)
    return Readout(
        method=method,
        values_s=values,
        seen=seen,
        where=tuple(r.where for r in readings.rows),
        step=question.step_s or float(np.min(np.diff(np.unique(values)), initial=np.inf)),
        span=span,
        drive=drive_of(question.drive, span[1]),
    )


def _refuse_unread(readings: Readings, question: AdvanceQuestion) -> None:
    """Refuse options that these readings make no use of, and two kinds of reading at once."""
    tower = readings.any_has("height_mm")
    options = {"--from": question.start_s, "--per-mm": question.per_mm, "--to": question.stop_s}
    given = [name for name, value in options.items() if value is not None]
    picked = not any(readings.any_has(name) for name in READ if name != "advance_s")
    if picked:  # a line of a ladder: the range that was printed may be given
        given = [name for name in given if name == "--per-mm"]
    if given and readings.rows and not tower:
        raise UsageError(
            f"{given[0]} without heights",
            "it belongs to a tower's --height or height_mm; leave it out",
        )
    kinds = [c for c in ("score", "bulge_mm", "speedup_mm") if readings.any_has(c)]
    mixed = tower and (readings.any_has("advance_s") or any(k != "bulge_mm" for k in kinds))
    if len(kinds) > 1 or mixed:
        raise UsageError(
            "two kinds of reading at once",
            "give height_mm (with bulge_mm), or advance_s with bulge_mm, score or widths",
        )
    if question.resolution_mm is not None and not any(k != "score" for k in kinds):
        raise UsageError(
            "--resolution without bulges or widths", "no caliper was read here; leave it out"
        )


def _printed(values: Array, question: AdvanceQuestion) -> tuple[float, float]:
    """The range that was printed: what was given, or as far as the values reach."""
    start, stop = question.start_s, question.stop_s
    span = (
        float(values.min()) if start is None else start,
        float(values.max()) if stop is None else stop,
    )
    outside = values[(values < span[0] - 1e-9) | (values > span[1] + 1e-9)]
    if len(outside):
        raise UsageError(
            f"{outside[0]:g} s: not printed, from {span[0]:g} to {span[1]:g} s",
            "give the value of a line that is on the print",
        )
    return span


def _from_range(readings: Readings, question: AdvanceQuestion) -> Readout:
    """What looks clean, from here to there."""
    if readings.rows:
        raise UsageError("a clean range and readings", "give one of the two")
    if question.clean_height_mm is None:
        seen = values = np.array(question.clean_s)
        step = question.step_s or math.inf
    elif question.start_s is None or question.per_mm is None:
        raise UsageError(
            "heights without the tower's values",
            "give --from S and --per-mm S, as the tower was planned, or --print FILE",
        )
    else:
        seen, step = np.array(question.clean_height_mm), question.per_mm
        top = _top_mm(question.start_s, question.stop_s, step)
        if seen[1] > top + TOP_ROOM_MM:
            raise UsageError(
                f"--clean-height {seen[0]:g}:{seen[1]:g}: the tower is {top:.0f} mm high",
                "measure from the plate upwards",
            )
        values = question.start_s + step * np.minimum(seen, top)
    if not seen[0] < seen[1]:
        raise UsageError(
            f"{seen[0]:g}:{seen[1]:g}: the range is upside down", "give the lower end first"
        )
    span = _printed(values, question)
    return Readout(
        method="clean" if question.clean_height_mm is None else "clean-heights",
        values_s=values,
        seen=seen,
        where=("its lower end", "its upper end"),
        step=step,
        span=span,
        drive=drive_of(question.drive, span[1]),
    )


def _top_mm(start_s: float, stop_s: float | None, per_mm: float) -> float:
    """The height of a tower's last value."""
    return math.inf if stop_s is None else (stop_s - start_s) / per_mm


def _from_tower(readings: Readings, question: AdvanceQuestion) -> Readout:
    start, stop = question.start_s, question.stop_s
    if start is None or question.per_mm is None:
        raise UsageError(
            "heights without the tower's values",
            "give --from S and --per-mm S, as the tower was planned, or --print FILE",
        )
    if stop is not None and stop <= start:
        raise UsageError(
            f"--from {start:g} --to {stop:g}: the range is upside down",
            "give the lower value with --from",
        )
    top = _top_mm(start, stop, question.per_mm)
    heights = _column(readings, "height_mm")
    inside = heights <= top + TOP_ROOM_MM
    odd = tuple(
        Remark("outside", where=readings.rows[k].where, height=heights[k], top=top)
        for k in np.flatnonzero(~inside)
    )
    if not inside.any():
        raise Refusal("all-outside", odd, top=top)
    end = stop if stop is not None else float(start + question.per_mm * heights[inside].max())
    bulge = readings.has("bulge_mm")
    slow = np.zeros(len(heights), dtype=bool)
    tower = Tower(start=start, stop=end, per_mm=question.per_mm)
    for low, high in tower.bands_mm if stop else ():
        slow |= (heights > low) & (heights < high)
    if (inside & slow).any():
        said = "in-bands" if bulge else "looks-right"
        odd = (*odd, Remark(said, count=int((inside & slow).sum())))
    if bulge:
        inside &= ~slow
    values = start + question.per_mm * np.minimum(heights[inside], top)
    return Readout(
        method="height-bulge" if bulge else "heights",
        values_s=values,
        seen=_column(readings, "bulge_mm")[inside] if bulge else heights[inside],
        where=tuple(r.where for r, k in zip(readings.rows, inside, strict=True) if k),
        step=question.per_mm,
        span=(start, end),
        drive=drive_of(question.drive, end),
        remarks=odd,
    )


def _column(readings: Readings, name: str) -> Array:
    return np.array([r.value(name) for r in readings.rows])
