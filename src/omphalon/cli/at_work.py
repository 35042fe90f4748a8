"""What a command is at, while it takes its time."""

from __future__ import annotations

import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager

from omphalon.base.errors import echoed
from omphalon.base.stages import reported_to

LONG_S = 1.0  # a command that takes longer says what it is at


@contextmanager
def shown_at_work(quiet: bool) -> Iterator[None]:
    """What is being done, on standard error, where it takes long and somebody looks on."""
    if quiet or not sys.stderr.isatty():
        yield
        return
    stage, over = [""], threading.Event()

    def show() -> None:
        if over.wait(LONG_S):
            return
        from rich.console import Console

        with Console(stderr=True).status("", spinner="line") as status:
            while not over.wait(0.1):
                status.update(echoed(stage[-1]))

    shower = threading.Thread(target=show, daemon=True)
    shower.start()
    try:
        with reported_to(stage.append):
            yield
    finally:
        over.set()
        shower.join()
