"""What a long piece of work is at: the core says it, whoever looks on may show it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar


def _unheard(words: str) -> None:
    """Nobody looks on."""


_heed: ContextVar[Callable[[str], None]] = ContextVar("heed", default=_unheard)


def begins(words: str) -> None:
    """A stage of the work begins: "the gains are chosen"."""
    _heed.get()(words)


@contextmanager
def heard_by(heed: Callable[[str], None]) -> Iterator[None]:
    """Within it, each stage that begins is told to `heed`."""
    before = _heed.set(heed)
    try:
        yield
    finally:
        _heed.reset(before)
