"""From a complaint about a print or a printer, in plain words, to what to measure: the causes of
each complaint, the likeliest first, among them what no setting mends. One table (complaints.csv and
causes.csv), which `start`, `bench next` and the docs read; the most frequent complaints first.
"""

from __future__ import annotations

import functools
import math
import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, replace

from omphalon.base.errors import UsageError, echoed
from omphalon.tables.rows import rows_of, table_by


@dataclass(frozen=True, kw_only=True)
class Cause:
    """What may be behind what is seen: in words, and the setting's key whose measurement tells; ""
    where it is no matter of a setting, and what to look at then.
    """

    seen: str
    words: str
    key: str = ""
    look: str = ""

    def of_axis(self, axis: str | None) -> Cause:
        """The same of the axis that was named, where it is a cause of one."""
        head, dash, own = self.key.rpartition("-")
        if axis is None or not dash or own not in AXES:
            return self
        return replace(self, key=f"{head}-{axis}")


AXES = ("x", "y", "z", "e")
CAUSES = tuple(rows_of("causes", Cause))  # the likeliest first: judgements


@dataclass(frozen=True, kw_only=True)
class Complaint:
    """A complaint, and the words by which it is recognised."""

    seen: str
    known_by: str

    @property
    def causes(self) -> tuple[Cause, ...]:
        """What may be behind it, the likeliest first."""
        return tuple(cause for cause in CAUSES if cause.seen == self.seen)


@dataclass(frozen=True, kw_only=True)
class Meant:
    """What words may mean: one complaint, or some of which the user says which; the axis that they
    name.
    """

    complaints: tuple[Complaint, ...]
    axis: str | None

    @property
    def certain(self) -> bool:
        """Whether it is one."""
        return len(self.complaints) == 1

    @property
    def causes(self) -> tuple[Cause, ...]:
        """What may be behind the one complaint, on the axis that was named; each once."""
        own = (cause.of_axis(self.axis) for cause in self.complaints[0].causes)
        return tuple({cause.key or cause.words: cause for cause in reversed([*own])}.values())[::-1]


COMPLAINTS = table_by("seen", *rows_of("complaints", Complaint))
SHOWN = 10  # of the complaints, the most frequent first, where none is meant
# shares of the weight of the words that were said: a complaint that has so many is meant; of others
# that have as much of the best one's, the user says which; set on the sentences marked `known` of
# tests/complaints.csv
SURE, LEAST, CLOSE = 0.5, 0.34, 0.8
LIKE = 85.0  # per cent of its letters that a misspelt word has
STRANGE = 1.5  # what a word weighs that no complaint has
# words that say nothing of what is wrong
IDLE_WORDS = """
it is in on at of to an as by be do so we me or if am us the and are not very when with does
have has get got its all too can you for that this from than been was were will would keep keeps
always there here which while where into onto just some any much many lot really since use used
using make makes made see saw look looks looking print prints printed printing printer my they
them his her out broken bad wrong problem issue fault help fix please
"""
IDLE = frozenset(IDLE_WORDS.split())


def complaint_of(text: str) -> Meant:
    """The complaint that these words mean, or the few that they may mean.

    Raises UsageError if none has enough of them; with what is most often seen.
    """
    axis, words, known = _axis(text), _stems(text), _vocabulary()
    words = [_nearest(word, known) for word in words]
    whole = sum(known.get(word, STRANGE) for word in words)
    shares = {
        one.seen: sum(known[word] for word in words if word in _known_by(one)) / whole
        for one in (_concerned(axis) if whole else ())
    }
    exact = next((one for one in COMPLAINTS.values() if one.seen == text.strip().lower()), None)
    best = max(shares.values(), default=0.0)
    if exact is None and best < LEAST:
        some = "; ".join(list(COMPLAINTS)[:SHOWN])
        raise UsageError(
            f"--seen '{echoed(text)}': no such complaint", f"what is seen most often: {some}"
        )
    near = [n for n in sorted(shares, key=lambda n: -shares[n]) if shares[n] >= CLOSE * best]
    if best < SURE and len(near) == 1:
        near += sorted((n for n in shares if n not in near), key=lambda n: -shares[n])[:1]
    found = (exact,) if exact is not None else tuple(COMPLAINTS[name] for name in near[:3])
    return Meant(complaints=found, axis=axis)


def _concerned(axis: str | None) -> list[Complaint]:
    """The complaints that an axis may be behind, where one is named; else all."""
    if axis is None:
        return list(COMPLAINTS.values())
    return [one for one in COMPLAINTS.values() if any(c.of_axis("") != c for c in one.causes)]


def _axis(text: str) -> str | None:
    """The axis that is named alone; the extruder is one."""
    found = {word.lower() for word in re.findall(r"\b[xyzXYZ]\b", text)}
    return found.pop() if len(found) == 1 else None


def _stems(text: str) -> list[str]:
    """The stems of the words that say something, each once."""
    import snowballstemmer

    words = [w for w in re.findall(r"[a-z]{2,}", text.lower().replace("'", "")) if w not in IDLE]
    return list(dict.fromkeys(snowballstemmer.stemmer("english").stemWords(words)))


@functools.cache
def _known_by(one: Complaint) -> frozenset[str]:
    return frozenset(_stems(f"{one.known_by} {one.seen}"))


@functools.cache
def _vocabulary() -> dict[str, float]:
    """Every word by which a complaint is known, and its weight: the more, the fewer have it."""
    count = Counter(word for one in COMPLAINTS.values() for word in _known_by(one))
    return {word: math.log(1 + len(COMPLAINTS) / times) for word, times in count.items()}


def _nearest(word: str, known: Iterable[str]) -> str:
    """The known word that a word is, or is misspelt from; itself where it is none."""
    from rapidfuzz import fuzz, process

    if word in known or len(word) < 4:
        return word
    found = process.extractOne(word, list(known), scorer=fuzz.ratio, score_cutoff=LIKE)
    return word if found is None else str(found[0])
