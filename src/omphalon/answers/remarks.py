"""What is odd on the way to an answer, and why there is none: a code and its facts each, said by
one table of sentences.
"""

from __future__ import annotations

import functools
import string
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from importlib import resources
from numbers import Integral
from typing import Any

from omphalon.tables.units import digits, plural

Facts = Mapping[str, object]
# facts that are phrases
PHRASES = {
    "target-in-f": ": is the target in °F?",
    "log-in-f": ": are the log's temperatures °F? (name the column temp_f)",
    "gains-per-a-loop": "a loop, not a second",
    "gains-per-minutes": "in minutes, not in seconds",
    "two-walls": " (two walls for one, or the wrong unit?)",
}


@dataclass(frozen=True)
class WarningKind:
    """A row of the table of warnings: its code, what it means, what to do, and its sentences by
    their names.
    """

    code: str
    meaning: str
    remedy: str
    said: Mapping[str, str]


def _table(name: str) -> dict[str, Any]:
    return tomllib.loads((resources.files("omphalon.answers") / name).read_text("utf-8"))


@functools.cache
def warnings() -> dict[str, WarningKind]:
    """The table of warnings, by their codes."""
    return {code: WarningKind(code, **row) for code, row in _table("warnings.toml").items()}


@functools.cache
def _kinds() -> Mapping[str, WarningKind]:
    """The warning that each sentence belongs to."""
    said = [(name, kind) for kind in warnings().values() for name in kind.said]
    assert len(dict(said)) == len(said), "a sentence's name stands twice"
    return dict(said)


@functools.cache
def refusals() -> dict[str, dict[str, str]]:
    """The table of refusals: because, remedy and perhaps otherwise, by their codes."""
    return _table("refusals.toml")


class _Filler(string.Formatter):
    """Format specifications of our own: `{count:gap}` is a count with its noun, `{half:~2}` a
    number of at least two digits; a fact that is the name of a phrase becomes it.
    """

    def format_field(self, value: Any, format_spec: str) -> Any:
        if format_spec.startswith("~"):
            return digits(float(value), least=int(format_spec[1:]))
        if isinstance(value, Integral) and len(format_spec) > 1 and format_spec[0].isalpha():
            return plural(int(value), format_spec)
        if isinstance(value, str):
            value = PHRASES.get(value, value)
        return super().format_field(value, format_spec)


def filled(sentence: str, facts: Facts) -> str:
    """A sentence of a table with its facts."""
    return _Filler().vformat(sentence, (), facts)


@dataclass(frozen=True, init=False)
class Remark:
    """Something odd: which sentence of the table of warnings, and the facts for it."""

    said: str
    facts: Facts

    def __init__(self, said: str, /, **facts: object) -> None:
        object.__setattr__(self, "said", said)
        object.__setattr__(self, "facts", facts)

    def __hash__(self) -> int:
        return hash(self.said)

    @property
    def kind(self) -> WarningKind:
        """The warning that it is."""
        return _kinds()[self.said]

    @property
    def code(self) -> str:
        """Of the warning, as it is documented."""
        return self.kind.code

    @property
    def message(self) -> str:
        """The sentence."""
        return filled(self.kind.said[self.said], self.facts)

    @property
    def remedy(self) -> str:
        """What to do."""
        return self.kind.remedy

    def document(self) -> dict[str, str]:
        """As JSON has it."""
        return {"code": self.code, "message": self.message, "remedy": self.remedy}


class Refusal(Exception):
    """The data cannot support an answer: why, the facts, and what was odd on the way."""

    def __init__(self, code: str, remarks: Iterable[Remark] = (), /, **facts: object) -> None:
        super().__init__(code, facts)
        self.code, self.facts, self.remarks = code, facts, tuple(remarks)

    def after(self, remarks: Iterable[Remark]) -> Refusal:
        """The same, with what was odd before it."""
        self.remarks = (*remarks, *self.remarks)
        return self

    @property
    def because(self) -> str:
        """Why there is no answer."""
        return filled(refusals()[self.code]["because"], self.facts)

    @property
    def remedy(self) -> str:
        """What to do; another thing where no count of readings would do."""
        row = refusals()[self.code]
        hopeless = self.facts.get("count", 0) is None
        return filled(row["otherwise" if hopeless else "remedy"], self.facts)


def each_once(remarks: Iterable[Remark]) -> tuple[Remark, ...]:
    """Remarks in their order, none twice."""
    return tuple(dict.fromkeys(remarks))
