"""A table of text: separator, quotes, decimal comma, header, rows; and columns found by plain words
in the header.

Cells come from Python's `csv` (JSON Lines from `json`); ours is only to find which column is what.
"""

from __future__ import annotations

import csv
import json
import math
import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

from omphalon.answers.remarks import Remark
from omphalon.base.errors import UnknownFormat, UsageError, echoed
from omphalon.readers.clock import NUMBER
from omphalon.readers.text import Text
from omphalon.tables.heaters import Heater
from omphalon.tables.units import MINUS, plain_number

SEPARATORS = (";", "\t", ",", " ")
UNIT_BEHIND = re.compile(
    r"\s*(?:°\s?[CFK]|[CFK]|mm/s²|mm/s2|m/s²|m/s2|mm/s\^2|m/s\^2|g|ms|µs|us|s|mm|Hz)", re.ASCII
)
STATES = {"on": 1.0, "true": 1.0, "off": 0.0, "false": 0.0}
DATE, CLOCK = re.compile(r"[\d./-]{6,10}"), re.compile(r"\d{1,2}:\d\d(:\d\d([.,]\d+)?)?")
JSON_LONGEST = 20_000
MOST_COLUMNS = 500  # of a header: no logger writes more
SEPARATOR_LINE = re.compile(r"sep=.?", re.I)  # a spreadsheet's own first line


@dataclass(frozen=True)
class Table:
    """Cells as text under a header; `line` has the file's line number of each row, `bad` those
    passed over.
    """

    source: str
    header: list[str]
    rows: list[list[str]]
    line: list[int]
    bad: list[int]
    cut: bool

    def cells(self, column: int) -> list[str]:
        """A column as text."""
        return [row[column] for row in self.rows]

    def numbers(self, column: int) -> list[float]:
        """A column as numbers, NaN where a cell is none."""
        return [number(row[column]) for row in self.rows]

    def first_cell(self, column: int) -> str:
        """The first cell of a column that holds something, as it may be echoed."""
        return echoed(next((row[column] for row in self.rows if row[column]), ""))


def number(cell: str) -> float:
    """A cell as a finite number, or NaN: with a decimal comma, a typographic minus, a % or a unit
    behind it.
    """
    text = cell.translate(MINUS).strip()
    found = NUMBER.match(text)
    if not found:
        return math.nan
    rest = text[found.end() :].strip()
    if rest and rest != "%" and not UNIT_BEHIND.fullmatch(rest):
        return math.nan
    value = plain_number(found[0])
    return value if math.isfinite(value) else math.nan


def state(cell: str) -> float:
    """A cell as a number, or as on and off."""
    return STATES.get(cell.strip().lower(), number(cell))


def is_number(cell: str) -> bool:
    return not math.isnan(number(cell))


def split(line: str, separator: str) -> list[str]:
    """The cells of one line; quotes as `csv` takes them."""
    try:
        cells = next(csv.reader([line], delimiter=separator, skipinitialspace=True), [])
    except csv.Error:
        return [line]
    return [cell.strip() for cell in cells if separator != " " or cell]


def words(header: str) -> set[str]:
    """The lower-case words of a header cell: 'Hotend_Temp (°C)' → {hotend, temp, °c}."""
    spaced = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", header)
    return set(
        re.findall(
            r"[a-zà-öø-ÿµ°%²/0-9…]+",
            spaced.lower().replace("μ", "µ").replace("_", " ").replace("/", " "),
        )
    )


@dataclass(frozen=True)
class Head:
    """Where a table begins: the header's line number (from 0), its separator ("" for JSON Lines),
    its cells.
    """

    at: int
    separator: str
    cells: list[str]


def header_at(lines: list[str], alone: Callable[[str], bool] | None = None) -> Head | None:
    """The first line that reads like a header: two cells or more, none a number. JSON Lines have
    their keys for one.

    `alone` tells a header of a single cell.
    """
    for at, line in enumerate(lines):
        text = line.strip().lstrip("\ufeff")
        if not text or text.startswith("#") or SEPARATOR_LINE.fullmatch(text):
            continue
        if text.startswith("{"):
            return Head(at, "", _keys(lines[at:]))
        for separator in SEPARATORS:
            cells = (
                _joined_units(split(text, separator))
                if separator == " "
                else split(text, separator)
            )
            if (
                len(cells) > 1
                and not any(map(is_number, cells))
                and sum(map(bool, cells)) > 1
                and (separator != " " or _blanks_follow(lines[at + 1 : at + 40], len(cells)))
            ):
                return Head(at, separator, cells)
        cells = split(text, ";")
        return (
            Head(at, ";", cells) if alone is not None and alone(cells[0] if cells else "") else None
        )
    return None


def _joined_units(cells: list[str]) -> list[str]:
    """Header words of a table separated by blanks: a unit in brackets belongs to the word before
    it.
    """
    out: list[str] = []
    for cell in cells:
        if out and cell[:1] in "([":
            out[-1] += " " + cell
        else:
            out.append(cell)
    return out


