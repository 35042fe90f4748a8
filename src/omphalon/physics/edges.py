"""The two edges of a printed line in a picture, to a part of a pixel, and the widths between them.

An edge lies where the picture crosses the middle between plate and plastic: that place does not
move when a symmetric blur is added (for lines some blurs wide). Shading shifts both of a line's
edges alike all along it, so that differences of widths hold where widths themselves are a little
off.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.special import erf

from omphalon.base.arrays import Array, Mask
from omphalon.physics.pose import Pose

STEP_MM = 0.125  # along a line
REACH_MM = 1.6  # to both sides of it
GROUND_MM = (0.95, 1.5)  # where the plate is read, from the line's middle
BODY_MM = 0.12  # where the plastic is read
LEVEL_MM, TRACK_MM = 24.0, 6.0  # over which contrast and middle are smoothed
GAP_MM = 0.22  # of light or dark inside a line that is closed: a highlight
MOST_DIMMED, BODY_SHARE = 0.6, 0.9  # the middle is read over BODY_MM: a little off its top
BRIGHT, DARK = 252, 3  # beyond: no light is told from more
MOST_CLIPPED = (0.6, 0.3)  # of a line's body (highlights are), and of the plate


@dataclass(frozen=True, kw_only=True)
class Edges:
    """A line's edges along it: `along_mm` (n,) from its start, `low_mm` and `high_mm` (n,) to both
    sides of where it was meant to lie, and where they can be trusted.

    `contrast` (n,) is between plate and plastic in grey levels, `blur_mm` the deviation of its
    edges, `clipped` the shares of its body, and of the plate beside it, that are at the end of
    the scale.
    """

    along_mm: Array
    low_mm: Array
    high_mm: Array
    good: Mask
    contrast: Array
    blur_mm: float
    clipped: tuple[float, ...]

    @property
    def width_mm(self) -> Array:
        """Between the edges."""
        return self.high_mm - self.low_mm

    def mean(self, from_mm: float, to_mm: float) -> tuple[float, float]:
        """Mean width over a stretch, and the share of it that can be trusted."""
        here = (self.along_mm >= from_mm) & (self.along_mm < to_mm)
        good = here & self.good
        if not good.any():
            return np.nan, 0.0
        return float(self.width_mm[good].mean()), float(good.sum() / here.sum())


def course(grey: NDArray[np.uint8], pose: Pose, ends_mm: Array) -> Edges:
    """Follow a line in a picture.

    Parameters
    ----------
    grey : (rows, columns)
    pose : where the print lies
    ends_mm : (2, 2)
        The line's start and end on the plate, along x.

    Returns
    -------
    Edges
    """
    length = float(np.hypot(*(ends_mm[1] - ends_mm[0])))
    along = np.arange(STEP_MM / 2, length, STEP_MM)
    scale = min(pose.scale_at(ends_mm.mean(axis=0)))
    step = 0.7 / scale
    across = np.arange(-REACH_MM, REACH_MM + step, step)
    strip = _strip(grey, pose, ends_mm, along, across)
    clipped = (strip >= BRIGHT) | (strip <= DARK)
    ground = _ground(strip, along, across, pose.light)
    off = (strip - ground) * (1.0 if pose.light else -1.0)
    middle, contrast = _tracked(off, across)
    body = np.abs(across[None] - middle[:, None]) < BODY_MM
    low, high, seen, slope = _edges(off, across, middle, contrast, step)
    contrast = contrast / _dimmed(along, high - low, contrast, slope, seen)
    low, high, seen, slope = _edges(off, across, middle, contrast, step)
    plate = np.abs(across[None] - middle[:, None]) > GROUND_MM[0]
    grain = float(np.median(np.abs(off[plate])))
    good = seen & (contrast > 4 * grain) & (high - low < 1.8)
    blur = contrast / np.maximum(slope, 1e-6) / np.sqrt(2 * np.pi)
    return Edges(
        along_mm=along,
        low_mm=low,
        high_mm=high,
        good=good,
        contrast=contrast,
        blur_mm=float(np.median(blur[good])) if good.any() else np.inf,
        clipped=tuple(float(clipped[where].mean()) for where in (body, plate)),
    )


def _strip(
    grey: NDArray[np.uint8], pose: Pose, ends_mm: Array, along: Array, across: Array
) -> Array:
    """The picture along a line, straightened: (along, across)."""
    way = (ends_mm[1] - ends_mm[0]) / np.hypot(*(ends_mm[1] - ends_mm[0]))
    side = np.array([-way[1], way[0]])
    columns, rows = pose.grid(ends_mm[0], along[:, None] * way, across[:, None] * side)
    # a homography keeps straight lines straight: the corners are the outermost
    corners = np.ix_([0, -1], [0, -1])
    spans = []
    for values in (rows, columns):
        first, last = np.floor(values[corners].min()) - 2, np.ceil(values[corners].max()) + 3
        spans.append(slice(max(int(first), 0), max(int(last), 0)))
    part = grey[tuple(spans)]
    if part.size == 0:
        return np.zeros((len(along), len(across)), dtype=np.float32)
    at = [v - span.start for v, span in zip((rows, columns), spans, strict=True)]
    return np.asarray(ndimage.map_coordinates(part, at, output=np.float32, order=1, mode="nearest"))


def _ground(strip: Array, along: Array, across: Array, light: bool) -> Array:
    """The plate's level under the line, straight from one side to the other."""
    window = max(round(3.0 / STEP_MM), 1)
    levels, places = [], []
    for side in (-1, 1):
        where = (side * across >= GROUND_MM[0]) & (side * across <= GROUND_MM[1])
        level = np.median(strip[:, where], axis=1)
        levels.append(ndimage.median_filter(level, window, mode="nearest"))
        places.append(float(across[where].mean()))
    share = (across - places[0]) / (places[1] - places[0])
    return np.asarray(levels[0][:, None] * (1 - share) + levels[1][:, None] * share)


