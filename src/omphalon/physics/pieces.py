"""Long thin spots of a picture, and the lines that they make up."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from omphalon.arrays import Array
from omphalon.physics.scale import by_median

STANDS_OUT = 4.0  # deviations above the plate's grain
THIN = 9.0  # length over width of a piece
SPREAD_DEG = 14.0  # between lines that are parallel on the plate, seen at a slant
AROUND_PX, SPARSE = 64, 8  # of the plate around a pixel; of them every eighth is looked at
SHORTEST = 0.08  # of the longest piece
MOST_PIECES, LEAST_PX = 600, 25  # that are looked at, and the least size of one


@dataclass(frozen=True)
class Piece:
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
class LongLine:
    """Pieces in a row: its two ends (2, 2) as (column, row), ordered along the common direction,
    and where it crosses the middle of all.
    """

    ends: Array
    crossing: float


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
    return off, by_median(off[::3, ::3]) + 0.5


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


def long_lines(mask: NDArray[np.bool_]) -> list[LongLine]:
    """The long parallel lines of a mask.

    Parameters
    ----------
    mask : (rows, columns)

    Returns
    -------
    list of LongLine
    """
    names, count = ndimage.label(mask, np.ones((3, 3)))
    if count == 0:
        return []
    sizes = np.bincount(names.ravel())
    pieces = []
    boxes = ndimage.find_objects(names)
    for n in np.argsort(sizes[1:])[::-1][:MOST_PIECES]:
        if sizes[n + 1] < LEAST_PX:
            break
        rows, columns = np.nonzero(names[boxes[n]] == n + 1)
        points = np.stack([columns + boxes[n][1].start, rows + boxes[n][0].start], axis=1)
        middle = points.mean(axis=0)
        spread, axes = np.linalg.eigh(np.cov((points - middle).T) + 1e-9 * np.eye(2))
        along = (points - middle) @ axes[:, 1]
        length = float(np.ptp(along))
        if length > 12 and length > THIN * sizes[n + 1] / length:
            ends = (middle + axes[:, 1] * along.min(), middle + axes[:, 1] * along.max())
            pieces.append(Piece(middle, axes[:, 1], length, ends))
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


def _joined(pieces: list[Piece], turn: float) -> list[LongLine]:
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
    groups: list[list[Piece]] = []
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
            lines.append(LongLine(np.stack([ends[0], ends[-1]]), crossing))
    return lines
