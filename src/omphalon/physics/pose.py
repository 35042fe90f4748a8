"""Where a print of parallel lines lies in a picture: from pixels to millimetres on the plate.

Long thin pieces are found in the picture, put together to lines, and the order and gaps of those
lines held against the printed ones, whatever end of the picture the print begins at, turned,
mirrored, or seen at a slant. Of what fits, the one whose drawing covers what is seen, and no more,
is taken.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from omphalon.arrays import Array
from omphalon.physics.pieces import LongLine, long_lines, off_the_plate, shrunk, standing_out

COARSE_PX = 2200  # long side of the picture in which pieces are sought
FITS = 0.16  # of the pitch: how near a line must lie to the one it is taken for
LEAST_LINES = 4
ROUNDS, STILL_PX = 12, 0.02  # of weighing anew; less than that is no news
CANDIDATES, REACH_MM, REACH_PX = 5, 1.0, 40  # poses that are moved to fit, how far for a point
SURE = 0.5  # a cover that needs no second look


@dataclass(frozen=True)
class Drawing:
    """A print as it lies on the plate, in mm: `lines` (n, 2, 2) with the ends of its parallel
    lines, all along x; `rest` (m, 2) points on everything else; `bare` (k, 2) points where
    nothing is.
    """

    lines: Array
    rest: Array
    bare: Array


@dataclass(frozen=True)
class Pose:
    """The homography from the plate (mm) to the picture (column, row), and how well it fits.

    `light` is whether the print is lighter than the plate, `matched` which lines were found,
    `cover` the share of the rest of the drawing that is seen less that of bare places that are.
    """

    to_picture: Array
    light: bool
    matched: tuple[int, ...]
    cover: float

    def seen_at(self, places_mm: Array) -> Array:
        """Pixels (…, 2) as (column, row) of places (…, 2) in mm."""
        return moved(self.to_picture, places_mm)

    def grid(self, start_mm: Array, along_mm: Array, across_mm: Array) -> tuple[Array, Array]:
        """Columns and rows (n, m) in the picture of places on the plate: from a start by each of n
        vectors (n, 2) and each of m (m, 2).
        """
        first, second, third = (
            (along_mm @ row[:2] + start_mm @ row[:2] + row[2])[:, None] + across_mm @ row[:2]
            for row in self.to_picture
        )
        return first / third, second / third

    def steps_at(self, place_mm: Array) -> Array:
        """How far (column, row) a mm along x, and one along y, leads at a place; (2, 2)."""
        at, *on = self.seen_at(place_mm + np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0]]))
        return np.asarray(np.stack(on) - at)

    def scale_at(self, place_mm: Array) -> tuple[float, float]:
        """Pixels a mm along x and y at a place."""
        along_x, along_y = np.hypot(*self.steps_at(place_mm).T)
        return float(along_x), float(along_y)

    @property
    def mirrored(self) -> bool:
        """Whether the picture shows the print from behind."""
        return bool(np.linalg.det(self.to_picture[:2, :2]) > 0)


def moved(homography: Array, points: Array) -> Array:
    """Points through a homography.

    Parameters
    ----------
    homography : (3, 3)
    points : (…, 2)

    Returns
    -------
    (…, 2)
    """
    lifted = np.concatenate([points, np.ones((*points.shape[:-1], 1))], axis=-1) @ homography.T
    return np.asarray(lifted[..., :2] / lifted[..., 2:])


def homography(plate: Array, picture: Array, weight: Array) -> Array:
    """The homography that takes points to others, by least squares: the direct linear transform,
    both sides scaled.

    Parameters
    ----------
    plate, picture : (n, 2)
        Four at least.
    weight : (n,)

    Returns
    -------
    (3, 3)

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
    small = shrunk(grey, shrink)
    off, deviation = off_the_plate(small)
    best: Pose | None = None
    low, high = np.quantile(off[::3, ::3], [0.002, 0.998])
    for light in (True, False) if high > -low else (False, True):
        if best is not None and best.cover > SURE:
            break
        mask = standing_out(off if light else -off, deviation)
        lines = long_lines(mask)
        if len(lines) < LEAST_LINES:
            continue
        near = _widened(mask)
        rough = sorted(_poses(lines, drawing, near, light), key=_worth)[-CANDIDATES:]
        for found in _refined(rough, drawing, mask, near):
            if best is None or _worth(found) > _worth(best):
                best = found
    if best is None:
        return None
    grown = np.diag([shrink, shrink, 1.0]) @ best.to_picture
    # a reduced pixel's middle lies half its own size from its edge
    grown = np.array([[1, 0, (shrink - 1) / 2], [0, 1, (shrink - 1) / 2], [0, 0, 1]]) @ grown
    return Pose(grown / grown[2, 2], best.light, best.matched, best.cover)


