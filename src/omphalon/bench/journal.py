"""The journal: one append-only table in SQLite, its order its own, not the clock's; and the trial
prints in it: which single changes made most difference.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import sqlite3
import stat
import statistics
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from omphalon.base.errors import OmphalonError, UnreadableFile, UnwritableFile
from omphalon.base.shapes import DOCUMENT, Shape, fits, parsed

SCHEMA = 1
MOST_S, STEPS = 120.0, 100_000  # no reading or writing takes longer; checked every so many steps
PATIENCE_S = 60.0  # how long one process waits for another
# the end of a rollback journal that names others (SQLite file format, 3: the rollback journal)
SUPER_JOURNAL = bytes.fromhex("d9d505f920a163d7")
ROLLBACK = b"\x01\x01"  # write and read version of a database without a write-ahead log (same, 1.3)
RESTORE = "take a back-up: omphalon bench restore"
TABLE = f"""
CREATE TABLE entries (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    at TEXT NOT NULL,
    kind TEXT NOT NULL,
    subject TEXT NOT NULL,
    filament TEXT,
    schema INTEGER NOT NULL,
    body TEXT NOT NULL CHECK (json_valid(body)),
    digest TEXT NOT NULL
);
CREATE INDEX by_subject ON entries (kind, subject, filament, id);
CREATE TRIGGER never_changed BEFORE UPDATE ON entries
    BEGIN SELECT RAISE(ABORT, 'the journal only grows'); END;
CREATE TRIGGER never_deleted BEFORE DELETE ON entries
    BEGIN SELECT RAISE(ABORT, 'the journal only grows'); END;
