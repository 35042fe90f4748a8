"""A test card in its picture: where it lies, which plan it is of, and what is read of its lines."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.arrays import Array
from omphalon.base.stages import begins
from omphalon.physics.edges import MOST_CLIPPED, Edges, course
from omphalon.physics.pose import LensPose, Pose, find_rings, fitted_pose, poses_of
from omphalon.physics.swing import Trace
from omphalon.prints.card import BITS, CHECK_BITS, LEG_MM, RING_MM, Card, Comb, check_sum
from omphalon.recordings.recording import GreyPicture, Readings
from omphalon.studies.card.rungs import LEAST_SHARE, RungSeen, read_rungs, rung_readings

RINGS = 5  # in the corners, and one that tells which is which
LEAST_PX = 4.5  # that a line must be wide
MOST_BLUR = 0.36  # of a line's width: the deviation of its edges
LEAST_WIDTH = 0.3  # of a line's: less is no line
CELL_MM = (0.5, 2.0)  # to both sides of a cell's middle that is read
LEAST_CONTRAST = 8.0  # grey levels between a cell and the plate
EVERY = 8  # readings of the frame of which one counts for the pose
CORNER_MM, BRAKED_MM = 1.0, 1.0  # of a comb's line: behind its corner, and before it brakes
PAIR = 2  # readings of a line that are taken as one
MOST_SLANT, MOST_LENS = 0.002, 0.002  # of a scan: what shrinks from side to side, and its lens
TILT_SHARE = 0.33  # of the width, from corner to corner: the bed is not level
DPI_APART = 0.02  # what a file says of its dots an inch, and what the frame does


@dataclass(frozen=True, kw_only=True)
class CombSeen:
    """A comb's line, and its course in the picture."""

    comb: Comb
    course: Edges

    def trace(self, card: Card) -> Trace:
        """What its middle says of the other axis."""
        along = self.course.along_mm
        brake = self.comb.speed_mm_s**2 / (2 * card.comb_acceleration_mm_s2)
        use = self.course.good & (along > CORNER_MM) & (along < along[-1] - brake - BRAKED_MM)
        first, corner, last = (np.array(p) for p in self.comb.places)
        way = last - corner
        away = -np.sign(np.array([-way[1], way[0]]) @ (first - corner))
        middle = away * (self.course.low_mm + self.course.high_mm) / 2
        count = int(use.sum()) // PAIR * PAIR
        along, middle = (v[use][:count].reshape(-1, PAIR).mean(axis=1) for v in (along, middle))
        return Trace(
            along_mm=along,
            middle_mm=middle,
            speed_mm_s=self.comb.speed_mm_s,
            acceleration_mm_s2=card.comb_acceleration_mm_s2,
            leg_mm=LEG_MM,
        )


@dataclass(frozen=True, kw_only=True)
class CardSight:
    """A card in its picture. `corners_px` (4, 2) are where the frame's lines meet, from the lower
    left counter-clockwise; `widths_mm` (4,) how wide those lines are near them.
    """

    picture: GreyPicture
    card: Card
    pose: LensPose
    combs: tuple[CombSeen, ...]
    rungs: tuple[RungSeen, ...]
    corners_px: Array
    widths_mm: Array
    um_a_pixel: float
    slant_deg: float
    blur_mm: float

    @cached_property
    def readings(self) -> Readings:
        """What its lines for pressure advance say. Raises Refusal where too few can be read."""
        return rung_readings(self.picture.source, self.card, self.rungs)

    @property
    def notes(self) -> tuple[Remark, ...]:
        """What is odd about the picture, and the print."""
        odd = []
        wide = float(np.ptp(self.widths_mm) / np.median(self.widths_mm))
        if wide > TILT_SHARE:
            odd.append(Remark("bed-not-level", share=wide))
        dpi = self.picture.dots_an_inch
        seen = 25400 / self.um_a_pixel
        if self.scanned and dpi is not None and abs(dpi / seen - 1) > DPI_APART:
            odd.append(Remark("dots-apart", told=dpi, seen=seen))
        gone = [r for r in self.rungs if r.why is not None]
        if gone:
            odd.append(Remark("rungs-unread", count=len(gone), total=len(self.rungs)))
        return tuple(odd)

    @property
    def scanned(self) -> bool:
        """Whether it was taken squarely, as scanners do."""
        slant = np.abs(self.pose.to_picture[2, :2]).max() * self.card.size_mm
        return bool(slant < MOST_SLANT and abs(self.pose.lens) < MOST_LENS)

    @property
    def turn_deg(self) -> float:
        """How the card's X lies in the picture."""
        across = self.corners_px[1] - self.corners_px[0]
        return math.degrees(math.atan2(across[1], across[0]))

    @property
    def tilt_mm(self) -> tuple[float, ...]:
        """How much higher the nozzle was at each corner than on the whole: at equal flow a lower
        one makes a wider line.
        """
        share = float(np.mean(self.widths_mm)) / self.widths_mm
        return tuple(float(s - 1) * self.card.layer_mm for s in share)


