"""What the commands at a printer share: the port, the link, and heaters that go off however a
command ends.
"""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import click

from omphalon.base.errors import LinkFault, OmphalonError, StillHot, echoed, shown
from omphalon.cli.common import bench_field
from omphalon.cli.known import fact, facts_of_bench
from omphalon.cli.options import flag, number, takes, text
from omphalon.tables.constants import SILENCE_S, UNWATCHED_S
from omphalon.tables.heaters import Heater
from omphalon.tables.units import plural

if TYPE_CHECKING:
    from omphalon.lines.dialect import Dialect
    from omphalon.printer.kept import KeptPrinter
    from omphalon.printer.off import SwitchedOff


@dataclass(frozen=True, kw_only=True)
class AgreeOptions:
    """What is not asked for."""

    yes: bool = flag("--yes", "Do not ask.")
    allowed: tuple[str, ...] = text(
        "--allow", "Do not ask about exactly this line; repeatable.", metavar="LINE", many=True
    )


@dataclass(frozen=True, kw_only=True)
class SilenceOptions:
    """How long a heater may go unread."""

    silence_s: float = number(
        "--silence",
        "interval",
        f"Switch the heaters off when a hot one is not read for this time.  [{SILENCE_S:g}]",
        within=(1, 60),
        default=SILENCE_S,
        shown=False,
    )


PORT_HELP = "/dev/…, COMn or socket://HOST:PORT; omphalon printer list shows them."


@dataclass(frozen=True, kw_only=True)
class Wired:
    """Where the printer is, and how it is spoken to."""

    port: str = text(
        "--port", PORT_HELP, metavar="PORT", required=True, bench=fact("controller.port")
    )
    speed: int | None = number(
        "--speed",
        "bits",
        "Bits a second.  [the common ones are tried]",
        bench=fact("controller.speed"),
    )
    dialect: str | None = text("--dialect", "Templates of the printer's lines (TOML).")
    bench: str | None = bench_field()

    def lines(self) -> Dialect:
        """The dialect of its lines, in the scale of gains that the bench knows."""
        from omphalon.bench.facts import LOOP_FACTS
        from omphalon.lines.dialect import load_dialect

        return load_dialect(self.dialect).with_loop(**facts_of_bench(**LOOP_FACTS))


at_wire = takes(Wired, "at")


def agreed_dialect(at: Wired, without: bool) -> Dialect:
    """The dialect, once the user has seen it: one that is no part of omphalon is shown line by line
    before its first use at a port, and again when it has changed.
    """
    from omphalon.printer.notes import known, note

    dialect = at.lines()
    if _ships(at):
        return dialect
    if known(at.port).dialect != _digest(dialect):
        click.echo(f"{echoed(at.dialect or '')} says how this printer is spoken to:", err=True)
        for row in _rows(dialect):
            click.echo(f"  {shown(row)}", err=True)
        if not confirmed("speak so at this port?", without):
            raise declined("nothing was sent")
        note(at.port, dialect=_digest(dialect))
    return dialect


def trusted_dialect(at: Wired) -> Dialect:
    """The dialect where it was agreed to at this port; else, or where it cannot be read, the one
    that ships: heaters off waits for no question.
    """
    from omphalon.lines.dialect import load_dialect
    from omphalon.printer.notes import known

    with contextlib.suppress(OmphalonError):
        dialect = at.lines()
        if _ships(at) or known(at.port).dialect == _digest(dialect):
            return dialect
    click.echo(f"{echoed(at.dialect or '')} is not used here: the lines that ship are", err=True)
    return load_dialect()


def _ships(at: Wired) -> bool:
    from omphalon.lines.dialect import SHIPPED

    return at.dialect is None or at.dialect in SHIPPED


def _rows(dialect: Dialect) -> list[str]:
    return [
        f"{name} = {t.text}" for name, t in sorted(dialect.templates.items()) if t.section is None
    ]


def _digest(dialect: Dialect) -> str:
    import hashlib

    return hashlib.sha256("\n".join(_rows(dialect)).encode()).hexdigest()[:16]


AGREED, PRINTER = "lines that were shown", "the printer that a keeper has"


def agree(lines: Sequence[str]) -> None:
    """Let these lines, which the user has seen, be sent: the keeper sends no others."""
    meta = click.get_current_context().meta
    meta.setdefault(AGREED, []).extend(lines)
    if PRINTER in meta:
        meta[PRINTER].agree(lines)


class FallingView:
    """What is watched while heaters cool, on standard error, once it takes longer than a moment."""

    MOMENT_S = 1.0

    def __init__(self) -> None:
        self.begun_s, self.shown = 0.0, False

    def __call__(self, words: str) -> None:
        self.begun_s = self.begun_s or time.monotonic()
        if time.monotonic() - self.begun_s < self.MOMENT_S:
            return
        if sys.stderr.isatty():
            with contextlib.suppress(OSError):
                click.echo(f"\r{shown(words)}\x1b[K", err=True, nl=False)
        elif not self.shown:
            _say(shown(words))
        self.shown = True

    def over(self) -> None:
        """Leave the line that it was shown in."""
        if self.shown and sys.stderr.isatty():
            _say("")
        self.begun_s, self.shown = 0.0, False


class Ended(BaseException):
    """The process was asked to end, by Ctrl-C or a signal."""