PRAGMA user_version = {SCHEMA};
"""
INPUT: Shape = {"name": str, "data": str}
# kind of entry → what its body must be
BODIES: dict[str, Shape] = {
    "finding": {"document": DOCUMENT, "command": [str], "inputs": [INPUT], "figure": (str, None)},
    "setting": {"value": dict, "spread": dict, "how": str, "from": (int, None)},
    "part": {"note": str},
    "check": {"verdict": str},
    "trial": {"changed": [str], "outcome": str, "score": (float, None), "photo": (INPUT, None)},
}
COLUMNS = "id, at, kind, subject, filament, schema, body, digest"


@dataclass(frozen=True, kw_only=True)
class Entry:
    """One entry: its number, when (UTC), what kind, of what, for which filament, and its body."""

    id: int
    at: str
    kind: str
    subject: str
    filament: str | None
    body: dict[str, Any]
    newer: bool = False


class Journal:
    """A bench's journal. Every method opens the file again, so that processes may share it."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def create(self) -> None:
        """An empty journal; the file must not be there."""
        with self._opened("rwc") as base:
            base.executescript(f"BEGIN IMMEDIATE; {TABLE} COMMIT;")

    @contextlib.contextmanager
    def _opened(self, mode: str = "ro") -> Iterator[sqlite3.Connection]:
        write = mode != "ro"
        left = self.path.with_name(self.path.name + "-journal")
        self._refuse_foreign(left)
        if not write and left.exists() and os.access(left, os.W_OK):
            mode = "rw"  # a writer was killed, or is at work: SQLite must be able to undo its half
        try:
            uri = f"{self.path.resolve().as_uri()}?mode={mode}"
            base = sqlite3.connect(uri, uri=True, timeout=PATIENCE_S, isolation_level=None)
            try:
                until = time.monotonic() + MOST_S
                base.set_progress_handler(lambda: int(time.monotonic() > until), STEPS)
                if mode != "rwc":
                    self._refuse_other_schema(base)
                if write:
                    base.execute("PRAGMA synchronous = FULL")
                yield base
            finally:
                base.close()
        except sqlite3.OperationalError as error:
            raise self._trouble(error, write) from error
        except (sqlite3.DatabaseError, ValueError) as error:
            raise UnreadableFile(f"{self.path}: damaged ({error})", RESTORE) from error

    def _refuse_foreign(self, left: Path) -> None:
        """Refuse what stands beside the database and was not left there by a journal of ours:
        SQLite would follow it to other files, and remove them.
        """
        foreign = [self.path.with_name(self.path.name + end) for end in ("-wal", "-shm")]
        strange = next((path for path in foreign if path.exists()), None)
        with contextlib.suppress(FileNotFoundError):
            if not stat.S_ISREG(left.lstat().st_mode):
                strange = left
            elif left.stat().st_size >= len(SUPER_JOURNAL):
                with open(left, "rb") as file:
                    file.seek(-len(SUPER_JOURNAL), os.SEEK_END)
                    strange = left if file.read() == SUPER_JOURNAL else strange
        if strange is None and self.path.exists():
            with open(self.path, "rb") as file:
                head = file.read(20)
            ours = head[18:] == ROLLBACK or not head.startswith(b"SQLite format 3")
            strange = None if ours else self.path
        if strange is not None:
            raise UnreadableFile(
                f"{strange}: was not left by omphalon, and could lead SQLite to other files",
                "take it away, or take a back-up: omphalon bench restore",
            )

    def _refuse_other_schema(self, base: sqlite3.Connection) -> None:
        """Refuse tables, views and triggers that are not ours: a view may never end, a trigger
        change what is written. SQLite's own master table is read as it stands.
        """
        listed = "SELECT type, name, sql FROM sqlite_master"
        with contextlib.closing(sqlite3.connect(":memory:")) as ours:
            ours.executescript(TABLE)
            wanted = set(ours.execute(listed))
        if set(base.execute(listed)) != wanted:
            raise UnreadableFile(
                f"{self.path}: holds other tables, views or triggers than omphalon's journal",
                RESTORE,
            )

    def copy_to(self, path: Path) -> None:
        """A whole copy, which no other process writes into."""
        with self._opened() as base, contextlib.closing(sqlite3.connect(path)) as copy:
            base.backup(copy)

    def _trouble(self, error: sqlite3.OperationalError, write: bool) -> OmphalonError:
        """What kept the journal from being read or written, as ours."""
        kind = UnwritableFile if write else UnreadableFile
        words = str(error)
        if "interrupted" in words:
            return kind(f"{self.path}: takes longer to read than any journal of ours", RESTORE)
        if "locked" in words:
            return kind(f"{self.path}: another program holds it", "let that one end, and try again")
        remedy = "look at the folder's permissions and at the room on the disk"
        return kind(f"{self.path}: {words}", remedy)

    def append(
        self, kind: str, subject: str, body: dict[str, Any], filament: str | None = None
    ) -> int:
        """One more entry, on disk when this returns; its number."""
        return self.append_all([(kind, subject, body, filament)])[0]

    def append_all(self, rows: list[tuple[str, str, dict[str, Any], str | None]]) -> list[int]:
        """Several entries, all of them or none."""
        at = datetime.now(UTC).isoformat(timespec="seconds")
        with self._opened("rw") as base:
            base.execute("BEGIN IMMEDIATE")
            version = base.execute("PRAGMA user_version").fetchone()[0]
            if version > SCHEMA:
                raise UnwritableFile(
                    f"{self.path}: written by a newer omphalon", "update omphalon; it can be read"
                )
            numbers = []
            for kind, subject, body, filament in rows:
                text = json.dumps(body, ensure_ascii=False, allow_nan=False)
                values = (at, kind, subject, filament, SCHEMA, text)
                done = base.execute(
                    "INSERT INTO entries (at, kind, subject, filament, schema, body, digest) "
                    "VALUES (?, ?, ?, ?, ?, ?, ?)",
                    (*values, digest(*values)),
                )
                numbers.append(int(done.lastrowid or 0))
            base.execute("COMMIT")
        return numbers

    def entries(
        self,
        kind: str | None = None,
        since: str | None = None,
        grep: str | None = None,
        most: int = -1,
    ) -> list[Entry]:
        """Entries, newest first.

        `since`: ISO date, UTC. `grep`: text that must stand in subject or body. `most`: how many;
        -1: all.
        """
        sign = f"%{_literal(grep)}%" if grep else "%"
        return self._select(
            "WHERE (:kind IS NULL OR kind = :kind) AND (:since IS NULL OR at >= :since) "
            "AND (subject || body LIKE :sign ESCAPE '\\') ORDER BY id DESC LIMIT :most",
            {"kind": kind, "since": since, "sign": sign, "most": most},
        )

    def entry(self, number: int) -> Entry | None:
        """One entry by its number."""
        return next(iter(self._select("WHERE id = ?", (number,))), None)

    def latest(self, kind: str) -> list[Entry]:
        """Of each subject and filament the last entry of a kind, oldest first."""
        return self._select(
            "WHERE id IN (SELECT max(id) FROM entries WHERE kind = ? GROUP BY subject, filament) "
            "ORDER BY id",
            (kind,),
        )

    def _select(self, where: str, values: tuple[object, ...] | dict[str, object]) -> list[Entry]:
        with self._opened() as base:
            rows = base.execute(f"SELECT {COLUMNS} FROM entries {where}", values).fetchall()
            return [self._entry(row) for row in rows]

    def _entry(self, row: tuple[Any, ...]) -> Entry:
        number, at, kind, subject, filament, schema, body, words = row
        if digest(at, kind, subject, filament, schema, body) != words:
            raise UnreadableFile(f"{self.path}: entry {number} is damaged", RESTORE)
        newer = isinstance(schema, int) and schema > SCHEMA
        try:
            if not fits([at, kind, subject], [str]) or not fits(filament, (str, None)):
                raise ValueError("of another shape")
            if datetime.fromisoformat(at).tzinfo is None:
                raise ValueError("a date without a zone")
            content = parsed(body, dict if newer else BODIES.get(kind, dict))
        except (ValueError, TypeError) as error:
            raise UnreadableFile(
                f"{self.path}: entry {number} is none that omphalon writes ({error})", RESTORE
            ) from error
        return Entry(
            id=number,
            at=at,
            kind=kind,
            subject=subject,
            filament=filament,
            body=content,
            newer=newer,
        )

    def sound(self) -> None:
        """Read everything; UnreadableFile where something is damaged."""
        with self._opened() as base:
            if base.execute("PRAGMA integrity_check").fetchone()[0] != "ok":
                raise UnreadableFile(f"{self.path}: damaged", RESTORE)
        self.entries()


