"""A table of text: separator, decimal comma, header, rows; and columns found by plain words and units in the header."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass

from omphalon.errors import UnknownFormat, UsageError
from omphalon.readers.text import Text

SEPARATORS = (";", "\t", ",")
NUMBER = re.compile(r"[-+]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][-+]?\d+)?$")


@dataclass(frozen=True)
class Table:
    """Cells as text under a header; `line` has the file's line number of each row, `bad` those passed over."""

    source: str
    header: list[str]
    rows: list[list[str]]
    line: list[int]
    bad: list[int]
    cut: bool
    decimal_comma: bool

    def numbers(self, column: int) -> list[float]:
        """A column as numbers, NaN where a cell is none."""
        return [number(row[column], self.decimal_comma) for row in self.rows]


def number(cell: str, decimal_comma: bool = False) -> float:
    """A cell as a finite number, or NaN."""
    text = cell.strip()
    if not NUMBER.match(text):
        return math.nan
    value = float(text.replace(",", ".") if decimal_comma else text.replace(",", "."))
    return value if math.isfinite(value) else math.nan


def split(line: str, separator: str) -> list[str]:
    return [cell.strip().strip('"').strip() for cell in line.split(separator)]


def words(header: str) -> set[str]:
    """The lower-case words of a header cell: 'Hotend_Temp (°C)' → {hotend, temp, °c}."""
    spaced = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", header)
    return set(re.findall(r"[a-zµ°%²/0-9…]+", spaced.lower().replace("_", " ").replace("/", " ")))


def header_at(lines: list[str], alone: Sequence[str] = ()) -> tuple[int, str] | None:
    """Line number and separator of the first line that reads like a header: two cells or more, none a number.

    A name among `alone` is a header by itself.
    """
    for at, line in enumerate(lines):
        text = line.strip().lstrip("\ufeff")
        if not text or text.startswith("#"):
            continue
        for separator in SEPARATORS:
            cells = split(text, separator)
            if len(cells) > 1 and not any(NUMBER.match(c) for c in cells) and sum(bool(c) for c in cells) > 1:
                return at, separator
        return (at, ";") if text.strip('"').lower() in alone else None
    return None


def read_table(text: Text, at: int, separator: str) -> Table:
    """The rows below a header. Blank lines, comments and repeated headers are passed over without a word."""
    header = split(text.lines[at].lstrip("\ufeff"), separator)
    rows, lines, bad = [], [], []
    sample = [split(x, separator) for x in text.lines[at + 1:at + 40]]
    decimal_comma = separator != "," and any("," in cell and NUMBER.match(cell) for row in sample for cell in row)
    last = len(text.lines) - 1
    cut = False
    for n in range(at + 1, len(text.lines)):
        line = text.lines[n].strip()
        if not line or line.startswith("#"):
            continue
        cells = split(line, separator)
        if cells == header:
            continue
        if n == last and not text.whole:
            cut = True
            continue
        if len(cells) < len(header):
            bad.append(n + 1)
            continue
        rows.append(cells)
        lines.append(n + 1)
    return Table(text.source, header, rows, lines, bad, cut, decimal_comma)


def chosen_column(table: Table, header: str) -> int:
    """The column a user named, or a UsageError that lists what there is."""
    folded = [h.lower() for h in table.header]
    if header.lower() not in folded:
        raise UsageError(f"{table.source}: no column '{header}'", "the header has: " + ", ".join(table.header))
    return folded.index(header.lower())


def unknown(source: str, what: str, remedy: str) -> UnknownFormat:
    return UnknownFormat(f"{source}: {what}", remedy)
