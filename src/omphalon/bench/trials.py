"""Trial prints: which single changes made most difference."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from omphalon.bench.journal import Entry


@dataclass(frozen=True, kw_only=True)
class Ranked:
    """A change, the mean difference of score that came with it, and how far to trust that."""

    change: str
    difference: float
    told: str


def ranked(trials: Sequence[Entry]) -> list[Ranked]:
    """Changes by the size of what they did to the score of the trial before.

    Parameters
    ----------
    trials : in any order; those without a score are passed over

    Returns
    -------
    list of Ranked
        Changes made together stand as one, since nobody can tell them apart.
    """
    scored = sorted((t for t in trials if t.body["score"] is not None), key=lambda t: t.id)
    differences: dict[tuple[str, ...], list[float]] = {}
    for before, after in zip(scored, scored[1:], strict=False):
        changes = tuple(sorted(after.body["changed"]))
        if changes:
            differences.setdefault(changes, []).append(
                float(after.body["score"]) - float(before.body["score"])
            )
    rows = [
        Ranked(
            change=" and ".join(changes),
            difference=statistics.fmean(found),
            told=_spread_words(len(changes), found),
        )
        for changes, found in differences.items()
    ]
    return sorted(rows, key=lambda r: -abs(r.difference))


def _spread_words(together: int, found: Sequence[float]) -> str:
    times = (
        "tried once" if len(found) == 1 else f"± {statistics.stdev(found):.2g} over {len(found)}"
    )
    return times + (", changed together: cannot be told apart" if together > 1 else "")
