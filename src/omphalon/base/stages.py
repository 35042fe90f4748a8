"""What a long piece of work is at: the core says it, whoever looks on may show it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar


def _unreported(words: str) -> None:
    """Nobody looks on."""


_listener: ContextVar[Callable[[str], None]] = ContextVar("listener", default=_unreported)


def begins(words: str) -> None:
    """A stage of the work begins: "the gains are chosen"."""
    _listener.get()(words)


@contextmanager
def reported_to(listener: Callable[[str], None]) -> Iterator[None]:
    """Within it, each stage that begins is reported to `listener`."""
    before = _listener.set(listener)
    try:
        yield
    finally:
        _listener.reset(before)
