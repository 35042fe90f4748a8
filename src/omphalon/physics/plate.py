"""What stands out of the plate in a picture."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from omphalon.arrays import Array
from omphalon.physics.scale import by_median

STANDS_OUT = 4.0  # deviations above the plate's grain
AROUND_PX, SPARSE = 64, 8  # of the plate around a pixel; of them every eighth is looked at


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
