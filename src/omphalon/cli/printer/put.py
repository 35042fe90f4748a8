"""What a tune over the wire puts into the printer, and takes back."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import click

from omphalon.cli.benched import INPUTS, held, record
from omphalon.cli.printer.send import compare_with, sent, show_lines
from omphalon.cli.printer.wire import confirmed, declined
from omphalon.errors import OmphalonError

if TYPE_CHECKING:
    from omphalon.finding import Finding
    from omphalon.lines.dialect import Dialect
    from omphalon.printer.kept import KeptPrinter


@dataclass(frozen=True, kw_only=True)
class Setter:
    """Puts new settings into a printer, or the old ones back. `found` is what it listed before."""

    printer: KeptPrinter
    dialect: Dialect
    setting: str
    found: str
    without: bool

    def old_lines(self) -> list[str]:
        """The lines that set what the printer was found with."""
        from omphalon.lines.listing import listed

        lines = []
        for one in listed(self.found, self.dialect):
            if one.setting == self.setting and one.axis in ("", "E"):
                values: dict[str, object] = {k: float(v) for k, v in one.values.items()}
                if one.axis:
                    values["axis"] = one.axis
                lines.append(self.dialect.line(one.setting, **values))
        return [line for line in lines if line is not None]

    def put(self, finding: Finding) -> bool:
        """Set and store what a fit found, once the user agrees; whether there was something to set.
        What is not stored is taken back. Adopted either way.
        """
        if finding.verdict == "keep":
            adopt_newest()
            return False
        ends = (self.dialect.line("store"), self.dialect.line("list"))
        lines = [line for line in finding.lines if line not in ends]
        show_lines(lines)
        if not confirmed("send these lines?", self.without):
            raise declined("nothing was set; the printer is as it was found")
        with self._back_unless_stored():
            sent(self.printer, lines, self.dialect)
            agrees = compare_with(self.printer, "\n".join(lines), self.dialect)
            if not agrees or not confirmed("store them?", self.without):
                raise declined("what was sent was taken back; the printer is as it was found")
            self.store()
            compare_with(self.printer, "\n".join(lines), self.dialect)
        adopt_newest()
        return True

    def store(self) -> None:
        """Store what is set, where the dialect has a line for it."""
        line = self.dialect.line("store")
        if line is None:
            click.echo("store   by hand: the dialect has no line for it")
        else:
            self.printer.tell(line)
            click.echo("stored")

    def restore(self) -> None:
        """The old settings again, stored; in a bench they are in force again."""
        sent(self.printer, self.old_lines(), self.dialect)
        self.store()
        found = held()
        if found is not None:
            bench, _ = found
            bench.revert(bench.before())
        click.echo("the printer is as it was found")

    def keep_or_restore(self) -> None:
        """The new settings stay if the user says so; else the old ones are stored again."""
        if not confirmed("keep the new settings all the same?", self.without):
            self.restore()

    @contextlib.contextmanager
    def _back_unless_stored(self) -> Iterator[None]:
        try:
            yield
        except BaseException:
            with contextlib.suppress(OmphalonError):
                sent(self.printer, self.old_lines(), self.dialect)
            raise


def adopt_newest() -> None:
    """In a bench, the newest finding becomes the setting in force."""
    found = held()
    if found is not None:
        bench, _ = found
        waiting = bench.waiting()
        if waiting:
            bench.adopt(waiting[0])


def shown_and_kept(finding: Finding, inputs: Sequence[str]) -> None:
    """Show a finding; in a bench, record it with what it was read from."""
    from omphalon.report.text import show, show_bench, text_of

    click.get_current_context().meta[INPUTS] = list(inputs)
    show("\n" + text_of(replace(finding, next="")) + "\n")  # what comes next is done here
    words = record(finding)
    if words:
        show_bench(words)
