"""What the combs of a card say of an axis's modes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from omphalon.answers.remarks import Refusal, Remark
from omphalon.base.stages import begins
from omphalon.physics.swing import Swings, fit_swings
from omphalon.prints.card import Card
from omphalon.recordings.recording import GreyPicture
from omphalon.studies.card.sight import CardSight, look
from omphalon.studies.shaper.modes import AxisReading, HowRead

BEAD_SHARE = 1.2  # of a line's width: over it bead and edges show the mean of its course
MOST_OF_IT = 0.7  # of the motion: with less seen, a mode is likely missing
FEWEST_LINES, FEWEST_READINGS = 6, 20  # of a comb's that must be read, and of a line


def swings_of(sight: CardSight, axes: str = "xy") -> dict[str, Swings]:
    """The modes of each axis, over all lines of the combs that swing along it.

    Raises Refusal where too few lines, or of one speed alone, can be read.
    """
    found = {}
    for axis in axes:
        lines = [c.trace(sight.card) for c in sight.combs if c.comb.axis != axis]
        lines = [line for line in lines if len(line.along_mm) > FEWEST_READINGS]
        if len(lines) < FEWEST_LINES or len({line.speed_mm_s for line in lines}) < 2:
            raise Refusal("combs-unread", axis=axis, count=len(lines))
        begins(f"modes of {axis.upper()} are fitted")
        found[axis] = fit_swings(lines, BEAD_SHARE * sight.card.width_mm)
    return found


def readings_of(sight: CardSight, swings: Mapping[str, Swings]) -> dict[str, AxisReading]:
    """The axes whose modes are seen, as a shaper's choice takes them.

    Raises Refusal where no axis shows any.
    """
    found = {
        axis: AxisReading(
            axis=axis,
            modes=seen.modes,
            sensor_axis="–",
            how=HowRead(
                way="card", facts={"count": len(seen.lines), "noise": 1000 * seen.noise_mm}
            ),
            remarks=_unseen(axis, seen),
            seen_to_hz=seen.seen_to_hz,
        )
        for axis, seen in swings.items()
        if seen.modes
    }
    if not found:
        noise = max(s.noise_mm for s in swings.values())
        facts = {"noise": 1000 * noise, "speed": sight.card.comb_acceleration_mm_s2}
        raise Refusal("no-ringing", **facts)
    return found


def _unseen(axis: str, seen: Swings) -> tuple[Remark, ...]:
    """A word where the modes that are seen leave much of the motion over."""
    if seen.whole > MOST_OF_IT:
        return ()
    facts = {"axis": axis, "share": seen.whole, "frequency": seen.seen_to_hz}
    return (Remark("rest-unseen", **facts),)


def axis_on_card(
    picture: GreyPicture, cards: Sequence[Card], file: str | None, axis: str
) -> AxisReading:
    """One axis, read off a card's picture.

    `cards`: that it may be of. `file`: the one that was said to be its print; None: the card says
    which. Raises Refusal where the picture does not show what is needed.
    """
    sight = look(picture, cards, file)
    return readings_of(sight, swings_of(sight, axis))[axis]
