"""Where a print of parallel lines lies in a picture: from pixels to millimetres on the plate.

Long thin pieces are found in the picture, put together to lines, and the order and gaps of those
lines held against the printed ones, whatever end of the picture the print begins at, turned,
mirrored, or seen at a slant. Of what fits, the one whose drawing covers what is seen, and no more,
is taken.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from omphalon.arrays import Array
from omphalon.physics.scale import by_median

COARSE_PX = 2200  # long side of the picture in which pieces are sought
STANDS_OUT = 4.0  # deviations above the plate's grain
THIN = 9.0  # length over width of a piece
SPREAD_DEG = 14.0  # between lines that are parallel on the plate, seen at a slant
FITS = 0.16  # of the pitch: how near a line must lie to the one it is taken for
LEAST_LINES = 4
AROUND_PX, SPARSE = 66, 6  # of the plate around a pixel; of them every sixth is looked at
ROUNDS = 12
CANDIDATES, REACH_MM = 5, 1.0  # poses that are moved to fit, and how far for a point
SHORTEST = 0.08  # of the longest piece
SURE = 0.5  # a cover that needs no second look


@dataclass(frozen=True)
class Drawing:
    """A print as it lies on the plate, in mm: `lines` (n, 2, 2) with the ends of its parallel lines,
    all along x; `rest` (m, 2) points on everything else; `bare` (k, 2) points where nothing is.
    """

    lines: Array
    rest: Array
    bare: Array


@dataclass(frozen=True)
class Pose:
    """The homography from the plate (mm) to the picture (column, row), and how well it fits.

    `light` is whether the print is lighter than the plate, `matched` which lines were found, `cover`
    the share of the rest of the drawing that is seen less that of bare places that are.
    """

    to_picture: Array
    light: bool
    matched: tuple[int, ...]
    cover: float

    def seen_at(self, places_mm: Array) -> Array:
        """Pixels (…, 2) as (column, row) of places (…, 2) in mm."""
        return moved(self.to_picture, places_mm)

    def scale_at(self, place_mm: Array) -> tuple[float, float]:
        """Pixels a mm along x and y at a place."""
        near = place_mm + np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0]])
        at, x, y = self.seen_at(near)
        return float(np.hypot(*(x - at))), float(np.hypot(*(y - at)))

    @property
    def mirrored(self) -> bool:
        """Whether the picture shows the print from behind."""
        return bool(np.linalg.det(self.to_picture[:2, :2]) > 0)


def moved(homography: Array, points: Array) -> Array:
    """Points (…, 2) through a homography (3, 3)."""
    lifted = np.concatenate([points, np.ones((*points.shape[:-1], 1))], axis=-1) @ homography.T
    return np.asarray(lifted[..., :2] / lifted[..., 2:])


def homography(plate: Array, picture: Array, weight: Array) -> Array:
    """The homography that takes points (n, 2), four at least, to others, by least squares (direct
    linear transform, both sides scaled) with a weight (n,) each.

    References
    ----------
    Hartley and Zisserman, Multiple View Geometry (2003), 4.4.
    """
    first, second = _scaled(plate), _scaled(picture)
    a, b = moved(first, plate), moved(second, picture)
    x, y, u, v = a[:, 0], a[:, 1], b[:, 0], b[:, 1]
    one, none = np.ones(len(a)), np.zeros(len(a))
    top = np.stack([x, y, one, none, none, none, -u * x, -u * y, -u], axis=1)
    low = np.stack([none, none, none, x, y, one, -v * x, -v * y, -v], axis=1)
    table = np.vstack([top, low]) * np.tile(np.sqrt(weight), 2)[:, None]
    form = np.linalg.eigh(table.T @ table)[1][:, 0].reshape(3, 3)
    whole = np.linalg.inv(second) @ form @ first
    return np.asarray(whole / whole[2, 2])


def _scaled(points: Array) -> Array:
    middle = points.mean(axis=0)
    size = np.sqrt(((points - middle) ** 2).sum(axis=1).mean() / 2)
    return np.array(
        [[1 / size, 0, -middle[0] / size], [0, 1 / size, -middle[1] / size], [0, 0, 1.0]]
    )


@dataclass(frozen=True)
class _Piece:
    """A long thin spot: its middle, direction, length and two ends, as (column, row)."""

    middle: Array
    axis: Array
    length: float
    ends: tuple[Array, Array]

    def passes(self, place: Array, along: Array) -> Array:
        """Where its course, drawn on, passes a place: the point as far along as that."""
        return np.asarray(
            self.middle + self.axis * ((place - self.middle) @ along / (self.axis @ along))
        )


@dataclass(frozen=True)
class _Line:
    """Pieces in a row: its two ends (2, 2) as (column, row), ordered along the common direction, and
    where it crosses the middle of all.
    """

    ends: Array
    crossing: float


def find_pose(grey: NDArray[np.uint8], drawing: Drawing) -> Pose | None:
    """Where a print lies in a picture.

    Parameters
    ----------
    grey : (rows, columns)
    drawing : what was printed

    Returns
    -------
    Pose or None
        None where no such lines are seen.
    """
    shrink = max(max(grey.shape) / COARSE_PX, 1.0)
    small = _shrunk(grey, shrink)
    off, deviation = _off_the_plate(small)
    sides = [(True, _lines(_mask(off, deviation))), (False, _lines(_mask(-off, deviation)))]
    best: Pose | None = None
    for light, lines in sorted(sides, key=lambda side: -len(side[1])):
        if len(lines) < LEAST_LINES or (best is not None and best.cover > SURE):
            continue
        mask = _mask(off if light else -off, deviation)
        rough = sorted(_poses(lines, drawing, mask, light), key=_worth)[-CANDIDATES:]
        for found in _refined(rough, drawing, mask):
            if best is None or _worth(found) > _worth(best):
                best = found
    if best is None:
        return None
    grown = np.diag([shrink, shrink, 1.0]) @ best.to_picture
    # a reduced pixel's middle lies half its own size from its edge
    grown = np.array([[1, 0, (shrink - 1) / 2], [0, 1, (shrink - 1) / 2], [0, 0, 1]]) @ grown
    return Pose(grown / grown[2, 2], best.light, best.matched, best.cover)


def _worth(pose: Pose) -> float:
    return len(pose.matched) * (0.3 + max(pose.cover, 0.0))


def _shrunk(grey: NDArray[np.uint8], shrink: float) -> Array:
    """The picture in fewer pixels, each the mean of those it stands for."""
    from PIL import Image

    size = (round(grey.shape[1] / shrink), round(grey.shape[0] / shrink))
    return np.asarray(Image.fromarray(grey).resize(size, Image.Resampling.BOX), dtype=np.float32)


def _off_the_plate(small: Array) -> tuple[Array, float]:
    """How much lighter each pixel is than the plate around it, and the deviation of the plate's
    grain. The plate is the median around: lines cover less than half of any neighbourhood.
    """
    smooth = ndimage.gaussian_filter(small, 0.7)
    few = ndimage.median_filter(small[::SPARSE, ::SPARSE], AROUND_PX // SPARSE, mode="nearest")
    rows, columns = (np.arange(n, dtype=np.float32) / SPARSE for n in small.shape)
    grid = np.meshgrid(rows, columns, indexing="ij")
    ground = ndimage.map_coordinates(few, grid, order=1, mode="nearest", output=np.float32)
    off = smooth - ground
    return off, by_median(off) + 0.5


def _mask(off: Array, deviation: float) -> NDArray[np.bool_]:
    """What stands out of the plate's grain by far."""
    return np.asarray(off > max(STANDS_OUT * deviation, 0.25 * float(np.quantile(off, 0.995))))


