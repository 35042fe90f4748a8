"""What a tune puts into the printer, reads back, stores, and takes back again."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import click

from omphalon.answers.commands import Prose
from omphalon.base.errors import OmphalonError, shown
from omphalon.cli.benched import INPUTS, record
from omphalon.cli.known import held
from omphalon.cli.printer.send import compare_with, sent, show_lines
from omphalon.cli.printer.wire import agree, confirmed, declined
from omphalon.tables.tools import Tool

if TYPE_CHECKING:
    from omphalon.answers.finding import Finding
    from omphalon.lines.dialect import Dialect
    from omphalon.lines.listing import Listed
    from omphalon.printer.kept import KeptPrinter


@dataclass(frozen=True, kw_only=True)
class Setter:
    """Puts new settings into a printer, or the old ones back: those of some `keys`. `found` is what
    it listed before.
    """

    printer: KeptPrinter
    dialect: Dialect
    keys: tuple[str, ...]
    found: str
    without: bool

    def old_lines(self) -> list[str]:
        """The lines that set what the printer was found with."""
        lines = []
        for one in self.listed():
            values: dict[str, object] = {k: _as_number(v) for k, v in one.values.items()}
            if one.axis:
                values["axis"] = one.axis
            lines.append(self.dialect.line(one.setting, **values))
        return [line for line in lines if line is not None]

    def listed(self) -> list[Listed]:
        """What the printer listed of these settings before."""
        from omphalon.bench.settings import KINDS
        from omphalon.lines.listing import listed

        kinds = [KINDS[key] for key in self.keys]
        own = {(kind.line, axis) for kind in kinds for axis in (kind.axis, kind.axis and "")}
        return [one for one in listed(self.found, self.dialect) if (one.setting, one.axis) in own]

    def put(self, finding: Finding) -> bool:
        """Set and store what a fit found, once the user agrees; whether there was something to set.
        What is not stored is taken back. Adopted either way.
        """
        if finding.verdict == "keep":
            adopt_newest(self.keys)
            return False
        ends = (self.dialect.line("store"), self.dialect.line("list"))
        lines = [
            line for line in finding.lines if line not in ends and not line.startswith((";", "["))
        ]
        if not lines:
            by_hand = "\n        ".join(map(shown, finding.lines))
            click.echo(f"enter   by hand, the dialect has no line for it:\n        {by_hand}")
            if not confirmed("entered?", without=False):
                raise declined("it waits in the bench until it is entered and adopted")
            adopt_newest(self.keys)
            return True
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
        adopt_newest(self.keys)
        return True

    def store(self) -> None:
        """Store what is set, where the dialect has a line for it."""
        line = self.dialect.line("store")
        if line is None:
            click.echo("store   by hand: the dialect has no line for it")
        else:
            agree([line])
            self.printer.tell(line)
            click.echo(f"stored  {shown(line)}")

    def restore(self) -> None:
        """The old settings again, stored; in a bench they are in force again."""
        self._put_back()
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
                self._put_back()
            raise

    def _put_back(self) -> None:
        lines = self.old_lines()
        show_lines(lines)
        sent(self.printer, lines, self.dialect)


def _as_number(text: str) -> float | str:
    try:
        return float(text)
    except ValueError:
        return text


def adopt_newest(keys: Sequence[str]) -> None:
    """In a bench, the newest finding of these settings becomes the one in force."""
    from omphalon.bench.settings import taken

    found = held()
    if found is not None:
        bench, _ = found
        for entry in bench.waiting():
            if {Tool.in_key(one.key)[0] for one in taken(entry.body["document"])} & {*keys}:
                bench.adopt(entry)
                return


def shown_and_kept(finding: Finding, inputs: Sequence[str]) -> None:
    """Show a finding; in a bench, record it with what it was read from."""
    from omphalon.report.text import show, show_bench, text_of

    click.get_current_context().meta[INPUTS] = list(inputs)
    show("\n" + text_of(replace(finding, next=Prose())) + "\n")  # what comes next is done here
    words = record(finding)
    if words:
        show_bench(words)
