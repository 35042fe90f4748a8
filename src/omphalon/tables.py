"""Tables by the names of their rows."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import TypeVar

Row = TypeVar("Row")


def table_by(name: str, *rows: Row) -> Mapping[str, Row]:
    """Rows by an attribute of theirs; a name that stands twice would hide a row.

    Raises
    ------
    ValueError
        With that name.
    """
    table: dict[str, Row] = {}
    for row in rows:
        key = getattr(row, name)
        if key in table:
            raise ValueError(f"{key} stands twice in a table")
        table[key] = row
    return MappingProxyType(table)
