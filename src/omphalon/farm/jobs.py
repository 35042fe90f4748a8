"""Jobs: a row of the manifest as the command that it stands for, its files, and the key by which
its answer is known again.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from omphalon.base.errors import OmphalonError, UnreadableFile, echoed
from omphalon.base.files import open_file
from omphalon.farm.manifest import ColumnUse, Manifest, ManifestRow, Study

BLOCK = 1 << 20
KEY_LETTERS = 20
UNSAFE = re.compile(r"[^A-Za-z0-9_.]+")


@dataclass(frozen=True, kw_only=True)
class FarmJob:
    """One command: its words, in which a number stands for an input; `key` tells it from any other
    by printer, words, files and version; `name` is its answer's file.
    """

    row: ManifestRow
    words: tuple[str | int, ...]
    inputs: tuple[Path, ...]
    key: str

    @property
    def name(self) -> str:
        """Of the file that its answer is kept in."""
        printer = UNSAFE.sub("-", self.row.printer).strip("-.")[:40] or "printer"
        return f"{printer}-{self.row.study}-{self.key}.json"

    def command(self, places: tuple[str, ...]) -> list[str]:
        """The words with the inputs where they lie."""
        return [places[w] if isinstance(w, int) else w for w in self.words]

    def command_here(self) -> list[str]:
        """The words with the inputs where the manifest named them."""
        return self.command(tuple(map(str, self.inputs)))


@dataclass(frozen=True, kw_only=True)
class Impossible:
    """A row that no command can be made of, and why."""

    row: ManifestRow
    error: str


def jobs_of(
    manifest: Manifest, studies: Mapping[str, Study], version: str
) -> Iterator[FarmJob | Impossible]:
    """A job for each row; where its files cannot be read, the sentence that says so."""
    for row in manifest.rows:
        if row.bad:
            yield Impossible(row=row, error=row.bad)
            continue
        try:
            yield _job(row, manifest.folder, studies[row.study], version)
        except OmphalonError as error:
            yield Impossible(row=row, error=f"{row.where}: {error}")


def _job(row: ManifestRow, folder: Path, study: Study, version: str) -> FarmJob:
    words: list[str | int] = [row.study, "fit"]
    inputs: list[Path] = []

    def put(path: str) -> int:
        inputs.append(folder / path)
        return len(inputs) - 1

    given = dict(row.options)
    if study.log == "axis" and row.log:
        given = _by_axis(row, given)
    for name, cell in given.items():
        choice = study.options[name]
        if choice.takes == "file":
            words += [choice.flag, put(cell)]
        else:
            words += _option(choice, cell)
    if study.log != "axis" and row.log:
        logs = row.log.split(";") if study.log == "several" else [row.log]
        words += ["--", *(put(log.strip()) for log in logs)]
    digests = [[path.name, _digest(path)] for path in inputs]
    text = json.dumps([version, row.printer, words, digests], ensure_ascii=False)
    key = hashlib.sha256(text.encode()).hexdigest()[:KEY_LETTERS]
    return FarmJob(row=row, words=tuple(words), inputs=tuple(inputs), key=key)


def _by_axis(row: ManifestRow, given: dict[str, str]) -> dict[str, str]:
    """The log as the option of its axis."""
    axis = given.pop("axis", "").lower()
    if axis not in ("x", "y"):
        raise UnreadableFile(
            f"a log of axis '{echoed(axis)}'" if axis else "a log without its axis",
            "write x or y in the column axis, or the logs in the columns x and y",
        )
    if axis in given:
        raise UnreadableFile(f"two logs of {axis}", "leave one of them empty")
    return {axis: row.log, **given}


def _option(choice: ColumnUse, cell: str) -> list[str]:
    """A cell as words of a command; behind an equals sign, so that no value becomes an option."""
    if choice.takes == "pair":
        two = cell.replace(";", " ").split()
        if len(two) != 2 or any(w.startswith("--") for w in two):
            raise UnreadableFile(
                f"{choice.flag[2:]} '{echoed(cell)}': not two numbers", "for example 141.2 141.6"
            )
        return [choice.flag, *two]
    if choice.takes == "one":
        return [f"{choice.flag}={cell}"]
    parts = cell.split(";") if choice.takes == "pieces" else cell.replace(";", " ").split()
    return [f"{choice.flag}={part.strip()}" for part in parts if part.strip()]


def _digest(path: Path) -> str:
    """SHA-256 of a file."""
    found = hashlib.sha256()
    try:
        with open_file(str(path)) as file:
            while block := file.read(BLOCK):
                found.update(block)
    except (OSError, ValueError) as error:
        words = getattr(error, "strerror", None) or "the name is none"
        raise UnreadableFile(
            f"{echoed(path.name)}: cannot be read ({words.lower()})",
            "check the column log and the folder it is named from",
        ) from error
    return found.hexdigest()


# the command's words → its JSON document, or one with "error" in it
Answering = Callable[[list[str]], dict[str, Any]]
Warming = Callable[[], None]


@dataclass(frozen=True, kw_only=True)
class JobOutcome:
    """The document of a job, or the sentence why there is none; one that is not `lasting` hung on
    the machine and is tried again by the next run. `busy_s`: how long a worker was at it.
    """

    job: FarmJob
    document: Mapping[str, Any]
    lasting: bool = True
    busy_s: float = 0.0


def failed(job: FarmJob, problem: str, remedy: str, busy_s: float = 0.0) -> JobOutcome:
    """A job that the machine did not let end."""
    return JobOutcome(
        job=job,
        document={"kind": f"{job.row.study}-fit", "error": f"{problem}; {remedy}"},
        lasting=False,
        busy_s=busy_s,
    )


def too_long(job: FarmJob, timeout_s: float) -> JobOutcome:
    """A job that was ended because it took too long."""
    return failed(
        job,
        f"ended after {timeout_s:g} s",
        "look at the file, or give more time with --job-timeout",
        timeout_s,
    )


def too_large(job: FarmJob, busy_s: float) -> JobOutcome:
    """A job that wanted more memory than a worker may take."""
    return failed(
        job,
        "not enough memory for this file",
        "cut out the part that holds the test, or run with fewer --workers",
        busy_s,
    )


def died(job: FarmJob) -> JobOutcome:
    """A job whose worker was killed, more than once."""
    return failed(
        job,
        "its worker was killed more than once, perhaps for want of memory",
        "run it again with fewer --workers, or cut the file",
    )
