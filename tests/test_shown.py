"""What advance and shaper show: one screen, one JSON document with the fixed keys, lines alone when quiet, light plans."""

import json
import re
import subprocess
import sys

import pytest

from omphalon.base.errors import UnknownFormat
from omphalon.lines.dialect import load_dialect
from omphalon.prints.strokes import GLYPHS, drawn, width_of

TOWER = ["advance", "fit", "tower-heights.csv", "--from", "0", "--per-mm", "0.02", "--to", "1"]
ANSWERS = {
    # words: kind, keys of settings, keys of evidence at least
    (*TOWER, "--drive", "bowden"): (
        "advance-fit",
        {"advance_s"},
        {"method", "readings", "left_out", "refine"},
    ),
    ("advance", "fit", "ladder-widths.csv"): (
        "advance-fit",
        {"advance_s"},
        {"method", "readings", "left_out", "refine"},
    ),
    ("advance", "check", "cube-corners.csv", "--seam", "rear-left"): (
        "advance-check",
        set(),
        {"before_mm", "after_mm", "gain_mm"},
    ),
    ("shaper", "fit", "--x", "sweep-x.csv.gz", "--y", "sweep-y.csv.gz"): (
        "shaper-fit",
        {"x", "y", "acceleration_mm_s2"},
        {"x", "y", "unshaped_mm_s2"},
    ),
    (
        *("shaper", "check", "sweep-y.csv.gz", "sweep-y-later.csv.gz", "--axis", "y", "--shaper"),
        *("mzv", "--frequency", "36", "--damping", "0.05", "--acceleration", "900"),
    ): ("shaper-check", set(), {"modes", "acceleration_mm_s2"}),
}


@pytest.fixture
def samples(sample, tmp_path):
    for path in sample(".").iterdir():
        (tmp_path / path.name).write_bytes(path.read_bytes())


def numbers(value):
    if isinstance(value, dict):
        for v in value.values():
            yield from numbers(v)
    elif isinstance(value, list):
        for v in value:
            yield from numbers(v)
    elif isinstance(value, float):
        yield value


@pytest.mark.parametrize("words", ANSWERS, ids=lambda w: " ".join(w[:3]))
def test_one_screen_and_one_document(words, run, samples, tmp_path):
    kind, settings, evidence = ANSWERS[words]
    shown = run(*words, "--plot", "figure.svg")
    assert shown.returncode in (0, 4) and not shown.stderr
    lines = shown.stdout.splitlines()
    pasted = [line for line in lines if line.strip().startswith("omphalon ")]
    assert 5 < len(lines) <= 42 and max(len(x) for x in lines if x not in pasted) <= 100
    assert lines[0].split()[0] in ("CHANGE", "KEEP") and "next " in shown.stdout
    assert (tmp_path / "figure.svg").read_text().startswith("<?xml")
    document = json.loads(run(*words, "--json").stdout)
    assert list(document) == [
        *("omphalon", "kind", "verdict", "because", "means", "settings", "spread", "evidence"),
        *("warnings", "lines", "next"),
    ]
    means = document["means"]
    assert re.search(r"\d", means) if kind.endswith("-fit") else means is None
    assert kind.endswith("-check") or means in " ".join(shown.stdout.split())
    assert document["kind"] == kind and set(document["settings"]) == settings
    assert evidence <= set(document["evidence"])
    assert all(abs(n) < 1e7 for n in numbers(document))
    quiet = run(*words, "--quiet")
    assert quiet.stdout.splitlines() == document["lines"]
    coloured = "\033["
    assert coloured not in shown.stdout


def test_candidates_and_modes_have_their_keys(run, samples):
    words = ["shaper", "fit", "--x", "sweep-x.csv.gz", "--json"]
    evidence = json.loads(run(*words).stdout)["evidence"]["x"]
    assert {"frequency_hz", "damping", "share"} <= set(evidence["modes"][0])
    keys = {"shaper", "frequency_hz", "damping", "ringing_mm", "rounding_mm", "acceleration_mm_s2"}
    assert all(keys <= set(c) for c in evidence["candidates"])
    assert sum(m["share"] for m in evidence["modes"]) == pytest.approx(1, abs=1e-4)
    for c in evidence["candidates"]:
        assert c["ringing_mm"] <= 0.01001 and c["rounding_mm"] <= 0.1001
    tight = json.loads(run(*words, "--ringing-limit", 0.005).stdout)["evidence"]["x"]
    assert all(
        a["acceleration_mm_s2"] <= b["acceleration_mm_s2"] + 1e-6
        for a, b in zip(tight["candidates"], evidence["candidates"], strict=True)
    )