def look(picture: GreyPicture, cards: Sequence[Card], file: str | None) -> CardSight:
    """Find a card in a picture, and follow its lines.

    `cards`: that it may be of. `file`: the one that was said to be its print; None: the card says
    which. Raises Refusal where the picture does not show what is needed.
    """
    begins("the card is looked for")
    rings = find_rings(picture.grey)
    if len(rings) < RINGS:
        raise Refusal("no-card", count=len(rings))
    found = None
    for card in cards:
        radius = RING_MM + card.width_mm / 2
        poses = poses_of(rings, np.array(card.rings), radius, picture.grey.shape)
        if len(poses) > 1:
            raise Refusal("two-cards")
        if poses:
            pose = poses[0]
            number = strip_number(picture, pose, card)
            if number == card.number:
                found = card, pose
                break
    if found is None:
        if file is None:
            raise Refusal("unknown-card")
        raise Refusal("other-card", file=file)
    return _read(picture, *found)


def strip_number(picture: GreyPicture, pose: LensPose, card: Card) -> int | None:
    """The plan's number in a card's strips; None where it cannot be read, or its check sum says
    that it was misread.
    """
    across, along = np.meshgrid(np.linspace(-1, 1, 5), np.linspace(-1, 1, 9))
    patch = np.stack([across * CELL_MM[0], along * CELL_MM[1]], axis=-1).reshape(-1, 2)
    grey, (rows, columns) = picture.grey, picture.grey.shape

    def level(places: Array) -> Array:
        at = np.rint(pose.seen_at(places[:, None] + patch)).astype(int)
        c, r = np.clip(at[..., 0], 0, columns - 1), np.clip(at[..., 1], 0, rows - 1)
        values = np.asarray(grey[r, c], dtype=np.float64).mean(axis=1)
        return np.asarray(values if pose.light else 255 - values)

    word = 0
    for cells in map(np.array, card.cells):
        laid, bare = level(cells), level((cells[1:] + cells[:-1]) / 2)
        bare_near = (bare[np.r_[0, 0 : len(bare)]] + bare[np.r_[0 : len(bare), len(bare) - 1]]) / 2
        off = laid - bare_near
        contrast = float(min(off[0], off[-1]))
        if contrast < LEAST_CONTRAST:
            return None
        for bit in off[1:-1] > contrast / 2:
            word = word << 1 | bool(bit)
    number = word >> CHECK_BITS
    assert number < 2**BITS
    return number if word & (2**CHECK_BITS - 1) == check_sum(number) else None


def _read(picture: GreyPicture, card: Card, pose: LensPose) -> CardSight:
    middle = np.full(2, card.size_mm / 2)
    scale, slant = seen_from(pose, middle)
    if scale * card.width_mm < LEAST_PX:
        dpi = math.ceil(LEAST_PX / card.width_mm * 25.4 / 50) * 50
        raise Refusal("few-pixels", seen=scale * card.width_mm, least=LEAST_PX, dpi=dpi)
    for _ in range(2):
        sides = [course(picture.grey, pose, np.array(ends)) for ends in card.frame]
        _refuse_hidden(sides, card)
        pose = _straightened(pose, card, sides)
    begins("its lines are measured")
    combs = tuple(
        CombSeen(comb=c, course=course(picture.grey, pose, np.array(c.places[1:])))
        for c in card.combs
    )
    rungs = read_rungs(picture, card, pose)
    courses = [*(c.course for c in combs), *(r.course for r in rungs), *sides]
    blur = float(np.median([c.blur_mm for c in courses if math.isfinite(c.blur_mm)]))
    if blur > MOST_BLUR * card.width_mm:
        raise Refusal("blurred", seen=blur, most=MOST_BLUR * card.width_mm)
    lines = [_straight(pose, card, side, n) for n, side in enumerate(sides)]
    corners = np.array([_meeting(lines[n - 1], lines[n]) for n in range(4)])
    return CardSight(
        picture=picture,
        card=card,
        pose=pose,
        combs=combs,
        rungs=tuple(rungs),
        corners_px=corners,
        widths_mm=_corner_widths(sides),
        um_a_pixel=1000 / scale,
        slant_deg=slant,
        blur_mm=blur,
    )


