"""A print as strokes: lines laid without a stop. Where they lie, how long they take, and the G-code
that lays them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from omphalon.base.errors import UsageError
from omphalon.prints.job import Job, feed

Place = tuple[float, float]
NEAR_MM = 2.0  # a hop this short needs no retraction
LIFT_MM = 0.4
# the nozzle waits so far above the plate until all is warm, and ends so far above the print
WAIT_MM = 10.0
PLAIN = str.maketrans({"°": "", "²": "2", "³": "3"})  # comments stay ASCII
WIDE, HIGH, PITCH = 2, 4, 3
# each glyph: its strokes, as places on the grid
GLYPHS: dict[str, tuple[tuple[tuple[float, float], ...], ...]] = {
    "0": (((0, 0), (2, 0), (2, 4), (0, 4), (0, 0)),),
    "1": (((0, 3), (1, 4), (1, 0)),),
    "2": (((0, 4), (2, 4), (2, 2), (0, 2), (0, 0), (2, 0)),),
    "3": (((0, 4), (2, 4), (2, 0), (0, 0)), ((0.6, 2), (1.6, 2))),
    "4": (((0, 4), (0, 2), (2, 2)), ((2, 4), (2, 0))),
    "5": (((2, 4), (0, 4), (0, 2), (2, 2), (2, 0), (0, 0)),),
    "6": (((2, 4), (0, 4), (0, 0), (2, 0), (2, 2), (0.4, 2)),),
    "7": (((0, 4), (2, 4), (0.8, 0)),),
    "8": (((0, 0), (2, 0), (2, 4), (0, 4), (0, 0)), ((0.4, 2), (1.6, 2))),
    "9": (((2, 2), (0, 2), (0, 4), (2, 4), (2, 0), (0, 0)),),
    ".": (((0.2, 0), (0.8, 0)),),
}


@dataclass(frozen=True)
class Stroke:
    """One line laid without a stop: its corners, one speed for each stretch between them, its
    height, what it is for.

    `value` is the setting that must be in force; None leaves the last one. `before` are lines that
    are sent when the nozzle stands at its start. `feed`: times what the job feeds; `retract_mm`: on
    the way to it, where it is not the job's.
    """

    places: tuple[Place, ...]
    speeds_mm_s: tuple[float, ...]
    z_mm: float
    value: float | None = None
    note: str = ""
    before: tuple[str, ...] = ()
    feed: float = 1.0
    retract_mm: float | None = None


@dataclass(frozen=True)
class Survey:
    """A print as a whole: what it takes. `reach` is (lowest x, lowest y, highest x, highest y,
    highest z).
    """

    strokes: int
    filament_mm: float
    time_s: float
    reach: tuple[float, float, float, float, float]


def even(
    speed: float, places: Iterable[Place], z: float, value: float | None = None, note: str = ""
) -> Stroke:
    """A stroke of one speed."""
    corners = tuple(places)
    return Stroke(corners, (speed,) * (len(corners) - 1), z, value, note)


def square(x: float, y: float, half_mm: float) -> tuple[Place, ...]:
    """A square around a place, closed, counter-clockwise from its rear left corner."""
    return (
        (x - half_mm, y + half_mm),
        (x - half_mm, y - half_mm),
        (x + half_mm, y - half_mm),
        (x + half_mm, y + half_mm),
        (x - half_mm, y + half_mm),
    )


def layers(height_mm: float, job: Job) -> int:
    """How many layers make a height; two at least."""
    return max(round(height_mm / job.layer_mm), 2)


def moving_s(length_mm: float, speed_mm_s: float, acceleration_mm_s2: float) -> float:
    """Time of a straight move from rest to rest: up, along, down."""
    if length_mm <= speed_mm_s**2 / acceleration_mm_s2:
        return 2 * math.sqrt(length_mm / acceleration_mm_s2)
    return length_mm / speed_mm_s + speed_mm_s / acceleration_mm_s2


def survey(job: Job, strokes: Iterable[Stroke]) -> Survey:
    """Walk through a print; UsageError where a stroke leaves the bed's margin or the printer's
    height.
    """
    count, path, time = 0, 0.0, 0.0
    low_x = low_y = math.inf
    high_x = high_y = high_z = -math.inf
    at: Place | None = None
    outside = False
    for stroke in strokes:
        count += 1
        if at is not None:
            hop = math.dist(at, stroke.places[0])
            time += moving_s(hop, job.travel_mm_s, job.acceleration_mm_s2)
            time += 2 * job.retract_mm / job.retract_mm_s if hop > NEAR_MM else 0.0
        for (a, b), speed in zip(
            zip(stroke.places, stroke.places[1:], strict=False), stroke.speeds_mm_s, strict=True
        ):
            length = math.dist(a, b)
            path += stroke.feed * length
            time += moving_s(length, speed, job.acceleration_mm_s2)
        for x, y in stroke.places:
            low_x, low_y, high_x, high_y = (
                min(low_x, x),
                min(low_y, y),
                max(high_x, x),
                max(high_y, y),
            )
            outside = outside or not job.bed.holds(x, y, job.width_mm / 2)
        high_z = max(high_z, stroke.z_mm)
        at = stroke.places[-1]
    if outside:
        raise UsageError(
            f"the print reaches x {low_x:.0f} to {high_x:.0f}, y {low_y:.0f} to {high_y:.0f} mm, "
            f"beyond the margin of a {job.bed.words}",
            "make it smaller (fewer values), or choose another --at",
        )
    if high_z > job.bed.height_mm:
        raise UsageError(
            f"the print is {high_z:.1f} mm high, the printer {job.bed.height_mm:g} mm",
            "choose a larger --step, or a narrower range",
        )
    return Survey(count, path * job.feed_mm_mm, time, (low_x, low_y, high_x, high_y, high_z))


def gcode_lines(
    job: Job,
    strokes: Iterable[Stroke],
    head: Iterable[str],
    set_line: Callable[[float], str],
    acceleration_line: str | None,
    last_line: str | None = None,
) -> Iterator[str]:
    """The print as plain G-code, line by line: absolute places, relative feed.

    `head` are comment lines, `set_line` gives the line that sets a value, `last_line` is sent at
    the end.
    """
    for text in head:
        yield "; " + text.translate(PLAIN)
    yield from opening(job, acceleration_line)
    value: float | None = None
    z, at, fan = -1.0, (math.nan, math.nan), False
    for stroke in strokes:
        start = stroke.places[0]
        first = z < 0
        far = not first and math.dist(at, start) > NEAR_MM
        pulled = job.retract_mm if stroke.retract_mm is None else stroke.retract_mm
        if far and pulled:
            yield _pulled(job, -pulled)
        if stroke.note:
            yield f"; {stroke.note}"
        if stroke.z_mm > job.layer_mm * 1.5 and not fan and job.fan > 0:
            fan = True
            yield f"M106 S{255 * job.fan:.0f}"
        yield from _over(stroke, z, at, far, job)
        z = stroke.z_mm
        if far and pulled:
            yield _pulled(job, pulled)
        if first and job.retract_mm > 0:
            yield "; gives back what the last print pulled up"
            yield _pulled(job, job.retract_mm)
        if stroke.value is not None and stroke.value != value:
            value = stroke.value
            yield set_line(value)
        yield from stroke.before
        at, per_mm = start, job.feed_mm_mm * stroke.feed
        for place, speed in zip(stroke.places[1:], stroke.speeds_mm_s, strict=True):
            yield (
                f"G1 X{place[0]:.3f} Y{place[1]:.3f} E{math.dist(at, place) * per_mm:.5f} "
                f"{feed(speed)}"
            )
            at = place
    yield _pulled(job, -job.retract_mm)
    if last_line is not None:
        yield last_line
    yield from closing(job, z)


def _pulled(job: Job, length_mm: float) -> str:
    """Filament pulled up (negative) or given back."""
    return f"G1 E{length_mm:.4f} {feed(job.retract_mm_s)}"


def _over(stroke: Stroke, z: float, at: Place, far: bool, job: Job) -> Iterator[str]:
    """From where the nozzle stands to where the stroke starts, lifted a little on a long way."""
    x, y = stroke.places[0]
    above = max(
        min(max(z, stroke.z_mm) + (LIFT_MM if far else 0.0), job.bed.height_mm), stroke.z_mm
    )
    if z >= 0 and above > z:
        yield f"G1 Z{above:.3f} F600"
    if at != (x, y):
        yield f"G0 X{x:.3f} Y{y:.3f} {feed(job.travel_mm_s)}"
    if z < 0 or above != stroke.z_mm:
        yield f"G1 Z{stroke.z_mm:.3f} F600"


def opening(job: Job, acceleration_line: str | None) -> Iterator[str]:
    """Units, zero, heat; the nozzle waits above the plate until all is warm."""
    yield from ("G21", "G90", "M83", "M107")
    if job.bed_temp_c > 0:
        yield f"M140 S{job.bed_temp_c:.0f}"
    tool = job.tool_word
    yield f"M104 {tool}S{0.75 * job.temp_c:.0f}"
    yield "G28"
    yield f"G1 Z{min(WAIT_MM, job.bed.height_mm):.3f} F600"
    if job.bed_temp_c > 0:
        yield f"M190 S{job.bed_temp_c:.0f}"
    yield f"M109 {tool}S{job.temp_c:.0f}"
    if tool:
        yield tool.strip()
    if acceleration_line is not None:
        yield acceleration_line


def closing(job: Job, z: float) -> Iterator[str]:
    """Everything off; the nozzle lifts off the print."""
    yield f"G1 Z{min(z + WAIT_MM, job.bed.height_mm):.3f} F600"
    yield from (f"M104 {job.tool_word}S0", "M140 S0", "M107", "M84")


def width_of(text: str, high_mm: float) -> float:
    """Width in mm of a text drawn so high."""
    unit = high_mm / HIGH
    return unit * (sum(_pitch(c) for c in text) - (PITCH - WIDE))


def drawn(text: str, x: float, y: float, high_mm: float) -> Iterator[tuple[Place, ...]]:
    """Strokes of a text whose lower left corner lies at x, y; an unknown sign is left blank."""
    unit = high_mm / HIGH
    for sign in text:
        for stroke in GLYPHS.get(sign, ()):
            yield tuple((x + unit * gx, y + unit * gy) for gx, gy in stroke)
        x += unit * _pitch(sign)


def _pitch(sign: str) -> float:
    return 2.0 if sign == "." else PITCH