def _widened(mask: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """A mask with the four neighbours of all it holds; SciPy's dilation takes 0.12 s of a photo's
    1.5 s for it.
    """
    wide = mask.copy()
    wide[1:] |= mask[:-1]
    wide[:-1] |= mask[1:]
    wide[:, 1:] |= mask[:, :-1]
    wide[:, :-1] |= mask[:, 1:]
    return wide


def _worth(pose: Pose) -> float:
    return len(pose.matched) * (0.3 + max(pose.cover, 0.0))


def _poses(
    lines: list[LongLine], drawing: Drawing, near: NDArray[np.bool_], light: bool
) -> list[Pose]:
    """What the order and the gaps of the lines allow, each with how well the whole drawing fits."""
    heights = drawing.lines[:, :, 1].mean(axis=1)
    order = np.argsort(heights)
    found = []
    crossings = np.array([line.crossing for line in lines])
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


def _matches(crossings: Array, heights: Array, direction: int) -> list[list[tuple[int, int]]]:
    """Ways to take lines in the picture for printed ones, by a projective map of their places; the
    best few, as pairs (line, printed).
    """
    ranked = np.argsort(crossings)
    seen = crossings[ranked]
    pitch = float(np.median(np.diff(heights)))
    triples = _triples(len(seen), len(heights))
    if not len(triples):
        return []
    a, b, c = _projective(seen[triples[:, :3]], heights[triples[:, 3:]])
    below = c[:, None] * seen + 1
    sound = np.isfinite(a + b) & (below > 0.2).all(axis=1)
    at = (a[sound, None] * seen + b[sound, None]) / below[sound]
    nearest = np.abs(at[..., None] - heights).argmin(axis=-1)
    off = np.abs(at - heights[nearest])
    ways: dict[tuple[tuple[int, int], ...], float] = {}
    for which, away, good in zip(nearest, off, off < FITS * pitch, strict=True):
        places = np.flatnonzero(good)
        if len(places) >= LEAST_LINES and len(set(which[good].tolist())) == len(places):
            pairs = tuple((int(ranked[k]), int(which[k])) for k in places)
            worth = len(pairs) - float(away[good].mean()) / pitch
            ways[pairs] = max(worth, ways.get(pairs, -np.inf))
    best = sorted(ways, key=lambda p: -ways[p])[:6]
    return [list(p) for p in best]


def _triples(n: int, m: int) -> NDArray[np.intp]:
    """Three of n lines in the picture, two near the ends and the middle one, and what three of m
    printed ones they may be; (k, 6).
    """
    middle = n // 2
    found = []
    for i0, i1 in itertools.product(range(min(3, n)), range(max(n - 3, 0), n)):
        for j0, j1 in itertools.product(range(min(3, m)), range(max(m - 3, 0), m)):
            if not (i0 < middle < i1 and j0 < j1):
                continue
            guess = int(j0 + (j1 - j0) * (middle - i0) / (i1 - i0))
            between = range(max(guess - 3, j0 + 1), min(guess + 5, j1))
            found += [(i0, middle, i1, j0, jm, j1) for jm in between]
    return np.array(found, dtype=np.intp).reshape(-1, 6)


def _projective(seen: Array, heights: Array) -> tuple[Array, Array, Array]:
    """a, b, c (k,) of y = (a s + b)/(c s + 1) through three points, row by row of (k, 3); not
    finite where there is none.
    """
    product = seen * heights
    (s0, s1), (y0, y1), (p0, p1) = (np.diff(v, axis=1).T for v in (seen, heights, product))
    with np.errstate(divide="ignore", invalid="ignore"):
        whole = s1 * p0 - s0 * p1
        a, c = (y1 * p0 - y0 * p1) / whole, (s0 * y1 - s1 * y0) / whole
        return a, heights[:, 0] - a * seen[:, 0] + c * product[:, 0], c


def _robust(plate: Array, picture: Array) -> Array | None:
    """A homography by least distances, which ends off their places (a line that fades away) do not
    spoil: squares weighed anew by how far each was off.
    """
    if len(plate) < 6:
        return None
    weight = np.ones(len(plate))
    miss = np.full(len(plate), np.inf)
    for _ in range(ROUNDS):
        form = homography(plate, picture, weight)
        before, miss = miss, np.hypot(*(moved(form, plate) - picture).T)
        if np.abs(miss - before).max() < STILL_PX:
            break
        weight = 1 / np.maximum(miss, 0.7)
    return form


def _refined(
    rough: list[Pose], drawing: Drawing, mask: NDArray[np.bool_], near: NDArray[np.bool_]
) -> list[Pose]:
    """Poses moved so that the whole drawing lies on what is seen near it: a lens bends lines that a
    homography has straight.
    """
    along = np.linspace(0.02, 0.98, 25)[:, None]
    middles = [line[0] + along * (line[1] - line[0]) for line in drawing.lines]
    plate = np.concatenate([drawing.rest, *middles])
    out = []
    for pose in rough:
        form = pose.to_picture
        reach = float(np.clip(REACH_MM * min(pose.scale_at(plate.mean(axis=0))), 2.0, REACH_PX))
        for _ in range(3):
            at = moved(form, plate)
            cell = np.rint(at).astype(int)
            inside = (cell >= 0).all(axis=1) & (cell[:, ::-1] < mask.shape).all(axis=1)
            if inside.sum() < 50:
                break
            goal = _nearest(mask, cell[inside], reach)
            miss = np.hypot(*(goal - at[inside]).T)
            close = miss < reach
            if close.sum() < 50:
                break
            goal = np.where(miss[:, None] < 1.0, at[inside], goal)
            weight = 1 / np.maximum(miss[close], 0.7)
            form = homography(plate[inside][close], goal[close], weight)
        out.append(Pose(form, pose.light, pose.matched, _cover(form, drawing, near)))
    return out


def _nearest(mask: NDArray[np.bool_], cell: NDArray[np.intp], reach: float) -> Array:
    """The nearest place of a mask to each of some cells (n, 2), as (column, row); infinitely far
    where there is none within reach. SciPy's distance transform, of the whole picture, takes 0.3 s.
    """
    span = int(np.ceil(reach))
    away = np.argwhere(np.ones((2 * span + 1, 2 * span + 1))) - span
    far = np.hypot(*away.T)
    away = away[np.argsort(far, kind="stable")][: int((far <= reach).sum())]
    wide = np.pad(mask, span)
    out = cell.astype(float)
    off = np.flatnonzero(~mask[cell[:, 1], cell[:, 0]])
    seen = wide[cell[off, 1, None] + away[:, 1] + span, cell[off, 0, None] + away[:, 0] + span]
    first = seen.argmax(axis=1)
    out[off] = np.where(seen.any(axis=1)[:, None], cell[off] + away[first], np.inf)
    return out


def _cover(form: Array, drawing: Drawing, near: NDArray[np.bool_]) -> float:
    """Share of the rest of the drawing that is seen, less that of bare places."""

    def share(points: Array) -> float:
        at = np.rint(moved(form, points)).astype(int)
        inside = (at >= 0).all(axis=1) & (at[:, 0] < near.shape[1]) & (at[:, 1] < near.shape[0])
        if inside.mean() < 0.7:
            return 0.0
        return float(near[at[inside, 1], at[inside, 0]].sum() / len(at))

    return share(drawing.rest) - share(drawing.bare)