def digest(*values: object) -> str:
    """What shows that an entry was changed behind our back."""
    return hashlib.sha256(json.dumps(values).encode()).hexdigest()[:16]


def _literal(text: str) -> str:
    return text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


@dataclass(frozen=True, kw_only=True)
class Ranked:
    """A change, the mean difference of score that came with it, and how far to trust that."""

    change: str
    difference: float
    certainty: str


def ranked(trials: Sequence[Entry]) -> list[Ranked]:
    """Changes by the size of what they did to the score of the trial before.

    `trials`: in any order; those without a score are passed over. Changes made together stand as
    one, since nobody can tell them apart.
    """
    scored = sorted((t for t in trials if t.body["score"] is not None), key=lambda t: t.id)
    differences: dict[tuple[str, ...], list[float]] = {}
    for before, after in zip(scored, scored[1:], strict=False):
        changes = tuple(sorted(after.body["changed"]))
        if changes:
            differences.setdefault(changes, []).append(
                float(after.body["score"]) - float(before.body["score"])
            )
    rows = [
        Ranked(
            change=" and ".join(changes),
            difference=statistics.fmean(found),
            certainty=_spread_words(len(changes), found),
        )
        for changes, found in differences.items()
    ]
    return sorted(rows, key=lambda r: -abs(r.difference))


def _spread_words(together: int, found: Sequence[float]) -> str:
    times = (
        "tried once" if len(found) == 1 else f"± {statistics.stdev(found):.2g} over {len(found)}"
    )
    return times + (", changed together: cannot be told apart" if together > 1 else "")
