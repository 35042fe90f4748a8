"""Where a card lies in a picture: what stands out of the plate, homographies from millimetres on
the plate to pixels, and the rings in a card's corners. A ring with a dot in its middle is one
however it is turned, mirrored or slanted, and of five that lie as they should one is odd.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.optimize import least_squares

from omphalon.base.arrays import Array, Mask
from omphalon.physics.scale import robust_deviation

STANDS_OUT = 4.0  # deviations above the plate's grain
AROUND_PX, SPARSE = 64, 8  # of the plate around a pixel; of them every eighth is looked at
COARSE_PX = 2200  # long side of the picture in which rings are sought
LEAST_PX, MOST_SHARE = 9, 0.2  # a ring's width: in that picture, and of its side
ROUND, CENTRED, LONGEST_AXIS = (
    0.12,
    0.15,
    3.0,
)  # how far from an ellipse, its dot off, its longer axis
DOT, INSIDE = (0.02, 0.35), 0.35  # a dot's share of its ring's width; the hole's least share
FITS = 0.03  # of the card: how near the odd ring must lie to its place
# a ring's radius by the pose, and as it is seen; what a card's sides keep of each other at a slant
SIZED, SQUARE = 0.3, 0.6
MOST_RINGS = 12
LENS_DOUBT = 0.02  # at the corner of a picture, before the card's lines are seen


def shrunk(grey: NDArray[np.uint8], shrink: float) -> Array:
    """The picture in fewer pixels, each the mean of those it stands for.

    Parameters
    ----------
    grey : (rows, columns)
    shrink : how many pixels become one, along a side

    Returns
    -------
    (rows, columns), smaller
    """
    from PIL import Image

    size = (round(grey.shape[1] / shrink), round(grey.shape[0] / shrink))
    return np.asarray(Image.fromarray(grey).resize(size, Image.Resampling.BOX), dtype=np.float32)


def off_the_plate(small: Array) -> tuple[Array, float]:
    """How much lighter each pixel is than the plate around it, and the deviation of the plate's
    grain. The plate is the median around: lines cover less than half of any neighbourhood.

    Parameters
    ----------
    small : (rows, columns)

    Returns
    -------
    (rows, columns) in grey levels, and the deviation
    """
    from PIL import Image

    smooth = ndimage.gaussian_filter(small, 0.7)
    few = ndimage.median_filter(small[::SPARSE, ::SPARSE], AROUND_PX // SPARSE, mode="nearest")
    ground = np.asarray(
        Image.fromarray(few).resize(small.shape[::-1], Image.Resampling.BILINEAR), dtype=np.float32
    )
    off = smooth - ground
    return off, robust_deviation(off[::3, ::3]) + 0.5


def standing_out(off: Array, deviation: float) -> NDArray[np.bool_]:
    """What stands out of the plate's grain by far.

    Parameters
    ----------
    off : (rows, columns)
        How much lighter each pixel is, or darker.
    deviation : of the grain

    Returns
    -------
    (rows, columns) of bool
    """
    return np.asarray(
        off > max(STANDS_OUT * deviation, 0.25 * float(np.quantile(off[::3, ::3], 0.995)))
    )


@dataclass(frozen=True)
class Pose:
    """The homography from the plate (mm) to the picture (column, row); `light`: whether the print
    is lighter than the plate.
    """

    to_picture: Array
    light: bool

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


@dataclass(frozen=True)
class LensPose(Pose):
    """A pose seen through a lens: `lens` is how much further out the corner of the picture lies
    than it should, as a share; `middle_px` (column, row) and `corner_px` of the picture.

    References
    ----------
    Brown, Close-Range Camera Calibration, Photogrammetric Engineering 37 (1971), p. 855-866.
    """

    lens: float = 0.0
    middle_px: tuple[float, float] = (0.0, 0.0)
    corner_px: float = 1.0

    def seen_at(self, places_mm: Array) -> Array:
        return self._bent(moved(self.to_picture, places_mm))

    def grid(self, start_mm: Array, along_mm: Array, across_mm: Array) -> tuple[Array, Array]:
        columns, rows = super().grid(start_mm, along_mm, across_mm)
        if self.lens == 0.0:
            return columns, rows
        bent = self._bent(np.stack([columns, rows], axis=-1))
        return bent[..., 0], bent[..., 1]

    def _bent(self, pixels: Array) -> Array:
        off = (pixels - np.array(self.middle_px)) / self.corner_px
        out = 1 + self.lens * (off**2).sum(axis=-1, keepdims=True)
        return np.asarray(np.array(self.middle_px) + off * out * self.corner_px)


@dataclass(frozen=True)
class Ring:
    """A ring in a picture: its middle (column, row), its radius in pixels, and whether it is
    lighter than the plate.
    """

    middle: Array
    radius_px: float
    light: bool


def find_rings(grey: NDArray[np.uint8]) -> list[Ring]:
    """All rings with a dot in their middle, in pixels of the picture.

    Parameters
    ----------
    grey : (rows, columns)
    """
    shrink = max(max(grey.shape) / COARSE_PX, 1.0)
    small = shrunk(grey, shrink)
    off, deviation = off_the_plate(small)
    found: list[Ring] = []
    for light in (True, False):
        mask = standing_out(off if light else -off, deviation)
        labels, _ = ndimage.label(mask, np.ones((3, 3)))
        for number, box in enumerate(ndimage.find_objects(labels), 1):
            ring = _ring(mask, labels, number, box)
            if ring is not None:
                middle, radius = ring
                # a reduced pixel's middle lies half its own size from its edge
                found.append(Ring((middle + 0.5) * shrink - 0.5, radius * shrink, light))
    ways = [[r for r in found if r.light is light] for light in (True, False)]
    return max(ways, key=len)


def _ring(
    mask: Mask, labels: NDArray[np.int32], number: int, box: tuple[slice, slice]
) -> tuple[Array, float] | None:
    """Middle and radius of a ring with a dot, or None for any other spot."""
    high, wide = (s.stop - s.start for s in box)
    if min(high, wide) < LEAST_PX or max(high, wide) > MOST_SHARE * max(mask.shape):
        return None
    own = labels[box] == number
    whole = ndimage.binary_fill_holes(own)
    area = float(whole.sum())
    rows, columns = np.nonzero(whole)
    spread = np.linalg.eigvalsh(np.cov(columns, rows))
    ellipse = 4 * np.pi * np.sqrt(max(spread[0] * spread[1], 1e-9))
    if abs(area / ellipse - 1) > ROUND or spread[1] > LONGEST_AXIS**2 * spread[0]:
        return None
    if 1 - own.sum() / area < INSIDE:
        return None
    radius = float(np.sqrt(area / np.pi))
    middle = np.array([columns.mean(), rows.mean()])
    inner = mask[box] & whole & ~own
    parts, count = ndimage.label(inner, np.ones((3, 3)))
    for n in range(1, count + 1):
        r, c = np.nonzero(parts == n)
        size = np.sqrt(len(r) / np.pi) / radius
        away = np.hypot(c.mean() - middle[0], r.mean() - middle[1])
        if DOT[0] < size < DOT[1] and away < CENTRED * radius:
            return middle + np.array([box[1].start, box[0].start]), radius
    return None


def poses_of(
    rings: list[Ring], places_mm: Array, radius_mm: float, size: tuple[int, int]
) -> list[LensPose]:
    """Every way in which five of the rings can be a card's, no ring used twice; the best first.

    Parameters
    ----------
    rings : as they were found
    places_mm : (5, 2) middles of the card's rings: four corners in turn, and the odd one
    radius_mm : of a ring, to its outer edge
    size : rows and columns of the picture
    """
    middles = np.array([r.middle for r in rings[:MOST_RINGS]])
    radii = np.array([r.radius_px for r in rings])
    card = float(np.ptp(places_mm[:, 0]))
    tried: list[tuple[float, tuple[int, ...], Array]] = []
    for five in itertools.combinations(range(len(middles)), 5):
        for odd in five:
            corners = [n for n in five if n != odd]
            at = middles[corners]
            turn = np.argsort(np.arctan2(*(at - at.mean(axis=0)).T))
            for start, way in itertools.product(range(4), (1, -1)):
                four = [corners[turn[(start + way * k) % 4]] for k in range(4)]
                form = homography(places_mm[:4], middles[four], np.ones(4))
                back = moved(np.asarray(np.linalg.inv(form)), middles[[odd]])[0]
                miss = float(np.hypot(*(back - places_mm[4])) / card)
                if miss > FITS:
                    continue
                steps = form[:2, :2] - np.outer(middles[four[0]], form[2, :2])
                longer, shorter = np.linalg.svd(steps, compute_uv=False)
                own = float(np.median(radii[list(five)])) / np.sqrt(longer * shorter)
                if shorter > SQUARE * longer and abs(own / radius_mm - 1) < SIZED:
                    unlike = miss / FITS + abs(own / radius_mm - 1) / SIZED
                    unlike += (1 - shorter / longer) / (1 - SQUARE)
                    tried.append((unlike, (*four, odd), form))
    out: list[LensPose] = []
    used: set[int] = set()
    for _, order, form in sorted(tried, key=lambda one: one[0]):
        if used.isdisjoint(order):
            used.update(order)
            half = np.hypot(*size) / 2
            middle = (size[1] / 2 - 0.5, size[0] / 2 - 0.5)
            light = rings[order[0]].light
            rough = LensPose(form, light, 0.0, middle, float(half))
            points = places_mm, np.array([middles[n] for n in order])
            out.append(fitted_pose(rough, points, None))
    return out


def fitted_pose(
    rough: LensPose, points: tuple[Array, Array], lines: tuple[Array, Array, Array] | None
) -> LensPose:
    """A pose, and its lens, moved to fit points and lines by least squares.

    Parameters
    ----------
    rough : to begin with
    points : (n, 2) on the card, and in the picture
    lines : (m, 2) points on the card's lines, (m, 2) normals of those lines, and where the lines
        are seen (m, 2), anywhere along them
    """
    start = np.append((rough.to_picture / rough.to_picture[2, 2]).ravel()[:8], rough.lens)
    size = np.maximum(np.abs(start), 1e-6)
    size[8] = LENS_DOUBT
    weight = 0.2 if lines is not None else 1.0  # rings are blobs: their middles are less sure

    def pose(p: Array) -> LensPose:
        form = np.append(p[:8] * size[:8], 1.0).reshape(3, 3)
        lens = float(p[8] * size[8])
        return LensPose(form, rough.light, lens, rough.middle_px, rough.corner_px)

    def misses(p: Array) -> Array:
        one = pose(p)
        parts = [weight * (one.seen_at(points[0]) - points[1]).ravel(), p[8:9]]
        if lines is not None:
            at, normal, seen = lines
            ends = one.seen_at(at), one.seen_at(at + 0.5 * normal)
            across = ends[1] - ends[0]
            across /= np.hypot(*across.T)[:, None]
            parts.append(((ends[0] - seen) * across).sum(axis=1))
        return np.concatenate(parts)

    return pose(least_squares(misses, start / size, x_scale="jac", loss="soft_l1").x)