def _lines(mask: NDArray[np.bool_]) -> list[_Line]:
    """The long parallel lines of a mask, in their order across."""
    names, count = ndimage.label(mask, np.ones((3, 3)))
    if count == 0:
        return []
    sizes = np.bincount(names.ravel())
    pieces = []
    boxes = ndimage.find_objects(names)
    for n in np.argsort(sizes[1:])[::-1][:600]:
        if sizes[n + 1] < 25:
            break
        rows, columns = np.nonzero(names[boxes[n]] == n + 1)
        points = np.stack([columns + boxes[n][1].start, rows + boxes[n][0].start], axis=1)
        middle = points.mean(axis=0)
        spread, axes = np.linalg.eigh(np.cov((points - middle).T) + 1e-9 * np.eye(2))
        along = (points - middle) @ axes[:, 1]
        length = float(np.ptp(along))
        if length > 12 and length > THIN * sizes[n + 1] / length:
            ends = (middle + axes[:, 1] * along.min(), middle + axes[:, 1] * along.max())
            pieces.append(_Piece(middle, axes[:, 1], length, ends))
    if not pieces:
        return []
    longest = max(p.length for p in pieces)
    pieces = [p for p in pieces if p.length > SHORTEST * longest]
    angles = np.array([np.arctan2(p.axis[1], p.axis[0]) for p in pieces])
    weight = np.array([p.length for p in pieces])
    turn = _usual_angle(angles, weight)
    off = np.abs((angles - turn + np.pi / 2) % np.pi - np.pi / 2)
    pieces = [p for p, a in zip(pieces, off, strict=True) if a < np.radians(SPREAD_DEG)]
    return _joined(pieces, turn)


