"""omphalon farm fit; compare and show are registered below. A farm's job is a command of ours: its
words go in at the same door, the answer is the document that --json prints.
"""

from __future__ import annotations

import contextlib
import os
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from omphalon import __version__
from omphalon.base.errors import UsageError, echoed, shown
from omphalon.base.files import put_bytes
from omphalon.cli import omphalon, one_thread, sentence_of
from omphalon.cli.bench.common import as_document, document, table
from omphalon.cli.benched import WITHIN
from omphalon.cli.common import Answer, Leaving, answering, template
from omphalon.cli.groups import InOrder, OnceEach
from omphalon.cli.options import ANSWER, Described, argument, flag, number, takes, text
from omphalon.cli.proposed import proposed
from omphalon.farm.manifest import ColumnUse, Study

if TYPE_CHECKING:
    from omphalon.farm.cluster import Scheduler
    from omphalon.farm.jobs import FarmJob, JobOutcome
    from omphalon.farm.store import FarmRun, Running, Store

EVERY_S = 10.0
MOST_TOLD = 12  # rows without an answer, or to measure again, that are told on the screen
ORDER = ("fit", "compare", "show")
STUDIES = ("heater", "extruder", "axis", "flow", "advance", "shaper", "motion", "probe")


@contextlib.contextmanager
def progress_of_jobs() -> Iterator[Callable[[int, int], None]]:
    """A function to tell how many of how many jobs are done."""
    if not sys.stderr.isatty():
        yield _Plain().tell
        return
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TimeRemainingColumn

    columns = (BarColumn(), MofNCompleteColumn(), "left", TimeRemainingColumn())
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task("", total=None)
        yield lambda done, whole: bar.update(task, completed=done, total=whole)


class _Plain:
    """A line every EVERY_S seconds."""

    def __init__(self) -> None:
        self.began = self.said = time.monotonic()
        self.first: int | None = None

    def tell(self, done: int, whole: int) -> None:
        if self.first is None:
            self.first = done
        now = time.monotonic()
        if now - self.said < EVERY_S or done == self.first:
            return
        self.said = now
        left = (now - self.began) / (done - self.first) * (whole - done)
        click.echo(f"{done} of {whole} done, about {_words(left)} left", err=True)


