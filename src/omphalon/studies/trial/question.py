"""What a stepped print varies, and how its blocks were read, checked once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from omphalon.base.arrays import Array
from omphalon.base.errors import UsageError
from omphalon.prints.job import levels
from omphalon.recordings.recording import Readings
from omphalon.tables.rows import rows_of, table_by

FEWEST_BLOCKS, MOST_BLOCKS = 3, 25  # blocks in a print


@dataclass(frozen=True, kw_only=True)
class Varied:
    """What a stepped print can vary: its words and unit, what can be, where in a clean range the
    safe value lies, the finest step that shows, and what to look at.
    """

    name: str
    words: str
    unit: str = ""
    lowest: float
    highest: float
    clean_at: float
    finest: float
    look: str

    def shown(self, value: float) -> str:
        """A value with its unit."""
        return f"{value:g} {self.unit}".strip()


VARIED = table_by("name", *rows_of("trials", Varied))


@dataclass(frozen=True, kw_only=True)
class TrialAsked:
    """The blocks of a print, from the foot upwards; the first may be the highest value."""

    vary: str
    start: float
    stop: float
    step: float

    def __post_init__(self) -> None:
        row = self.varied
        span = abs(self.stop - self.start)
        if self.step <= 0 or span == 0:
            raise UsageError(f"{self.words}: no range", "give FROM:TO:STEP, such as 200:230:5")
        count = span / self.step + 1
        if not FEWEST_BLOCKS - 1e-6 <= count <= MOST_BLOCKS + 1e-6:
            raise UsageError(
                f"{self.words}: {count:.0f} blocks",
                f"choose a step that makes {FEWEST_BLOCKS} to {MOST_BLOCKS}",
            )
        for value in (self.start, self.stop):
            if not row.lowest <= value <= row.highest:
                raise UsageError(
                    f"{self.words}: {row.shown(value)} cannot be",
                    f"{row.words} is {row.lowest:g} to {row.shown(row.highest)}",
                )

    @property
    def varied(self) -> Varied:
        """The row of what is varied."""
        return VARIED[self.vary]

    @property
    def words(self) -> str:
        """As it is asked for."""
        return f"{self.vary} {self.start:g}:{self.stop:g}:{self.step:g}"

    @property
    def values(self) -> tuple[float, ...]:
        """The value of each block, from the foot upwards."""
        low, high = sorted((self.start, self.stop))
        rising = levels(low, high, self.step)
        return rising if self.start < self.stop else rising[::-1]


PLAN = {"start": float, "stop": float, "step": float}


@dataclass(frozen=True, kw_only=True)
class TrialQuestion:
    """What was printed, and the value in force, where one is known."""

    asked: TrialAsked
    present: float | None = None
    clean: tuple[float, float] | None = None


def values_and_scores(readings: Readings, question: TrialQuestion) -> tuple[Array, Array | None]:
    """The values that were read (n,), and their scores (n,) where there are any.

    Raises UsageError or BadReading where there are none, or a value was not printed.
    """
    readings.refuse_gaps("value", "score")
    if bool(readings.rows) == (question.clean is not None):
        raise UsageError(
            "neither or both of a range and readings",
            "give --value of the block that is best, --clean FROM:TO, or a file with value and "
            "score",
        )
    values = np.array(question.clean or [row.value("value") for row in readings.rows])
    low, high = sorted((question.asked.start, question.asked.stop))
    outside = values[(values < low - 1e-9) | (values > high + 1e-9)]
    if len(outside):
        raise UsageError(
            f"{question.asked.varied.shown(float(outside[0]))}: not printed, from {low:g} to "
            f"{high:g}",
            "give the value of a block that is on the print",
        )
    scored = bool(readings.rows) and readings.has("score")
    return values, np.array([row.value("score") for row in readings.rows]) if scored else None
