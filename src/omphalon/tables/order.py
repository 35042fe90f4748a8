"""The order of work, which help, `bench next`, docs and answers read: tables/order.csv."""

from __future__ import annotations

from dataclasses import dataclass

from omphalon.tables.rows import rows_of, table_by


@dataclass(frozen=True, kw_only=True)
class Work:
    """A group of the order: what it is, in help and in a sentence, the minutes and the grams of
    filament that a first fit takes (judgements, from the plans), and whether only who asks for it
    needs it.
    """

    group: str
    help: str
    words: str
    minutes: int
    grams: int = 0
    asked: bool = False


ORDER = table_by("group", *rows_of("order", Work))


def comes_next(group: str) -> str:
    """What comes after a group, as an answer says it; nothing after the last."""
    names = [name for name, work in ORDER.items() if not work.asked]
    at = names.index(group) + 1 if group in names else len(names)
    return f"go on with {ORDER[names[at]].words}" if at < len(names) else ""