def _words(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 90 else f"{seconds / 60:.0f} min"


@click.group(cls=InOrder, order=ORDER)
def farm() -> None:
    """Many printers: their logs in one go, compared."""


def _template_lines() -> Iterator[str]:
    from omphalon.farm.manifest import template_lines

    return template_lines()


SCHEDULED = ("scheduler",)


@dataclass(frozen=True, kw_only=True)
class FarmOptions:
    """Options of `farm fit`."""

    manifest: str = argument("MANIFEST.csv", required=True)
    place: str = text("--out", "Folder for the answers.", metavar="DIR", required=True)
    workers: int | None = number(
        "--workers",
        "count",
        "Processes at a time.  [one a core]",
        within=(1, 512),
        excludes=SCHEDULED,
        remedy="the scheduler has workers of its own",
    )
    scheduler: str | None = text(
        "--scheduler",
        "A Dask scheduler instead: tcp://HOST:PORT or tls://HOST:PORT. It runs any code that its "
        "callers send: keep others out, by tls:// or a network of its own.",
        metavar="ADDRESS",
    )
    tls_ca: str | None = text(
        "--tls-ca",
        "The authority that signs the certificates.  [Dask's own settings]",
        needs=SCHEDULED,
        remedy="tls://HOST:PORT",
    )
    tls_cert: str | None = text(
        "--tls-cert",
        "Our certificate.  [Dask's own settings]",
        needs=SCHEDULED,
        remedy="tls://HOST:PORT",
    )
    tls_key: str | None = text(
        "--tls-key", "Its key.  [Dask's own settings]", needs=SCHEDULED, remedy="tls://HOST:PORT"
    )
    timeout_s: float = number(
        "--job-timeout", "time", "End a job that takes longer.", within=(1, 86400), default=300.0
    )
    parquet: bool = flag("--parquet", "Write results.parquet beside results.csv.")


@farm.command("fit", short_help="Every log of a manifest, in one go.")
@template(_template_lines)
@takes(FarmOptions)
@as_document
def fit(options: FarmOptions, as_json: bool) -> int:
    """Fit every log that MANIFEST.csv lists: a table with the columns printer, study, log, and
    options by their names; model says which printers are compared. Several readings in one cell
    stand between blanks.

    A second run does only what is missing or changed. DIR holds results.csv, answers/ and a page.

    \b
    Example:
      omphalon farm fit farm.csv --out farm
    """
    from omphalon import __version__
    from omphalon.farm.cluster import Scheduler
    from omphalon.farm.jobs import jobs_of
    from omphalon.farm.manifest import read_manifest
    from omphalon.farm.store import Store, refuse_parquet, run_farm

    if options.parquet:
        refuse_parquet()
    there = None
    if options.scheduler is not None:
        there = Scheduler(
            address=options.scheduler,
            tls_ca=options.tls_ca,
            tls_cert=options.tls_cert,
            tls_key=options.tls_key,
        )
    known = studies()
    planned = list(jobs_of(read_manifest(options.manifest, known), known, __version__))
    store = Store(options.place)
    store.open(__version__)
    try:
        with progress_of_jobs() as progress:
            done = run_farm(
                store, planned, _running(options.workers, there, options.timeout_s), progress
            )
    except KeyboardInterrupt as stop:
        words = "stopped; what was done is kept, and the same command goes on"
        raise click.ClickException(words) from stop
    if options.parquet:
        store.put_parquet(done.results)
    _put_page(done, store)
    if as_json:
        document("farm-fit", **_document(done))
    else:
        _tell(done, store)
    return 0 if done.whole else 3


def _running(workers: int | None, scheduler: Scheduler | None, timeout_s: float) -> Running:
    """Where jobs are done."""

    def here(jobs: list[FarmJob]) -> Iterator[JobOutcome]:
        from omphalon.farm.workers import run_here

        return run_here(jobs, answered, warm, workers or len(_cores()), timeout_s)

    if scheduler is None:
        return here

    def there(jobs: list[FarmJob]) -> Iterator[JobOutcome]:
        from omphalon.farm.cluster import run_there

        return run_there(jobs, answered, scheduler, timeout_s)

    return there


def _cores() -> range | set[int]:
    """The cores that this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return os.sched_getaffinity(0)
    return range(os.cpu_count() or 1)


def _put_page(done: FarmRun, store: Store) -> None:
    from omphalon.farm.compare import compare_farms
    from omphalon.farm.compare_words import comparison_finding
    from omphalon.farm.store import PAGE
    from omphalon.report.page import farm_page

    compared = comparison_finding(compare_farms(done.results), False)
    put_bytes(str(store.place / PAGE), farm_page(done.results, compared).encode())


def _document(done: FarmRun) -> dict[str, Any]:
    return {
        **{verdict: done.count(verdict) for verdict in ("change", "keep", "retest")},
        "without_answer": done.count(""),
        "kept": done.kept,
        "found": done.found,
        "results": [
            {
                **{name: getattr(r, name) or None for name in ("printer", "model", "study", "log")},
                "verdict": r.verdict or None,
                "error": r.error or None,
                "answer": r.answer or None,
                "settings": r.document.get("settings", {}),
                "spread": r.document.get("spread", {}),
            }
            for r in done.results
        ],
    }


def _tell(done: FarmRun, store: Store) -> None:
    """The counts, the rows that want something, and where all of it lies."""
    from omphalon.farm.store import ANSWERS, PAGE, RESULTS

    rows, failed = done.results, done.count("")
    counts = ", ".join(f"{done.count(v)} {v}" for v in ("change", "keep", "retest"))
    click.echo(f"{len(rows)} rows: {counts}" + (f", {failed} without an answer" if failed else ""))
    aside = f", {done.laid_aside} no longer asked for laid aside" if done.laid_aside else ""
    click.echo(f"{done.found} found in {done.wall_s:.0f} s, {done.kept} kept from before{aside}")
    wanting = [r for r in rows if r.verdict not in ("change", "keep")]
    if wanting:
        click.echo()
    for row in wanting[:MOST_TOLD]:
        why = row.error or f"retest: {row.document.get('because')}"
        click.echo(f"  {echoed(row.printer)} {echoed(row.study)}  {shown(why)}")
    if wanting[MOST_TOLD:]:
        click.echo(f"  and {len(wanting) - MOST_TOLD} more, in {RESULTS}")
    place = echoed(str(store.place))
    click.echo(f"\nwritten  {place}{os.sep}{RESULTS}, {PAGE}, {ANSWERS}{os.sep}")
    click.echo(f"next     {proposed('farm compare', place)}")


@click.command("show", short_help="Many benches in one table: stale, due, failed checks, next.")
@click.argument("places", nargs=-1, required=True, metavar="DIR...")
@as_document
def show(places: tuple[str, ...], as_json: bool) -> int:
    """What each bench of DIR… waits for: settings gone stale since a part was changed, settings due
    (never measured, old, known too widely, standing on newer ones), checks that failed, and what
    comes next. A folder that holds benches stands for them.

    \b
    Example:
      omphalon farm show museum
    """
    from omphalon.farm.benches import benches_in, look

    rows = [look(place) for each in places for place in benches_in(each)]
    if as_json:
        document("farm-show", benches=[vars(row) for row in rows])
    else:
        head = ("printer", "set", "stale", "due", "failed", "next")
        names = [r.printer for r in rows]
        cells = [
            (
                r.printer if names.count(r.printer) == 1 else f"{r.printer} ({r.place})",
                *(("–",) * 4 if r.error else map(str, (r.settings, r.stale, r.due, r.failed))),
                r.error or r.next,
            )
            for r in rows
        ]
        table([head, *cells])
    return 1 if any(r.error for r in rows) else 0


@dataclass(frozen=True, kw_only=True)
class CompareOptions:
    """Options of `farm compare`."""

    place: str = argument("DIR", required=True)
    earlier: str | None = argument("[EARLIER]")


@click.command(
    "compare", cls=OnceEach, short_help="Find printers that differ from the rest, or have changed."
)
@answering(CompareOptions, dialect=False, bench=False)
def compare(how: Leaving, options: CompareOptions) -> Answer:
    """Hold the answers in DIR against each other, printers of one model together, and against those
    of an EARLIER run. Each one's interval counts; of those named, about one in twenty is wrong.

    \b
    Example:
      omphalon farm compare farm --plot others.png
    """
    from omphalon.farm.compare import compare_farms
    from omphalon.farm.compare_words import comparison_finding
    from omphalon.farm.store import read_results

    place, earlier = options.place, options.earlier
    how.check(None)
    if earlier is not None and os.path.realpath(place) == os.path.realpath(earlier):
        raise UsageError("DIR and EARLIER are one folder", "give the folder of an earlier run")
    before = () if earlier is None else read_results(earlier)
    found = compare_farms(read_results(place), before)
    return comparison_finding(found, earlier is not None)


for command in (compare, show):
    farm.add_command(command)


def warm() -> None:
    """Import what most jobs need, once a worker."""
    one_thread()
    import omphalon.readers.acceleration
    import omphalon.studies.heater.fit
    import omphalon.studies.shaper.fit  # noqa: F401


def answered(words: list[str]) -> dict[str, Any]:
    """What a command answers: its document, or one with the error's sentence and exit code.

    `words`: of the command line, behind the program's name. Raises MemoryError if the machine has
    too little: that is no answer.
    """
    try:
        answer = omphalon.main(words, "omphalon", standalone_mode=False, obj=WITHIN)
        document: dict[str, Any] = answer.document(__version__)
        return document
    except MemoryError:
        raise
    except Exception as error:
        text, code = sentence_of(error)
        return {"omphalon": __version__, "kind": f"{words[0]}-fit", "error": text, "exit": code}


def studies() -> dict[str, Study]:
    """What a manifest's row of each study may hold, read off the commands themselves."""
    out = {}
    for name in STUDIES:
        group = omphalon.get_command(click.Context(omphalon), name)
        assert isinstance(group, click.Group)
        params = [p for p in group.commands["fit"].params if _in_manifest(p)]
        options = {p.opts[0][2:]: _choice(p) for p in params if isinstance(p, click.Option)}
        file = next((p for p in params if isinstance(p, click.Argument)), None)
        if "x" in options and "y" in options:  # logs of axes: a row says which
            file = None
        if file is None:
            options["axis"] = ColumnUse(flag="--axis")
        log = "axis" if file is None else "several" if file.nargs == -1 else "one"
        out[name] = Study(options=options, log=log)
    return out


def _in_manifest(param: click.Parameter) -> bool:
    """Whether a row may hold it: how an answer leaves, a farm settles."""
    if not isinstance(param, Described):
        return False
    holds = param.more.get("farm")
    return bool(holds) if param.section == ANSWER else holds != ""


def _choice(option: click.Option) -> ColumnUse:
    holds = option.more.get("farm", "") if isinstance(option, Described) else ""
    many = "pair" if option.nargs == 2 else "several" if option.multiple else "one"
    return ColumnUse(flag=option.opts[0], takes=holds or many)
