"""What the commands at a printer share: the port, the link, and heaters that go off however a
command ends.
"""

from __future__ import annotations

import contextlib
import signal
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

import click

from omphalon.cli.benched import facts_of_bench
from omphalon.cli.common import Command, Measure, bench_option, options
from omphalon.errors import echoed

if TYPE_CHECKING:
    from types import FrameType

    from omphalon.lines.dialect import Dialect
    from omphalon.printer.link import Link, SwitchedOff, Watch
    from omphalon.reports import Report

wired = options(
    click.option(
        "--port",
        required=True,
        metavar="PORT",
        help="/dev/…, COMn or socket://HOST:PORT; omphalon printer list shows them.",
    ),
    click.option(
        "--speed",
        type=Measure("bits"),
        metavar="N",
        help="Bits a second.  [the common ones are tried]",
    ),
    click.option("--dialect", metavar="FILE", help="Templates of the printer's lines (TOML)."),
    bench_option,
)
yes = click.option("--yes", is_flag=True, help="Do not ask.")


@dataclass(frozen=True, kw_only=True)
class Wired:
    """Where the printer is, and how it is spoken to."""

    port: str
    speed: int | None
    dialect: str | None

    def lines(self) -> Dialect:
        """The dialect of its lines, in the scale of gains that the bench knows."""
        from omphalon.lines.dialect import load_dialect

        scale = facts_of_bench(scale="controller.gain_scale").get("scale")
        return load_dialect(self.dialect).with_scale(scale)


def at_wire(command: Command) -> Command:
    """The options of a command at a printer; they reach it as one `at`."""
    import functools

    @functools.wraps(command)
    def gathered(*args: Any, **given: Any) -> Any:
        given.pop("bench")
        at = Wired(**{name: given.pop(name) for name in ("port", "speed", "dialect")})
        return command(*args, at=at, **given)

    added: Command = wired(gathered)
    return added


@dataclass
class AtPrinter:
    """A printer that answers, and the note on whether it may be hot."""

    link: Link
    port: str
    words: str

    def may_heat(self) -> None:
        """From here on a heater may be on: noted, for the case that this process dies."""
        from omphalon.printer.known import note

        note(self.port, heating_since=now())

    def watch(self) -> Watch:
        """Looks at each report while lines are sent, and ends it where a heater must not go on."""
        from omphalon.printer.guard import Guard
        from omphalon.printer.lookout import Lookout

        lookout = Lookout(Guard("hotend", None))

        def look(report: Report) -> None:
            lookout.time_of(report, self.link.clock())

        return look

    def look(self) -> None:
        """The note goes where a report says that all heaters are off."""
        from omphalon.printer.known import note

        if self.link.seen_off():
            note(self.port, heating_since=None)

    def cool(self) -> SwitchedOff:
        """Heaters off; what came of it. Nothing interrupts it."""
        from omphalon.printer.known import note

        with _undisturbed():
            off = self.link.switch_off()
        if off.acknowledged:
            note(self.port, heating_since=None)
        return off


def now() -> str:
    """The moment, ISO, UTC."""
    return datetime.now(UTC).isoformat(timespec="seconds")


@contextlib.contextmanager
def at_printer(at: Wired) -> Iterator[AtPrinter]:
    """The printer at a port, for this command alone. However the command ends but well, heaters off
    is sent, and what came of it is said.
    """
    from omphalon.printer.known import held_port, known, note
    from omphalon.printer.link import reached

    with held_port(at.port), _stoppable():
        before = known(at.port)
        if before.heating_since is not None:
            click.echo(
                f"warning: the last command on {echoed(at.port)} ended without switching the "
                f"heaters off: they may be on since {before.heating_since[:16].replace('T', ' ')} "
                "UTC; omphalon printer cool switches them off",
                err=True,
            )
        link, speed, words = reached(at.port, at.speed, before.speed, at.lines())
        note(at.port, speed=speed, name=words, seen=now())
        printer = AtPrinter(link, at.port, words)
        try:
            yield printer
        except BaseException:
            click.echo(printer.cool().told, err=True)
            raise
        finally:
            link.wire.close()


class Terminated(KeyboardInterrupt):
    """The process was asked to end."""


@contextlib.contextmanager
def _stoppable() -> Iterator[None]:
    """SIGTERM and a closed terminal end a command as Ctrl-C does."""

    def end(*_: object) -> None:
        raise Terminated

    with _handled(end):
        yield


@contextlib.contextmanager
def _undisturbed() -> Iterator[None]:
    """No signal ends what is done here."""
    with _handled(signal.SIG_IGN, (signal.SIGINT,)):
        yield


@contextlib.contextmanager
def _handled(
    how: Callable[[int, FrameType | None], Any] | signal.Handlers,
    more: tuple[signal.Signals, ...] = (),
) -> Iterator[None]:
    names = [*more, signal.SIGTERM, *([signal.SIGHUP] if hasattr(signal, "SIGHUP") else [])]
    before = [signal.signal(name, how) for name in names]
    try:
        yield
    finally:
        for name, old in zip(names, before, strict=True):
            signal.signal(name, old)


def confirmed(question: str, without: bool) -> bool:
    """Whether the user agrees; asked unless told not to. No answer is no."""
    if without:
        return True
    try:
        return click.confirm(question, default=False, err=True)
    except click.Abort:
        return False


def declined(words: str) -> click.ClickException:
    """The user said no: what became of it, as the end of the command."""
    return click.ClickException(words)
