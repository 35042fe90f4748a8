"""How far a run is: a bar with the time left in a terminal, a line now and then elsewhere."""

from __future__ import annotations

import contextlib
import sys
import time
from collections.abc import Callable, Iterator

import click

EVERY_S = 10.0


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
        self.began = self.told = time.monotonic()
        self.first: int | None = None

    def tell(self, done: int, whole: int) -> None:
        if self.first is None:
            self.first = done
        now = time.monotonic()
        if now - self.told < EVERY_S or done == self.first:
            return
        self.told = now
        left = (now - self.began) / (done - self.first) * (whole - done)
        click.echo(f"{done} of {whole} done, about {_words(left)} left", err=True)


def _words(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 90 else f"{seconds / 60:.0f} min"