def seen_from(pose: Pose, place_mm: Array) -> tuple[float, float]:
    """Pixels a mm, and how far from square the picture was taken (degrees): what is seen at a slant
    is shorter one way.
    """
    longer, shorter = np.linalg.svd(pose.steps_at(place_mm), compute_uv=False)
    return float(math.sqrt(longer * shorter)), math.degrees(math.acos(min(shorter / longer, 1.0)))


def _refuse_hidden(sides: Sequence[Edges], card: Card) -> None:
    """Refuse a card whose frame is cut off, covered, or lost in the light."""
    # a highlight along a side moves its middle by little: of a ladder it is the pose alone
    over = np.array([np.array(side.clipped) > MOST_CLIPPED for side in sides])
    if over[:, 1].any() or ("frame" in card.parts and over.any()):
        raise Refusal("card-clipped")
    laid = [side.good & (side.width_mm > LEAST_WIDTH * card.width_mm) for side in sides]
    gone = [one for one in laid if float(one.mean()) < LEAST_SHARE]
    if gone:
        raise Refusal("card-hidden", count=len(gone))


def _frame_points(card: Card, side: Edges, number: int) -> tuple[Array, Array, Array]:
    """Places along a side of the frame, its normal, and where its middle is seen (n, 2), in mm."""
    a, b = (np.array(end) for end in card.frame[number])
    way = (b - a) / np.hypot(*(b - a))
    normal = np.array([-way[1], way[0]])
    at = a + side.along_mm[side.good, None] * way
    middle = (side.low_mm + side.high_mm)[side.good, None] / 2
    return at, normal, at + middle * normal


def _straightened(pose: LensPose, card: Card, sides: Sequence[Edges]) -> LensPose:
    """The pose by the frame's lines, which are straight, and the rings."""
    parts = [_frame_points(card, side, n) for n, side in enumerate(sides)]
    at = np.concatenate([p[0][::EVERY] for p in parts])
    normal = np.concatenate([np.tile(p[1], (len(p[0][::EVERY]), 1)) for p in parts])
    seen = pose.seen_at(np.concatenate([p[2][::EVERY] for p in parts]))
    rings = np.array(card.rings)
    return fitted_pose(pose, (rings, pose.seen_at(rings)), (at, normal, seen))


def _straight(pose: LensPose, card: Card, side: Edges, number: int) -> tuple[Array, Array]:
    """A side of the frame in the picture: a place and its direction, by least squares."""
    points = pose.seen_at(_frame_points(card, side, number)[2])
    middle = points.mean(axis=0)
    axis = np.linalg.svd(points - middle, full_matrices=False)[2][0]
    return middle, axis if axis @ (points[-1] - points[0]) > 0 else -axis


def _meeting(one: tuple[Array, Array], two: tuple[Array, Array]) -> Array:
    """Where two lines meet."""
    steps = np.linalg.solve(np.stack([one[1], -two[1]], axis=1), two[0] - one[0])
    return np.asarray(one[0] + steps[0] * one[1])


def _corner_widths(sides: Sequence[Edges]) -> Array:
    """The frame's width near its corners, from the lower left counter-clockwise: the end of one
    side and the start of the next.
    """
    out = []
    for n in range(4):
        before, after = sides[n - 1], sides[n]
        span = before.along_mm[-1]
        ends = [before.mean(0.72 * span, 0.92 * span)[0], after.mean(0.08 * span, 0.28 * span)[0]]
        out.append(float(np.mean(ends)))
    return np.array(out)
