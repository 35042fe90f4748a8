"""Every command that an answer, a plan, a warning, a complaint or a page proposes is one that there is,
with options that it takes.
"""

import ast
import re
from pathlib import Path

import click
import pytest

from omphalon.cli import omphalon

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "omphalon"
GROUPS = "|".join(omphalon.list_commands(click.Context(omphalon)))
PROPOSED = re.compile(rf"(?<![\w/.-])omphalon ((?:{GROUPS})\b[^`\n;|]*)")


def texts():
    """Every text that may hold a command, with its place; what is filled in later is an X."""
    for path in sorted(SOURCE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.JoinedStr):
                parts = (v.value if isinstance(v, ast.Constant) else "X" for v in node.values)
                yield f"{path.name}:{node.lineno}", "".join(parts)
            elif isinstance(node, ast.Constant) and isinstance(node.value, str):
                yield f"{path.name}:{node.lineno}", node.value
    tables = [*SOURCE.rglob("*.toml"), *SOURCE.rglob("*.csv")]
    pages = [*(ROOT / "docs").rglob("*.md"), ROOT / "README.md"]
    for path in sorted([*tables, *pages]):
        for number, line in enumerate(path.read_text().splitlines(), 1):
            yield f"{path.name}:{number}", line


def commands():
    """Place and words of each command that is proposed."""
    for place, text in texts():
        for found in PROPOSED.finditer(text):
            yield place, re.sub(r"\{[^}]*\}", "X", found[1]).strip()


def unknown(words):
    """What of a command there is not, or nothing."""
    command, ctx = omphalon, click.Context(omphalon)
    while words and isinstance(command, click.Group):
        name = words[0].strip(".,:()'\"*")
        inner = command.get_command(ctx, name) if re.fullmatch(r"[a-z-]+", name) else None
        if inner is None:
            break  # `omphalon heater` and its kin name a group
        command, words = inner, words[1:]
    taken = {name for param in command.params for name in (*param.opts, *param.secondary_opts)}
    given = [w.split("=")[0] for w in words if re.match(r"--[a-z]", w)]
    return [w for w in (g.strip(".,:()'\"*…/") for g in given) if w not in {*taken, "--help"}]


def test_every_proposed_command_takes_its_options():
    found = list(commands())
    assert len(found) > 300  # the walk reads what it should
    faults = {
        f"{place}: omphalon {line}: {bad}"
        for place, line in found
        if (bad := unknown(line.split()))
    }
    assert not faults


@pytest.mark.parametrize(
    ("line", "bad"),
    [
        ("heater fit LOG --target 210", []),
        ("heater fit LOG --targt 210", ["--targt"]),
        ("card plan --out FILE --parts combs", []),
        ("shaper plan --kp 3", ["--kp"]),
    ],
)
def test_an_option_that_there_is_not_is_seen(line, bad):
    assert unknown(line.split()) == bad
