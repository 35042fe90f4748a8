"""Every command that an answer, a plan, a warning, a complaint or a page proposes is one that there is,
with options that it takes; what needs no hand runs.
"""

import ast
import json
import re
import shlex
from pathlib import Path

import click
import pytest

from omphalon.answers.commands import Command, command, marked, prose
from omphalon.bench.bench import make
from omphalon.bench.settings import KINDS
from omphalon.bench.work import planned
from omphalon.cli import omphalon
from omphalon.cli.proposed import options_of

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "omphalon"
GROUPS = "|".join(omphalon.list_commands(click.Context(omphalon)))
PROPOSED = re.compile(rf"(?<![\w/.-])omphalon ((?:{GROUPS})\b[^`\n;|]*)")
MAKERS = ("command", "proposed")


def text_in(node):
    """A text of the source; what is filled in later is an X."""
    if isinstance(node, ast.JoinedStr):
        return "".join(v.value if isinstance(v, ast.Constant) else "X" for v in node.values)
    return node.value if isinstance(node, ast.Constant) and isinstance(node.value, str) else None


def texts():
    """Every text that may hold a command, with its place; an object as it will be written."""
    for path in sorted(SOURCE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            place = f"{path.name}:{getattr(node, 'lineno', 0)}"
            if (text := text_in(node)) is not None:
                yield place, text
            elif isinstance(node, ast.Call) and getattr(node.func, "id", "") in MAKERS:
                names = {k.arg: "X" for k in node.keywords if k.arg is not None}
                yield place, str(command(text_in(node.args[0]) or "", **names))
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
    plain = [w.strip(".,:()'\"*") for w in words]
    if plain[:2] == ["printer", "tune"] and plain[2:3] and plain[2].startswith("-"):
        plain.insert(2, "evening")  # a bare tune is one
    taken = {*options_of(omphalon, Command(tuple(plain))), "--help"}
    given = [w.split("=")[0].strip("…/") for w in plain if re.match(r"--[a-z]", w)]
    return [word for word in given if word not in taken]


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


def test_a_command_stands_alone_on_its_line():
    text = marked("log it: `omphalon heater plan --style step`; or fit: `omphalon heater fit LOG`.")
    assert text.parts == (
        "log it:",
        command("heater plan", style="step"),
        "or fit:",
        command("heater fit", "LOG"),
    )
    assert str(prose("judge it:", command("flow check", wall=("MM", "MM"), flow=0.94))) == (
        "judge it: omphalon flow check --wall MM --wall MM --flow 0.94"
    )
    assert str(command("heater fit", "my log.csv")) == "omphalon heater fit 'my log.csv'"


def test_every_setting_has_a_command_to_begin_with(tmp_path):
    state = make(tmp_path / "b").state()
    for kind in KINDS.values():
        begin = planned(kind, state)
        assert begin.words[:2] == (kind.group, "plan") and not unknown(begin.words)


PASTED = [
    ["heater", "fit", "hotend-oscillation.csv"],
    ["shaper", "fit", "--y", "sweep-y.csv.gz"],
    ["advance", "fit", "tower-heights.csv", *["--from", "0", "--per-mm", "0.025", "--to", "1.2"]],
    ["extruder", "fit", "extruder-runs.csv", "--steps", "412"],
    ["heater", "plan", "--style", "step"],
]


@pytest.mark.parametrize("words", PASTED, ids=" ".join)
def test_what_an_answer_proposes_can_be_pasted(words, run, sample, tmp_path):
    own = tmp_path / "own.toml"
    assert run("bench", "new", "b").returncode == 0
    own.write_text('[lines]\nadvance = "LEAD {advance:.4f}"\n')
    given = [str(sample(w)) if sample(w).is_file() else w for w in words]
    lines = run(*given, "--bench", "b", "--dialect", str(own)).stdout.splitlines()
    pasted = [shlex.split(one)[1:] for one in map(str.strip, lines) if one.startswith("omphalon ")]
    assert pasted
    for one in pasted:
        assert not unknown(one) and one[one.index("--bench") + 1] == "b"
        done = run(*one, "--help")
        assert done.returncode == 0 and "Usage" in done.stdout
        if not re.search(r"\b[A-Z]{2,}\b", " ".join(one)) and one[0] not in ("printer", "bench"):
            assert run(*one, "--json").returncode in (0, 3, 4)


def test_the_tool_goes_with_what_comes_next(run):
    told = json.loads(run("heater", "plan", "--tool", "1", "--json").stdout)
    assert told["next"].endswith("--tool 1") and told["tool"] == 1
