"""A ladder seen in a picture: where it lies, the widths along its lines, what they say at the
ticks.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy import ndimage
from scipy.spatial import cKDTree

from omphalon.arrays import Array
from omphalon.physics.edges import MOST_CLIPPED, STEP_MM, Edges, course
from omphalon.physics.pose import LEAST_LINES, Drawing, Pose, find_pose
from omphalon.physics.scale import by_median
from omphalon.prints.advance import Ladder
from omphalon.prints.digits import drawn
from omphalon.recording import GreyPicture, PrintedLadder, Reading, Readings
from omphalon.remarks import Refusal, Remark
from omphalon.stages import begins
from omphalon.studies.advance.late import laid_line, late_mm, windows_of
from omphalon.units import Number

POINT_MM = 0.4  # between points of a drawing
LEAST_COVER = 0.85  # of digits and ticks: less is another print, or much of it is hidden
LEAST_PX = 4.5  # that a line must be wide
MOST_BLUR = 0.36  # of a line's width: the deviation of its edges
EVEN_FROM_MM, EVEN_LEFT_MM = 4.0, 1.0  # of a line's start: its first blob, and what is left
LEAST_SHARE = 0.7  # of a stretch must be seen
LEAST_SEEN = 0.3  # of a line, or it is not there
MOST_MISSING = 0.5  # of the lines must be seen
STRANGE = 5.0  # deviations from the fellows
PIECE_MM = 2.0
ROUGH_MM, LEAST_DEVIATION_MM = 0.02, 0.001
BARE_MM = 0.6  # from the nearest stroke: nothing lies there
BETWEEN = 40  # points between two lines
SQUARE_MM, MARGIN_MM = 0.08, 4.0  # a pixel of the picture brought square, and what it shows around
WHY = ("not-seen", "glare", "broken-up", "unlike")  # a line is left out
# from and to along a line, after speeding up and after slowing down, in mm
Stretches = tuple[tuple[float, float], tuple[float, float]]


def drawing_of(ladder: PrintedLadder) -> Drawing:
    """What a picture of a ladder shows: its lines and the first one, digits and ticks, bare plate
    between them.
    """
    first = [s for s in ladder.others if s.note.startswith("first line")]
    small = [s for s in ladder.others if not s.note.startswith("first line")]
    lines = np.array([(s.places[0], s.places[-1]) for s in (*ladder.lines, *first)])
    lines[:, :, 0] += np.array([-0.5, 0.5]) * ladder.width_mm  # a bead ends beyond its last place
    rest = np.concatenate([_points(np.array(s.places)) for s in small])
    # a digit's segments that this one lacks tell it from others; between lines there is nothing
    left, high_mm = float(lines[-1, 0, 0]) + ladder.width_mm / 2, Ladder.digit_mm
    segments = np.concatenate(
        [
            _points(np.array(stroke))
            for line in ladder.lines
            for stroke in drawn(
                re.sub(r"\d", "8", line.note.split()[1]),
                left,
                line.places[0][1] - high_mm / 2,
                high_mm,
            )
        ]
    )
    strokes = np.concatenate([rest, *map(_points, lines)])
    lacking = segments[cKDTree(strokes).query(segments)[0] > BARE_MM]
    between = (lines[:-2] + lines[1:-1]) / 2
    along = np.linspace(0.0, 1.0, BETWEEN)[:, None]
    room = [line[0] + along * (line[1] - line[0]) for line in between]
    return Drawing(lines, rest, np.concatenate([lacking, *room]))


def _points(places: Array) -> Array:
    """Points along a stroke."""
    out = []
    for a, b in zip(places, places[1:], strict=False):
        count = max(int(np.hypot(*(b - a)) / POINT_MM), 1)
        out.append(a + np.linspace(0, 1, count + 1)[:, None] * (b - a))
    return np.concatenate(out)


@dataclass(frozen=True, kw_only=True)
class LineSeen:
    """One line of a ladder in a picture: its value, mean widths just after both ticks and along its
    even start (mm); `why` it is left out, as a code.
    """

    value_s: float
    start_mm: tuple[float, float]
    speedup_mm: float
    slowdown_mm: float
    even_mm: float
    course: Edges
    why: str | None = None

    @property
    def edges_mm(self) -> tuple[Array, Array, Array]:
        """Its edges over the print: x, low and high y, each (n,); NaN where none was found."""
        x, y = self.start_mm
        seen = self.course
        low, high = (np.where(seen.good, y + e, np.nan) for e in (seen.low_mm, seen.high_mm))
        return x + seen.along_mm, low, high


@dataclass(frozen=True, kw_only=True)
class Square:
    """A ladder's picture brought square: grey levels (rows upwards, columns) over `extent_mm`
    (left, right, low, high).
    """

    grey: Array
    extent_mm: tuple[float, float, float, float]


@dataclass(frozen=True, kw_only=True)
class Sight:
    """A ladder in its picture. `ticks_mm` are the stretches (from, to along a line) that were read
    after speeding up and after slowing down; `read_mm` is the deviation of one mean width,
    `shared_mm` what the slant may have put into every difference of them, `late_mm` what windows
    that end before the pressure has leave in it.
    """

    picture: GreyPicture
    ladder: PrintedLadder
    pose: Pose
    lines: tuple[LineSeen, ...]
    ticks_mm: Stretches
    um_a_pixel: float
    tilt_deg: float
    blur_mm: float
    even_mm: float
    read_mm: float
    shared_mm: float
    late_mm: float

    @property
    def read(self) -> tuple[LineSeen, ...]:
        """The lines that count."""
        return tuple(line for line in self.lines if line.why is None)

    @property
    def notes(self) -> tuple[Remark, ...]:
        """Lines that could not be read, by the reason."""
        out = []
        for why in WHY:
            values = [f"{line.value_s:g}" for line in self.lines if line.why == why]
            if values:
                said = "line-unread" if len(values) == 1 else "lines-unread"
                out.append(Remark(said, {"values": ", ".join(values), "why": why}))
        return tuple(out)

    @property
    def read_along_mm(self) -> Stretches:
        """The stretches that were read, along x."""
        start = self.ladder.lines[0].places[0][0]
        (a, b), (c, d) = self.ticks_mm
        return (start + a, start + b), (start + c, start + d)

    def square(self) -> Square:
        """The picture as if it had been taken squarely."""
        strokes = (*self.ladder.lines, *self.ladder.others)
        places = np.array([place for stroke in strokes for place in stroke.places])
        low, high = places.min(axis=0) - MARGIN_MM, places.max(axis=0) + MARGIN_MM
        x, y = (np.arange(low[k], high[k], SQUARE_MM) for k in (0, 1))
        at = self.pose.seen_at(np.stack(np.meshgrid(x, y), axis=-1))
        grey = ndimage.map_coordinates(
            self.picture.grey, [at[..., 1], at[..., 0]], order=1, output=np.uint8, mode="nearest"
        )
        extent = (float(low[0]), float(high[0]), float(low[1]), float(high[1]))
        return Square(grey=grey, extent_mm=extent)


def look(picture: GreyPicture, ladder: PrintedLadder) -> Sight:
    """Find a ladder in a picture and read the widths of its lines.

    Raises
    ------
    Refusal
        Where the picture does not show what is needed.
    """
    drawing = drawing_of(ladder)
    begins("the ladder is looked for")
    pose = find_pose(picture.grey, drawing)
    count = len(ladder.lines)
    if pose is None or len(pose.matched) < LEAST_LINES:
        raise Refusal("no-ladder")
    scale, tilt = seen_from(pose, drawing.lines.reshape(-1, 2).mean(axis=0))
    wide_px = scale * ladder.width_mm
    if wide_px < LEAST_PX:
        dpi = math.ceil(LEAST_PX / ladder.width_mm * 25.4 / 50) * 50
        raise Refusal("few-pixels", seen=wide_px, least=LEAST_PX, dpi=dpi)
    if pose.cover < LEAST_COVER:
        raise Refusal("other-print", file=ladder.name)
    begins("its lines are measured")
    windows = _windows(ladder)
    lines = [_line(picture, ladder, pose, n, windows) for n in range(count)]
    lines = _judged(lines)
    good = [line for line in lines if line.why is None]
    _refuse(lines, good, ladder)
    blur = _blur(good)
    even = float(np.median([line.even_mm for line in good]))
    return Sight(
        picture=picture,
        ladder=ladder,
        pose=pose,
        lines=tuple(lines),
        ticks_mm=windows,
        um_a_pixel=1000 / scale,
        tilt_deg=tilt,
        blur_mm=blur,
        even_mm=even,
        read_mm=_deviation(good, windows),
        shared_mm=_slant(pose, good, windows) * blur,
        late_mm=_late(ladder, good, windows),
    )


def seen_from(pose: Pose, place_mm: Array) -> tuple[float, float]:
    """Pixels a mm, and how far from square the picture was taken (degrees): what is seen at a slant
    is shorter one way.
    """
    longer, shorter = np.linalg.svd(pose.steps_at(place_mm), compute_uv=False)
    return float(math.sqrt(longer * shorter)), math.degrees(math.acos(min(shorter / longer, 1.0)))


def _windows(ladder: PrintedLadder) -> Stretches:
    """The stretches that are read: after each tick as far as the pressure needs, and while the head
    speeds up or brakes.
    """
    line = ladder.lines[0]
    stretches = np.diff(np.array(line.places)[:, 0]).tolist()
    slow, fast, _ = line.speeds_mm_s
    (up,), (down,) = windows_of(stretches, slow, fast, ladder.acceleration_mm_s2)
    return up, down


def _late(ladder: PrintedLadder, good: Sequence[LineSeen], windows: Stretches) -> float:
    """What both means differ by where the lead is right."""
    printed = dict(zip(ladder.values_s, ladder.lines, strict=True))
    laid = []
    for line in good:
        stroke = printed[line.value_s]
        turns = [x - stroke.places[0][0] for x, _ in stroke.places]
        speeds, acceleration = stroke.speeds_mm_s, ladder.acceleration_mm_s2
        laid.append(laid_line(line.value_s, turns, speeds, acceleration, line.course))
    return late_mm(laid, windows[:1], windows[1:], ladder.layer_mm)


def _line(
    picture: GreyPicture, ladder: PrintedLadder, pose: Pose, number: int, windows: Stretches
) -> LineSeen:
    places = ladder.lines[number].places
    seen = course(picture.grey, pose, np.array([places[0], places[-1]]))
    (up, up_share), (down, down_share) = (seen.mean(*window) for window in windows)
    even, even_share = seen.mean(EVEN_FROM_MM, windows[0][0] - EVEN_LEFT_MM)
    why = None
    if float(seen.good.mean()) < LEAST_SEEN:
        why = "not-seen"
    elif any(np.array(seen.clipped) > MOST_CLIPPED):
        why = "glare"
    elif min(up_share, down_share, even_share) < LEAST_SHARE:
        why = "broken-up"
    return LineSeen(
        value_s=ladder.values_s[number],
        start_mm=places[0],
        speedup_mm=up,
        slowdown_mm=down,
        even_mm=even,
        course=seen,
        why=why,
    )


def _judged(lines: list[LineSeen]) -> list[LineSeen]:
    """Lines that are unlike their fellows along their even start left out: dirt, a hair, glare."""
    good = [line for line in lines if line.why is None]
    if len(good) < LEAST_LINES:
        return lines
    widths = np.array([line.even_mm for line in good])
    contrasts = np.array([float(np.median(line.course.contrast)) for line in good])
    # along a picture both change smoothly: what is left of a parabola is a line's own
    at = np.linspace(-1, 1, len(good))
    out: dict[int, str] = {}
    for values, least in ((widths, 0.02), (contrasts, 0.12 * float(np.median(contrasts)))):
        trend = np.polyval(np.polyfit(at, values, 2), at)
        miss = values - trend - np.median(values - trend)
        limit = max(STRANGE * by_median(miss), least)
        out |= {id(line): "unlike" for line, m in zip(good, miss, strict=True) if abs(m) > limit}
    return [replace(line, why=line.why or out.get(id(line))) for line in lines]


def _refuse(lines: list[LineSeen], good: list[LineSeen], ladder: PrintedLadder) -> None:
    """Refuse a picture that does not carry a value, by what is wrong with most lines."""
    enough = len(good) >= max(LEAST_LINES, MOST_MISSING * len(lines))
    clipped = sum(line.why == "glare" for line in lines)
    if not enough and clipped > (len(lines) - len(good)) / 2:
        raise Refusal("clipped-picture", count=clipped, total=len(lines))
    blur, most = _blur(good if enough else lines), MOST_BLUR * ladder.width_mm
    if blur > most:
        raise Refusal("blurred", seen=blur, most=most)
    if not enough:
        raise Refusal("lines-missing", count=len(good), total=len(lines))


def _blur(lines: list[LineSeen]) -> float:
    """The usual blur of their edges, in mm; 0 where no line has any."""
    known = [line.course.blur_mm for line in lines if math.isfinite(line.course.blur_mm)]
    return float(np.median(known)) if known else 0.0


def _deviation(good: list[LineSeen], windows: Stretches) -> float:
    """Of a mean width over one of the windows: from how means over pieces of an even stretch
    scatter about their line.
    """
    count = max(round(PIECE_MM / STEP_MM), 1)
    scatter = []
    for line in good:
        along = line.course.along_mm
        even = (along > EVEN_FROM_MM) & (along < windows[0][0] - EVEN_LEFT_MM)
        widths = line.course.width_mm[even & line.course.good]
        pieces = widths[: len(widths) // count * count].reshape(-1, count).mean(axis=1)
        if len(pieces) > 3:
            at = np.arange(len(pieces))
            scatter.append(np.std(pieces - np.polyval(np.polyfit(at, pieces, 1), at), ddof=2))
    one = float(np.median(scatter)) if scatter else ROUGH_MM
    length = windows[0][1] - windows[0][0]
    return math.hypot(one / math.sqrt(length / PIECE_MM), LEAST_DEVIATION_MM)


def _slant(pose: Pose, good: list[LineSeen], windows: Stretches) -> float:
    """By which share the scale differs between a line's two stretches, the worst of all. A blur
    of some pixels is that much wider in mm at one of them, where edges lie too far out by part of
    it.
    """
    worst = 0.0
    for line in good:
        middles = [np.array(line.start_mm) + [(a + b) / 2, 0.0] for a, b in windows]
        up, down = (pose.scale_at(place)[1] for place in middles)
        worst = max(worst, abs(up - down) / min(up, down))
    return worst


def as_readings(sight: Sight) -> Readings:
    """What was seen, as readings of widths."""
    seen = [
        (f"line {line.value_s:g}", line.value_s, line.speedup_mm, line.slowdown_mm)
        for line in sight.read
    ]
    return width_readings(sight.picture.source, seen, sight.late_mm)


def width_readings(
    source: str, seen: Sequence[tuple[str, float, float, float]], late_mm: float
) -> Readings:
    """Readings of values with both mean widths, less what early windows leave between them."""

    def number(value: float) -> Number:
        return Number(max(value, 0.0), 1e-4, f"{value:.4f}")

    rows = tuple(
        Reading(
            where,
            {
                "advance_s": Number(value, 1e-6, f"{value:g}"),
                "speedup_mm": number(up),
                "slowdown_mm": number(down - late_mm),
            },
        )
        for where, value, up, down in seen
    )
    return Readings(source, rows)


def widths_csv(sight: Sight) -> Iterator[str]:
    """What was seen, as rows of a readings file that `advance fit` reads."""
    yield "advance_s,speedup_mm,slowdown_mm,even_mm,left_out"
    for line in sight.lines:
        widths = (line.speedup_mm, line.slowdown_mm - sight.late_mm, line.even_mm)
        words = [f"{w:.4f}" if math.isfinite(w) else "" for w in widths]
        if line.why is None:
            yield f"{line.value_s:g},{','.join(words)},"
        else:
            yield f"# {line.value_s:g},{','.join(words)},{line.why}"
