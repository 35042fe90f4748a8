"""READINGS.csv and repeated options become the same Readings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from omphalon.errors import BadReading, UnknownFormat, UsageError
from omphalon.readers.columns import header_at, read_table
from omphalon.readers.text import read_text
from omphalon.recording import Reading, Readings
from omphalon.units import Length, length


def read_readings(path: str, numbers: Sequence[str], words: Sequence[str] = ()) -> Readings:
    """A file with one column an option, in the option's words with its unit (asked_mm, left_mm, …).

    Numbers may carry a comma or a unit of their own. Raises UnknownFormat or BadReading with the file and the row.
    """
    text = read_text(path)
    at = header_at(text.lines, numbers)
    known = ", ".join((*numbers, *words))
    if at is None:
        raise UnknownFormat(f"{text.source}: row 1: no header", f"name the columns in a first row, from: {known}")
    table = read_table(text, *at) if text.whole else read_table(type(text)(text.source, text.lines, True), *at)
    names = [h.strip().lower().replace(" ", "_") for h in table.header]
    strange = [n for n in names if n not in (*numbers, *words)]
    if strange:
        raise UnknownFormat(f"{text.source}: row {at[0] + 1}: unknown column '{strange[0]}'", f"use {known}")
    if table.bad:
        raise BadReading(f"{text.source}: row {table.bad[0]}: fewer cells than the header", "fill the row, or remove it")
    rows = []
    for line, cells in zip(table.line, table.rows, strict=True):
        where = f"{text.source}: row {line}"
        filled = {n: c for n, c in zip(names, cells, strict=False) if c}
        rows.append(Reading(where, {n: _length(c, where, n) for n, c in filled.items() if n in numbers},
                            {n: c.lower() for n, c in filled.items() if n in words}))
    if not rows:
        raise UnknownFormat(f"{text.source}: no readings below the header", "add one row a reading")
    return Readings(text.source, tuple(rows))


def option_readings(given: Mapping[str, Sequence[str]], words: Mapping[str, str] | None = None) -> Readings:
    """Repeated options, {column: texts}; one given once counts for all. Raises UsageError where the counts differ."""
    counts = {name: len(texts) for name, texts in given.items() if texts}
    most = max(counts.values(), default=0)
    uneven = [name for name, count in counts.items() if count not in (1, most)]
    if uneven:
        told = ", ".join(f"{count} {_option(name)}" for name, count in counts.items())
        raise UsageError(f"{told}: they do not pair up", "give each once for every reading, or once for all")
    rows = []
    for n in range(most):
        numbers, where = {}, []
        for name, texts in given.items():
            if texts:
                text = texts[n if len(texts) > 1 else 0]
                numbers[name] = _length(text, _option(name), name)
                if len(texts) > 1 or most == 1:
                    where.append(f"{_option(name)} {text}")
        rows.append(Reading(" ".join(where), numbers, dict(words or {})))
    return Readings("the options", tuple(rows))


def _option(name: str) -> str:
    if name == "advance_s":
        return "--value"  # --advance is the present one
    return "--" + name.removesuffix("_mm").removesuffix("_mm_s").removesuffix("_s").replace("_", "-")


def _length(text: str, where: str, name: str) -> Length:
    try:
        return length(text)
    except ValueError as error:
        raise BadReading(f"{where}: {error}",
                         f"write {name} as a number, with a unit if it is not mm (34.6, 34,6 mm, 1.36 in)") from error
