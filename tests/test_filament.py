"""The filament's width, alone and beside walls: closed cases by hand, through the built program."""

import json
import math

import pytest

FLOW = ["flow", "fit", "--flow", "1"]
WALLS = [w for v in (0.48, 0.47, 0.48, 0.49) for w in ("--wall", v)]


def across(*widths):
    return [word for width in widths for word in ("--diameter", f"{width:.2f}")]


def fitted(run, *words):
    done = run(*(FLOW[:2] if "--flow" in words else FLOW), *words, "--json")
    assert not done.stderr, done.stderr
    return json.loads(done.stdout), done.returncode


ROUND = (1.71, 1.71, 1.70, 1.70, 1.72, 1.72, 1.71, 1.71)
OVAL = (1.65, 1.85, 1.65, 1.85, 1.65, 1.85)
CASES = {
    # name: (widths, more words), verdict, flow, warnings
    "thin": ((ROUND, []), "change", 1.75**2 / 1.7100146**2, set()),
    "as wide as nominal": (((1.75, 1.76, 1.74, 1.75, 1.75, 1.75), []), "keep", 1.0, set()),
    "thick": (((1.8,) * 8, []), "change", (1.75 / 1.8) ** 2, set()),
    "another nominal width": (
        ((2.88,) * 8, ["--nominal", "2.85"]),
        "change",
        (2.85 / 2.88) ** 2,
        set(),
    ),
    # an oval of 1.65 by 1.85 has the section of a round one of √(1.65 · 1.85) = 1.7471
    "out of round": ((OVAL, []), "keep", 1.0, {"filament-oval"}),
    "from a present flow": (
        ((1.8,) * 8, ["--flow", "0.95"]),
        "change",
        0.95 * (1.75 / 1.8) ** 2,
        set(),
    ),
    "a slip of the pen": (
        (((1.71,) * 7 + (1.17,)), []),
        "change",
        (1.75 / 1.71) ** 2,
        {"slip-of-the-pen", "unusual-value"},
    ),
    "a changing roll": (
        ((1.6, 1.6, 1.66, 1.66, 1.72, 1.72, 1.78, 1.78), []),
        "retest",
        None,
        {"filament-uneven"},
    ),
}


@pytest.mark.parametrize("name", CASES)
def test_a_width_makes_a_flow(name, run):
    (widths, more), verdict, flow, codes = CASES[name]
    answer, code = fitted(run, *across(*widths), *more)
    assert answer["verdict"] == verdict and code == (3 if verdict == "retest" else 0)
    assert {w["code"] for w in answer["warnings"]} >= codes
    if verdict == "retest":
        assert answer["settings"] == {} and "could hide in it" in answer["because"]
        return
    assert {w["code"] for w in answer["warnings"]} == codes | {"width-only"}
    assert answer["settings"]["flow"] == pytest.approx(flow, rel=1e-5)
    assert bool(answer["lines"]) == (verdict == "change")
    assert "not both" in answer["next"] or verdict == "keep"


def test_roundness_and_change_along_the_roll_are_told(run):
    places = ((1.71, 1.75), (1.72, 1.76), (1.73, 1.77), (1.72, 1.76))
    answer, _ = fitted(run, *across(*(width for place in places for width in place)))
    seen = answer["evidence"]["filament"]
    sections = [a * b / 1.75**2 for a, b in places]
    mean = sum(sections) / 4
    assert seen["out_of_round_mm"] == pytest.approx(0.04)
    assert seen["plastic"] == pytest.approx(mean, rel=1e-5)
    assert seen["width_mm"] == pytest.approx(1.75 * math.sqrt(mean), rel=1e-5)
    along = math.sqrt(sum((s - mean) ** 2 for s in sections) / 3)
    assert seen["along"] == pytest.approx(along, rel=1e-4)
    assert seen["places"] == 4 and seen["nominal_mm"] == 1.75


def test_walls_hold_the_width_already(run):
    alone, _ = fitted(run, "--expected", 0.45, *WALLS)
    both, _ = fitted(run, "--expected", 0.45, *WALLS, *across(*(1.8,) * 6))
    assert both["settings"] == alone["settings"]
    rest = alone["settings"]["flow"] * (1.8 / 1.75) ** 2
    assert both["evidence"]["flow_at_true_width"] == pytest.approx(rest, rel=1e-5)
    told = run(*FLOW, "--expected", 0.45, *WALLS, *across(*(1.8,) * 6)).stdout
    assert "with 1.800 mm entered in the slicer the multiplier is 0.99" in " ".join(told.split())


