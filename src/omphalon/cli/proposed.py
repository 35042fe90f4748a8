"""Commands that are proposed, as they are to be typed here."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from omphalon.cli.options import given_by_hand

if TYPE_CHECKING:
    from omphalon.answers.commands import Change, Command

IN_FORCE = ("tool", "dialect", "bench")  # what a command that comes next must be given again


def as_here() -> Change:
    """A change of commands: the tool, the dialect and the bench that were named by hand are named
    in those that take them.
    """
    ctx = click.get_current_context()
    by_hand = given_by_hand(ctx)
    named = {f"--{name}": str(ctx.params[name]) for name in IN_FORCE if name in by_hand}
    root = ctx.find_root().command

    def written(one: Command) -> Command:
        taken = options_of(root, one)
        return one.with_options({name: named[name] for name in named if name in taken})

    return written


def proposed(path: str, *operands: str, **options: object) -> str:
    """A command as it is to be typed here."""
    from omphalon.answers.commands import command

    return str(as_here()(command(path, *operands, **options)))


def options_of(root: click.Command, one: Command) -> set[str]:
    """The options that a command takes."""
    found = root
    for word in one.words:
        inner = (
            found.get_command(click.Context(found), word)
            if isinstance(found, click.Group)
            else None
        )
        if inner is None:
            break
        found = inner
    return {name for param in found.params for name in param.opts}
