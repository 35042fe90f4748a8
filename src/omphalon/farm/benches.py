"""Many printers' benches, one line each."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from omphalon.base.errors import OmphalonError, UnreadableFile, echoed
from omphalon.bench.bench import FACTS_FILE, open_bench
from omphalon.bench.work import steps

# why a setting wants measuring; every other reason is counted as due
STALE, FAILED = "stale", "check-failed"


@dataclass(frozen=True, kw_only=True)
class BenchLine:
    """A bench: its printer, settings in force, how many are stale, due, and failed a check, and
    what comes next; or the sentence why it cannot be read.
    """

    place: str
    printer: str
    settings: int = 0
    stale: int = 0
    due: int = 0
    failed: int = 0
    next: str = ""
    command: str = ""
    error: str = ""


def benches_in(place: str) -> list[str]:
    """The bench of a folder, or those in it, by name.

    Raises UnreadableFile if there is none.
    """
    folder = Path(place)
    if (folder / FACTS_FILE).exists():
        return [place]
    found = sorted(str(p.parent) for p in folder.glob(f"*/{FACTS_FILE}")) if folder.is_dir() else []
    if not found:
        raise UnreadableFile(
            f"{echoed(place)}: no bench, and none in it",
            "give the folders that omphalon bench new made",
        )
    return found


def look(place: str) -> BenchLine:
    """What a bench waits for."""
    try:
        state = open_bench(Path(place)).state()
    except OmphalonError as error:
        return BenchLine(place=place, printer=Path(place).name, error=str(error))
    todo = steps(state)
    reasons = [step.reason for step in todo]
    first = todo[0] if todo else None
    return BenchLine(
        place=place,
        printer=str(state.facts.get("printer.name") or Path(place).name),
        settings=len(state.settings),
        stale=reasons.count(STALE),
        failed=reasons.count(FAILED),
        due=sum(r not in (STALE, FAILED) for r in reasons),
        next=f"{first.kind.words}: {first.why}" if first else "nothing: every setting stands",
        command=str(first.command) if first else "",
    )
