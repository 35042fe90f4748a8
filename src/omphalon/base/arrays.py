"""The kinds of array that pass from room to room; shapes stand with each use, as (n,) or (n, k)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
Complexes = NDArray[np.complex128]
Integers = NDArray[np.int64]
Mask = NDArray[np.bool_]
