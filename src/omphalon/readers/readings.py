"""READINGS.csv and repeated options become the same Readings; an empty one to fill in is written
from the same columns.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence

from omphalon.answers.remarks import Remark
from omphalon.base.errors import BadReading, UnknownFormat, UsageError, echoed
from omphalon.readers.columns import header_at, read_table
from omphalon.readers.text import TABLE, read_text
from omphalon.recordings.recording import Column, Reading, Readings
from omphalon.tables.quantities import QUANTITIES
from omphalon.tables.units import NoSuchNumber, Number, is_usual, number_in

MOST_READINGS = 10_000
UNIT_IN_BRACKETS = re.compile(r"[\[(]([^\[\]()]*)[\])]")
SUFFIXES = ("mm_s2", "mm_s", "mm", "cm", "in", "um", "ms", "s", "c", "f", "pct")
SUFFIX_UNITS = {"mm_s2": "mm/s²", "mm_s": "mm/s", "c": "°C", "f": "°F", "pct": "%"}


def read_readings(
    path: str, columns: Sequence[Column], given: Mapping[str, Sequence[Number]] | None = None
) -> Readings:
    """A file with one column an option, in the option's words with its unit (asked_mm, left_mm, …).

    `given`: {column: numbers} of options beside the file; one number stands for a column that the
    file lacks. Raises UnknownFormat, BadReading with the file and the row.
    """
    text = read_text(path, TABLE)
    head = header_at(text.lines, lambda cell: _column(cell, columns) is not None)
    known = ", ".join(c.name for c in columns)
    if head is None:
        raise UnknownFormat(
            f"{text.source}: row 1: no header", f"name the columns in a first row, from: {known}"
        )
    table = read_table(type(text)(text.source, text.lines, True), head)
    found = [_column(cell, columns) for cell in table.header]
    names = [column.name for column, _ in filter(None, found)]
    if not names:
        raise UnknownFormat(
            f"{text.source}: row {head.at + 1}: none of its columns is known "
            f"({echoed(', '.join(table.header))})",
            f"use {known}",
        )
    double = next((name for name in names if names.count(name) > 1), None)
    if double:
        raise UnknownFormat(
            f"{text.source}: row {head.at + 1}: two columns mean {double}", "keep one of them"
        )
    if table.bad:
        raise BadReading(
            f"{text.source}: row {table.bad[0]}: fewer cells than the header",
            "fill the row, or remove it",
        )
    if len(table.rows) > MOST_READINGS:
        raise UnknownFormat(
            f"{text.source}: {len(table.rows)} readings, more than anybody takes by hand",
            f"give {MOST_READINGS} at the most; a log is no table of readings",
        )
    extra = _beside(given or {}, names, columns)
    rows = tuple(
        _row(f"{text.source}: row {line}", cells, found, extra)
        for line, cells in zip(table.line, table.rows, strict=True)
    )
    if not rows:
        raise UnknownFormat(f"{text.source}: no readings below the header", "add one row a reading")
    passed = [
        cell for cell, column in zip(table.header, found, strict=True) if column is None and cell
    ]
    notes = [
        Remark("unknown-column", source=text.source, cell=echoed(cell), known=known)
        for cell in passed
    ]
    return Readings(text.source, rows, (*notes, *unusual(rows, columns)))


def unusual(rows: Sequence[Reading], columns: Sequence[Column]) -> list[Remark]:
    """A note for each column in which a number is possible, but not usual."""
    out = []
    for column in columns:
        if column.quantity is None:
            continue
        quantity = QUANTITIES[column.quantity]
        odd = next(
            (
                r
                for r in rows
                if column.name in r.numbers and not is_usual(r.value(column.name), quantity)
            ),
            None,
        )
        if odd is not None and quantity.usual is not None:
            low, high = quantity.usual
            out.append(
                Remark(
                    "unusual-reading",
                    where=odd.where,
                    column=column.name,
                    value=odd.value(column.name),
                    low=low,
                    high=high,
                    words=quantity.words,
                )
            )
    return out


def _column(cell: str, columns: Sequence[Column]) -> tuple[Column, str] | None:
    """The column that a header cell means, and the unit it names ('' where none): 'Asked (cm)' is
    asked_mm in cm.
    """
    bracket = UNIT_IN_BRACKETS.search(cell)
    name = "_".join(re.findall(r"[a-z0-9]+", UNIT_IN_BRACKETS.sub(" ", cell).lower()))
    unit = bracket[1].strip() if bracket else ""
    exact = next((c for c in columns if c.name == name), None)
    if exact is not None:
        return exact, unit
    suffix = next((s for s in SUFFIXES if name.endswith("_" + s)), None)
    base = name[: -len(suffix) - 1] if suffix else name
    for column in columns:
        own = next(
            (column.name[: -len(s) - 1] for s in SUFFIXES if column.name.endswith("_" + s)),
            column.name,
        )
        if base in (own, *column.also) or name in column.also:
            return column, unit or SUFFIX_UNITS.get(suffix or "", suffix or "")
    return None


def _beside(
    given: Mapping[str, Sequence[Number]], names: Sequence[str], columns: Sequence[Column]
) -> dict[str, Number]:
    """Options given beside a file: one number each, for columns that the file lacks."""
    out = {}
    for column in columns:
        numbers = given.get(column.name, ())
        if not numbers:
            continue
        if column.name in names:
            raise UsageError(
                f"{column.option} beside a file that has {column.name}", "give one of the two"
            )
        if len(numbers) > 1:
            raise UsageError(
                f"{len(numbers)} {column.option} beside a file of readings",
                "give one for all, or a column of its own in the file",
            )
        if not column.shared:
            raise UsageError(
                f"{column.option} once beside a file of readings",
                f"add a column {column.name}: each row needs its own",
            )
        out[column.name] = numbers[0]
    return out


def _row(
    where: str,
    cells: Sequence[str],
    found: Sequence[tuple[Column, str] | None],
    extra: Mapping[str, Number],
) -> Reading:
    numbers, words = dict(extra), {}
    for cell, known in zip(cells, found, strict=True):
        if known is None or not cell:
            continue
        column, unit = known
        if column.quantity is None:
            words[column.name] = _word(cell, column, where)
        else:
            numbers[column.name] = _number(cell, unit, column, where)
    return Reading(where, numbers, words)


def _word(cell: str, column: Column, where: str) -> str:
    word = cell.strip().lower()
    if column.choices and word not in column.choices:
        raise BadReading(f"{where}: {column.name} '{echoed(cell)}'", "use " + _or(column.choices))
    return word


def _or(choices: Sequence[str]) -> str:
    return ", ".join(choices[:-1]) + " or " + choices[-1]


def _number(cell: str, unit: str, column: Column, where: str) -> Number:
    quantity = QUANTITIES[column.quantity or ""]
    try:
        return number_in(
            f"{cell} {unit}" if unit and re.search(r"[\d.,]\s*$", cell, re.ASCII) else cell,
            quantity,
        )
    except NoSuchNumber as error:
        raise BadReading(
            f"{where}: {column.name} '{echoed(cell)}' {error.problem}", error.remedy
        ) from error


def option_readings(
    given: Mapping[str, Sequence[Number]],
    columns: Sequence[Column],
    words: Mapping[str, str] | None = None,
) -> Readings:
    """Repeated options as readings: the first of each belong together, then the second, and so on.

    `columns`: their table; a shared column given once stands for all. `words`: what is the same for
    every reading. Raises UsageError if the counts differ: a list is never stretched over another.
    """
    table = {c.name: c for c in columns}
    lists = {name: numbers for name, numbers in given.items() if numbers}
    most = max((len(numbers) for numbers in lists.values()), default=0)
    uneven = [
        n
        for n, numbers in lists.items()
        if len(numbers) != most and not (len(numbers) == 1 and table[n].shared)
    ]
    if uneven:
        text = ", ".join(f"{len(numbers)} {table[name].option}" for name, numbers in lists.items())
        once = (
            " ("
            + ", ".join(c.option for c in columns if c.shared and c.name in lists)
            + " may stand once for all)"
            if any(table[n].shared for n in lists)
            else ""
        )
        raise UsageError(f"{text}: they do not pair up", f"give each once for every reading{once}")
    rows = []
    for n in range(most):
        numbers = {name: values[n if len(values) > 1 else 0] for name, values in lists.items()}
        where = " ".join(
            f"{table[name].option} {numbers[name].written}"
            for name, values in lists.items()
            if len(values) == most
        )
        rows.append(Reading(echoed(where), numbers, dict(words or {})))
    return Readings("the options", tuple(rows), tuple(unusual(rows, columns)))


def template_lines(columns: Sequence[Column], head: str) -> Iterator[str]:
    """An empty READINGS.csv: a comment a column, and the header."""
    yield f"# {head}"
    for column in columns:
        choices = f" ({_or(column.choices)})" if column.choices else ""
        yield f"# {column.name}: {column.help.rstrip('.')}{choices}"
    yield "# keep the columns you use, one row a reading"
    yield ",".join(column.name for column in columns)
