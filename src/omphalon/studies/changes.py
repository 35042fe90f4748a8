"""Two logs, before and after: which figures have changed beyond chance, and by how much."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from omphalon.physics.comparison import changes, named

FALSE = 0.05  # of false ones among those that are named


@dataclass(frozen=True, kw_only=True)
class Pair:
    """A figure in two logs, with the standard deviation of each."""

    name: str
    before: float
    before_deviation: float
    after: float
    after_deviation: float


@dataclass(frozen=True, kw_only=True)
class Change:
    """A figure's change, the half width of its 95 % interval, and whether it is beyond chance."""

    pair: Pair
    change: float
    half_width: float
    differs: bool


def held_against(pairs: Sequence[Pair]) -> tuple[Change, ...]:
    """Whether each figure changed beyond chance.

    In the same order. Of many figures together, FALSE of those named are wrong, on the average.
    """
    change = np.array([p.after - p.before for p in pairs])
    deviation = np.array([np.hypot(p.before_deviation, p.after_deviation) for p in pairs])
    half, chance = changes(change, deviation)
    return tuple(
        Change(pair=p, change=float(c), half_width=float(h), differs=bool(d))
        for p, c, h, d in zip(pairs, change, half, named(chance, FALSE), strict=True)
    )


def changes_document(found: Sequence[Change]) -> dict[str, dict[str, object]]:
    """The changes by their names, for a document."""
    return {
        c.pair.name: {
            "before": c.pair.before,
            "after": c.pair.after,
            "change": c.change,
            "half_width": c.half_width,
            "beyond_chance": c.differs,
        }
        for c in found
    }
