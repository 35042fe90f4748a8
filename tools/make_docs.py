"""Write the tables of docs/reference.md that follow the code: python tools/make_docs.py"""

from __future__ import annotations

import pathlib
import re
from collections.abc import Iterator

import click

from omphalon.answers.finding import CHECK_EXIT_CODES, EXIT_CODES
from omphalon.answers.remarks import warnings
from omphalon.base import errors
from omphalon.bench.facts import FACTS, FILAMENT
from omphalon.bench.settings import KINDS
from omphalon.cli import omphalon
from omphalon.lines.dialect import SETTINGS
from omphalon.recordings.columns import TABLES as READINGS
from omphalon.tables.complaints import COMPLAINTS
from omphalon.tables.order import ORDER
from omphalon.tables.parts import PARTS
from omphalon.tables.quantities import QUANTITIES

DOCS = pathlib.Path(__file__).parents[1] / "docs"
PAGES = tuple(DOCS / f"{name}.md" for name in ("reference", "bench", "measuring", "complaints"))


def commands(group: click.Group, path: str) -> Iterator[str]:
    for name in group.list_commands(None):
        command = group.get_command(None, name)
        if isinstance(command, click.Group):
            yield from commands(command, f"{path} {name}")
        else:
            first = " ".join((command.help or "").split("\n\n")[0].split())
            yield f"| `{path} {name}` | {re.split(r'(?<=[.;]) ', first)[0].rstrip('.;')} |"


TABLES = {
    "commands": ["| command | what it does |", "| --- | --- |", *commands(omphalon, "omphalon")],
    "exit codes": [
        "| verdict of `fit` | exit code |",
        "| --- | --- |",
        *(f"| {v} | {c} |" for v, c in EXIT_CODES.items()),
        "",
        "| verdict of `check` | exit code |",
        "| --- | --- |",
        *(f"| {v} | {c} |" for v, c in CHECK_EXIT_CODES.items()),
        "",
        "| what went wrong | exit code |",
        "| --- | --- |",
        *(
            f"| {kind.__doc__.rstrip('.')} | {kind.exit_code} |"
            for kind in vars(errors).values()
            if isinstance(kind, type)
            and issubclass(kind, errors.OmphalonError)
            and kind is not errors.OmphalonError
        ),
    ],
    "warnings": [
        "| code | what was seen | what to do |",
        "| --- | --- | --- |",
        *(f"| `{k.code}` | {k.meaning} | {k.remedy} |" for k in warnings().values()),
    ],
    "quantities": [
        "| quantity | can be | usual | why | units |",
        "| --- | --- | --- | --- | --- |",
        *(
            f"| {q.name} | {q.lowest:g} to {q.highest:g} {q.unit}".rstrip()
            + " | "
            + ("" if q.usual is None else f"{q.usual[0]:g} to {q.usual[1]:g}")
            + f" | {q.reason} | {', '.join(q.units)} |"
            for q in QUANTITIES.values()
        ),
    ],
    "columns": [
        "| readings of | column | what stands in it |",
        "| --- | --- | --- |",
        *(
            f"| {name} | `{c.name}` | {c.help.rstrip('.,')}"
            + (f" ({', '.join(c.choices)})" if c.choices else "")
            + " |"
            for name, columns in READINGS.items()
            for c in columns
        ),
    ],
    "settings": [
        "| setting | fields |",
        "| --- | --- |",
        *(
            f"| `{name}` | {' '.join(f'`{{{f}}}`' for f in fields)} |"
            for name, fields in SETTINGS.items()
        ),
    ],
    "facts": [
        "| key | what it is | for example |",
        "| --- | --- | --- |",
        *(f"| `{f.key}` | {f.means} | `{f.example}` |" for f in FACTS),
        *(f"| `filament.NAME.{f.key}` | {f.means} | `{f.example}` |" for f in FILAMENT),
    ],
    "order": [
        "| | group | what | minutes | grams |",
        "| --- | --- | --- | --- | --- |",
        *(
            f"| {n}. | `{w.group}` | {w.words}{', only where somebody asks for speed' * w.asked} | "
            f"{w.minutes} | {w.grams or '–'} |"
            for n, w in enumerate(ORDER.values(), 1)
        ),
    ],
    "complaints": [
        "| seen or heard | what it may be | what tells |",
        "| --- | --- | --- |",
        *(
            f"| {one.seen if n == 0 else ''} | {cause.words} | "
            + (f"`omphalon {KINDS[cause.key].group}` |" if cause.key else f"{cause.look} |")
            for one in COMPLAINTS.values()
            for n, cause in enumerate(one.causes)
        ),
    ],
    "parts": [
        "| part | setting it makes stale | why |",
        "| --- | --- | --- |",
        *(
            f"| `{part}` | {KINDS[key].words} | {why} |"
            for part, rows in PARTS.items()
            for key, why in rows.items()
        ),
    ],
}

if __name__ == "__main__":
    for page in PAGES:
        text = page.read_text(encoding="utf-8")
        for name, lines in TABLES.items():
            mark = f"<!-- {name} -->"
            text = re.sub(
                f"{re.escape(mark)}.*?<!-- end -->",
                lambda _, m=mark, rows=lines: f"{m}\n" + "\n".join(rows) + "\n<!-- end -->",
                text,
                flags=re.S,
            )
        page.write_text(text, encoding="utf-8")