def test_a_file_holds_walls_and_widths(run, tmp_path):
    rows = ["wall_mm,diameter_mm", *(f"{v}," for v in (0.48, 0.47, 0.48, 0.49))]
    rows += [f",{v:.2f}" for v in (1.8,) * 6]
    (tmp_path / "roll.csv").write_text("\n".join(rows) + "\n")
    answer, _ = fitted(run, "roll.csv", "--expected", 0.45)
    assert answer["evidence"]["readings"] == 4
    assert answer["evidence"]["filament"]["width_mm"] == pytest.approx(1.8, rel=1e-6)
    (tmp_path / "only.csv").write_text("diameter\n" + "1.80\n" * 6)
    answer, _ = fitted(run, "only.csv")
    assert answer["settings"]["flow"] == pytest.approx((1.75 / 1.8) ** 2, rel=1e-5)


REFUSED = {
    "--diameter 1.75 --diameter 1.76 --diameter 1.74": (
        1,
        "--diameter 1.74: 3 widths, and each place needs two directions; measure that place across "
        "as well, or take it out",
    ),
    "--diameter 17.5": (
        2,
        "--diameter 17.5: cannot be: a filament's width here is 0.5 to 5 mm (no extruder takes "
        "thinner or thicker ones); write the unit behind the number if it is not mm",
    ),
    "--wall 0.45": (2, "no --expected; give the thickness a wall should have"),
    "": (2, "no wall thicknesses; give --wall MM once for each, or a column wall_mm"),
}


@pytest.mark.parametrize("words", REFUSED)
def test_what_cannot_be_is_refused(words, run):
    code, told = REFUSED[words]
    done = run(*FLOW, *words.split())
    assert (done.returncode, done.stderr) == (code, f"omphalon: {told}\n")


@pytest.mark.parametrize(
    "widths, told",
    [
        (
            (1.75, 1.75, 1.75, 1.75),
            "2 places: filament varies along the roll, and at least 3 places",
        ),
        ((2.85,) * 6, "filament of 2.85 mm where 1.75 mm is nominal"),
    ],
)
def test_widths_that_settle_nothing(widths, told, run):
    answer, code = fitted(run, *across(*widths))
    assert code == 3 and told in answer["because"] and not answer["settings"]


FEW = across(1.75, 1.75, 1.75, 1.76)
BOTH = {
    # what cannot be told is said of the walls or of the widths, whichever it is
    "few places": (
        [*WALLS, *FEW],
        "2 places: filament varies along the roll, and at least 3 places",
    ),
    "another filament": ([*WALLS, *across(*(2.85,) * 6)], "filament of 2.85 mm where 1.75 mm"),
    "one wall": (["--wall", 0.48, *across(*ROUND)], "1 wall reading: walls vary from place"),
    "wide walls": (
        ["--wall", 0.45, "--wall", 0.38, "--wall", 0.52, *across(*ROUND)],
        "the walls' mean",
    ),
}


@pytest.mark.parametrize("name", BOTH)
def test_walls_and_widths_refuse_in_their_own_words(name, run):
    words, told = BOTH[name]
    answer, code = fitted(run, "--expected", 0.45, *words)
    assert code == 3 and told in answer["because"]


def test_a_check_looks_at_walls_alone(run, tmp_path):
    rows = [
        "wall_mm,diameter_mm",
        *(f"{v}," for v in [0.45, 0.46, 0.45, 0.44] * 2),
        ",1.75",
        ",1.75",
    ]
    (tmp_path / "roll.csv").write_text("\n".join(rows) + "\n")
    done = run("flow", "check", "roll.csv", "--flow", 1, "--expected", 0.45, "--json")
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["evidence"]["readings"] == 8


def test_a_figure_shows_the_widths(run, tmp_path):
    done = run(*FLOW, *across(*ROUND), "--plot", "width.svg")
    text = (tmp_path / "width.svg").read_text()
    assert done.returncode == 0 and len(text) > 10_000
