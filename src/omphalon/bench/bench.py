"""The folder: made, opened, read, and added to."""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from omphalon.base.errors import UnwritableFile, UsageError, echoed
from omphalon.base.files import put_bytes, small_file
from omphalon.bench.facts import (
    LIVES_FACTS,
    LOOP_FACTS,
    Facts,
    Value,
    blank_lines,
    checked,
    loaded_in,
    read_facts,
)
from omphalon.bench.journal import PATIENCE_S, Entry, Journal
from omphalon.bench.ranges import ranges_of
from omphalon.bench.settings import KINDS, InForce, Taken, same, setting_of, taken
from omphalon.bench.sheet import with_own_line
from omphalon.bench.work import State, check_keys, reason, verified
from omphalon.lines.dialect import SHIPPED, Dialect, load_dialect
from omphalon.tables.tools import FIRST, Tool

FACTS_FILE, JOURNAL_FILE = "bench.toml", "bench.db"
MOST_PHOTO_BYTES = 10_000_000
PICTURES = (b"\x89PNG\r\n\x1a\n", b"\xff\xd8\xff")
FOLDERS = ("data", "figures", "prints")
HEATER_CHANGED = "heater-changed"  # the warning of a check that names a change of the heater itself


@dataclass(frozen=True)
class Bench:
    """One printer's folder."""

    place: Path

    @property
    def journal(self) -> Journal:
        return Journal(self.place / JOURNAL_FILE)

    def facts(self) -> dict[str, Any]:
        """The facts in bench.toml, checked."""
        return dict(read_facts(self.place / FACTS_FILE))

    def dialect(self, facts: Facts) -> Dialect:
        """The dialect that bench.toml names: one that ships, or a file in the bench."""
        known = {name: facts.get(key) for name, key in LOOP_FACTS.items()}
        lives = {name: str(facts[key]) for name, key in LIVES_FACTS.items() if key in facts}
        chosen = load_dialect(self.dialect_path(facts)).with_loop(**known).living(**lives)
        return with_own_line(chosen, facts)

    def dialect_path(self, facts: Facts) -> str | None:
        """The dialect's name or path, as `load_dialect` takes it; None: the default."""
        name = facts.get("controller.dialect")
        if not isinstance(name, str) or name in SHIPPED:
            return name if isinstance(name, str) else None
        return str(inside(self.place, name))

    def state(self) -> State:
        """Everything that the order of work looks at."""
        facts = self.facts()
        return self._state_of(facts, loaded_in(facts))

    def with_filament(self, state: State, filament: str) -> State:
        """The same with another filament loaded in tool 0."""
        return self._state_of(state.facts, {**state.loaded, FIRST: filament})

    def _state_of(self, facts: Facts, loaded: Mapping[Tool, str]) -> State:
        def last(kind: str) -> dict[str, Entry]:
            own = (e for e in self.journal.latest(kind) if _bears_on(e, loaded))
            return {e.subject: e for e in own}

        return State(
            place=self.place,
            facts=facts,
            settings=self.settings(loaded),
            parts=last("part"),
            checks=last("check"),
            loaded=loaded,
            lines=frozenset(self.dialect(facts).templates),
        )

    def filaments(self) -> set[str]:
        """The filaments that a fact or a setting is known of."""
        named = {key.split(".")[1] for key in self.facts() if key.startswith("filament.")}
        return named | {e.filament for e in self.journal.latest("setting") if e.filament}

    def settings(self, loaded: Mapping[Tool, str]) -> dict[str, InForce]:
        """The settings in force with these filaments, by tool, in the order of work."""
        bearing = [
            setting
            for entry in self.journal.latest("setting")
            if (setting := setting_of(entry)) is not None and _bears_on(entry, loaded)
        ]
        # a filament's own goes before what holds for all of them
        bearing.sort(key=lambda setting: setting.filament is not None)
        found = {setting.kind.key: setting for setting in bearing}
        return {key: found[key] for key in KINDS if key in found}

    def record(
        self,
        document: Mapping[str, Any],
        command: Sequence[str],
        inputs: Sequence[str],
        figure: str | None,
        filament: str | None,
    ) -> int:
        """One finding into the journal, its inputs into data/; the entry's number."""
        kept = [self._keep(Path(path)) for path in inputs if Path(path).is_file()]
        body = {
            "document": dict(document),
            "command": list(command),
            "inputs": kept,
            "figure": figure,
        }
        kind, tool = str(document["kind"]), Tool(document.get("tool") or 0)
        state, evidence = self.state().of_tool(tool), document["evidence"]

        known = evidence, state.facts, state.filament
        if ranges := {t.key: ranges_of(t.key, *known) for t in taken(document)}:
            body["ranges"] = ranges
        rows: list[tuple[str, str, dict[str, Any], str | None]] = [
            ("finding", kind, body, filament)
        ]
        if kind.endswith("-check") and document["verdict"] != "retest":
            judged = [tool.setting(k) for k in check_keys(kind, evidence, command)]
            changed = [w["message"] for w in document["warnings"] if w["code"] == HEATER_CHANGED]
            verdict = {"verdict": document["verdict"], **({"changed": changed} if changed else {})}
            for key in judged:
                own = filament if KINDS[key].of_filament else None
                ranges = {"ranges": ranges_of(key, *known, checked=True)}
                rows.append(("check", key, verdict | ranges, own))
        return self.journal.append_all(rows)[0]

    def _keep(self, path: Path) -> dict[str, str]:
        """A copy of an input in data/, named by its hash."""
        content = path.read_bytes()
        name = hashlib.sha256(content).hexdigest()[:24] + "".join(path.suffixes)[-16:]
        target = inside(self.place, f"data/{name}")
        if not target.exists():
            put_bytes(str(target), content)
        return {"name": path.name, "data": name}

    def adopt(self, entry: Entry, how: str = "adopted") -> list[Taken]:
        """A finding's settings become those in force; what was set."""
        found = taken(entry.body["document"])
        self.set_all([(t, entry.filament, entry) for t in found], how)
        return found

    def waiting(self) -> list[Entry]:
        """Findings with a setting that were not adopted, newest first; of each setting the newest
        finding only, and none that is older than what is in force.
        """
        last = {(e.subject, e.filament): e.id for e in self.journal.latest("setting")}
        seen: set[tuple[str, str | None]] = set()
        found = []
        for entry in self.journal.entries(kind="finding"):
            keys = {
                (t.key, entry.filament if KINDS[t.key].of_filament else None)
                for t in ([] if entry.newer else taken(entry.body["document"]))
            }
            if keys and not seen & keys and all(last.get(k, 0) < entry.id for k in keys):
                found.append(entry)
            seen |= keys
        return found

    def doubts(self, entry: Entry) -> list[str]:
        """What the settings of a finding stand on and what is not sure of it."""
        state = self.state()
        own = {t.key for t in taken(entry.body["document"])}
        needs = {n: KINDS[key].words for key in own for n in KINDS[key].needs if n not in own}
        out = []
        for need, words in needs.items():
            why = reason(need, state)
            if why is not None:
                out.append(f"{words} depends on {KINDS[need].words}: {why[1]}")
            elif not verified(need, state):
                out.append(f"{words} depends on {KINDS[need].words}, which was never checked")
        return out

    def before(
        self, since: str | None = None, key: str | None = None, number: int | None = None
    ) -> list[Restored]:
        """What was in force before: before the last setting (all that one finding set), before a
        setting's own last one, at a date, or by an entry. Who goes back twice goes further back.

        `key`: which setting; None: those that were set last.
        """
        entries = [e for e in self.journal.entries(kind="setting") if e.subject in KINDS]
        if number is not None:
            return [Restored(e) for e in entries if e.id == number]
        if since is not None:
            undone = [e for e in entries if e.at >= since]
        elif key is not None:
            undone = [e for e in entries if e.subject == key][:1]
        else:
            last = entries[0] if entries else None
            undone = [e for e in entries if last and _of_one_act(e, last)]
        back = []
        for subject, filament in dict.fromkeys((e.subject, e.filament) for e in undone):
            own = [e for e in entries if (e.subject, e.filament) == (subject, filament)]
            first = min(e.body.get("as_of") or e.id for e in undone if e in own)
            older = [e for e in own if e.id < first and not e.body.get("as_of")]
            back += [Restored(e) for e in older[:1]]
        return back

    def revert(self, back: Sequence[Restored]) -> None:
        """Put settings of before in force again."""
        self.set_all([(one.taken, one.entry.filament, one.entry) for one in back], "reverted")

    def replaced(self, settings: Mapping[str, InForce]) -> dict[str, InForce]:
        """What each setting in force replaced, where that is known."""
        out: dict[str, InForce] = {}
        for entry in reversed(self.journal.entries(kind="setting")):
            now, old = settings.get(entry.subject), setting_of(entry)
            if now and old and entry.id < now.entry and entry.filament == now.filament:
                out[entry.subject] = old
        return out

    def trial(
        self, changes: Sequence[str], outcome: str, score: float | None, photo: str | None
    ) -> int:
        """A trial print into the journal; the entry's number."""
        kept = None if photo is None else self._keep(picture(Path(photo)))
        body = {"changed": list(changes), "outcome": outcome, "score": score, "photo": kept}
        return self.journal.append("trial", "trial", body, self.state().filament)

    def set_all(
        self, settings: Sequence[tuple[Taken, str | None, Entry | None]], how: str
    ) -> list[int]:
        """Settings into the journal, all or none: each with the finding, or the earlier setting,
        that it comes from. What is measured again and stays as it was moves nothing that stands on
        it.
        """
        rows: list[tuple[str, str, dict[str, Any], str | None]] = []
        for one, filament, source in settings:
            own = filament if KINDS[one.key].of_filament else None
            now = self.settings({} if own is None else {KINDS[one.key].tool: own}).get(one.key)
            body: dict[str, Any] = {
                "value": one.value,
                "spread": one.spread,
                "how": how,
                "from": None if source is None else source.id,
                "moved": now is None or not same(now.value, one.value),
            }
            if source is not None and source.kind == "setting":
                older = setting_of(source)
                assert older is not None
                rests = {
                    "ranges": dict(older.ranges),
                    "rests_on": older.rests_on,
                    "measured_at": older.measured_at,
                    "measured": older.measured,
                }
                body |= {"from": source.body["from"], "as_of": source.id, **rests}
            elif source is not None:
                body["measured_at"] = source.at
                body["ranges"] = (source.body.get("ranges") or {}).get(one.key, {})
            rows.append(("setting", one.key, body, own))
        return self.journal.append_all(rows)

    def set_facts(self, facts: Mapping[str, str]) -> None:
        """Facts in bench.toml, comments and order kept; one writer at a time."""
        import tomlkit
        from filelock import FileLock, Timeout

        checked_facts = {key: checked(key, value) for key, value in facts.items()}
        with_own_line(load_dialect(), facts)
        path = self.place / FACTS_FILE
        lock = FileLock(self.place / f".{FACTS_FILE}.lock", timeout=PATIENCE_S)
        try:
            with lock:
                read_facts(path)
                document = tomlkit.parse(path.read_text(encoding="utf-8-sig"))
                for key, value in checked_facts.items():
                    _put_fact(document, key, value)
                put_bytes(str(path), tomlkit.dumps(document).encode())
        except Timeout as error:
            raise UnwritableFile(
                f"{path}: another program holds it", "let that one end, and try again"
            ) from error
        except OSError as error:
            raise UnwritableFile(
                f"{path}: cannot be written ({error.strerror})", "look at the folder's permissions"
            ) from error


