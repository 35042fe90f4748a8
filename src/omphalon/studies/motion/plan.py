"""The dry run that finds an axis's limits."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from omphalon.answers.commands import command, prose
from omphalon.answers.finding import Plan
from omphalon.base.errors import UsageError
from omphalon.lines.dialect import Dialect
from omphalon.prints.dryrun import CornerRun, DryRun, FeedRun
from omphalon.prints.job import levels
from omphalon.studies.motion.question import UNITS
from omphalon.tables.units import plural

MOST_LEVELS = 40  # nobody watches more
SHORTEST_MM = 20.0  # of travel
ABOVE = 1.1  # the controller's own limit is lifted by so much above the highest level
RETRACT_MM_S = 60.0  # while the acceleration is raised
LONGEST_RETRACTION_MM = 15.0  # soft filament drawn further into the cold stays there


@dataclass(frozen=True, kw_only=True)
class DryRunAsked:
    """The axis (e is the extruder), what is raised (speed_mm_s, acceleration_mm_s2 or corner_mm_s)
    FROM, TO, STEP, the travel, and what is in force now.

    `present` is the acceleration in force, `limit` the controller's own limit of what is raised:
    both are put back. `across_mm` is the travel of the other axis, for corners and, with crossed
    belts, for diagonals; `temp_c` and `retract_mm` are the extruder's.
    """

    axis: str
    quantity: str
    levels: tuple[float, float, float]
    travel_mm: tuple[float, float]
    across_mm: tuple[float, float] | None = None
    temp_c: float | None = None
    retract_mm: float = 2.0
    present: float | None = None
    limit: float | None = None
    build: str = ""

    @property
    def diagonals(self) -> bool:
        """Whether diagonals are run too: one motor of crossed belts does all the work there."""
        crossed = self.build == "crossed-belts" and self.axis in ("x", "y")
        return crossed and self.quantity != "corner_mm_s"

    @property
    def unit(self) -> str:
        """Of the levels."""
        return UNITS[self.quantity]

    @property
    def what_runs(self) -> str:
        """What runs."""
        if self.quantity == "corner_mm_s":
            return "X and Y through corners"
        return "the extruder" if self.axis == "e" else f"axis {self.axis}"


def plan_motion(asked: DryRunAsked, dialect: Dialect) -> tuple[Plan, DryRun]:
    """Say how to run the dry run, and make it.

    Raises UsageError if the levels or the travel make no sense, or no line sets the acceleration.
    """
    _refuse_senseless(asked)
    start, stop, _ = asked.levels
    run = _run(asked, dialect)
    return Plan(
        "motion-plan",
        f"Dry run of {asked.what_runs}: {start:g} to {stop:g} {asked.unit}",
        _steps(asked, run),
        next=prose(command("motion fit", "READINGS.csv", axis=asked.axis)),
        settings={"levels": list(run.levels), "axis": asked.axis},
    ), run


def _run(asked: DryRunAsked, dialect: Dialect) -> DryRun:
    """The run itself: of one axis, of two through corners, or of the extruder."""
    values = levels(*asked.levels)
    set_lines, last = setting_lines(asked.quantity, values, asked.present, dialect)
    put_back = () if asked.limit is None else _limit_lines(asked, asked.limit, dialect)
    given: dict[str, Any] = {
        "levels": values,
        "set_lines": set_lines,
        "first_lines": _limit_lines(asked, ABOVE * asked.levels[1], dialect),
        "last_lines": (*last, *put_back),
    }
    if asked.axis == "e":
        assert asked.temp_c is not None
        given |= {"high_mm": asked.retract_mm, "run_speed_mm_s": RETRACT_MM_S}
        return FeedRun(temp_c=asked.temp_c, **given)
    low, high = asked.travel_mm
    given |= {"axis": asked.axis, "low_mm": low, "high_mm": high}
    across = asked.across_mm or asked.travel_mm
    if asked.quantity == "corner_mm_s":
        if asked.build == "delta":
            (low, high), across = _in_circle(asked.travel_mm), _in_circle(across)
            given |= {"low_mm": low, "high_mm": high}
        return CornerRun(across_mm=across, **given)
    return DryRun(diagonal_mm=across if asked.diagonals else None, **given)


def _in_circle(span: tuple[float, float]) -> tuple[float, float]:
    """The side of the square within the circle of that diameter."""
    middle, half = sum(span) / 2, (span[1] - span[0]) / 2 / math.sqrt(2)
    return middle - half, middle + half


def refuse_levels(start: float, stop: float, step: float) -> None:
    """Refuse levels that do not rise, or that nobody would watch."""
    words = f"{start:g}:{stop:g}:{step:g}"
    if not 0 < start < stop or step <= 0:
        raise UsageError(
            f"{words}: not FROM:TO:STEP", "give a lower and a higher level and a step above 0"
        )
    if (stop - start) / step > MOST_LEVELS:
        raise UsageError(
            f"{words}: {(stop - start) / step:.0f} levels",
            f"choose a step that makes 2 to {MOST_LEVELS}",
        )


def _refuse_senseless(asked: DryRunAsked) -> None:
    refuse_levels(*asked.levels)
    if asked.axis == "e":
        _refuse_extruder(asked)
        return
    if asked.quantity == "corner_mm_s" and asked.axis == "z":
        raise UsageError("--corner --axis z", "corners are of X and Y: name x or y")
    across = asked.across_mm or asked.travel_mm
    for (low, high), option in ((asked.travel_mm, "--travel"), (across, "--travel-across")):
        if high - low < SHORTEST_MM:
            raise UsageError(
                f"a travel of {high - low:g} mm: too short",
                f"give {option} LOW:HIGH, {SHORTEST_MM:g} mm or more",
            )


def _refuse_extruder(asked: DryRunAsked) -> None:
    """What an extruder's run needs, and what it cannot do."""
    if asked.quantity == "corner_mm_s":
        raise UsageError("--corner --axis e", "corners are of X and Y: name x or y")
    if asked.temp_c is None:
        raise UsageError(
            "--axis e without --temp", "filament moves hot only: give its printing temperature"
        )
    if asked.retract_mm > LONGEST_RETRACTION_MM:
        raise UsageError(
            f"--retract {asked.retract_mm:g}: soft filament would be drawn into the cold",
            f"give {LONGEST_RETRACTION_MM:g} mm or less",
        )


