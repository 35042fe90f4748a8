"""From a complaint about a print or a printer to what to measure: the causes of each
complaint, the likeliest first, among them what no setting mends. One table (complaints.csv and
causes.csv), which `start`, `bench next` and the docs read.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from difflib import get_close_matches

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


CAUSES = tuple(rows_of("causes", Cause))  # the likeliest first: judgements


@dataclass(frozen=True, kw_only=True)
class Complaint:
    """What is seen or heard, and words by which it is known."""

    seen: str
    known_by: str

    @property
    def causes(self) -> tuple[Cause, ...]:
        """What may be behind it, the likeliest first."""
        return tuple(cause for cause in CAUSES if cause.seen == self.seen)


COMPLAINTS = table_by("seen", *rows_of("complaints", Complaint))
LEAST_SHARE = 0.5  # of the words that are said
LIKE, NEARLY = 0.8, 0.9  # a word that is misspelt, and what it counts


def complaint_of(said: str) -> Complaint:
    """The complaint that these words mean.

    Raises UsageError if none has most of them; with what is known.
    """
    words = {word.rstrip("s") for word in re.findall(r"[^\W\d_]{3,}", said.lower())}
    words -= {"the", "and", "are", "not", "very", "when", "with", "does", "have", "has"}

    def shared(one: Complaint) -> float:
        known = {w.rstrip("s") for w in re.findall(r"\w{3,}", f"{one.known_by} {one.seen}")}
        near = [word for word in words - known if get_close_matches(word, known, 1, LIKE)]
        return len(words & known) + NEARLY * len(near)

    best = max(COMPLAINTS.values(), key=shared)
    if not words or shared(best) < max(LEAST_SHARE * len(words), NEARLY):
        known = "; ".join(COMPLAINTS)
        raise UsageError(f"--seen '{echoed(said)}': no such complaint", f"one of: {known}")
    return best
