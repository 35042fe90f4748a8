"""The rooms of the house: who may look into whom, what --help may load, and tables in docs that follow the code."""

import ast
import re
import shlex
import subprocess
import sys
from collections import Counter
from pathlib import Path

import pytest

from omphalon.answers.finding import EXIT_CODES
from omphalon.answers.remarks import refusals, warnings
from omphalon.base.errors import OmphalonError
from omphalon.cli import COMMANDS
from omphalon.cli import omphalon as program
from omphalon.cli.bench.group import bench
from omphalon.lines.dialect import SETTINGS
from omphalon.recordings.columns import TABLES
from omphalon.tables.quantities import QUANTITIES
from rig import StandIn, started

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "omphalon"
GROUND = {"base", "tables", "answers", "recordings", "__init__"}
PUBLIC = {"heater", "steps", "advance", "shaper", "card"}
ALLOWED = {
    "base": {"__init__"},  # its version
    "tables": {"base"},
    "answers": {"base", "tables"},
    "recordings": {"base", "tables", "answers"},
    "physics": GROUND,
    "readers": GROUND,
    "lines": GROUND,
    "standin": GROUND,
    "prints": GROUND | {"physics"},
    "printer": GROUND | {"lines"},
    "studies": GROUND | {"physics", "prints", "lines"},
    "plots": GROUND | {"physics", "studies", "farm"},
    "bench": GROUND | {"lines"},
    "report": GROUND | {"plots", "bench", "lines"},
    "farm": GROUND | {"physics", "readers", "bench"},
}


def imports(path):
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("omphalon"):
            yield (node.module.split(".") + ["__init__"])[1]
        elif isinstance(node, ast.Import):
            yield from (
                alias.name.split(".")[1]
                for alias in node.names
                if alias.name.startswith("omphalon.")
            )


@pytest.mark.parametrize("room", sorted(ALLOWED))
def test_imports_point_one_way(room):
    files = list((SOURCE / room).rglob("*.py"))
    forbidden = {
        (f.name, other)
        for f in files
        for other in imports(f)
        if other not in ALLOWED[room] | {room}
    }
    assert not forbidden


def test_the_root_holds_public_modules_that_nothing_inside_imports():
    assert {p.stem for p in SOURCE.glob("*.py")} == PUBLIC | {"__init__", "__main__"}
    inside = [f for f in SOURCE.rglob("*.py") if f.parent != SOURCE]
    assert not [(f.name, other) for f in inside for other in imports(f) if other in PUBLIC]


@pytest.mark.parametrize(
    "words", [["--help"], ["heater", "--help"], ["heater", "fit", "--help"], ["heater", "plan"]]
)
def test_light_commands_load_no_numerics(words):
    code = (
        f"import sys; sys.argv = ['omphalon', *{words!r}]\nfrom omphalon.cli import main\n"
        "try: main()\nexcept SystemExit: pass\n"
        "print('LOADED', *(m for m in ('numpy', 'scipy', 'pandas', 'matplotlib') if m in sys.modules))"
    )
    out = subprocess.run([sys.executable, "-c", code], text=True, capture_output=True).stdout
    assert out.splitlines()[-1] == "LOADED"
    assert "omphalon" in out


def commands(group=program, path=("omphalon",)):
    for name in group.list_commands(None):
        command = group.get_command(None, name)
        if hasattr(command, "commands"):
            yield from commands(command, (*path, name))
        else:
            yield (*path, name), command


LONG = ("farm", "card", "heater", "shaper", "advance")  # much the same runs elsewhere too


