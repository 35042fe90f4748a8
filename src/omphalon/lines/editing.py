"""Settings written into the text of a controller's settings file: only their values change, and
comments, order and blanks stay.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from omphalon.lines.listing import alike, matched_line
from omphalon.lines.template import SECTION, Entered, Template


@dataclass(frozen=True)
class Filed:
    """A line for a settings file, and the template that it was made of, with its axis and its tool
    written in.
    """

    template: Template
    line: Entered


@dataclass(frozen=True)
class Edit:
    """A line of the file that changed: its section, what stood there (None: nothing did), and what
    stands there now.
    """

    section: str
    old: str | None
    new: str


def written_into(text: str, wanted: Sequence[Filed]) -> tuple[str, list[Edit]]:
    """A settings file with new values, and what changed in it.

    A line that the file does not have is put at the end of its section, a section that it does not
    have at the end of the file.
    """
    lines = text.splitlines(keepends=True)
    end = "\r\n" if text.count("\r\n") * 2 > text.count("\n") else "\n"
    edits: list[Edit] = []
    for one in wanted:
        section = one.line.section or ""
        rows = _rows_of(lines, section)
        known = [
            n
            for n in rows
            if not lines[n].lstrip().startswith((";", "#")) and _match(one.template, lines[n])
        ]
        for n in known:
            new = _with_values(lines[n], one)
            if new != lines[n]:
                edits.append(Edit(section, lines[n].rstrip(), new.rstrip()))
                lines[n] = new
        if known:
            continue
        edits.append(Edit(section, None, one.line.text))
        if lines and not lines[-1].endswith(("\n", "\r")):
            lines[-1] += end
        if rows:
            filled = [n for n in rows if lines[n].strip()]
            lines.insert(filled[-1] + 1, one.line.text + end)
        else:
            lines += [end, f"[{section}]{end}", one.line.text + end]
    return "".join(lines), edits


def _match(template: Template, line: str) -> re.Match[str] | None:
    return matched_line(template, line.rstrip("\r\n"))


def _rows_of(lines: Sequence[str], section: str) -> list[int]:
    """Where a section stands, its head among the rows; nowhere where there is none."""
    rows, inside = [], False
    for n, line in enumerate(lines):
        head = SECTION.fullmatch(line)
        if head:
            inside = head[1].strip() == section
        if inside:
            rows.append(n)
    return rows


def _with_values(line: str, one: Filed) -> str:
    """A line of the file with the values of ours in their places; what is the same within its
    digits stays as it is written.
    """
    there, ours = _match(one.template, line), _match(one.template, one.line.text)
    assert there is not None and ours is not None
    for name, value in sorted(ours.groupdict().items(), key=lambda pair: -there.start(pair[0])):
        if value is not None and not alike(value, there[name]):
            line = line[: there.start(name)] + value + line[there.end(name) :]
    return line
