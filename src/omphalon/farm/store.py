"""A farm's folder: the answers, each in place whole as soon as it is there, and the table of them;
and a run that fills it: what is kept is taken, the rest is done.

An answer's file is named by its key, so that no list can say otherwise than what is there.
"""

from __future__ import annotations

import csv
import importlib.util
import io
import json
import os
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from omphalon.base.errors import UnreadableFile, UnwritableFile, UsageError, echoed, shown
from omphalon.base.files import HALF_WRITTEN, put_bytes
from omphalon.base.shapes import DOCUMENT, fits, flat, parsed
from omphalon.farm.jobs import FarmJob, Impossible, JobOutcome

ANSWERS, EARLIER, MARK, LOCK = "answers", "earlier", "farm.json", ".lock"
RESULTS, PARQUET, PAGE = "results.csv", "results.parquet", "farm.html"
NOT_YET: Mapping[str, Any] = {"error": "not done yet; the same command goes on"}
FIRST = ("printer", "model", "study", "log", "verdict", "error", "warnings", "answer")


@dataclass(frozen=True, kw_only=True)
class JobAnswer:
    """A row of results: whose, what, and the document that answers it."""

    printer: str
    model: str
    study: str
    log: str
    answer: str
    document: Mapping[str, Any] = field(default_factory=dict)

    @property
    def error(self) -> str:
        """Why there is no answer; empty where there is one."""
        return str(self.document.get("error", ""))

    @property
    def verdict(self) -> str:
        """change, keep or retest; empty where there is no answer."""
        return str(self.document.get("verdict", ""))


def refuse_parquet() -> None:
    """Refuse Parquet, before any work, where nothing can write it."""
    if importlib.util.find_spec("pyarrow") is None:
        raise UsageError(
            "--parquet: the package pyarrow is not installed",
            "pip install 'omphalon[farm]', or leave --parquet out",
        )


RUN = ("=", "+", "-", "@")  # a spreadsheet runs a text that begins so
ANSWER = (DOCUMENT, {"error": str})  # a job's document, or why there is none


