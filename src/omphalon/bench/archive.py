"""A bench as one archive, with a digest of every file, and back."""

from __future__ import annotations

import contextlib
import hashlib
import json
import shutil
import sqlite3
import tempfile
import zipfile
from pathlib import Path

from omphalon.bench.bench import FACTS_FILE, FOLDERS, JOURNAL_FILE, Bench, open_bench
from omphalon.errors import UnknownFormat, UnreadableFile, UnwritableFile, UsageError, echoed
from omphalon.files import in_place

LIST = "digests.json"
MOST_BYTES = 4_000_000_000


def pack(bench: Bench, target: Path) -> int:
    """Everything in a bench into a zip file; how many files.

    Raises
    ------
    UnwritableFile
        If there is no room; nothing half done stays.
    """
    bench.journal.sound()
    names = [FACTS_FILE, *(f"{d}/{p.name}" for d in FOLDERS for p in _plain(bench.place / d))]
    names += [p.name for p in _plain(bench.place) if p.suffix == ".toml" and p.name != FACTS_FILE]
    digests = {}
    with (
        tempfile.TemporaryDirectory() as folder,
        in_place(str(target)) as file,
        zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as archive,
    ):
        still = Path(folder) / JOURNAL_FILE  # a copy that no other process writes into
        uri = f"{(bench.place / JOURNAL_FILE).resolve().as_uri()}?mode=ro"
        with (
            contextlib.closing(sqlite3.connect(uri, uri=True)) as source,
            contextlib.closing(sqlite3.connect(still)) as copy,
        ):
            source.backup(copy)
        for name, path in [(JOURNAL_FILE, still), *((n, bench.place / n) for n in names)]:
            content = path.read_bytes()
            digests[name] = hashlib.sha256(content).hexdigest()
            archive.writestr(name, content)
        archive.writestr(LIST, json.dumps({"omphalon-bench": 1, "files": digests}))
    return len(digests)


def _plain(folder: Path) -> list[Path]:
    files = (p for p in folder.iterdir() if p.is_file() and not p.is_symlink())
    return sorted(p for p in files if not p.name.startswith("."))


def unpack(source: Path, place: Path) -> int:
    """A bench from an archive into a new folder; how many files.

    Raises
    ------
    UnknownFormat, UnreadableFile
        If the archive is none of ours, or a file in it is not what it was.
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
        with zipfile.ZipFile(source) as archive:
            digests = _digests(archive, source)
            for name, told in digests.items():
                content = archive.read(name)
                if hashlib.sha256(content).hexdigest() != told:
                    raise UnreadableFile(f"{source}: {echoed(name)} is damaged", "use another copy")
                target = scratch / name
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_bytes(content)
        for folder in FOLDERS:
            (scratch / folder).mkdir(exist_ok=True)
        open_bench(scratch).journal.sound()
        scratch.chmod(0o755)
        scratch.replace(place)
    except (zipfile.BadZipFile, KeyError, EOFError) as error:
        raise UnknownFormat(f"{source}: no back-up of a bench", "give the archive") from error
    except OSError as error:
        raise UnreadableFile(f"{source}: {error.strerror}", "look at file and folder") from error
    finally:
        shutil.rmtree(scratch, ignore_errors=True)
    return len(digests)


def _digests(archive: zipfile.ZipFile, source: Path) -> dict[str, str]:
    """Names and digests of an archive's files; none may lead out of the folder."""
    if sum(i.file_size for i in archive.infolist()) > MOST_BYTES:
        raise UnknownFormat(f"{source}: unpacks to far too much", "give the archive of a bench")
    try:
        listed = json.loads(archive.read(LIST))
        digests: dict[str, str] = dict(listed["files"])
    except (ValueError, TypeError) as error:
        raise UnknownFormat(f"{source}: no back-up of a bench", "give the archive") from error
    for name in digests:
        parts = Path(name).parts
        known = parts[0] in FOLDERS if len(parts) == 2 else len(parts) == 1
        if not known or ".." in parts or Path(name).is_absolute():
            raise UnknownFormat(f"{source}: {echoed(name)} leads elsewhere", "give the archive")
    return digests
