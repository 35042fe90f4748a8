"""MANIFEST.csv becomes rows, one a job; what is wrong with a row stands in the row."""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from omphalon.base.errors import UnknownFormat, echoed
from omphalon.readers.columns import Head, header_at, split
from omphalon.readers.text import SizeLimit, Text, read_text

MANIFEST = SizeLimit(30_000_000, 30_000_000, "split it into several manifests")
OWN = ("printer", "study", "log", "model")
MOST_NAME = 120


@dataclass(frozen=True, kw_only=True)
class ColumnUse:
    """An option that a column may hold: its flag, and how a cell is taken: as `one` value, as
    `several` between blanks, as `pieces` between semicolons, as a `pair`, or as a `file`.
    """

    flag: str
    takes: str = "one"


@dataclass(frozen=True, kw_only=True)
class Study:
    """What a row of one study may hold: options by their names, and how its log is given: as `one`
    argument, as `several`, or by the option of its `axis`.
    """

    options: Mapping[str, ColumnUse]
    log: str = "one"


@dataclass(frozen=True, kw_only=True)
class ManifestRow:
    """A row as it stands: where, whose, what, and options that were given; `bad` says what is wrong
    with it, with the remedy, or is empty.
    """

    where: str
    printer: str
    study: str
    log: str
    model: str
    options: Mapping[str, str] = field(default_factory=dict)
    bad: str = ""


@dataclass(frozen=True, kw_only=True)
class Manifest:
    """The rows, and the folder that their files are named from."""

    folder: Path
    rows: tuple[ManifestRow, ...]


def read_manifest(path: str, studies: Mapping[str, Study]) -> Manifest:
    """The rows of a manifest.

    `path`: a table with a header: printer, study, log, perhaps model, then options by their names.
    Raises UnreadableFile, UnknownFormat if there is no table, or a column that no study knows: no
    job can be told from it.
    """
    text = read_text(path, MANIFEST)
    head = header_at(text.lines)
    if head is None or not head.separator:
        raise UnknownFormat(
            f"{text.source}: row 1: no header",
            "begin with printer,study,log; omphalon farm fit --template FILE writes one",
        )
    names = _columns(text.source, head, studies)
    rows = tuple(
        _row(f"{text.source}: row {n}", names, cells, studies) for n, cells in _cells(text, head)
    )
    if not rows:
        raise UnknownFormat(f"{text.source}: no rows below the header", "add one row a log")
    return Manifest(folder=Path(path).resolve().parent, rows=rows)


def _columns(source: str, head: Head, studies: Mapping[str, Study]) -> list[str]:
    """The header in our words."""
    known = [*OWN, *{name for study in studies.values() for name in study.options}]
    names = []
    for cell in head.cells:
        name = cell.strip().lower().lstrip("-").replace("_", "-")
        if cell and name not in known:
            near = difflib.get_close_matches(name, known, 1)
            raise UnknownFormat(
                f"{source}: row {head.at + 1}: column '{echoed(cell)}' is no option of any study",
                f"did you mean {near[0]}?" if near else "take it out, or see 'farm fit --help'",
            )
        if cell and name in names:
            raise UnknownFormat(
                f"{source}: row {head.at + 1}: two columns mean {name}", "keep one of them"
            )
        names.append(name)
    lacking = [name for name in OWN[:2] if name not in names]
    if lacking:
        raise UnknownFormat(
            f"{source}: row {head.at + 1}: no column {' and no column '.join(lacking)}",
            "begin with printer,study,log; omphalon farm fit --template FILE writes one",
        )
    return names


def _cells(text: Text, head: Head) -> Iterator[tuple[int, list[str]]]:
    """Line numbers (from 1) and cells of the rows that hold something."""
    for at in range(head.at + 1, len(text.lines)):
        line = text.lines[at].strip()
        if line and not line.startswith("#"):
            cells = split(line, head.separator)
            if cells != head.cells and any(cells):
                yield at + 1, cells


def _row(
    where: str, names: Sequence[str], cells: Sequence[str], studies: Mapping[str, Study]
) -> ManifestRow:
    given = {name: cell for name, cell in zip(names, cells, strict=False) if name and cell}
    own = {name: given.pop(name, "") for name in OWN}
    row = ManifestRow(where=where, **{**own, "study": own["study"].lower()}, options=given)
    bad = _uneven(len(names), cells) or _wrong(row, studies)
    return ManifestRow(**{**vars(row), "bad": f"{where}: {bad}" if bad else ""})


def _uneven(count: int, cells: Sequence[str]) -> str:
    if any(cells[count:]):
        return f"{len(cells)} cells under {count} columns; put a cell with a comma in quotes"
    if len(cells) < count:
        return f"{len(cells)} cells under {count} columns; fill the row, or write its commas"
    return ""


def _wrong(row: ManifestRow, studies: Mapping[str, Study]) -> str:
    """What is wrong with a row before any file is read; empty where nothing is."""
    if not row.printer:
        return "no printer; name it"
    if len(row.printer) > MOST_NAME:
        return f"a printer's name of {len(row.printer)} letters; {MOST_NAME} are enough"
    if row.study not in studies:
        near = difflib.get_close_matches(row.study, studies, 1)
        remedy = f"did you mean {near[0]}?" if near else "use " + ", ".join(studies)
        return f"study '{echoed(row.study)}'; {remedy}"
    strange = [name for name in row.options if name not in studies[row.study].options]
    if strange:
        return f"{row.study} fit has no option {', '.join(strange)}; empty the cell"
    return ""


def template_lines() -> Iterator[str]:
    """A manifest to fill in."""
    yield "# one row a log; paths from this folder; printers of one model are compared"
    yield "# further columns are options of the fits by their names; an empty cell is not given"
    yield "# several readings in one cell stand between blanks"
    yield "printer,model,study,log,axis,heater,target,steps,asked,mark,left"