@dataclass(frozen=True)
class Restored:
    """An entry of a setting that is to be in force again."""

    entry: Entry

    @property
    def taken(self) -> Taken:
        """The setting in it."""
        body = self.entry.body
        return Taken(key=self.entry.subject, value=body["value"], spread=body["spread"])


def _bears_on(entry: Entry, loaded: Mapping[Tool, str]) -> bool:
    """Whether an entry is of no filament, or of the one that is loaded in its tool."""
    return entry.filament in (None, loaded.get(Tool.in_key(entry.subject)[1]))


def _of_one_act(one: Entry, last: Entry) -> bool:
    """Whether two settings were made by one act: of one finding, or reverted together."""
    if one.id == last.id:
        return True
    source = last.body["from"]
    alike = one.body["how"] == last.body["how"] and one.at == last.at
    return bool(source and one.body["from"] == source and one.body["how"] == last.body["how"]) or (
        alike and last.body["how"] == "reverted"
    )


def _put_fact(document: Any, key: str, value: Value) -> None:
    """One fact into a parsed bench.toml."""
    import tomlkit

    table = document
    *heads, name = key.split(".")
    for head in heads:
        if head not in table:
            table[head] = tomlkit.table()
        table = table[head]
    whole = isinstance(value, float) and value.is_integer()
    table[name] = int(value) if whole and isinstance(value, float) else value


