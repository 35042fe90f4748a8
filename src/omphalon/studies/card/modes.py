"""What the combs of a card say of an axis's modes."""

from __future__ import annotations

from omphalon.physics.swing import Swings, fit_swings
from omphalon.remarks import Refusal
from omphalon.stages import begins
from omphalon.studies.card.sight import CardSight

BEAD_SHARE = 1.2  # of a line's width: over it bead and edges show the mean of its course
FEWEST_LINES, FEWEST_READINGS = 6, 20  # of a comb's that must be read, and of a line


def swings_of(sight: CardSight) -> dict[str, Swings]:
    """The modes of each axis, over all lines of the combs that swing along it.

    Raises
    ------
    Refusal
        Where too few lines, or of one speed alone, can be read.
    """
    found = {}
    for axis, across in (("x", "y"), ("y", "x")):
        lines = [c.trace(sight.card) for c in sight.combs if c.comb.axis == across]
        lines = [line for line in lines if len(line.along_mm) > FEWEST_READINGS]
        if len(lines) < FEWEST_LINES or len({line.speed_mm_s for line in lines}) < 2:
            raise Refusal("combs-unread", axis=axis, count=len(lines))
        begins(f"modes of {axis.upper()} are fitted")
        found[axis] = fit_swings(lines, BEAD_SHARE * sight.card.width_mm)
    return found