@pytest.mark.parametrize(
    "path, command",
    [
        pytest.param(p, c, id=" ".join(p), marks=pytest.mark.slow if p[1] in LONG else [])
        for p, c in commands()
        # the demo has tests of its own, and so has what asks
        if p not in (("omphalon", "demo"), ("omphalon", "start")) and p[1] != "printer"
    ],
)
def test_help_ends_with_an_example_that_runs(path, command, run, tmp_path):
    examples = re.findall(r"^ *omphalon (.+)", command.help.split("Example:")[1], re.MULTILINE)
    for sample in (SOURCE / "samples").iterdir():
        (tmp_path / sample.name).write_bytes(sample.read_bytes())
    env = prepared(run, tmp_path) if path[1] == "bench" else {}
    if path[1:] in (("farm", "compare"), ("farm", "show")):
        assert run("farm", "fit", "farm.csv", "--out", "farm").returncode == 0
        assert run("bench", "new", "museum/fulmar").returncode == 0
    assert examples
    for example in examples:
        done = run(*shlex.split(example), env=env)
        # what was adopted since makes the listing differ
        # one printer of the sample does, and the card's steps do
        differs = path[-1] in ("readback", "compare") or path[1:] == ("card", "check")
        assert done.returncode == (4 if differs else 0), done.stderr
        warned = path[-1] == "adopt"  # the finding that waits stands on nothing measured
        progress = path[1:] == ("farm", "fit")  # on a slow machine it says how long it takes
        assert done.stdout and (progress or bool(done.stderr) == warned)


@pytest.mark.parametrize(
    "path, command",
    [
        pytest.param(p, c, id=" ".join(p), marks=() if p[-1] == "list" else pytest.mark.slow)
        for p, c in commands()
        if p[1] == "printer" and p[-1] != "stand-in"
    ],
)
def test_help_at_a_printer_ends_with_an_example_that_runs(path, command, run, tmp_path):
    example = shlex.split(re.search(r"Example:\s+omphalon (.+)", command.help)[1])
    more = ["--quiet"] if path[2] == "capture" else []
    with StandIn(tmp_path, "--tcp", 0, "--pace", 300) as fulmar:
        words = [fulmar.port if w.startswith("socket://") else w for w in example]
        if path[2] == "tune":
            done = subprocess.CompletedProcess([], 0, *talked(words, tmp_path))
        else:
            env = {"XDG_STATE_HOME": str(tmp_path)}
            done = run(*words, *more, env=env)
    assert done.returncode == 0 and done.stdout, done.stderr


def talked(words, folder):
    """A tune up to its first question; what it said."""
    process = started(*words, folder=folder, env={"XDG_STATE_HOME": str(folder)})
    out, err = process.communicate("n\n", timeout=30)
    # an evening asks for its bench first
    assert process.returncode == 1 and ("nothing was sent" in err or "what you call" in err)
    return out or err, err


def test_the_stand_in_s_example_runs(tmp_path):
    command = program.get_command(None, "printer").commands["stand-in"]
    example = re.search(r"Example:\s+omphalon printer stand-in (.+)", command.help)[1]
    with StandIn(tmp_path, *example.replace("5555", "0").split()) as fulmar:
        assert fulmar.port.startswith("socket://127.0.0.1:")


def prepared(run, folder):
    """A bench with something found, something adopted and something waiting; the environment."""
    env = {"OMPHALON_BENCH": str(folder / "b")}
    for words in (
        "bench new b --listing found-settings.txt",
        "extruder fit extruder-runs.csv --steps 412",
        "bench adopt",
        "flow fit flow-walls.csv --flow 1 --expected 0.45",
        "bench back-up fulmar.zip",
    ):
        assert run(*words.split(), env=env).returncode == 0
    return env


def test_the_list_of_commands_says_what_each_says_of_itself():
    printer = program.get_command(None, "printer")
    for group in (bench, printer):
        assert set(group.list_commands(None)) == set(group.commands)
    for name, told in COMMANDS.items():
        assert program.get_command(None, name).get_short_help_str(100) == told


def test_docs_tables_follow_the_code():
    docs = (ROOT / "docs" / "reference.md").read_text()
    for code, kind in warnings().items():
        assert f"| `{code}` | {kind.meaning} | {kind.remedy} |" in docs
    table = docs.split("<!-- warnings -->")[1].split("<!-- end -->")[0]
    assert len(re.findall(r"^\| `[a-z-]+` \| .* \| .* \|$", table, re.M)) == len(warnings())
    for path, _ in commands():
        assert f"`{' '.join(path)}`" in docs
    for quantity in QUANTITIES.values():
        assert f"| {quantity.name} | {quantity.lowest:g} to {quantity.highest:g}" in docs
    for name, columns in TABLES.items():
        assert all(f"| {name} | `{column.name}` |" in docs for column in columns)
    assert all(f"| `{setting}` |" in docs for setting in SETTINGS)
    for verdict, exit_code in EXIT_CODES.items():
        assert f"| {verdict} | {exit_code} |" in docs