def _usual_angle(angles: Array, weight: Array) -> float:
    """The direction that most length lies near."""
    apart = np.abs((angles[:, None] - angles[None] + np.pi / 2) % np.pi - np.pi / 2)
    near = ((apart < np.radians(SPREAD_DEG / 2)) * weight).sum(axis=1)
    first = float(angles[np.argmax(near)])
    rest = (angles - first + np.pi / 2) % np.pi - np.pi / 2
    close = np.abs(rest) < np.radians(SPREAD_DEG / 2)
    return first + float(np.average(rest[close], weights=weight[close]))


def _joined(pieces: list[_Piece], turn: float) -> list[_Line]:
    """Pieces that lie in a row become one line: each goes to the longer one whose course it lies
    on.
    """
    if not pieces:
        return []
    along, across = np.array([np.cos(turn), np.sin(turn)]), np.array([-np.sin(turn), np.cos(turn)])
    centre = np.average([p.middle for p in pieces], axis=0, weights=[p.length for p in pieces])
    pieces = sorted(pieces, key=lambda p: -p.length)
    long = [p for p in pieces if p.length > 0.4 * pieces[0].length]
    gaps = np.diff(np.sort([p.passes(centre, along) @ across for p in long]))
    gaps = gaps[gaps > 3]
    near = 0.3 * float(np.quantile(gaps, 0.2)) if len(gaps) else 6.0
    groups: list[list[_Piece]] = []
    for piece in pieces:
        off = [abs((g[0].passes(piece.middle, along) - piece.middle) @ across) for g in groups]
        if off and min(off) < near:
            groups[int(np.argmin(off))].append(piece)
        else:
            groups.append([piece])
    longest = max(sum(p.length for p in group) for group in groups)
    lines = []
    for group in groups:
        ends = sorted((e for p in group for e in p.ends), key=lambda e: float(e @ along))
        if sum(p.length for p in group) > 0.25 * longest:
            crossing = float((group[0].passes(centre, along) - centre) @ across)
            lines.append(_Line(np.stack([ends[0], ends[-1]]), crossing))
    return lines


def _poses(
    lines: list[_Line], drawing: Drawing, mask: NDArray[np.bool_], light: bool
) -> list[Pose]:
    """What the order and the gaps of the lines allow, each with how well the whole drawing fits."""
    heights = drawing.lines[:, :, 1].mean(axis=1)
    order = np.argsort(heights)
    found = []
    crossings = np.array([line.crossing for line in lines])
    near = ndimage.binary_dilation(mask, iterations=1)
    for direction in (1, -1):
        for pairs in _matches(direction * crossings, heights[order], direction):
            which = [order[j] for _, j in pairs]
            seen = np.array([lines[i].ends for i, _ in pairs])
            for mirror in (False, True):
                ends = seen[:, ::-1] if mirror else seen
                plate = drawing.lines[which].reshape(-1, 2)
                form = _robust(plate, ends.reshape(-1, 2))
                if form is not None:
                    cover = _cover(form, drawing, near)
                    found.append(Pose(form, light, tuple(sorted(int(w) for w in which)), cover))
    return found