class Signals:
    """What signals do to a command at a printer: the first one ends it, heaters off; later ones
    change nothing. Nothing is waited for any more once a signal has come and the heaters are off: a
    terminal may be held for ever.
    """

    NAMES = ("SIGINT", "SIGTERM", "SIGHUP")
    GRACE_S = 3.0

    def __init__(self) -> None:
        self.printer: KeptPrinter | None = None
        self.came = self.quiet = False
        self.code: int | None = None  # the exit code, once it is known

    def __enter__(self) -> Signals:
        names = [getattr(signal, name) for name in self.NAMES if hasattr(signal, name)]
        self.before = {name: signal.signal(name, self._take) for name in names}
        return self

    def __exit__(self, *_: object) -> None:
        if not self.came:
            for name, old in self.before.items():
                signal.signal(name, old)

    def _take(self, *_: object) -> None:
        fault = None if self.printer is None else self.printer.fault
        if self.quiet:
            self.came = True
            self.leave_soon()
            return
        self.quiet = True
        if fault is not None:
            raise fault
        self.came = True
        raise Ended

    def leave_soon(self) -> None:
        """Leave within a moment, whatever the terminal does."""
        if self.came and self.code is not None:
            timer = threading.Timer(self.GRACE_S, os._exit, (self.code,))
            timer.daemon = True
            timer.start()

    def wake(self) -> None:
        """End what the main thread waits for: the keeper has ended what was going on."""
        if hasattr(signal, "pthread_kill"):
            signal.pthread_kill(threading.main_thread().ident or 0, signal.SIGINT)


@contextlib.contextmanager
def at_printer(
    at: Wired, dialect: Dialect, silence_s: float = SILENCE_S, waits_s: float = UNWATCHED_S
) -> Iterator[KeptPrinter]:
    """The printer at a port, which a keeper has for this command. However the command ends but
    well, heaters go off, and what came of it is said; StillHot where it cannot be shown.
    """
    from omphalon.printer.kept import KeeperOptions, KeptPrinter, still_hot

    options = KeeperOptions(
        port=at.port,
        speed=at.speed,
        dialect=dialect,
        command=click.get_current_context().command_path,
        silence_s=silence_s,
        waits_s=waits_s,
    )
    words: list[str] = []
    with Signals() as signals:
        try:
            printer = KeptPrinter(options, words.append, signals.wake)
        except Ended as error:
            raise click.Abort from error
        signals.printer = printer
        meta = click.get_current_context().meta
        printer.agree(meta.get(AGREED, []))
        meta[PRINTER], printer.watched = printer, FallingView()
        _warn_of(at.port)  # once nobody else has the port, who might change the note
        try:
            printer.open()
            try:
                yield printer
            except BaseException as error:
                signals.quiet = True
                off = printer.cool()
                signals.code = 1 if off.shown else StillHot.exit_code
                signals.leave_soon()
                for line in (*_said(words), *_kept(printer), *([off.words] if off.shown else [])):
                    _say(line)
                why = getattr(error, "problem", "")
                if not off.shown:
                    raise still_hot(off, why) from error
                if isinstance(error, Ended):
                    raise click.Abort from error
                raise
            for line in _said(words):
                _say(line)
        except Ended as error:
            raise click.Abort from error
        finally:
            signals.quiet = True
            del meta[PRINTER]
            printer.leave()


def _kept(printer: KeptPrinter) -> list[str]:
    rows, out = printer.kept_rows, printer.kept_in
    return [] if rows is None or out is None else [kept_words(rows, out)]


def kept_words(rows: int, out: str) -> str:
    """How many reports are in which file."""
    return f"kept    {plural(rows, 'report')} in {echoed(out)}"


def _said(words: list[str]) -> list[str]:
    return [f"printer {echoed(line)}" for line in dict.fromkeys(words)]


def _say(line: str) -> None:
    """To a terminal that may be gone."""
    with contextlib.suppress(OSError):
        click.echo(line, err=True)


def _warn_of(port: str) -> None:
    """What the last command on a port left behind."""
    from omphalon.printer.notes import known

    before = known(port)
    if before.ended:
        click.echo(f"the last command on {echoed(port)} ended {echoed(before.ended)}", err=True)
    if before.left_on:
        click.echo(f"left on  {hot_words(before.left_on)}, by the last command", err=True)
    elif before.heating_since is not None:
        click.echo(
            f"warning: the last command on {echoed(port)} ended without switching the heaters off: "
            f"they may be on since {before.heating_since[:16].replace('T', ' ')} UTC; omphalon "
            "printer cool switches them off",
            err=True,
        )


def say_off(off: SwitchedOff) -> None:
    """What came of switching off; StillHot where it cannot be shown, LinkFault where it took a
    halt.
    """
    from omphalon.printer.kept import still_hot

    if not off.shown:
        raise still_hot(off)
    if off.halted:
        problem, _, remedy = off.words.partition(": ")
        raise LinkFault(problem, remedy)
    click.echo(off.words)


def hot_words(on: dict[str, float] | dict[Heater, float]) -> str:
    """Heaters and their targets."""
    return ", ".join(
        f"{name} at {target:g} °C" if target > 0 else f"{name}" for name, target in on.items()
    )


def confirmed(question: str, without: bool) -> bool:
    """Whether the user agrees; asked unless told not to. No answer is no."""
    if without:
        return True
    forget_keys()
    try:
        return click.confirm(question, default=False, err=True)
    except click.Abort:
        return False


def forget_keys() -> None:
    """Keys that were typed before a question was asked do not answer it."""
    if not sys.stdin.isatty():
        return
    with contextlib.suppress(ImportError, OSError):
        import termios

        termios.tcflush(sys.stdin, termios.TCIFLUSH)


def declined(words: str) -> click.ClickException:
    """The user said no: what became of it, as the end of the command."""
    return click.ClickException(words)
