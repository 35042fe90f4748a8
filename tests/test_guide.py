"""What docs/architecture.md says must be touched to add something is done here, in a copy of the
tree: no further place may be needed.
"""

import json
import os
import shutil
import subprocess
import sys

import pytest

from conftest import SAMPLES

SOURCE = SAMPLES.parent
pytestmark = pytest.mark.slow


@pytest.fixture
def tree(tmp_path):
    """A copy of the package, to be changed."""
    package = tmp_path / "src" / "omphalon"
    shutil.copytree(SOURCE, package, ignore=shutil.ignore_patterns("__pycache__"))
    return package


@pytest.fixture
def changed(tree, tmp_path):
    """The program of the copy, run in a folder of its own."""
    (tmp_path / "work").mkdir()

    def run(*words, code=0):
        done = subprocess.run(
            [sys.executable, "-m", "omphalon", *map(str, words)],
            cwd=tmp_path / "work",
            env={**os.environ, "PYTHONPATH": str(tree.parent), "OMPHALON_BENCH": ""},
            text=True,
            capture_output=True,
            timeout=120,
        )
        assert done.returncode == code, done.stderr or done.stdout
        return done.stdout

    return run


def put(path, old, new):
    """Replace a piece of a file that stands in it once."""
    text = path.read_text()
    assert text.count(old) == 1, (path.name, text.count(old))
    path.write_text(text.replace(old, new))


def append(path, row):
    path.write_text(path.read_text().rstrip("\n") + "\n" + row + "\n")


def test_a_part(tree, changed):
    append(tree / "tables" / "parts.csv", "feed-lamp,advance,it warms the tube")
    changed("bench", "new", "b")
    assert "feed lamp" in changed("bench", "changed", "feed-lamp", "--bench", "b").replace("-", " ")


def test_a_complaint(tree, changed):
    append(tree / "tables" / "complaints.csv", "the print hums a tune,hums humming tune melody")
    append(tree / "tables" / "causes.csv", "the print hums a tune,shaper-x,a belt that sings,")
    changed("bench", "new", "b")
    said = changed("bench", "next", "--seen", "it is humming a melody", "--bench", "b")
    assert "a belt that sings" in said and "omphalon shaper plan" in said


def test_a_warning(tree, changed):
    append(
        tree / "answers" / "warnings.toml",
        '\n[made-up]\nmeaning = "a thing that was made up"\nremedy = "look again"\n'
        'said.made-up = "made up at {level:.0f}"',
    )
    fit = tree / "studies" / "motion" / "fit.py"
    put(fit, "*_too_low(one))", '*_too_low(one), Remark("made-up", level=one.setting))')
    words = ("--axis", "y", "--pass", "150", "--fail", "200")
    said = changed("motion", "fit", *words)
    assert "made up at 120; look again [made-up]" in " ".join(said.split())


def test_a_shaper(tree, changed):
    impulses = tree / "physics" / "impulses.py"
    put(
        impulses,
        '    "three-hump": three_hump,\n',
        '    "three-hump": three_hump,\n    "made-up": zvd,\n',
    )
    put(tree / "tables" / "constants.py", '"three-hump")', '"three-hump", "made-up")')
    log = SAMPLES / "sweep-x.csv.gz"
    words = ("--offered", "made-up", "--plot", "x.png", "--json")
    found = json.loads(changed("shaper", "fit", "--x", log, *words))
    assert found["settings"]["x"]["shaper"] == "made-up"
    changed("bench", "new", "b")
    changed("shaper", "fit", "--x", log, "--offered", "made-up", "--bench", "b")
    changed("bench", "adopt", "--bench", "b")
    assert "made-up" in changed("bench", "show", "--bench", "b")
    changed("bench", "report", "--bench", "b")


FORM = """
def _is_made_up(lines: list[str]) -> bool:
    return bool(lines) and lines[0].startswith("MADE UP")


def _read_made_up(text: Text, how: Wanted) -> LogColumns:
    rows = [line.split("/") for line in text.lines[1:] if line.strip()]
    time, reading, power = ([float(row[n]) for row in rows] for n in range(3))
    return LogColumns(time_s=time, temperature_c=reading, power=power)


FORMATS = (
    Format("made up", _is_made_up, _read_made_up, (1.0,)),
"""


def test_a_format_of_temperature_logs(tree, changed, tmp_path):
    put(tree / "readers" / "temperature.py", "\nFORMATS = (\n", FORM)
    lines = (SAMPLES / "hotend-oscillation.csv").read_text().splitlines()
    rows = [line.split(",") for line in lines if line[:1].isdigit()]
    text = "\n".join(f"{r[0]}/{r[1]}/{float(r[3]) / 255}" for r in rows)
    (tmp_path / "work" / "log.txt").write_text(f"MADE UP\n{text}\n")
    found = json.loads(changed("heater", "fit", "log.txt", "--target", "235", "--json"))
    assert found["verdict"] == "change" and found["evidence"]["cycles_used"] == 8
