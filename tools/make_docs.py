"""Write the tables of docs/reference.md that follow the code: python tools/make_docs.py"""

from __future__ import annotations

import pathlib
import re
from collections.abc import Iterator

import click

from omphalon.cli import omphalon
from omphalon.columns import TABLES as READINGS
from omphalon.finding import CHECK_EXIT_CODES, EXIT_CODES
from omphalon.lines.dialect import SETTINGS
from omphalon.quantities import QUANTITIES
from omphalon.warned import WARNINGS

PAGE = pathlib.Path(__file__).parents[1] / "docs" / "reference.md"


def commands(group: click.Group, path: str) -> Iterator[str]:
    for name in group.list_commands(None):
        command = group.get_command(None, name)
        if isinstance(command, click.Group):
            yield from commands(command, f"{path} {name}")
        else:
            yield f"| `{path} {name}` | {(command.help or '').splitlines()[0]} |"


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
    ],
    "warnings": [
        "| code | what was seen | what to do |",
        "| --- | --- | --- |",
        *(f"| `{k.code}` | {k.meaning} | {k.remedy} |" for k in WARNINGS.values()),
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
}

if __name__ == "__main__":
    text = PAGE.read_text(encoding="utf-8")
    for name, lines in TABLES.items():
        mark = f"<!-- {name} -->"
        text = re.sub(
            f"{re.escape(mark)}.*?<!-- end -->",
            f"{mark}\n" + "\n".join(lines) + "\n<!-- end -->",
            text,
            flags=re.S,
        )
    PAGE.write_text(text, encoding="utf-8")
