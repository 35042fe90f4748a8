"""The settings of a printer, in the order of work: what each is, what it stands on, how a finding
becomes one, which line enters it. Values are read off the journal, never stored twice.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from omphalon.answers.settings import settings_in
from omphalon.base.errors import UnreadableFile, echoed
from omphalon.base.shapes import fits
from omphalon.tables.order import ORDER
from omphalon.tables.rows import rows_of, table_by
from omphalon.tables.tools import FIRST, MOST_TOOLS, SETTINGS_OF_TOOL, Tool

if TYPE_CHECKING:
    from omphalon.bench.journal import Entry


Document = Mapping[str, Any]
Body = dict[str, Any]
WIDE = 0.3  # of the value: a spread that is worth another test


@dataclass(frozen=True, kw_only=True)
class Kind:
    """A kind of setting: the fields of its value with their units, what it stands on, whether it
    belongs to one filament, the dialect's setting that enters it, its axis and its tool.
    """

    key: str
    words: str
    group: str
    fields: tuple[str, ...]
    units: tuple[str, ...] = ("",)
    needs: tuple[str, ...] = ()
    of_filament: bool = False
    expected: bool = False
    line: str = ""
    axis: str = ""
    tool: Tool = FIRST

    def of(self, tool: Tool) -> Kind:
        """The same of another tool."""
        return replace(
            self,
            key=tool.setting(self.key),
            words=self.words + tool.of,
            needs=tuple(map(tool.setting, self.needs)),
            tool=tool,
        )


_KINDS = tuple(rows_of("settings", Kind))
_OF_TOOLS = (
    k.of(Tool(n)) for n in range(1, MOST_TOOLS) for k in _KINDS if k.key in SETTINGS_OF_TOOL
)
KINDS: Mapping[str, Kind] = table_by(
    "key", *sorted((*_KINDS, *_OF_TOOLS), key=lambda kind: list(ORDER).index(kind.group))
)


@dataclass(frozen=True, kw_only=True)
class Taken:
    """A setting as a finding or a listing gives it; spread under the same fields."""

    key: str
    value: Body
    spread: Body


def taken(document: Document) -> list[Taken]:
    """The settings in a finding's document; none where it gives none."""
    found: dict[str, Taken] = {}
    try:
        for one in settings_in(document):
            whole = found.setdefault(one.key, Taken(key=one.key, value={}, spread={}))
            whole.value[one.field] = one.value
            if one.half_width is not None:
                whole.spread[one.field] = one.half_width
        for whole in found.values():
            _check(KINDS[whole.key], whole.value, whole.spread)
    except (KeyError, TypeError, AttributeError, ValueError) as error:
        raise UnreadableFile(
            f"a finding of the kind {echoed(str(document['kind']))} whose settings are none of it",
            "it was not written by omphalon: take a back-up, omphalon bench restore",
        ) from error
    return list(found.values())


def _check(kind: Kind, value: Body, spread: Body) -> None:
    """ValueError where a setting's value or spread cannot be of its kind."""
    shape = {field: str if field == "shaper" else float for field in kind.fields}
    halves = fits(list(spread.values()), [(float, None)])
    if not fits(value, shape) or not halves or not set(spread) <= set(kind.fields):
        raise ValueError(f"{kind.key}: of another shape")


@dataclass(frozen=True, kw_only=True)
class InForce:
    """A setting in force: its kind, value and spread, the entry that set it and when, how it came
    to be (adopted, found, reverted), whether that moved it, and for which filament; the entry that
    it rests on, its finding, when that was measured, and whether it ever was.
    """

    kind: Kind
    value: Body
    spread: Body
    entry: int
    at: str
    how: str
    moved: bool
    filament: str | None
    rests_on: int
    measured_at: str
    measured: bool
    ranges: Mapping[str, list[Any]] = field(default_factory=dict)  # that it was measured for

    @property
    def for_all(self) -> bool:
        """Whether it stands for filaments that have no value of their own."""
        return self.kind.of_filament and self.filament is None

    @property
    def age_days(self) -> int:
        """Whole days since it was measured; none where the clock was set back."""
        return days_since(self.measured_at)

    @property
    def share(self) -> float | None:
        """The widest spread as a share of its value; None where none is known."""
        shares = [
            abs(self.spread[f] / self.value[f])
            for f in self.kind.fields
            if self.spread.get(f) is not None and self.value.get(f)
        ]
        return max(shares) if shares else None


def days_since(at: str) -> int:
    """Whole days since a moment; none where the clock was set back."""
    return max((datetime.now(UTC) - datetime.fromisoformat(at)).days, 0)


def setting_of(entry: Entry) -> InForce | None:
    """An entry as a setting; None where it is of a kind that is not known here."""
    kind = KINDS.get(entry.subject)
    if kind is None or entry.newer or not entry.body["value"]:
        return None
    try:
        _check(kind, entry.body["value"], entry.body["spread"])
    except ValueError as error:
        raise UnreadableFile(
            f"entry {entry.id} sets {error}",
            "it was not written by omphalon: take a back-up, omphalon bench restore",
        ) from error
    return InForce(
        kind=kind,
        value=entry.body["value"],
        spread=entry.body.get("spread", {}),
        entry=entry.id,
        at=entry.at,
        how=entry.body["how"],
        moved=entry.body.get("moved", True),
        filament=entry.filament,
        rests_on=entry.body.get("rests_on") or entry.body["from"] or entry.id,
        measured_at=entry.body.get("measured_at") or entry.at,
        measured=bool(entry.body.get("measured", entry.body["how"] != "found")),
        ranges=entry.body.get("ranges") or {},
    )


def same(one: Mapping[str, Any], other: Mapping[str, Any]) -> bool:
    """Whether two values are one, within the digits that a document keeps."""
    return set(one) == set(other) and all(
        one[k] == other[k]
        if isinstance(one[k], str) or isinstance(other[k], str)
        else math.isclose(one[k], other[k], rel_tol=1e-5)
        for k in one
    )
