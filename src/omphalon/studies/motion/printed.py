"""A dry run of a user's own print: its way, faster level by level."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from omphalon.answers.commands import command, prose
from omphalon.answers.finding import Plan
from omphalon.base.errors import UsageError
from omphalon.lines.dialect import Dialect
from omphalon.prints.dryrun import DryPrint
from omphalon.prints.job import levels
from omphalon.studies.motion.plan import refuse_levels, setting_lines
from omphalon.studies.motion.question import UNITS
from omphalon.tables.units import plural

FASTER = (1.0, 2.0, 0.2)  # times the print's own fastest speed: levels where none are given


@dataclass(frozen=True, kw_only=True)
class DryPrintAsked:
    """Places (n, mm) and speeds (n, mm/s) of a print's moves, what else its file held, what is
    raised and FROM, TO, STEP of it (None: from its own fastest speed up), the allowed travel, and
    the acceleration in force.
    """

    places: Sequence[tuple[float, float]]
    speeds_mm_s: Sequence[float]
    left_out: Mapping[str, int]
    quantity: str
    levels: tuple[float, float, float] | None
    travel_mm: tuple[float, float]
    across_mm: tuple[float, float]
    present: float | None = None

    @property
    def fastest_mm_s(self) -> float:
        """The print's highest commanded speed."""
        return max(self.speeds_mm_s)


def plan_dry_print(asked: DryPrintAsked, dialect: Dialect) -> tuple[Plan, DryPrint]:
    """Say how to run a print's way without plastic, and make it.

    Raises UsageError if the levels make no sense, it leaves the allowed travel, or no line sets the
    acceleration.
    """
    spans = [(min(v), max(v)) for v in zip(*asked.places, strict=True)]
    for axis, (low, high), (least, most) in zip(
        "XY", spans, (asked.travel_mm, asked.across_mm), strict=True
    ):
        if low < least or high > most:
            raise UsageError(
                f"the print takes {axis} {low:.0f} to {high:.0f} mm, allowed are {least:g} to "
                f"{most:g}",
                f"give {'--travel' if axis == 'X' else '--travel-across'} LOW:HIGH, as far as the "
                "printer can go",
            )
    fastest = asked.fastest_mm_s
    start, stop, step = asked.levels or (round(share * fastest, 1) for share in FASTER)
    refuse_levels(start, stop, step)
    values = levels(start, stop, step)
    set_lines, last = setting_lines(asked.quantity, values, asked.present, dialect)
    run = DryPrint(
        axis="x",
        low_mm=spans[0][0],
        high_mm=spans[0][1],
        across_mm=spans[1],
        places=tuple(asked.places),
        shares=tuple(speed / fastest for speed in asked.speeds_mm_s),
        levels=values,
        set_lines=set_lines,
        last_lines=last,
        run_speed_mm_s=fastest,
    )
    return _plan(asked, run), run


def _plan(asked: DryPrintAsked, dry: DryPrint) -> Plan:
    unit = UNITS[asked.quantity]
    gone = ", ".join(f"{count} {kind}" for kind, count in asked.left_out.items() if count)
    return Plan(
        kind="motion-plan",
        title=f"Dry run of a print: {dry.levels[0]:g} to {dry.levels[-1]:g} {unit}",
        steps=(
            "Nothing is heated or fed. Take prints and tools off the bed; keep a hand at the "
            "switch.",
            f"It keeps {plural(len(dry.places), 'move')} of X and Y from the middle of the print, "
            f"at one height; its own fastest speed is {asked.fastest_mm_s:g} mm/s. Left out: "
            f"{gone or 'nothing'}.",
            f"Put marks, or dial gauges, where X stands at {dry.low_mm:.0f} mm and Y at "
            f"{dry.across_mm[0]:.0f} mm.",
            f"The controller's own limits cap a run unseen: raise them above {dry.levels[-1]:g} "
            f"{unit} before it, and put them back after it.",
            f"Run the file. {plural(len(dry.levels), 'level')}; after each a slow return to the "
            "marks and a rest. A level fails when either axis is not home; stop at the second "
            "failure.",
            prose(
                f"Write a file with the columns axis, {asked.quantity}, result. An empty one:",
                command("motion fit", template="FILE"),
            ),
        ),
        next=prose(command("motion fit", "READINGS.csv")),
        settings={"levels": list(dry.levels), "axis": "x"},
    )