class Store:
    """The folder of one run."""

    def __init__(self, place: str) -> None:
        from filelock import FileLock

        self.place = Path(place)
        self.lock = FileLock(self.place / LOCK, timeout=0)

    def open(self, version: str) -> None:
        """Make the folder, or take one that a run has made, for this run alone; somebody else's is
        refused.
        """
        from filelock import Timeout

        if self.place.exists() and not self.place.is_dir():
            raise UsageError(f"--out {echoed(str(self.place))}: is a file", "give a folder")
        mark = self.place / MARK
        names = {path.name for path in self.place.iterdir()} if self.place.is_dir() else set()
        for name in names & {ANSWERS, EARLIER, RESULTS, PARQUET, PAGE, MARK, LOCK}:
            if (self.place / name).is_symlink():
                raise UsageError(
                    f"--out {echoed(str(self.place))}: {name} is a link, and would lead elsewhere",
                    "give another folder",
                )
        if names - {LOCK} and not mark.is_file():
            raise UsageError(
                f"--out {echoed(str(self.place))}: holds what no farm run wrote",
                "give another folder, or an empty one",
            )
        try:
            self.place.mkdir(parents=True, exist_ok=True)
            self.lock.acquire()
            if not mark.exists():
                text = f'{{\n "omphalon": "{version}", "kind": "farm"\n}}\n'
                put_bytes(str(mark), text.encode())
            for folder in (ANSWERS, EARLIER):
                (self.place / folder).mkdir(parents=True, exist_ok=True)
        except Timeout as error:
            raise UsageError(
                f"--out {echoed(str(self.place))}: another farm fit is running there",
                "let that one end, or give another folder",
            ) from error
        except OSError as error:
            raise UnwritableFile(
                f"{self.place}: cannot be made ({error.strerror})", "give another folder"
            ) from error
        for place in (self.place, self.place / ANSWERS, self.place / EARLIER):
            for half in place.glob(f"{HALF_WRITTEN}*"):  # of a run that was killed
                half.unlink(missing_ok=True)

    def kept(self, job: FarmJob) -> Mapping[str, Any] | None:
        """The answer to a job, if an earlier run has found it; None else."""
        place, earlier = self.place / ANSWERS / job.name, self.place / EARLIER / job.name
        if not place.exists() and earlier.exists():
            os.replace(earlier, place)
        try:
            found: Mapping[str, Any] = parsed(place.read_text(encoding="utf-8"), ANSWER)
            if not _plain(found):
                return None
        except (OSError, ValueError):
            return None
        return found

    def keep(self, job: FarmJob, document: Mapping[str, Any]) -> None:
        """Put an answer in its place."""
        text = json.dumps(document, ensure_ascii=False, indent=1, allow_nan=False)
        put_bytes(str(self.place / ANSWERS / job.name), f"{text}\n".encode())

    def lay_aside(self, jobs: Iterable[FarmJob]) -> int:
        """Answers that no row asks for any more go to `earlier/`; how many they were."""
        wanted = {job.name for job in jobs}
        gone = [p for p in (self.place / ANSWERS).glob("*.json") if p.name not in wanted]
        for path in gone:
            os.replace(path, self.place / EARLIER / path.name)
        return len(gone)

    def put_results(self, results: Sequence[JobAnswer]) -> None:
        """The table of all rows."""
        head, rows = table_of(results)
        text = io.StringIO()
        writer = csv.writer(text, lineterminator="\n")
        writer.writerow(head)
        writer.writerows([_cell(cell) for cell in row] for row in rows)
        put_bytes(str(self.place / RESULTS), text.getvalue().encode())

    def put_parquet(self, results: Sequence[JobAnswer]) -> None:
        """The same table as Parquet."""
        from pyarrow import Table, parquet

        head, rows = table_of(results)
        columns = dict(zip(head, map(list, zip(*rows, strict=True)), strict=True))
        sink = io.BytesIO()
        parquet.write_table(Table.from_pydict(columns), sink)
        put_bytes(str(self.place / PARQUET), sink.getvalue())


def _plain(document: Mapping[str, Any]) -> bool:
    """Whether settings are numbers and words, and half widths numbers."""
    settings, halves = (dict(flat(document.get(part, {}))) for part in ("settings", "spread"))
    return fits(list(settings.values()), [(float, str)]) and fits(list(halves.values()), [float])


def result_of(one: FarmJob | Impossible, outcome: JobOutcome | None) -> JobAnswer:
    """A row of the manifest with what came of it; no outcome: it was not reached."""
    row = one.row
    answer, document = "", NOT_YET
    if isinstance(one, Impossible):
        document = {"error": one.error}
    elif outcome is not None:
        document = outcome.document
        answer = f"{ANSWERS}/{one.name}" if outcome.lasting else ""
    return JobAnswer(
        printer=row.printer,
        model=row.model,
        study=row.study,
        log=row.log,
        answer=answer,
        document=document,
    )


def table_of(results: Sequence[JobAnswer]) -> tuple[list[str], list[list[Any]]]:
    """Header and rows: what is the same for all, then each setting with its spread behind it."""
    nested = [
        tuple(dict(flat(r.document.get(part, {}))) for part in ("settings", "spread"))
        for r in results
    ]
    names = list(dict.fromkeys(name for settings, _ in nested for name in settings))
    spread = {name for _, spreads in nested for name in spreads}
    head = [*FIRST]
    for name in names:
        head += [name, f"{name}_spread"] if name in spread else [name]
    rows = []
    for result, (settings, spreads) in zip(results, nested, strict=True):
        codes = [w["code"] for w in result.document.get("warnings", ())]
        row: list[Any] = [
            *map(shown, (result.printer, result.model, result.study, result.log)),
            *(result.verdict or None, shown(result.error) or None, " ".join(codes) or None),
            result.answer or None,
        ]
        for name in names:
            row.append(settings.get(name))
            if name in spread:
                row.append(spreads.get(name))
        rows.append(row)
    return head, rows


