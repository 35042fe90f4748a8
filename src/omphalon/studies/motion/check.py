"""Whether everything at and below a limit still passes, and whether the limit itself was tried."""

from __future__ import annotations

from dataclasses import dataclass

from omphalon.errors import UsageError
from omphalon.finding import Verdict
from omphalon.recording import Readings
from omphalon.remarks import Refusal
from omphalon.studies.motion.question import Tried, tried

NEAR = 0.9  # of the limit: a run below that says nothing about it
ROUNDED = 1.001


@dataclass(frozen=True, kw_only=True)
class MotionCheck:
    """The runs that bear on the limit: how many, the failed levels at or below it, the highest
    level that passed.
    """

    tried: Tried
    limit: float
    runs: int
    failed: tuple[float, ...]
    highest_pass: float | None
    verdict: Verdict


def check_motion(
    readings: Readings, quantity: str, limit: float, axis: str | None = None
) -> MotionCheck:
    """Judge a limit on fresh runs.

    Parameters
    ----------
    readings : rows with axis, a level and result
    quantity : speed_mm_s or acceleration_mm_s2
    limit : in mm/s or mm/s²
    axis : which axis, where the file has several

    Raises
    ------
    Refusal
        Where no run came near the limit.
    UsageError, BadReading
        If readings are missing or cannot be, or several axes are in the file.
    """
    groups = [t for t in tried(readings, axis) if t.quantity == quantity]
    if not groups:
        raise UsageError(
            f"no run of {quantity.split('_')[0]}", "give --quantity, or a file with that column"
        )
    if len(groups) > 1:
        raise UsageError(
            f"runs of axes {', '.join(t.axis for t in groups)}, and one limit",
            "say which with --axis",
        )
    runs = groups[0]
    pairs = list(zip(runs.levels, runs.passed, strict=True))
    failed = tuple(v for v, ok in pairs if not ok and v <= limit * ROUNDED)
    best = max((v for v, ok in pairs if ok), default=None)
    if not failed and (best is None or best < NEAR * limit):
        raise Refusal("not-tried", limit=limit, unit=runs.unit, best=best or 0.0)
    bearing = sum(v <= limit * ROUNDED or ok for v, ok in pairs)
    return MotionCheck(
        tried=runs,
        limit=limit,
        runs=bearing,
        failed=failed,
        highest_pass=best,
        verdict="change" if failed else "keep",
    )