def _matches(
    crossings: Array, heights: Array, direction: int
) -> list[list[tuple[int, int]]]:
    """Ways to take lines in the picture for printed ones, by a projective map of their places; the
    best few, as pairs (line, printed).
    """
    ranked = np.argsort(crossings)
    seen = crossings[ranked]
    pitch = float(np.median(np.diff(heights)))
    ways: dict[tuple[tuple[int, int], ...], float] = {}
    n, m = len(seen), len(heights)
    middle = n // 2
    for i0, i1 in itertools.product(range(min(3, n)), range(max(n - 3, 0), n)):
        for j0, j1 in itertools.product(range(min(3, m)), range(max(m - 3, 0), m)):
            if not (i0 < middle < i1 and j0 < j1):
                continue
            guess = j0 + (j1 - j0) * (middle - i0) / (i1 - i0)
            for jm in range(max(int(guess) - 3, j0 + 1), min(int(guess) + 5, j1)):
                map_ = _projective(seen[[i0, middle, i1]], heights[[j0, jm, j1]])
                if map_ is None:
                    continue
                a, b, c = map_
                below = c * seen + 1
                if (below <= 0.2).any():
                    continue
                at = (a * seen + b) / below
                nearest = np.abs(at[:, None] - heights[None]).argmin(axis=1)
                off = np.abs(at - heights[nearest])
                good = off < FITS * pitch
                pairs = tuple((int(ranked[k]), int(nearest[k])) for k in np.flatnonzero(good))
                if len({j for _, j in pairs}) == len(pairs) >= LEAST_LINES:
                    worth = len(pairs) - float(off[good].mean()) / pitch
                    ways[pairs] = max(worth, ways.get(pairs, -np.inf))
    best = sorted(ways, key=lambda p: -ways[p])[:6]
    return [list(p) for p in best]


def _projective(seen: Array, heights: Array) -> tuple[float, float, float] | None:
    """y = (a s + b)/(c s + 1) through three points."""
    table = np.stack([seen, np.ones(3), -seen * heights], axis=1)
    try:
        a, b, c = np.linalg.solve(table, heights)
    except np.linalg.LinAlgError:
        return None
    return float(a), float(b), float(c)


def _robust(plate: Array, picture: Array) -> Array | None:
    """A homography by least distances, which ends off their places (a line that fades away) do not
    spoil: squares weighed anew by how far each was off.
    """
    if len(plate) < 6:
        return None
    weight = np.ones(len(plate))
    for _ in range(ROUNDS):
        form = homography(plate, picture, weight)
        miss = np.hypot(*(moved(form, plate) - picture).T)
        weight = 1 / np.maximum(miss, 0.7)
    return form


def _refined(rough: list[Pose], drawing: Drawing, mask: NDArray[np.bool_]) -> list[Pose]:
    """Poses moved so that the whole drawing lies on what is seen near it: a lens bends lines that a
    homography has straight.
    """
    nearest = ndimage.distance_transform_edt(~mask, return_distances=False, return_indices=True)
    near = ndimage.binary_dilation(mask)
    along = np.linspace(0.02, 0.98, 25)[:, None]
    middles = [line[0] + along * (line[1] - line[0]) for line in drawing.lines]
    plate = np.concatenate([drawing.rest, *middles])
    out = []
    for pose in rough:
        form = pose.to_picture
        for _ in range(3):
            at = moved(form, plate)
            cell = np.rint(at).astype(int)
            inside = (cell >= 0).all(axis=1) & (cell[:, ::-1] < mask.shape).all(axis=1)
            if inside.sum() < 50:
                break
            row, column = nearest[:, cell[inside, 1], cell[inside, 0]]
            goal = np.stack([column, row], axis=1)
            miss = np.hypot(*(goal - at[inside]).T)
            reach = REACH_MM * min(pose.scale_at(plate.mean(axis=0)))
            close = miss < max(reach, 2.0)
            if close.sum() < 50:
                break
            goal = np.where(miss[:, None] < 1.0, at[inside], goal)
            weight = 1 / np.maximum(miss[close], 0.7)
            form = homography(plate[inside][close], goal[close], weight)
        out.append(Pose(form, pose.light, pose.matched, _cover(form, drawing, near)))
    return out


def _cover(form: Array, drawing: Drawing, near: NDArray[np.bool_]) -> float:
    """Share of the rest of the drawing that is seen, less that of bare places."""

    def share(points: Sequence[Array] | Array) -> float:
        at = np.rint(moved(form, np.asarray(points))).astype(int)
        inside = (at >= 0).all(axis=1) & (at[:, 0] < near.shape[1]) & (at[:, 1] < near.shape[0])
        if inside.mean() < 0.7:
            return 0.0
        return float(near[at[inside, 1], at[inside, 0]].sum() / len(at))

    return share(drawing.rest) - share(drawing.bare)