def _cell(cell: Any) -> Any:
    """A cell as it is written; a text that a spreadsheet would run has a quote before it."""
    if isinstance(cell, str) and cell.startswith(RUN):
        return f"'{cell}"
    return "" if cell is None else cell


def read_results(place: str) -> list[JobAnswer]:
    """The rows of a run, each with its document.

    Raises UnreadableFile if no run has written there.
    """
    path = Path(place) / RESULTS
    try:
        with open(path, encoding="utf-8", newline="") as file:
            rows = list(csv.DictReader(file))
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise UnreadableFile(
            f"{echoed(place)}: no {RESULTS} of a farm run",
            "give the folder that farm fit wrote with --out",
        ) from error
    for row in rows:
        row.update(
            {k: v[1:] for k, v in row.items() if v and v[0] == "'" and v[1:].startswith(RUN)}
        )
    return [_result(Path(place), row) for row in rows if row.get("study")]


def _result(place: Path, row: Mapping[str, str | None]) -> JobAnswer:
    name = row.get("answer") or ""
    document: dict[str, Any] = {"error": row.get("error") or "no answer"}
    inside = Path(name).parent == Path(ANSWERS) and Path(name).name not in ("", ".", "..")
    if name and inside:
        try:
            document = parsed((place / name).read_text(encoding="utf-8"), ANSWER)
            if not _plain(document):
                raise ValueError("settings of another shape")
        except (OSError, ValueError) as error:
            raise UnreadableFile(
                f"{echoed(str(place))}: {echoed(name)} cannot be read",
                "run the same farm fit again; it does what is missing",
            ) from error
    return JobAnswer(
        printer=row.get("printer") or "",
        model=row.get("model") or "",
        study=row.get("study") or "",
        log=row.get("log") or "",
        answer=name,
        document=document,
    )


Running = Callable[[list[FarmJob]], Iterator[JobOutcome]]
Progress = Callable[[int, int], None]


@dataclass(frozen=True, kw_only=True)
class FarmRun:
    """What a run did: a result a row, how many answers were kept from before and found now, how
    long it took, and for how long workers were at it.
    """

    results: tuple[JobAnswer, ...]
    kept: int
    found: int
    laid_aside: int
    wall_s: float
    busy_s: float

    @property
    def whole(self) -> bool:
        """Whether every row has an answer that says something."""
        return all(r.verdict in ("change", "keep") for r in self.results)

    def count(self, verdict: str) -> int:
        """Rows with a verdict; "" counts those without an answer."""
        return sum(r.verdict == verdict for r in self.results)


def run_farm(
    store: Store, planned: Sequence[FarmJob | Impossible], running: Running, progress: Progress
) -> FarmRun:
    """Do what is missing, keep it, and write the table; also where it is interrupted.

    `running`: does jobs, here or elsewhere. `progress`: is told how many of how many jobs are done.
    """
    began, busy_s = time.monotonic(), 0.0
    jobs = {one.key: one for one in planned if isinstance(one, FarmJob)}
    found: dict[str, JobOutcome] = {}
    for key, job in jobs.items():
        document = store.kept(job)
        if document is not None:
            found[key] = JobOutcome(job=job, document=document)
    kept = len(found)
    laid_aside = store.lay_aside(jobs.values())
    try:
        progress(kept, len(jobs))
        for outcome in running([job for key, job in jobs.items() if key not in found]):
            if outcome.lasting:
                store.keep(outcome.job, outcome.document)
            found[outcome.job.key] = outcome
            busy_s += outcome.busy_s
            progress(len(found), len(jobs))
    finally:
        results = tuple(
            result_of(one, found.get(one.key) if isinstance(one, FarmJob) else None)
            for one in planned
        )
        store.put_results(results)
    return FarmRun(
        results=results,
        kept=kept,
        found=len(found) - kept,
        laid_aside=laid_aside,
        wall_s=time.monotonic() - began,
        busy_s=busy_s,
    )
