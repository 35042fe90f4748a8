"""Kinds of commands and groups."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import click

from omphalon.base.errors import UsageError
from omphalon.cli.options import ANSWER, OF_BENCH, OWN, PRINT, Described, More, described


class OnceEach(click.Command):
    """A command that refuses an option given twice which takes one value: the last would silently
    win. Its help shows its own options first, those that all commands share last.
    """

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        rows: dict[str, list[tuple[str, str]]] = {OWN: [], OF_BENCH: [], PRINT: [], ANSWER: []}
        for param in self.get_params(ctx):
            if isinstance(param, click.Option) and (record := param.get_help_record(ctx)):
                own = isinstance(param, Described) and param.section or OWN
                rows[ANSWER if "--help" in param.opts else own].append(record)
        for title, records in rows.items():
            if records:
                with formatter.section(title):
                    formatter.write_dl(records)

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        if not ctx.resilient_parsing:
            _, _, order = self.make_parser(ctx).parse_args(list(args))
            single = [
                p for p in order if isinstance(p, click.Option) and not (p.multiple or p.is_flag)
            ]
            twice = next((p for n, p in enumerate(single) if p in single[:n]), None)
            if twice is not None:
                raise UsageError(f"{twice.opts[0]} given twice: it takes one value", "give it once")
        return super().parse_args(ctx, args)


class Verbs(click.Group):
    """A group of such commands."""

    command_class = OnceEach


class InOrder(Verbs):
    """A group that lists its commands in the order of their use."""

    def __init__(self, *args: Any, order: Sequence[str] = (), **more: Any) -> None:
        super().__init__(*args, **more)
        self.order = order

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(self.order)


class Asking(OnceEach):
    """A fit that can ask for what it was not given."""

    def __init__(self, *args: Any, **given: Any) -> None:
        super().__init__(*args, **given)
        help = "Ask for what is missing, one question at a time."
        more: More = {"section": ANSWER, "default": False, "shown": False}
        ask = described(["--ask"], help, more, is_flag=True, expose_value=False)
        self.params.append(ask)

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        given, _, _ = self.make_parser(ctx).parse_args(list(args))
        if given.get("ask") and not ctx.resilient_parsing:
            from omphalon.cli.asking import answers_to

            args = answers_to(ctx, args)
        return super().parse_args(ctx, args)
