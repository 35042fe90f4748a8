"""What goes out: a Finding, the one shape of every answer."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from typing import Any, Literal, Protocol

from omphalon.answers.commands import Change, Prose, marked
from omphalon.answers.remarks import Refusal, Remark, each_once
from omphalon.answers.settings import Setting, documents
from omphalon.tables.tools import FIRST, Tool

Verdict = Literal["change", "keep"]
EXIT_CODES = {"change": 0, "keep": 0, "retest": 3}
CHECK_EXIT_CODES = {"keep": 0, "change": 4, "retest": 3}


@dataclass(frozen=True)
class Shown:
    """A row of the human answer: a label and the cells beside it."""

    label: str
    cells: tuple[str, ...]


@dataclass(frozen=True)
class Finding:
    """An answer: machine part (settings … next) and the rows that a person reads.

    `settings` are typed; `also` is what a document says of them besides. `headline` shows the
    settings, `table` the evidence; `picture` is what plots/ may draw, or a function that gives it
    where that takes long; it is never printed. `means` says in one sentence what a fit that
    keeps or changes means for a print; `tool` is the one that the answer is about. `parts` are
    answers of their own that this one holds together.
    """

    kind: str
    verdict: str
    because: str
    means: str = ""
    settings: tuple[Setting, ...] = ()
    also: dict[str, Any] = field(default_factory=dict)
    evidence: dict[str, Any] = field(default_factory=dict)
    warnings: tuple[Remark, ...] = ()
    lines: tuple[str, ...] = ()
    next: Prose = Prose()
    headline: tuple[Shown, ...] = ()
    table: tuple[Shown, ...] = ()
    picture: Any = None
    tool: Tool = FIRST
    parts: tuple[Finding, ...] = ()

    def proposing(self, change: Change) -> Finding:
        """The same with other commands."""
        parts = tuple(part.proposing(change) for part in self.parts)
        return replace(self, next=self.next.changed(change), parts=parts)

    @property
    def exit_code(self) -> int:
        judges = self.kind.endswith(("-check", "-compare"))
        codes = CHECK_EXIT_CODES if judges else EXIT_CODES
        return codes[self.verdict]

    def document(self, version: str) -> dict[str, Any]:
        """The JSON document, with every number finite (what is not becomes null)."""
        own = documents(self.kind, self.settings)
        settings, spread = {**own[0], **self.also}, own[1]
        return {
            "omphalon": version,
            "kind": self.kind,
            **({"tool": self.tool.number} if self.tool else {}),
            "verdict": self.verdict,
            "because": self.because,
            "means": self.means or None,
            "settings": plain(settings, places=None),
            "spread": plain(spread, places=None),
            "evidence": plain(self.evidence),
            "warnings": [w.document() for w in self.warnings],
            "lines": list(self.lines),
            "next": str(self.next),
        }


@dataclass(frozen=True)
class Plan:
    """How to run a test: steps in order, the lines that start it, and what the answer will be read
    from.

    `picture` is what plots/ may draw, never printed.
    """

    kind: str
    title: str
    steps: tuple[str | Prose, ...]
    lines: tuple[str, ...] = ()
    next: Prose = Prose()
    warnings: tuple[Remark, ...] = ()
    settings: dict[str, Any] = field(default_factory=dict)
    picture: Any = None
    tool: Tool = FIRST

    exit_code = 0

    def proposing(self, change: Change) -> Plan:
        """The same with other commands."""
        steps = (s if isinstance(s, str) else s.changed(change) for s in self.steps)
        return replace(self, next=self.next.changed(change), steps=tuple(steps))

    def document(self, version: str) -> dict[str, Any]:
        """The JSON document."""
        return {
            "omphalon": version,
            "kind": self.kind,
            **({"tool": self.tool.number} if self.tool else {}),
            "settings": plain(self.settings, places=None),
            "steps": list(map(str, self.steps)),
            "warnings": [w.document() for w in self.warnings],
            "lines": list(self.lines),
            "next": str(self.next),
        }


class Noted(Protocol):
    """What was read, and what its reader remarked."""

    @property
    def notes(self) -> tuple[Remark, ...]: ...


def answer(kind: str, read: Iterable[Noted], find: Callable[[], Finding]) -> Finding:
    """What a study finds, or why it finds nothing; what was remarked while files were read goes
    with it.

    `find`: decides and says it; a Refusal becomes the verdict retest.
    """
    noted = [note for one in read for note in one.notes]
    try:
        found = find()
    except Refusal as refusal:
        found = Finding(
            kind=kind,
            verdict="retest",
            because=refusal.because,
            next=marked(refusal.remedy),
            warnings=refusal.remarks,
        )
    return replace(found, warnings=each_once((*found.warnings, *noted)))


def plain(value: Any, places: int | None = 6) -> Any:
    """Nested values as JSON takes them: no NaN, no Infinity, and so many significant digits;
    settings keep all of theirs (None), since lines are made of them.
    """
    if isinstance(value, dict):
        return {k: plain(v, places) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [plain(v, places) for v in value]
    if isinstance(value, bool) or value is None or isinstance(value, (str, int)):
        return value
    number = float(value)
    if not math.isfinite(number):
        return None
    return number if places is None else float(f"{number:.{places}g}")
