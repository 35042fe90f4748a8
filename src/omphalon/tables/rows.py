"""Tables by the names of their rows, and the tables that ship as CSV, beside this module."""

from __future__ import annotations

import csv
from collections.abc import Callable, Iterable, Iterator, Mapping
from itertools import groupby
from operator import attrgetter
from pathlib import Path
from types import MappingProxyType
from typing import Any, TypeVar, get_type_hints

Row = TypeVar("Row")


def _ends(cell: str) -> tuple[float, ...]:
    return tuple(map(float, cell.split(" to ")))


# a field's type → how its cell is read
CELLS: dict[Any, Callable[[str], Any]] = {
    **dict.fromkeys((str, str | None), str),
    **dict.fromkeys((int, int | None), int),
    bool: {"yes": True}.__getitem__,
    **dict.fromkeys((float, float | None), float),
    **dict.fromkeys((tuple[float, float], tuple[float, float] | None), _ends),
    tuple[str, ...]: lambda cell: tuple(cell.split("|")),
}


def table_by(name: str, *rows: Row) -> Mapping[str, Row]:
    """Rows by an attribute of theirs; a name that stands twice would hide a row.

    Raises ValueError with that name.
    """
    table: dict[str, Row] = {}
    for row in rows:
        key = getattr(row, name)
        if key in table:
            raise ValueError(f"{key} stands twice in a table")
        table[key] = row
    return MappingProxyType(table)


def rows_of(name: str, row: Callable[..., Row], **named: Mapping[str, Any]) -> Iterator[Row]:
    """The rows of a table, each a dataclass: cells by its fields' types, or out of what is
    `named` for a column; an empty cell is the field's default, a column of no field is a label.
    """
    types = get_type_hints(row)

    def read(column: str, cell: str) -> Any:
        known = named.get(column, {})
        return known[cell] if cell in known else CELLS[types[column]](cell)

    with open(Path(__file__).with_name(f"{name}.csv"), encoding="utf-8") as file:
        for cells in csv.DictReader(file):
            yield row(**{c: read(c, cell) for c, cell in cells.items() if cell and c in types})


def grouped(key: str, rows: Iterable[Row]) -> dict[str, tuple[Row, ...]]:
    """Rows by what they have in common, each group in one piece.

    Raises ValueError where a group is torn: its second piece would replace its first.
    """
    groups: dict[str, tuple[Row, ...]] = {}
    for name, some in groupby(rows, attrgetter(key)):
        if name in groups:
            raise ValueError(f"{name} stands in two places of a table")
        groups[name] = tuple(some)
    return groups