def inside(place: Path, name: str) -> Path:
    """A path in the bench; UsageError where it leads out of it."""
    target = (place / name).resolve()
    if not target.is_relative_to(place.resolve()):
        raise UsageError(f"{echoed(name)}: leads out of the bench", "put the file into its folder")
    return target


def picture(path: Path) -> Path:
    """A photo's path; UsageError where it is none, or far too large."""
    head = small_file(str(path), MOST_PHOTO_BYTES, "photo", "give its file, 10 MB at the most")[:12]
    if not head.startswith(PICTURES):
        raise UsageError(f"{echoed(str(path))}: no picture", "give a PNG or JPEG file")
    return path


def make(place: Path) -> Bench:
    """A new bench in an empty folder, or one that is made."""
    if place.exists() and (not place.is_dir() or any(place.iterdir())):
        raise UsageError(f"{echoed(str(place))}: stands there already", "give a new folder")
    fresh = not place.exists()
    try:
        for name in FOLDERS:
            (place / name).mkdir(parents=True)
    except OSError as error:
        raise UnwritableFile(
            f"{place}: cannot be made ({error.strerror})", "give another folder"
        ) from error
    bench = Bench(place)
    try:
        put_bytes(str(place / FACTS_FILE), ("\n".join(blank_lines()) + "\n").encode())
        bench.journal.create()
    except BaseException:
        if fresh:
            shutil.rmtree(place, ignore_errors=True)
        raise
    return bench


def open_bench(place: Path) -> Bench:
    """A bench that stands there."""
    missing = [n for n in (FACTS_FILE, JOURNAL_FILE) if not os.path.isfile(place / n)]
    if missing:
        raise UsageError(
            f"{echoed(str(place))}: no bench, {missing[0]} is missing",
            "make one: omphalon bench new DIR",
        )
    return Bench(place)


def find_bench(named: str | None) -> Bench | None:
    """The bench that was named, or the one of the environment or of this folder, or None."""
    place = named if named is not None else os.environ.get("OMPHALON_BENCH") or None
    if place is not None:
        return open_bench(Path(place))
    here = os.path.isfile(FACTS_FILE) and os.path.isfile(JOURNAL_FILE)
    return Bench(Path.cwd()) if here else None
