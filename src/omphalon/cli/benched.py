"""A command inside a bench: facts and present settings become the defaults of its options, and what
it finds is recorded.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any

import click
from click.core import ParameterSource

from omphalon.base.errors import UnwritableFile
from omphalon.cli.known import HELD, held
from omphalon.cli.options import Described, Known, given_by_hand, record_of
from omphalon.tables.tools import FIRST

if TYPE_CHECKING:
    from omphalon.answers.commands import Command, Prose
    from omphalon.answers.finding import Finding, Plan
    from omphalon.bench.bench import Bench
    from omphalon.bench.work import State

INPUTS = "omphalon.inputs"


WITHIN = "a caller in the same process, who wants no more than the answer"


# a caller in the same process that does itself what comes next
GUIDED = "an evening, which enters and checks what is found"


def guided() -> bool:
    """Whether such a caller runs the command."""
    return click.get_current_context().find_root().obj is GUIDED


def asked_within() -> bool:
    """Whether such a caller runs the command: the root context's object says so."""
    return click.get_current_context().find_root().obj is WITHIN


@contextlib.contextmanager
def within_environment(name: str, value: str) -> Iterator[None]:
    """A variable of the environment for the commands that run here, as it was afterwards."""
    before = os.environ.get(name)
    os.environ[name] = value
    try:
        yield
    finally:
        if before is None:
            del os.environ[name]
        else:
            os.environ[name] = before


def choose_bench(ctx: click.Context, _: click.Parameter, given: str | None) -> str | None:
    """Open the bench, if there is one, before any other option is read."""
    if ctx.resilient_parsing or ctx.find_root().obj is WITHIN:
        return given
    from omphalon.bench.bench import find_bench

    bench = find_bench(given)
    if bench is None:
        return given
    state = bench.state()
    ctx.meta[HELD] = (bench, state)
    rows = {
        **known_of(ctx.command),
        "dialect": lambda state, given: bench.dialect_path(state.facts),
    }
    ctx.default_map = _Defaults(rows, state, ctx)
    return given


def known_of(command: click.Command) -> dict[str, Known]:
    """The options of a command that a bench knows, and where from."""
    return {
        param.name or "": param.more["bench"]
        for param in command.params
        if isinstance(param, Described) and "bench" in param.more
    }


class _Defaults(dict[str, Any]):
    """What a bench knows, looked up when the options given by hand are known; what it does not know
    is not there, so that the option's own default holds.
    """

    def __init__(self, rows: Mapping[str, Known], state: State, ctx: click.Context) -> None:
        super().__init__(rows)
        self.state, self.ctx = state, ctx

    def __contains__(self, name: object) -> bool:
        return self.get(str(name)) is not None

    def __getitem__(self, name: str) -> Any:
        return self.get(name)

    def get(self, name: str, default: Any = None) -> Any:
        known: Known | None = super().get(name)
        if known is None:
            return default
        by_hand = given_by_hand(self.ctx)
        given = {n: value for n, value in self.ctx.params.items() if n in by_hand}
        kind = getattr(self.ctx.command.callback, "record", None)
        value = known(
            self.state.of_tool(given.get("tool") or FIRST),
            None if kind is None else record_of(kind, given),
        )
        return default if value is None else value


def taken_from_bench(ctx: click.Context) -> tuple[list[str], list[str]]:
    """Options that the bench filled, and those given by hand that the bench knows otherwise."""
    filled, by_hand = [], []
    for param in ctx.command.params:
        name = param.name or ""
        known = None if name == "dialect" else (ctx.default_map or {}).get(name)
        if known is None:
            continue
        option, source = param.opts[0], ctx.get_parameter_source(name)
        if source is ParameterSource.DEFAULT_MAP:
            filled.append(f"{option} {_plain(known)}")
        elif source is ParameterSource.COMMANDLINE and _plain(known) != _plain(ctx.params[name]):
            by_hand.append(f"{option}: {_plain(known)} in the bench")
    return filled, by_hand


def _plain(value: Any) -> str:
    if isinstance(value, (list, tuple)):
        return " ".join(map(_plain, value))
    return f"{value:g}" if isinstance(value, float) else str(value)


def doubted(answer: Finding | Plan) -> Finding | Plan:
    """An answer as the bench lets it stand."""
    from omphalon.answers.finding import Finding
    from omphalon.bench.work import unless_not_entered

    found = held()
    if found is None or not isinstance(answer, Finding) or answer.verdict != "change":
        return answer
    return unless_not_entered(answer, found[1], found[0].journal.entries(kind="finding"))


def record(answer: Finding | Plan) -> Prose | None:
    """Put a finding into the bench's journal; what is said of it, or None outside a bench."""
    from omphalon import __version__
    from omphalon.answers.commands import command, prose
    from omphalon.answers.finding import Finding
    from omphalon.cli.proposed import as_here

    found = held()
    if found is None:
        return None
    bench, state = found
    ctx = click.get_current_context()
    filled, by_hand = taken_from_bench(ctx)
    adopts: list[Command] = []
    words = [*([f"from the bench: {', '.join(filled)}"] if filled else [])]
    words += [f"given by hand: {', '.join(by_hand)}"] if by_hand else []
    if isinstance(answer, Finding):
        try:
            figure = _figure(answer, bench)
            numbers = [
                bench.record(
                    part.document(__version__),
                    _command(ctx),
                    ctx.meta.get(INPUTS, []),
                    figure,
                    state.of_tool(ctx.params.get("tool", FIRST)).filament,
                )
                for part in (answer, *answer.parts)
            ]
        except UnwritableFile as error:
            remedy = f"{error.remedy}; --no-record answers without the bench"
            raise UnwritableFile(error.problem, remedy) from error
        which = "entry" if len(numbers) == 1 else "entries"
        words.insert(0, f"recorded as {which} {', '.join(map(str, numbers))}")
        adopts = [
            as_here()(command("bench adopt", str(number)))
            for number, part in zip(numbers, (answer, *answer.parts), strict=True)
            if part.settings and part.kind.endswith("-fit") and not guided()
        ]
    lead = "; to make it the setting in force:" if adopts else ""
    return prose(*([f"{'; '.join(words)}{lead}"] if words else []), *adopts)


def _command(ctx: click.Context) -> list[str]:
    """The command line as it was understood: what was given, in the order of the options."""
    words = ctx.command_path.split()[1:]
    for param in ctx.command.params:
        if ctx.get_parameter_source(param.name or "") is not ParameterSource.COMMANDLINE:
            continue
        value = ctx.params.get(param.name or "")
        if param.name in ("bench", "no_record", "as_json", "quiet", "force"):
            continue
        values = list(value) if isinstance(value, tuple) else [value]
        for one in values:
            if isinstance(param, click.Argument):
                words.append(str(one))
            else:
                words += [param.opts[0], str(getattr(one, "written", one))]
    return words


def _figure(answer: Finding, bench: Bench) -> str | None:
    """A figure of the finding in figures/, by the moment and the kind; None where none is drawn."""
    from datetime import UTC, datetime

    from omphalon.base.files import put_with
    from omphalon.bench.bench import inside
    from omphalon.report.figure import draws, save_figure

    if not draws(answer):
        return None
    name = f"{datetime.now(UTC):%Y%m%d-%H%M%S-%f}-{os.getpid()}-{answer.kind}.svg"
    target = inside(bench.place, f"figures/{name}")
    put_with(str(target), lambda file, suffix: save_figure(answer, file, suffix))
    return name
