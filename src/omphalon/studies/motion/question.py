"""What is asked of an axis's limits, and which runs may answer it."""

from __future__ import annotations

from dataclasses import dataclass

from omphalon.base.errors import BadReading, UsageError
from omphalon.recordings.columns import PASSED
from omphalon.recordings.recording import Reading, Readings

UNITS = {"speed_mm_s": "mm/s", "acceleration_mm_s2": "mm/s²", "corner_mm_s": "mm/s"}


@dataclass(frozen=True, kw_only=True)
class Tried:
    """The runs of one axis and quantity: levels, and whether each passed."""

    axis: str
    quantity: str
    levels: tuple[float, ...]
    passed: tuple[bool, ...]

    @property
    def unit(self) -> str:
        """mm/s, or mm/s² of an acceleration."""
        return UNITS[self.quantity]

    @property
    def what(self) -> str:
        """speed, acceleration or corner."""
        return self.quantity.split("_")[0]


def tried(readings: Readings, axis: str | None = None) -> tuple[Tried, ...]:
    """The runs by axis and quantity; of one axis alone where it is named.

    `axis`: the only one that counts; None: all. Raises UsageError, BadReading if a row has no axis,
    level or result, or no row is of that axis.
    """
    groups: dict[tuple[str, str], list[tuple[float, bool]]] = {}
    for row in readings.rows:
        name = row.words.get("axis")
        if not name:
            raise BadReading(f"{row.where}: no axis", "add a column axis with x, y, z or e")
        if axis is not None and name != axis:
            continue
        for quantity, level in _levels(row):
            groups.setdefault((name, quantity), []).append((level, row.words["result"] in PASSED))
    if not groups and axis is not None and readings.rows:
        raise UsageError(
            f"--axis {axis}: no run of that axis in {readings.source}",
            "leave it out, or give another file",
        )
    if not groups:
        raise UsageError(
            "no levels",
            "give --pass and --fail with --axis, or a file with axis, speed_mm_s, result",
        )
    return tuple(
        Tried(
            axis=name,
            quantity=quantity,
            levels=tuple(v for v, _ in runs),
            passed=tuple(ok for _, ok in runs),
        )
        for (name, quantity), runs in sorted(groups.items())
    )


def _levels(row: Reading) -> list[tuple[str, float]]:
    found = [(quantity, row.value(quantity)) for quantity in UNITS if quantity in row.numbers]
    if not found:
        raise BadReading(
            f"{row.where}: no level", "fill in speed_mm_s, acceleration_mm_s2 or corner_mm_s"
        )
    if not row.words.get("result"):
        raise BadReading(f"{row.where}: no result", "write pass or fail")
    return found
