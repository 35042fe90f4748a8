"""The dry run that finds an axis's limits."""

from __future__ import annotations

import math
from dataclasses import dataclass

from omphalon.errors import UsageError
from omphalon.finding import Plan
from omphalon.lines.dialect import Dialect
from omphalon.prints.dryrun import DryRun
from omphalon.prints.levels import levels
from omphalon.studies.motion.question import UNITS
from omphalon.studies.wording import plural

MOST_LEVELS = 40
SHORTEST_MM = 20.0
ABOVE = 1.1  # the controller's own limit is lifted by so much above the highest level


@dataclass(frozen=True, kw_only=True)
class DryRunAsked:
    """The axis, what is raised (speed_mm_s or acceleration_mm_s2) FROM, TO, STEP, the travel, and
    what is in force now.

    `present` is the acceleration in force, `limit` the controller's own limit of what is raised:
    both are put back.
    """

    axis: str
    quantity: str
    levels: tuple[float, float, float]
    travel_mm: tuple[float, float]
    present: float | None = None
    limit: float | None = None


def plan_motion(asked: DryRunAsked, dialect: Dialect) -> tuple[Plan, DryRun]:
    """Say how to run the dry run, and make it.

    Parameters
    ----------
    asked : axis, levels and travel
    dialect : the lines that set a limit

    Returns
    -------
    Plan
    DryRun

    Raises
    ------
    UsageError
        If the levels or the travel make no sense, or no line sets the acceleration.
    """
    _refuse_senseless(asked)
    start, stop, step = asked.levels
    values, unit = levels(start, stop, step), UNITS[asked.quantity]
    set_lines, last = _setting_lines(asked, values, dialect)
    put_back = () if asked.limit is None else _limit_lines(asked, asked.limit, dialect)
    run = DryRun(
        axis=asked.axis,
        low_mm=asked.travel_mm[0],
        high_mm=asked.travel_mm[1],
        levels=values,
        set_lines=set_lines,
        first_lines=_limit_lines(asked, ABOVE * stop, dialect),
        last_lines=(*last, *put_back),
    )
    return Plan(
        "motion-plan",
        f"Dry run of axis {asked.axis}: {start:g} to {stop:g} {unit}",
        _steps(asked, run),
        next=f"omphalon motion fit READINGS.csv --axis {asked.axis}",
        settings={"levels": list(values), "axis": asked.axis},
    ), run


def _refuse_senseless(asked: DryRunAsked) -> None:
    start, stop, step = asked.levels
    told = f"{start:g}:{stop:g}:{step:g}"
    if not 0 < start < stop or step <= 0:
        raise UsageError(
            f"{told}: not FROM:TO:STEP", "give a lower and a higher level and a step above 0"
        )
    if (stop - start) / step > MOST_LEVELS:
        raise UsageError(
            f"{told}: {(stop - start) / step:.0f} levels",
            f"choose a step that makes 2 to {MOST_LEVELS}",
        )
    low, high = asked.travel_mm
    if high - low < SHORTEST_MM:
        raise UsageError(
            f"a travel of {high - low:g} mm: too short",
            f"give --travel LOW:HIGH, {SHORTEST_MM:g} mm or more",
        )


def _steps(asked: DryRunAsked, run: DryRun) -> tuple[str, ...]:
    """What to do, in order."""
    axis, low, high = asked.axis, run.low_mm, run.high_mm
    limits = (
        "The file lifts the controller's own limit for the run and puts it back at its end."
        if run.first_lines
        else f"The controller's own limits cap a run unseen: note the limits of axis {axis} down, "
        f"raise them above {asked.levels[1]:g} {UNITS[asked.quantity]} before the run, and put "
        "them back after it."
    )
    stays = (
        "The acceleration of the last level stays in force until it is set again: give the present "
        "one with --present N, and the file sets it at its end."
    )
    return (
        "Nothing is heated or fed. Take prints and tools off the bed; keep a hand at the switch.",
        limits,
        f"Put a mark, or a dial gauge, where axis {axis} stands at {low:g} mm.",
        f"Run the file. {plural(len(run.levels), 'level')}, each {run.strokes} strokes over "
        f"{low:g} to {high:g} mm, then a slow return to the mark and a rest. Note pass or fail of "
        "each level; stop at the second failure.",
        *_reached(asked, high - low),
        *([stays] if run.set_lines and asked.present is None else ()),
        "Run it two or three times: repeats give the failure curve, not just the last good level.",
        f"Write a file with the columns axis, {asked.quantity}, result (omphalon motion fit "
        "--template FILE makes an empty one).",
    )


def _setting_lines(
    asked: DryRunAsked, values: tuple[float, ...], dialect: Dialect
) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Each level's line that sets the acceleration, and the one that sets the present one again."""
    if asked.quantity != "acceleration_mm_s2":
        return (), ()
    lines = [dialect.line("acceleration", acceleration=v) for v in values]
    if lines[0] is None:
        raise UsageError(
            "no line that sets the acceleration", "give --line TEMPLATE with {acceleration} in it"
        )
    back = (
        None if asked.present is None else dialect.line("acceleration", acceleration=asked.present)
    )
    return tuple(x for x in lines if x is not None), () if back is None else (back,)


def _limit_lines(asked: DryRunAsked, value: float, dialect: Dialect) -> tuple[str, ...]:
    """The line that sets the controller's own limit, where the present one is known, so that it can
    be put back.
    """
    if asked.limit is None:
        return ()
    what = asked.quantity.split("_")[0]
    line = dialect.line(f"{what}-limit", axis=asked.axis.upper(), **{what: value})
    if line is None:
        raise UsageError(
            "--limit: the dialect has no line that sets the controller's own limit",
            f"leave it out and set the limit by hand, or give a dialect with '{what}-limit'",
        )
    return (line,)


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