def _tracked(off: Array, across: Array) -> tuple[Array, Array]:
    """The line's middle and its contrast along it, both smooth."""
    smooth = ndimage.uniform_filter1d(off, max(round(0.5 / STEP_MM), 1), axis=0)
    near = np.abs(across) < 0.95
    strong = np.maximum(smooth[:, near] - 0.4 * np.quantile(smooth[:, near], 0.97), 0.0)
    weight = strong.sum(axis=1)
    there = weight > 0.3 * np.median(weight)
    middle = np.full(len(off), 0.0)
    middle[there] = (strong[there] * across[near]).sum(axis=1) / weight[there]
    at = np.arange(len(off))
    if there.sum() > 4:
        middle = np.interp(at, at[there], middle[there])
    middle = ndimage.median_filter(middle, round(TRACK_MM / STEP_MM) | 1, mode="nearest")
    body = np.abs(across[None] - middle[:, None]) < BODY_MM
    level = (smooth * body).sum(axis=1) / np.maximum(body.sum(axis=1), 1)
    level = ndimage.percentile_filter(level, 60, round(LEVEL_MM / STEP_MM) | 1, mode="nearest")
    return middle, ndimage.uniform_filter1d(level, round(TRACK_MM / STEP_MM), mode="nearest")


def _dimmed(along: Array, width: Array, contrast: Array, slope: Array, seen: Mask) -> Array:
    """What a blur leaves of a line's brightness in its middle, as a share: a strip seen through a
    Gaussian as steep as its edges are. Blur and width are taken straight along the line, so that
    what one end of a slanted picture is blurred more does not look like a width.
    """
    sigma = contrast / np.maximum(slope, 1e-6) / np.sqrt(2 * np.pi)
    use = seen & np.isfinite(slope) & (width > 0.15)
    if use.sum() < 40:
        return np.ones(len(along))
    x = (along - along.mean()) / np.ptp(along)
    near = np.abs(sigma - np.median(sigma[use])) < 0.5 * np.median(sigma[use])
    if (use & near).sum() < 40:
        return np.ones(len(along))
    straight = np.polyval(np.polyfit(x[use & near], sigma[use & near], 1), x)
    usual = float(np.median(width[use]))
    edge = usual / 2 / (np.maximum(straight, 1e-3) * np.sqrt(2))
    return np.asarray(np.clip(erf(BODY_SHARE * edge), MOST_DIMMED, 1.0))


def _edges(
    off: Array, across: Array, middle: Array, contrast: Array, step: float
) -> tuple[Array, Array, Mask, Array]:
    """Both crossings of half the contrast outwards from the middle, where there are any, and the
    steepness there.
    """
    calm = ndimage.uniform_filter1d(off, 3, axis=0, mode="nearest")
    level = 0.5 * contrast[:, None]
    above = calm > level
    hole = max(round(GAP_MM / step), 1) | 1
    wider = ndimage.maximum_filter1d(above.view(np.uint8), hole, axis=1)
    solid = ndimage.minimum_filter1d(wider, hole, axis=1).astype(bool)
    at = np.clip(np.rint((middle - across[0]) / step).astype(int), 1, len(across) - 2)
    rows = np.arange(len(off))
    places = np.arange(len(across))[None]
    right = np.where((places >= at[:, None]) & ~solid, places, len(across) - 1).min(axis=1)
    left = np.where((places <= at[:, None]) & ~solid, places, 0).max(axis=1)
    seen = solid[rows, at] & (right < len(across) - 1) & (left > 0)
    gone = ~solid[rows, at]  # nothing laid here: no width, and that is a reading too
    high, steep_high = _crossing(calm, level[:, 0], across, right - 1, right, rows)
    low, steep_low = _crossing(calm, level[:, 0], across, left + 1, left, rows)
    low, high = np.where(gone, middle, low), np.where(gone, middle, high)
    return low, high, seen | gone, np.where(gone, np.inf, (steep_low + steep_high) / 2)


def _crossing(
    off: Array,
    level: Array,
    across: Array,
    inner: NDArray[np.intp],
    outer: NDArray[np.intp],
    rows: NDArray[np.intp],
) -> tuple[Array, Array]:
    """Where the straight line between two neighbours crosses a level, and how steep it is."""
    inner = np.clip(inner, 0, len(across) - 1)
    a, b = off[rows, inner], off[rows, outer]
    share = np.clip((a - level) / np.where(np.abs(a - b) > 1e-6, a - b, 1e-6), 0, 1)
    gap = across[outer] - across[inner]
    return across[inner] + share * gap, np.abs(a - b) / np.maximum(np.abs(gap), 1e-9)
