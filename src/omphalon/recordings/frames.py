"""Arrays and data frames from a program, as the core takes them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, TypeAlias

import numpy as np

from omphalon.base.arrays import Array
from omphalon.base.errors import UsageError, echoed
from omphalon.recordings.columns import TABLES
from omphalon.recordings.recording import Column, Reading, Readings
from omphalon.tables.quantities import QUANTITIES
from omphalon.tables.units import NoSuchNumber, Number, number_in

Frame: TypeAlias = Mapping[str, Any]  # columns by their names: a dict of arrays, a pandas frame
MOST_PLACES = 6  # decimals of a reading


def column(frame: Frame, name: str) -> Array:
    """A column as numbers, (n,).

    Raises
    ------
    UsageError
        If it is not there, or holds no numbers.
    """
    if name not in frame:
        raise UsageError(f"no column {name}", "name the columns as docs/library.md has them")
    try:
        values = np.asarray(frame[name], dtype=np.float64)
    except (TypeError, ValueError):
        raise UsageError(f"column {name}: no numbers", "give an array of numbers") from None
    if values.ndim != 1:
        raise UsageError(f"column {name}: {values.ndim} dimensions", "give one number a row")
    return values


def columns(frame: Frame, *names: str) -> list[Array]:
    """Columns of one length.

    Raises
    ------
    UsageError
        If one is not there, holds no numbers, or is longer than another.
    """
    found = [column(frame, name) for name in names]
    if len({len(values) for values in found}) > 1:
        lengths = ", ".join(f"{n} {len(v)}" for n, v in zip(names, found, strict=True))
        raise UsageError(f"columns of different lengths: {lengths}", "give each row whole")
    return found


def readings(frame: Frame, table: str) -> Readings:
    """Measured values, row by row: the columns of `docs/reference.md` for a group's readings, as
    numbers or words. A number's last digit is that of the column.

    Raises
    ------
    UsageError
        If a column is of another table, or a value cannot be.
    """
    known = {one.name: one for one in TABLES[table]}
    unknown = [str(name) for name in frame if name not in known]
    if unknown:
        raise UsageError(
            f"no column {echoed(unknown[0])} in readings of {table}", "use " + ", ".join(known)
        )
    cells = {name: _cells(known[name], frame[name]) for name in frame}
    lengths = {len(some) for some in cells.values()}
    if len(lengths) != 1:
        raise UsageError("columns of different lengths, or none", "give each row whole")
    rows = []
    for n in range(lengths.pop()):
        row = {name: some[n] for name, some in cells.items()}
        numbers = {name: cell for name, cell in row.items() if isinstance(cell, Number)}
        words = {name: cell for name, cell in row.items() if isinstance(cell, str)}
        rows.append(Reading(f"row {n + 1}", numbers, words))
    return Readings("frame", tuple(rows))


def _cells(one: Column, values: Any) -> Sequence[Number | str]:
    if one.choices:
        return [str(value) for value in values]
    assert one.quantity is not None
    numbers = column({one.name: values}, one.name)
    places = next(
        (p for p in range(MOST_PLACES) if np.allclose(numbers, np.round(numbers, p), atol=1e-9)),
        MOST_PLACES,
    )
    try:
        return [number_in(f"{v:.{places}f}", QUANTITIES[one.quantity]) for v in numbers]
    except NoSuchNumber as no:
        raise UsageError(f"column {one.name}: {no}", "see docs/reference.md, Numbers") from None