def _blanks_follow(lines: Iterable[str], count: int) -> bool:
    """Whether the next lines are rows of so many cells between blanks, most of them numbers."""
    rows = [
        _joined_dates(split(x, " "), count) for x in lines if x.strip() and not x.startswith("#")
    ][:5]
    return bool(rows) and all(
        len(r) == count and sum(map(is_number, r)) >= (count - 1) / 2 for r in rows
    )


def _joined_dates(cells: list[str], count: int) -> list[str]:
    """Cells in which a date and its clock, parted by the blank, are one again."""
    k = 0
    while len(cells) > count and k < len(cells) - 1:
        if DATE.fullmatch(cells[k]) and CLOCK.fullmatch(cells[k + 1]):
            wide = (
                3
                if len(cells) > count + 1
                and cells[k + 2 : k + 3]
                and cells[k + 2].lower() in ("am", "pm")
                else 2
            )
            cells = [*cells[:k], " ".join(cells[k : k + wide]), *cells[k + wide :]]
        k += 1
    return cells


def read_table(text: Text, head: Head) -> Table:
    """The rows below a header. Blank lines, comments and repeated headers are passed over without a
    word.

    Raises UnknownFormat if a column name stands twice, or a row is longer than the header: it names
    the row.
    """
    _refuse_doubles(text.source, head)
    rows, numbers, bad = [], [], []
    last, cut, count = len(text.lines) - 1, False, len(head.cells)
    for n in range(head.at + (head.separator != ""), len(text.lines)):
        line = text.lines[n].strip()
        if not line or line.startswith("#"):
            continue
        cells = _object(line, head.cells) if not head.separator else split(line, head.separator)
        if head.separator == " " and cells is not None:
            cells = _joined_dates(cells, count)
        if cells == head.cells:
            continue
        if n == last and not text.whole:
            cut = True
            continue
        if cells is None or len(cells) < count:
            bad.append(n + 1)
            continue
        if any(cells[count:]):
            raise UnknownFormat(
                f"{text.source}: row {n + 1}: {len(cells)} cells under {count} columns",
                "a decimal comma between commas needs quotes, or another separator (;)",
            )
        rows.append(cells[:count])
        numbers.append(n + 1)
    return Table(text.source, head.cells, rows, numbers, bad, cut)


def _refuse_doubles(source: str, head: Head) -> None:
    if len(head.cells) > MOST_COLUMNS:
        raise UnknownFormat(
            f"{source}: row {head.at + 1}: {len(head.cells)} columns, no log and no readings",
            f"give the columns that matter, {MOST_COLUMNS} at the most",
        )
    counts = Counter(cell.lower() for cell in head.cells if cell)
    double = next((name for name, count in counts.items() if count > 1), None)
    if double is not None:
        raise UnknownFormat(
            f"{source}: row {head.at + 1}: two columns are named '{echoed(double)}'",
            "name each column once",
        )


def _keys(lines: Sequence[str]) -> list[str]:
    """The keys of JSON Lines, in the order in which they come up."""
    keys: dict[str, None] = {}
    for line in lines[:200]:
        found = _parsed(line.strip())
        keys |= dict.fromkeys(found or {})
    return list(keys)


def _parsed(line: str) -> dict[str, object] | None:
    if not line.startswith("{") or len(line) > JSON_LONGEST:
        return None
    try:
        found = json.loads(line)
    except (ValueError, RecursionError):
        return None
    return found if isinstance(found, dict) else None


def _object(line: str, header: Sequence[str]) -> list[str] | None:
    """One JSON object as cells under the header; None where it is none, or holds something
    nested.
    """
    found = _parsed(line)
    if found is None or any(isinstance(v, list | dict) for v in found.values()):
        return None
    return ["" if found.get(name) is None else str(found[name]) for name in header]


def chosen_column(header: Sequence[str], wanted: str, source: str) -> int:
    """The column a user named, or a UsageError that lists what there is."""
    folded = [h.lower() for h in header]
    if wanted.lower() not in folded:
        raise UsageError(
            f"{source}: no column '{echoed(wanted)}'",
            "the header has: " + echoed(", ".join(header)),
        )
    return folded.index(wanted.lower())


@dataclass(frozen=True)
class Wanted:
    """How a user wants a log read."""

    heater: Heater | None = None
    full_power: float | None = None
    every_s: float | None = None
    columns: dict[str, str] = field(default_factory=dict)


@dataclass(kw_only=True)
class LogColumns:
    """What a form gives: columns as they stand, times in s, and what was seen on the way."""

    time_s: list[float]
    temperature_c: list[float]
    power: list[float] | None = None
    target_c: list[float] | None = None
    percent: bool = False
    notes: list[Remark] = field(default_factory=list)
    headers: tuple[str, ...] = ()
    heater: Heater | None = None
    fan: list[float] | None = None
    flow_mm3_s: list[float] | None = None
