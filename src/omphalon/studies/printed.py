"""A test print ready to be written."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from omphalon.prints.advance import Label
from omphalon.prints.job import Job
from omphalon.prints.strokes import Stroke, Survey, gcode_lines, survey


@dataclass(frozen=True, kw_only=True)
class TestPrint:
    """Strokes, made again at each call; the comment header; the lines that set things; `plan`: what
    a reader of the file must know; `side_view`: whether a picture shows it from the side.
    """

    title: str
    job: Job
    strokes: Callable[[], Iterator[Stroke]]
    labels: tuple[Label, ...]
    head: tuple[str, ...]
    set_line: Callable[[float], str]
    acceleration_line: str | None
    last_line: str | None
    whole: Survey
    plan: Mapping[str, object]
    side_view: bool = False

    def lines(self) -> Iterator[str]:
        """The file: its plan for machines, the comments for people, the moves."""
        return gcode_lines(
            self.job,
            self.strokes(),
            (f"plan {json.dumps(self.plan)}", *self.head),
            self.set_line,
            self.acceleration_line,
            self.last_line,
        )


def plan_of(job: Job) -> dict[str, object]:
    """What of a job a reader of the file must know."""
    return {
        "width_mm": job.width_mm,
        "layer_mm": job.layer_mm,
        "acceleration_mm_s2": job.acceleration_mm_s2,
    }


def plain_print(
    title: str,
    job: Job,
    strokes: Callable[[], Iterator[Stroke]],
    labels: tuple[Label, ...],
    head: tuple[str, ...],
    acceleration_line: str | None,
) -> TestPrint:
    """A print in which no value changes on the way.

    `strokes`: made again at each call. `head`: what the file says of itself, before the printer and
    the speeds. `acceleration_line`: that sets it; None: by hand. Raises UsageError if it does not
    fit the bed, or its speed is never reached.
    """
    job.check()
    whole = survey(job, strokes())
    by_hand = "" if acceleration_line else ": set it on the printer, no line here does"
    return TestPrint(
        title=title,
        job=job,
        strokes=strokes,
        labels=labels,
        head=(
            *head,
            f"for a {job.bed.words}; nozzle {job.nozzle_mm:g}, filament {job.filament_mm:g}, line "
            f"{job.width_mm:g} x {job.layer_mm:g} mm; {job.temp_c:g} °C, bed {job.bed_temp_c:g} °C",
            f"{job.fast_mm_s:g} mm/s, first layer {job.first_mm_s:g}, acceleration "
            f"{job.acceleration_mm_s2:g} mm/s²{by_hand}",
            f"about {clock(whole.time_s)} and {whole.filament_mm / 1000:.2f} m of filament",
        ),
        set_line=lambda value: "",
        acceleration_line=acceleration_line,
        last_line=None,
        whole=whole,
        plan={"print": head[0].partition(":")[0], **plan_of(job)},
    )


def print_steps(printed: TestPrint) -> tuple[str, ...]:
    """How to print a file: the acceleration by hand where no line sets it, where it lies, how long
    it takes.
    """
    job, whole = printed.job, printed.whole
    low_x, low_y, high_x, high_y, high_z = whole.reach
    by_hand = (
        f"Set the printing acceleration to {job.acceleration_mm_s2:g} mm/s² on the printer: the "
        "dialect has no line for it."
    )
    return (
        *(() if printed.acceleration_line else (by_hand,)),
        f"Check the first lines of the file, then print it: x {low_x:.0f} to {high_x:.0f}, y "
        f"{low_y:.0f} to {high_y:.0f}, up to {high_z:.1f} mm; about {clock(whole.time_s)} and "
        f"{whole.filament_mm / 1000:.2f} m of filament.",
    )


def clock(seconds: float) -> str:
    """A time in minutes, or hours where they are many."""
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"