LIGHT = {
    ("advance", "plan", "--style", "ladder", "--dialect", "stand-in", "--out", "p.gcode"): (
        "numpy",
        "matplotlib",
    ),
    ("shaper", "plan", "--out", "s.gcode", "--dialect", "stand-in"): ("matplotlib", "scipy"),
    ("shaper", "fit", "--ripple-x", "2", "--speed", "80"): ("matplotlib", "pandas"),
}


@pytest.mark.parametrize("words", LIGHT, ids=lambda w: " ".join(w[:2]))
def test_nothing_heavy_is_loaded(words, tmp_path):
    code = (
        f"import sys; sys.argv = ['omphalon', *{words!r}]\nfrom omphalon.cli import main\n"
        "try: main()\nexcept SystemExit: pass\n"
        f"print('LOADED', *(m for m in {LIGHT[words]!r} if m in sys.modules))"
    )
    done = subprocess.run(
        [sys.executable, "-c", code], cwd=tmp_path, text=True, capture_output=True
    )
    assert done.stdout.splitlines()[-1] == "LOADED"


def test_files_of_one_column_are_read(run, tmp_path):
    (tmp_path / "walls.csv").write_text("wall_mm\n0,48\n0,47\n0,48\n0,49\n")
    done = run("flow", "fit", "walls.csv", "--flow", 1, "--expected", 0.45, "--json")
    assert json.loads(done.stdout)["evidence"]["readings"] == 4
    (tmp_path / "odd.csv").write_text("bulk_mm\n1\n")
    odd = run("advance", "fit", "odd.csv")
    assert odd.returncode == 1 and odd.stderr.startswith(
        "omphalon: odd.csv: row 1: no header; name "
    )
    (tmp_path / "strange.csv").write_text("advance_s,colour\n0.1,2\n")
    strange = run("advance", "fit", "strange.csv")
    assert "column 'colour' is unknown; known are height_mm, advance_s" in " ".join(
        strange.stdout.split()
    )
    (tmp_path / "gap.csv").write_text("advance_s,score\n0.1,2\n0.2,\n0.3,1\n")
    gap = run("advance", "fit", "gap.csv")
    assert gap.returncode == 1
    words = "gap.csv: row 3: no score; fill it in, or take the reading out"
    assert gap.stderr == f"omphalon: {words}\n"


def test_dialects_that_ship_and_lines_of_ones_own(tmp_path):
    own = load_dialect("stand-in")
    assert own.line("advance", advance=0.0425) == "LEAD 0.04250"
    assert (
        own.line("shaper", axis="X", shaper="mzv", frequency=41.5, damping=0.05)
        == "CALM X mzv 41.50 0.0500"
    )
    assert load_dialect().line("advance", advance=0.04) is None
    given = load_dialect().with_line("advance", "A{advance:.3f}")
    assert given.line("advance", advance=0.04) == "A0.040" and given.line("store") == "M500"
    (tmp_path / "d.toml").write_text("[lines]\nlead = 'x'\n")
    with pytest.raises(UnknownFormat, match="unknown setting 'lead'"):
        load_dialect(str(tmp_path / "d.toml"))


# which of the seven bars of a digit a nozzle has to lay: top, upper left, upper right, middle, lower left, lower right, bottom
BARS = {
    "top": (1, 4),
    "middle": (1, 2),
    "bottom": (1, 0),
    "ul": (0, 3),
    "ur": (2, 3),
    "ll": (0, 1),
    "lr": (2, 1),
}
SHAPES = {
    "0": "top ul ur ll lr bottom",
    "2": "top ur middle ll bottom",
    "3": "top ur middle lr bottom",
    "4": "ul ur middle lr",
    "5": "top ul middle lr bottom",
    "6": "top ul middle ll lr bottom",
    "8": "top ul ur middle ll lr bottom",
    "9": "top ul ur middle lr bottom",
}


def covers(stroke, place):
    """Whether a straight piece of the stroke runs over a place of the grid."""
    x, y = place
    for (ax, ay), (bx, by) in zip(stroke, stroke[1:], strict=False):
        if ax == bx == x and min(ay, by) <= y <= max(ay, by):
            return True
        if ay == by == y and min(ax, bx) <= x <= max(ax, bx):
            return True
    return False


@pytest.mark.parametrize("digit", SHAPES)
def test_digits_are_the_shapes_that_everybody_reads(digit):
    laid = {bar for bar, at in BARS.items() if any(covers(s, at) for s in GLYPHS[digit])}
    assert laid == set(SHAPES[digit].split())


def test_a_text_stays_in_its_width():
    for text in ("0.045", "1.00", "7"):
        places = [p for stroke in drawn(text, 10.0, 5.0, 4.0) for p in stroke]
        assert min(p[0] for p in places) >= 10
        assert max(p[0] for p in places) <= 10 + width_of(text, 4.0) + 1e-9
        assert all(5 <= p[1] <= 9 for p in places)
