"""What printers are compared by: numbers with intervals that the answers hold, and what points
where when one of them differs from the others'; the table stands in tables/figures.csv.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from omphalon.answers.settings import settings_in
from omphalon.tables.rows import rows_of

Document = Mapping[str, Any]
# (of what: hotend, x, …; "" where there is one; value; half width of its 95 % interval)
Seen = tuple[str, float, float]


@dataclass(frozen=True, kw_only=True)
class Figure:
    """One number of a study's answers: its words and unit, where in a document it stands (a
    `source` and its `field`); `ratio`: compared by shares of itself; what a high and a low one
    points at.
    """

    study: str
    name: str
    source: str
    field: str
    words: str
    unit: str = ""
    ratio: bool = False
    high: str = ""
    low: str = ""

    def pick(self, document: Document) -> Iterator[Seen]:
        """The figure in an answer, for each thing that it is of; none where it has no interval."""
        for of, value, half_width in SOURCES[self.source](document, self.field):
            if isinstance(value, (int, float)) and isinstance(half_width, (int, float)):
                yield of, float(value), float(half_width)


Found = Iterator[tuple[str, object, object]]


def _setting(document: Document, field: str) -> Found:
    """A setting as the data say it is best: one that is kept hides what was measured."""
    for one in settings_in(document):
        if one.field == field:
            yield one.of, one.value if one.best is None else one.best, one.half_width


def _evidence(document: Document, field: str) -> Found:
    """A number of a heater's evidence, its spread beside it or under `spread`."""
    *path, name = field.split(".")
    place = document["evidence"]
    of = str(place.get("heater", ""))
    for step in path:
        place = place.get(step) or {}
    yield of, place.get(name), (place.get("spread") or {}).get(name, place.get(f"{name}_spread"))


def _of_axes(document: Document) -> Iterator[tuple[str, Mapping[str, Any]]]:
    """The axes of an answer's evidence."""
    return ((a, seen) for a, seen in document["evidence"].items() if isinstance(seen, Mapping))


def _axis(document: Document, field: str) -> Found:
    for axis, seen in _of_axes(document):
        yield axis, seen.get(field), seen.get(field.replace("_mm", "_spread_mm"))


def _mode(document: Document, field: str) -> Found:
    """Of the mode with the largest share, on each axis."""
    for axis, seen in _of_axes(document):
        if modes := seen.get("modes"):
            main = max(modes, key=lambda mode: mode.get("share") or 0.0)
            yield axis, main.get(field), (main.get("spread") or {}).get(field)


def _limit(document: Document, field: str) -> Found:
    """Between the highest level that passed and the lowest that failed."""
    for axis, seen in _of_axes(document):
        one = seen.get(field) or {}
        low, high = one.get("highest_pass"), one.get("lowest_fail")
        if low and high and high > low:
            yield axis, (low + high) / 2, (high - low) / 2


SOURCES: Mapping[str, Callable[[Document, str], Found]] = {
    "setting": _setting,
    "evidence": _evidence,
    "axis": _axis,
    "mode": _mode,
    "limit": _limit,
}
FIGURES = tuple(rows_of("figures", Figure))
