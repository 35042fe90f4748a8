"""omphalon printer list | cool | stand-in; the other commands are registered below."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from omphalon.base.errors import UnreadableFile, UnwritableFile, UsageError, echoed, shown
from omphalon.base.files import put_bytes
from omphalon.cli.bench.common import as_document, document, table
from omphalon.cli.groups import InOrder
from omphalon.cli.options import flag, number, one_of, takes, text, typed
from omphalon.cli.printer.capture import capture
from omphalon.cli.printer.send import send
from omphalon.cli.printer.tune import tune
from omphalon.cli.printer.wire import (
    FallingView,
    Wired,
    at_printer,
    at_wire,
    hot_words,
    say_off,
    trusted_dialect,
)
from omphalon.cli.proposed import proposed
from omphalon.standin import FAULTS
from omphalon.tables.constants import BUILDS

if TYPE_CHECKING:
    from omphalon.printer.notes import Known

ORDER = ("list", "capture", "send", "tune", "cool", "stand-in")


@click.group(cls=InOrder, order=ORDER)
def printer() -> None:
    """Work at the printer: capture, send, tune over the wire."""


@printer.command("list", short_help="Which ports are there, and what is known of each.")
@as_document
def list_ports(as_json: bool) -> None:
    """Show the serial ports of this computer, and what answered where.

    \b
    Example:
      omphalon printer list
    """
    from omphalon.printer.notes import all_known, known
    from omphalon.printer.port import found_ports

    there = dict(found_ports())
    rows = [known(name) for name in there]
    rows += [one for one in all_known() if one.port not in there]
    if as_json:
        ports = [
            {
                "port": one.port,
                "there": one.port in there or "://" in one.port,
                "speed": one.speed,
                "printer": one.name or None,
                "seen": one.seen or None,
                "heating_since": one.heating_since,
                "left_on": one.left_on,
            }
            for one in rows
        ]
        document("printer-list", ports=ports)
        return
    if not rows:
        click.echo("no serial port here, and none known; plug the printer in, or try without one:")
        click.echo(f"next    {proposed('printer stand-in')}")
        return
    table(
        [
            (
                one.port,
                there.get(one.port, "" if "://" in one.port else "not there now"),
                f"{one.speed} bit/s" if one.speed and "://" not in one.port else "",
                one.name or "nothing has answered there yet",
                one.seen[:16].replace("T", " "),
                _heat_of(one),
            )
            for one in rows
        ]
    )


def _heat_of(one: Known) -> str:
    """Whether a printer may be hot."""
    if one.left_on:
        return f"left on: {hot_words(one.left_on)}"
    return "a heater may be on" if one.heating_since else ""


@printer.command("cool", short_help="Switches the heaters off.")
@at_wire
def cool(at: Wired) -> None:
    """Switch the heaters off, and say whether the printer confirms it.

    A bench's own dialect is used only where it was agreed to at this port; else the lines that
    ship.

    \b
    Example:
      omphalon printer cool --port socket://127.0.0.1:5555
    """
    from omphalon.printer.kept import cool_through_keeper

    view = FallingView()
    off = cool_through_keeper(at.port, view)
    view.over()
    if off is None:
        with at_printer(at, trusted_dialect(at)) as found:
            off = found.cool()
    say_off(off)


@dataclass(frozen=True, kw_only=True)
class StandInOptions:
    """Options of `printer stand-in`."""

    tcp: int | None = typed(
        "--tcp",
        click.IntRange(0, 65535),
        "Port to listen on; 0: any.",
        metavar="PORT",
        excludes=("pty",),
    )
    pty: bool = flag("--pty", "Be a serial port instead.")
    speed: int | None = number("--speed", "bits", "With --pty: garbled at any other speed.")
    pace: float = number(
        "--pace", "pace", "How much faster its time runs.  [1]", default=1.0, shown=False
    )
    state: str | None = text("--state", "File for its stored settings.")
    desk: str | None = text("--desk", "Folder for what is measured on its prints.", metavar="DIR")
    build: str = one_of("--build", BUILDS, "What moves, and by which motors.", default="moving-bed")
    faults: tuple[str, ...] = one_of(
        "--fault", tuple(FAULTS), "What goes wrong; repeatable.", many=True
    )
    fault_after_s: float = number(
        "--fault-after", "time", "This long after heating begins.  [40]", default=40.0, shown=False
    )


@printer.command("stand-in", short_help="Simulates a printer, to try everything on.")
@takes(StandInOptions)
def stand_in(options: StandInOptions) -> None:
    """Be Fulmar, a made-up printer, on this computer: heaters, extruder, frame, filament.

    It answers until Ctrl-C. Its own clock stands before its reports where --pace is not 1.

    \b
    Example:
      omphalon printer stand-in --tcp 5555 --pace 60
    """
    from omphalon.standin.desk import Desk
    from omphalon.standin.kept import MachineSettings, kept_text, read_kept
    from omphalon.standin.machine import Machine
    from omphalon.standin.samples import FULMAR_BUILDS, found_as
    from omphalon.standin.serve import Faulty, Tcp, Terminal, serve

    desk, state, build = options.desk, options.state, options.build
    if desk is not None and not Path(desk).is_dir():
        raise UsageError(f"--desk {echoed(desk)}: no folder", "make it first")
    try:
        usual = found_as(build)
        kept = usual if state is None else read_kept(Path(state), usual)
    except (OSError, ValueError, TypeError) as error:
        raise UnreadableFile(
            f"{echoed(state or '')}: not what a stand-in stored", "give another file"
        ) from error

    def store(settings: MachineSettings) -> None:
        if state is not None:
            put_bytes(state, kept_text(settings).encode())

    folder = Path(desk) if desk else None
    machine = Machine(
        kept, store, Desk(folder, FULMAR_BUILDS[build]).made, stamped=options.pace != 1
    )
    try:
        wire = Terminal(options.speed) if options.pty else Tcp(options.tcp or 0)
    except OSError as error:
        raise UnwritableFile(
            f"--tcp {options.tcp}: cannot listen there ({error.strerror})", "choose another, or 0"
        ) from error
    click.echo(f"listening on {wire.name}")
    faulty = Faulty(machine, options.faults, options.fault_after_s)
    for _ in serve(wire, faulty, options.pace, _panel):
        pass


def _panel(time_s: float, words: str) -> None:
    click.echo(f"{time_s:9.1f} s  {shown(words)}")


for command in (capture, send, tune):
    printer.add_command(command)
