"""What figures are drawn from: numbers and short texts, worked out by a study, drawn by plots/."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Array = NDArray[np.float64]
    Mask = NDArray[np.bool_]


@dataclass(frozen=True, kw_only=True)
class StepsPicture:
    """Asked, got and deviation of each reading (n,) in mm, which were kept, the scale, and each
    one's zero error (n,).
    """

    title: str
    asked_mm: Array
    got_mm: Array
    deviation_mm: Array
    keep: Mask
    scale: float
    half_width: float
    offset_mm: Array


@dataclass(frozen=True, kw_only=True)
class RepeatsPicture:
    """Repeated readings (n,) in mm, which were kept, one's deviation, their mean with its interval,
    and the goal.
    """

    values_mm: Array
    keep: Mask
    deviation_mm: float
    mean_mm: float
    half_width_mm: float
    goal_mm: float


@dataclass(frozen=True, kw_only=True)
class LimitPicture:
    """One limit of one axis: the levels tried with pass (True) or fail, the level to trust, and the
    setting below it.
    """

    title: str
    unit: str
    levels: tuple[float, ...]
    passed: tuple[bool, ...]
    trusted: float
    setting: float
