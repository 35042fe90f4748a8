"""The human answer, in its order: settings, one sentence why, evidence, warnings, lines to enter,
what next.
"""

from __future__ import annotations

import os
import sys
import textwrap
from dataclasses import replace
from typing import Any

import click

from omphalon.answers.commands import Command, Prose
from omphalon.answers.finding import Finding, Plan, Shown
from omphalon.answers.remarks import Remark
from omphalon.base.errors import shown

ENTERED = "where you type to the printer; or: omphalon printer send --line LINE … --port PORT"
PRESENT = {"--steps", "--flow", "--offset"}  # options that take the value in force
WIDTH = 88
ACCENT, ALERT = "cyan", "yellow"


def text_of(answer: Finding | Plan) -> str:
    """The answer as lines of text with colour marks; click strips them where they do not belong."""
    safe = _safe(answer)
    return _plan(safe) if isinstance(safe, Plan) else _finding(safe)


def _safe(answer: Any) -> Any:
    """The answer with control characters of files and names as they may be shown."""

    def row(one: Shown) -> Shown:
        return Shown(shown(one.label), tuple(map(shown, one.cells)))

    common: dict[str, Any] = {
        "next": _safe_text(answer.next),
        "lines": tuple(map(shown, answer.lines)),
    }
    if isinstance(answer, Plan):
        return replace(
            answer, title=shown(answer.title), steps=tuple(map(_safe_text, answer.steps)), **common
        )
    return replace(
        answer,
        because=shown(answer.because),
        means=shown(answer.means),
        headline=tuple(map(row, answer.headline)),
        table=tuple(map(row, answer.table)),
        parts=tuple(_safe(part) for part in answer.parts),
        **common,
    )


def _safe_text(text: Any) -> Any:
    if isinstance(text, str):
        return shown(text)
    return text.changed(lambda one: Command(tuple(map(shown, one.words))), shown)


def show(text: str) -> None:
    """Print with colours only on a terminal that has not asked for none."""
    click.echo(text, color=sys.stdout.isatty() and not os.environ.get("NO_COLOR"))


def show_bench(words: Prose) -> None:
    """Print what a bench had to do with an answer, under it."""
    show("\n" + _paragraph("bench   ", _safe_text(words)))


def _finding(finding: Finding) -> str:
    bad = finding.verdict == "retest" or (
        finding.verdict == "change" and finding.kind.endswith("-check")
    )
    verdict = click.style(finding.verdict.upper(), fg=ALERT if bad else ACCENT, bold=True)
    blocks = []
    if finding.headline:
        blocks.append(_settings(verdict, finding.verdict, finding.headline))
        blocks.append(_wrapped("because ", finding.because))
    else:
        blocks.append(
            _wrapped(finding.verdict.upper() + "  ", finding.because).replace(
                finding.verdict.upper(), verdict, 1
            )
        )
    if finding.means:
        blocks[-1] += "\n" + _wrapped("means   ", finding.means)
    if finding.tool:
        blocks[-1] += f"\ntool    {finding.tool}"
    if finding.table:
        blocks.append(_table(finding.table))
    for part in finding.parts:
        blocks.append(_finding(_within(part)))
    blocks.extend(
        filter(
            None,
            [
                _warnings(finding.warnings),
                _lines("enter", finding.lines),
                _paragraph("next    ", finding.next) if finding.next else "",
            ],
        )
    )
    return "\n\n".join(blocks)


def _within(part: Finding) -> Finding:
    """An answer that is shown within another: that one has its lines, and what comes next."""
    return replace(part, lines=(), next=part.next if part.verdict == "retest" else Prose())


def _plan(plan: Plan) -> str:
    steps = "\n".join(_paragraph(f"  {n}. ", step) for n, step in enumerate(plan.steps, 1))
    return "\n\n".join(
        filter(
            None,
            [
                click.style(
                    f"{plan.title}{f', tool {plan.tool}' if plan.tool else ''}",
                    fg=ACCENT,
                    bold=True,
                ),
                steps,
                _warnings(plan.warnings),
                f"{_lines('enter', plan.lines)}\n        {ENTERED}" if plan.lines else "",
                _paragraph("then    ", plan.next) + _present(plan.next) if plan.next else "",
            ],
        )
    )