def _steps(asked: DryRunAsked, run: DryRun) -> tuple[str, ...]:
    """What to do, in order."""
    limits = (
        "The file lifts the controller's own limit for the run and puts it back at its end."
        if run.first_lines
        else "The controller's own limits cap a run silently: note down what it allows "
        f"{asked.what_runs}, raise that above {asked.levels[1]:g} {asked.unit} before the run, and "
        "put it back after it."
    )
    stays = (
        "The acceleration of the last level stays in force until it is set again: give the present "
        "one with --present N, and the file sets it at its end."
    )
    prepare, watch = _by_hand(asked, run)
    return (
        prepare[0],
        limits,
        *prepare[1:],
        f"Run the file. {plural(len(run.levels), 'level')}, {watch} Note pass or fail of each "
        "level; stop at the second failure.",
        *_reached(asked, run.high_mm - run.low_mm),
        *((stays,) if run.set_lines and asked.present is None else ()),
        "Run it two or three times: repeats give the failure curve, not just the last good level.",
        prose(
            f"Write a file with the columns axis, {asked.quantity}, result. An empty one:",
            command("motion fit", template="FILE"),
        ),
    )


def _by_hand(asked: DryRunAsked, run: DryRun) -> tuple[tuple[str, ...], str]:
    """What to make ready, and what each level does."""
    low, high = run.low_mm, run.high_mm
    if isinstance(run, FeedRun):
        return (
            "Load the filament you print with; the nozzle goes up, heats, and oozes: put something "
            "below it. Keep a hand on the switch.",
            "With the filament drawn in and hot, put a mark on it where it enters the extruder, "
            "and look at it from the same place each time.",
        ), (
            f"each {run.strokes} times {high:g} mm back and forth, then once slowly and a rest. A "
            "level fails when the mark does not return, or the extruder clicks."
        )
    bare = "Nothing is heated or fed. Take prints and tools off the bed; keep a hand on the switch."
    if isinstance(run, CornerRun):
        across = run.across_mm
        return (
            bare,
            f"Put marks, or dial gauges, where {run.axis.upper()} stands at {low:g} mm and "
            f"{run.other} at {across[0]:g} mm.",
        ), (
            f"each {run.corners} corners without slowing down, then a slow return "
            "to the marks and a rest. A level fails when either axis is not home."
        )
    along = ", and along both diagonals, where one motor does all the work" * asked.diagonals
    return (bare, f"Put a mark, or a dial gauge, where axis {asked.axis} stands at {low:g} mm."), (
        f"each {run.strokes} strokes over {low:g} to {high:g} mm{along}, then a slow return to the "
        "mark and a rest."
    )


def setting_lines(
    quantity: str, values: tuple[float, ...], present: float | None, dialect: Dialect
) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Each level's line that sets the acceleration, and the one that sets the present one again;
    none where another quantity is raised.
    """
    if quantity != "acceleration_mm_s2":
        return (), ()
    lines = [dialect.line("acceleration", acceleration=v) for v in values]
    if lines[0] is None:
        raise UsageError(
            "no line that sets the acceleration", "give --line TEMPLATE with {acceleration} in it"
        )
    back = None if present is None else dialect.line("acceleration", acceleration=present)
    return tuple(x for x in lines if x is not None), () if back is None else (back,)


def _limit_lines(asked: DryRunAsked, value: float, dialect: Dialect) -> tuple[str, ...]:
    """The line that sets the controller's own limit, where the present one is known, so that it can
    be put back; of both axes where corners are run.
    """
    if asked.limit is None:
        return ()
    what = asked.quantity.split("_")[0]
    axes = "XY" if what == "corner" else asked.axis.upper()
    lines = [dialect.line(f"{what}-limit", axis=axis, **{what: value}) for axis in axes]
    if lines[0] is None:
        raise UsageError(
            "--limit: the dialect has no line that sets the controller's own limit",
            f"leave it out and set the limit by hand, or give a dialect with '{what}-limit'",
        )
    return tuple(line for line in lines if line is not None)


def _reached(asked: DryRunAsked, travel_mm: float) -> tuple[str, ...]:
    """A word on speeds that need more way than there is."""
    if asked.quantity != "speed_mm_s":
        return ()
    need = asked.levels[1] ** 2 / travel_mm
    return (
        f"{asked.levels[1]:g} mm/s is reached within {travel_mm:g} mm only with "
        f"{math.ceil(need / 100) * 100:g} mm/s² or more: "
        "below that the highest levels test nothing.",
    )
