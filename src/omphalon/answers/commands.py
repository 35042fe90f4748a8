"""Commands that answers propose, and the words that lead to them."""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Mapping
from dataclasses import dataclass

_MARKED = re.compile(r"`omphalon ([^`]+)`")
Change = Callable[["Command"], "Command"]


@dataclass(frozen=True)
class Command:
    """A command of ours: its words after `omphalon`, group and verb first."""

    words: tuple[str, ...]

    def __str__(self) -> str:
        return shlex.join(("omphalon", *self.words))

    def with_options(self, options: Mapping[str, str]) -> Command:
        """The same with these options, as far as it does not have them."""
        more = [
            word for option in options.items() if option[0] not in self.words for word in option
        ]
        return Command((*self.words, *more))


def command(path: str, *operands: str, **options: object) -> Command:
    """A command by its group and verb (`heater check`), operands, and options by their names: a
    number as it is read best, a tuple as a repeated option, True as a flag; None is left out.
    """
    words = [*path.split(), *operands]
    for name, value in options.items():
        for one in value if isinstance(value, tuple) else (value,):
            if one is None or one is False:
                continue
            words.append(f"--{name.replace('_', '-').rstrip('-')}")
            if one is not True:
                words.append(f"{one:g}" if isinstance(one, float) else str(one))
    return Command(tuple(words))


@dataclass(frozen=True)
class Prose:
    """Words with commands among them, each of which stands alone on its line."""

    parts: tuple[str | Command, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.parts)

    def __str__(self) -> str:
        """In one line; words go on behind a command after a semicolon."""
        out = ""
        for n, part in enumerate(self.parts):
            behind = n > 0 and isinstance(self.parts[n - 1], Command)
            out += ("; " if behind else " " if n else "") + str(part)
        return out

    def changed(self, change: Change, words: Callable[[str], str] = str) -> Prose:
        """The same with other commands, and other words."""
        return Prose(tuple(words(p) if isinstance(p, str) else change(p) for p in self.parts))


def prose(*parts: str | Command) -> Prose:
    """Words and commands in their order; empty words are left out."""
    return Prose(tuple(part for part in parts if part))


def marked(text: str) -> Prose:
    """A text of a table, in which commands stand between backquotes."""
    parts: list[str | Command] = []
    for n, piece in enumerate(_MARKED.split(text)):
        words = piece.strip().lstrip(";,.").strip()
        if words:
            parts.append(Command(tuple(shlex.split(words))) if n % 2 else words)
    return Prose(tuple(parts))