def _present(text: Prose) -> str:
    """Where the value in force is found that a command asks for."""
    if not PRESENT & set(str(text).split()):
        return ""
    where = "the present value is what the printer lists (M503); with a bench leave it out"
    return f"\n        {where}"


def _settings(verdict: str, plain_verdict: str, rows: tuple[Shown, ...]) -> str:
    title, heads = rows[0].label, rows[0].cells
    sizes = [max(len(r.cells[n]) for r in rows) for n in range(len(heads) - 1)]
    first = f"{verdict}  {title}"
    gap = max(26 - len(plain_verdict) - 2 - len(title), 2)

    def line(cells: tuple[str, ...]) -> str:
        columns = [
            c.rjust(s) if n < 2 else c.ljust(s)
            for n, (c, s) in enumerate(zip(cells, sizes, strict=False))
        ]
        return "  ".join((*columns, cells[-1])).rstrip()

    out = [first + " " * gap + line(heads)]
    for row in rows[1:]:
        out.append("  " + click.style(row.label.ljust(24), bold=True) + line(row.cells))
    return "\n".join(out)


def _table(rows: tuple[Shown, ...]) -> str:
    """Rows of one cell run on; rows of several stand in columns, those of as many in the same."""
    wide = max(len(r.label) for r in rows) + 2
    sizes = {
        count: [max(len(r.cells[n]) for r in rows if len(r.cells) == count) for n in range(count)]
        for count in {len(r.cells) for r in rows}
    }
    lasts = {n: [r.cells[-1] for r in rows if len(r.cells) == n and r.cells[-1]] for n in sizes}
    # a last column of words stands to the left
    worded = {
        n for n, cells in lasts.items() if sum(c[0].isalpha() for c in cells) > len(cells) / 2
    }
    out = []
    for row in rows:
        head = "  " + row.label.ljust(wide)
        if len(row.cells) == 1:
            below = " " * (wide + 2)
            text = textwrap.fill(row.cells[0], WIDTH, initial_indent=head, subsequent_indent=below)
        else:  # a column that is broken is none: a wide table is left to its terminal
            columns = zip(row.cells[:-1], sizes[len(row.cells)], strict=False)
            last, width = row.cells[-1], sizes[len(row.cells)][-1]
            ends = last.ljust(width) if len(row.cells) in worded else last.rjust(width)
            text = (head + "  ".join((*(c.rjust(s) for c, s in columns), ends))).rstrip()
        out.append(text)
    return "\n".join(out)


def _warnings(warnings: tuple[Remark, ...]) -> str:
    return "\n".join(
        _wrapped("warning ", f"{shown(w.message)}; {w.remedy} [{w.code}]").replace(
            "warning", click.style("warning", fg=ALERT), 1
        )
        for w in warnings
    )


def _lines(title: str, lines: tuple[str, ...]) -> str:
    return "\n".join(
        (title if n == 0 else "").ljust(8) + click.style(line, bold=True)
        for n, line in enumerate(lines)
    )


def _paragraph(head: str, text: Prose | str) -> str:
    """Words under their head, each command alone on its line, so that it can be pasted."""
    if isinstance(text, str):
        return _wrapped(head, text)
    out: list[str] = []
    below = " " * len(head)
    for part in text.parts:
        start = below if out else head
        if isinstance(part, str):
            out.append(_wrapped(start, part))
        else:
            out.append(start + "  " * bool(out) + str(part))
    return "\n".join(out)


def _wrapped(head: str, text: str) -> str:
    """A paragraph under its head."""
    return textwrap.fill(
        text,
        WIDTH,
        initial_indent=head,
        subsequent_indent=" " * len(head),
        break_on_hyphens=False,
        break_long_words=False,
    )
