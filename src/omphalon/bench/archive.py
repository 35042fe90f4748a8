"""A bench as one archive, with a digest of every file, and back."""

from __future__ import annotations

import hashlib
import json
import shutil
import tempfile
import zipfile
import zlib
from dataclasses import dataclass
from pathlib import Path

from omphalon.base.errors import UnknownFormat, UnreadableFile, UnwritableFile, UsageError, echoed
from omphalon.base.files import in_place, open_file
from omphalon.bench.bench import FACTS_FILE, FOLDERS, JOURNAL_FILE, Bench, open_bench
from omphalon.bench.facts import Facts, read_facts
from omphalon.lines.dialect import SHIPPED

LIST = "digests.json"
MOST_ARCHIVE_BYTES = 1_000_000_000  # of all files, unpacked
MOST_LIST = 10_000_000
MOST_DEEP = 8
SIDECARS = ("-journal", "-wal", "-shm")  # SQLite's own, beside a database


@dataclass(frozen=True)
class Packed:
    """What a back-up came to: how many files, and what stands in the folder and is not in it."""

    files: int
    left_out: tuple[str, ...]


def pack(bench: Bench, target: Path) -> Packed:
    """Everything that a bench uses into a zip file.

    Raises UnwritableFile if there is no room; nothing half done stays.
    """
    bench.journal.sound()
    names = [FACTS_FILE, *(name for name in FOLDERS for name in _plain(bench.place, name))]
    own = _own_dialect(bench.facts())
    names += [] if own is None or own in names else [own]
    digests = {}
    with (
        tempfile.TemporaryDirectory() as folder,
        in_place(str(target)) as file,
        zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as archive,
    ):
        still = Path(folder) / JOURNAL_FILE  # a copy that no other process writes into
        bench.journal.copy_to(still)
        for name, path in [(JOURNAL_FILE, still), *((n, bench.place / n) for n in names)]:
            content = path.read_bytes()
            digests[name] = hashlib.sha256(content).hexdigest()
            archive.writestr(name, content)
        archive.writestr(LIST, json.dumps({"omphalon-bench": 1, "files": digests}))
    there = {p.name for p in bench.place.iterdir() if not p.name.startswith(".")}
    used = {name.split("/")[0] for name in digests} | set(FOLDERS)
    sidecars = {JOURNAL_FILE + end for end in SIDECARS}
    return Packed(len(digests), tuple(sorted(there - used - sidecars)))


def _own_dialect(facts: Facts) -> str | None:
    """The dialect's file in the bench, if it has one of its own."""
    name = facts.get("controller.dialect")
    return name if isinstance(name, str) and name not in SHIPPED else None


def _plain(place: Path, folder: str) -> list[str]:
    """The plain files in a folder of a bench and below it, by their names in the bench."""
    files = (p for p in sorted((place / folder).rglob("*")) if p.is_file() and not p.is_symlink())
    names = (str(p.relative_to(place)) for p in files)
    return [name for name in names if _may_be(name, None)]


def _may_be(name: str, dialect: str | None) -> bool:
    """Whether a back-up holds a file of that name: the two of a bench, its own dialect, and what is
    in its folders; nothing hidden, nothing that leads elsewhere.
    """
    parts = name.split("/")
    if name in (FACTS_FILE, JOURNAL_FILE):
        return True
    hidden = any(not part or part.startswith(".") or "\\" in part for part in parts)
    beside_journal = any(name == JOURNAL_FILE + end for end in SIDECARS)
    if hidden or beside_journal or len(parts) > MOST_DEEP:
        return False
    return (len(parts) > 1 and parts[0] in FOLDERS) or name == dialect


def unpack(source: Path, place: Path) -> int:
    """A bench from an archive into a new folder; how many files.

    Raises UnknownFormat, UnreadableFile if the archive is none of ours, or a file in it is not what
    it was.
    """
    if place.exists():
        raise UsageError(f"{echoed(str(place))}: stands there already", "give a new folder")
    try:
        scratch = Path(tempfile.mkdtemp(prefix=".omphalon-", dir=place.resolve().parent))
    except OSError as error:
        raise UnwritableFile(
            f"{place}: cannot be made ({error.strerror})", "choose another place"
        ) from error
    try:
        with open_file(str(source)) as file, zipfile.ZipFile(file) as archive:
            digests, left = _digests(archive, source), MOST_ARCHIVE_BYTES
            for name in [FACTS_FILE, *(n for n in digests if n != FACTS_FILE)]:
                own = _own_dialect(read_facts(scratch / FACTS_FILE)) if name != FACTS_FILE else None
                if not _may_be(name, own):
                    raise UnknownFormat(
                        f"{source}: {echoed(name)} is no file of a bench", "give the archive"
                    )
                content = _content(archive, name, left, source)
                left -= len(content)
                if hashlib.sha256(content).hexdigest() != digests[name]:
                    raise UnreadableFile(f"{source}: {echoed(name)} is damaged", "use another copy")
                target = scratch / name
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_bytes(content)
        for folder in FOLDERS:
            (scratch / folder).mkdir(exist_ok=True)
        open_bench(scratch).journal.sound()
        scratch.chmod(0o755)
        scratch.replace(place)
    except (zipfile.BadZipFile, zlib.error, KeyError, EOFError, NotImplementedError) as error:
        raise UnknownFormat(f"{source}: no back-up of a bench", "give the archive") from error
    except RuntimeError as error:
        raise UnknownFormat(f"{source}: is locked by a password", "give the archive") from error
    except OSError as error:
        raise UnreadableFile(f"{source}: {error.strerror}", "look at file and folder") from error
    finally:
        shutil.rmtree(scratch, ignore_errors=True)
    return len(digests)


def _content(archive: zipfile.ZipFile, name: str, left: int, source: Path) -> bytes:
    """One file, never more of it than there may be, whatever the archive says of its size."""
    with archive.open(name) as file:
        content = file.read(left + 1)
    if len(content) > left:
        raise UnknownFormat(f"{source}: unpacks to far too much", "give the archive of a bench")
    return content


def _digests(archive: zipfile.ZipFile, source: Path) -> dict[str, str]:
    """Names and digests of an archive's files."""
    foreign = UnknownFormat(f"{source}: no back-up of a bench", "give the archive")
    try:
        listed = json.loads(_content(archive, LIST, MOST_LIST, source))
        digests = listed["files"]
    except (ValueError, TypeError, RecursionError) as error:
        raise foreign from error
    if not isinstance(digests, dict) or FACTS_FILE not in digests:
        raise foreign
    return {str(name): str(words) for name, words in digests.items()}
