"""From millimetres on the plate to pixels of a picture: homographies."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from omphalon.arrays import Array


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