def test_every_error_has_a_place_in_the_tree():
    import omphalon.base.errors as errors

    for name, kind in vars(errors).items():
        if isinstance(kind, type) and issubclass(kind, OmphalonError):
            assert name in errors.__doc__ and f"exit {kind.exit_code}" in errors.__doc__


def test_the_list_of_slow_tests_names_tests_that_are_there():
    for line in (ROOT / "tests" / "slow.txt").read_text("utf-8").splitlines()[1:]:
        file, function = re.match(r"(tests/\w+\.py)::(\w+)", line).groups()
        assert f"def {function}(" in (ROOT / file).read_text(), line


def test_screenshots_are_linked():
    readme = (ROOT / "README.md").read_text()
    shots = sorted((ROOT / "docs" / "screenshots").glob("*.png"))
    assert 0 < len(shots) < 20
    assert all(f"docs/screenshots/{shot.name}" in readme for shot in shots)


def parsed():
    for path in SOURCE.rglob("*.py"):
        yield path, ast.parse(path.read_text())


def functions():
    """Lines of each function, without those of its docstring."""
    for path, tree in parsed():
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef):
                first = node.body[0]
                told = first.end_lineno - first.lineno + 1 if ast.get_docstring(node) else 0
                yield node.end_lineno - node.lineno + 1 - told, path.name, node.name


def test_no_module_and_no_function_has_outgrown_its_noun():
    sizes = sorted(functions())
    assert sizes[-1][0] <= 60, sizes[-5:]
    assert sizes[int(0.95 * len(sizes))][0] <= 40
    long = [p for p in SOURCE.rglob("*.py") if len(p.read_text().splitlines()) > 400]
    assert not long


def test_no_two_types_share_a_name():
    names = Counter(
        node.name for _, tree in parsed() for node in tree.body if isinstance(node, ast.ClassDef)
    )
    assert not [n for n, count in names.items() if count > 1 and not n.startswith("_")]


def test_the_architecture_page_names_the_rooms():
    page = (ROOT / "docs" / "architecture.md").read_text()
    for room in [*ALLOWED, "cli"]:
        assert f"`{room}/`" in page


def test_no_sentence_is_idle():
    said = {key for kind in warnings().values() for key in kind.said}
    words = {
        node.value
        for _, tree in parsed()
        for node in ast.walk(tree)
        if isinstance(node, ast.Constant) and isinstance(node.value, str)
    }
    assert (said | set(refusals())) <= words


@pytest.mark.slow
@pytest.mark.parametrize(
    "call, fails",
    [
        ('Remark("slips", fall=0.02, slow=1.0, fast=5.0)', None),
        ('Remark("slips", fall=0.02, slow=1.0)', 'needs the fact "fast"'),
        ('Remark("slips", fall=0.02, slow=1.0, fast=5.0, fasst=5.0)', 'has a fact "fasst"'),
        ('Remark("slips", fall="2 %", slow=1.0, fast=5.0)', 'shows "fall" as float'),
        ('Refusal("few-walls", count=2.5)', 'shows "count" as int'),
        ('Refusal("no-walls", count=2)', 'no sentence is called "no-walls"'),
    ],
)
def test_make_check_refuses_a_misspelt_fact(call, fails, tmp_path):
    (tmp_path / "one.py").write_text(
        f"from omphalon.answers.remarks import Refusal, Remark\none = {call}\n"
    )
    words = [sys.executable, "-m", "mypy", "--config-file", ROOT / "pyproject.toml"]
    cache = ["--cache-dir", ROOT / ".mypy_cache"]
    done = subprocess.run(
        [*words, *cache, tmp_path / "one.py"], cwd=ROOT, capture_output=True, text=True
    )
    assert (fails in done.stdout) if fails else done.returncode == 0, done.stdout + done.stderr
