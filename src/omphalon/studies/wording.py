"""The sentences that several studies share: refusals, oddities, lines to enter. Each study's own
stand in its `words`.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from omphalon.finding import Finding
from omphalon.lines.dialect import Dialect
from omphalon.recording import MotionLog, Readings, TemperatureLog
from omphalon.studies.answer import Oddity, Retest
from omphalon.warned import Warned

Sentence = tuple[str, str]  # why, and what to do; with {facts}

MICROSTEPS = "check the driver's microsteps against the steps per mm"
REFUSALS: Mapping[str, Sentence] = {
    "cm": (
        "got ÷ asked is {ratio:.3g}, as if cm were written for mm",
        "write mm, or the unit behind the number (7.5 cm)",
    ),
    "inch": (
        "got ÷ asked is {ratio:.3g}, as if inches were written for mm",
        "write the unit behind the number (3.1 in)",
    ),
    "half-steps": (
        "got ÷ asked is {ratio:.3g}, a factor of 2: a microstepping mistake",
        MICROSTEPS,
    ),
    "quarter-steps": (
        "got ÷ asked is {ratio:.3g}, a factor of 4: a microstepping mistake",
        MICROSTEPS,
    ),
    "no-such-scale": (
        "got ÷ asked is {ratio:.3g}: no setting is that far off",
        "check which number was asked and which was measured, and measure again",
    ),
    "negative-scale": (
        "got falls as asked grows (a ratio of {ratio:.3g}): readings changed places",
        "check which number belongs to which length, and measure again",
    ),
    "disagree": (
        "the readings disagree with each other beyond chance, and there are too few to tell which "
        "is wrong",
        "measure each length once more",
    ),
}
ODDITIES: Mapping[str, str] = {
    "pen": "{where}: {written} disagrees with its fellows and was left out; {fits} would fit",
    "left-out": "{where}: {written} disagrees with its fellows beyond chance (about {expected} "
    "would fit)",
}


def warned(oddities: Iterable[Oddity], sentences: Mapping[str, str]) -> list[Warned]:
    """Oddities as warnings, each once."""
    table = {**ODDITIES, **sentences}
    return list(
        dict.fromkeys(Warned(o.code, table[o.sentence].format(**o.facts)) for o in oddities)
    )


def noted(*read: Readings | TemperatureLog | MotionLog) -> list[Warned]:
    """What was noted while files were read, as warnings.

    Parameters
    ----------
    read : readings or logs, as they were read
    """
    return [Warned(note.code, note.message) for one in read for note in one.notes]


def retest_finding(
    kind: str,
    retest: Retest,
    refusals: Mapping[str, Sentence],
    sentences: Mapping[str, str],
    warnings: Sequence[Warned] = (),
) -> Finding:
    """A refusal as the answer that a user reads.

    Parameters
    ----------
    kind : of the answer
    retest : the reason and its numbers
    refusals : for each reason the sentence and the remedy
    sentences : for each kind of oddity
    warnings : from the reader
    """
    because, remedy = {**REFUSALS, **refusals}[retest.reason]
    return Finding(
        kind=kind,
        verdict="retest",
        because=because.format(**retest.facts),
        next=remedy.format(**retest.facts),
        warnings=(*warned(retest.oddities, sentences), *warnings),
    )


def wide_remedy(count: object, what: str = "readings") -> str:
    """How many readings would do, where some number would.

    Parameters
    ----------
    count : of readings; None: no number would
    what : is read
    """
    return (
        f"take {count} {what} like these"
        if count is not None
        else "read with a finer caliper or rule"
    )


def lines_for(dialect: Dialect, setting: str, comment: str, **fields: object) -> tuple[str, ...]:
    """The line that sets, then store and list; a comment where the dialect has no such line."""
    line = dialect.line(setting, **fields)
    if line is None:
        return (f"; {comment}",)
    return (line, *stored(dialect))


def stored(dialect: Dialect) -> tuple[str, ...]:
    """The lines that store and list, where the dialect has them."""
    return tuple(x for x in (dialect.line("store"), dialect.line("list")) if x is not None)


def plural(count: int, noun: str) -> str:
    """A count with its noun.

    Returns
    -------
    str, such as 1 run, 2 runs
    """
    return f"{count} {noun}{'s' if count != 1 else ''}"
