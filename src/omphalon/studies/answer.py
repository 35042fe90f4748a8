"""What all studies answer with: a finding or a refusal, and the lines to enter."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Literal, NoReturn, Protocol

from omphalon.errors import BadReading, UsageError
from omphalon.finding import Finding
from omphalon.lines.dialect import Dialect
from omphalon.recording import Readings
from omphalon.remarks import Refusal, Remark, each_once

Verdict = Literal["change", "keep"]


class Noted(Protocol):
    """What was read, and what its reader remarked."""

    @property
    def notes(self) -> tuple[Remark, ...]: ...


def answer(kind: str, read: Iterable[Noted], find: Callable[[], Finding]) -> Finding:
    """What a study finds, or why it finds nothing; what was remarked while files were read goes
    with it.

    Parameters
    ----------
    kind : of the answer
    read : readings, logs or pictures
    find : decides and says it; a Refusal becomes the verdict retest
    """
    noted = [note for one in read for note in one.notes]
    try:
        found = find()
    except Refusal as refusal:
        found = Finding(
            kind=kind,
            verdict="retest",
            because=refusal.because,
            next=refusal.remedy,
            warnings=refusal.remarks,
        )
    return replace(found, warnings=each_once((*found.warnings, *noted)))


def refuse_gaps(readings: Readings, *names: str) -> None:
    """Refuse readings of which some rows lack a column that others have.

    Raises
    ------
    BadReading
        With the row and the column.
    """
    gap = readings.gap(*names)
    if gap is not None:
        row, name = gap
        raise BadReading(f"{row.where}: no {name}", "fill it in, or take the reading out")


def no_readings(problem: str, remedy: str) -> NoReturn:
    """Refuse a command without the readings it needs."""
    raise UsageError(problem, remedy)


def lines_for(dialect: Dialect, setting: str, comment: str, **fields: object) -> tuple[str, ...]:
    """The line that sets, then store and list; a comment where the dialect has no such line."""
    line = dialect.line(setting, **fields)
    if line is None:
        return (f"; {comment}",)
    return (line, *stored(dialect))


def stored(dialect: Dialect) -> tuple[str, ...]:
    """The lines that store and list, where the dialect has them."""
    return tuple(x for x in (dialect.line("store"), dialect.line("list")) if x is not None)
