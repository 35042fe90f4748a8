"""Settings from caliper, rule and paper, through the built program: closed cases, slips, refusals."""

import json
import re
import statistics
import subprocess
import sys

import numpy as np
import pytest
from scipy import stats

from omphalon.physics import scale
from omphalon.studies.measured.engine import Parts
from omphalon.tables.quantities import QUANTITIES
from omphalon.tables.units import number_in


@pytest.mark.parametrize("freedom", [1, 2, 3, 5, 10, 30, 37, 200])
def test_student_is_the_published_quantile(freedom):
    assert scale.student_95(freedom) == pytest.approx(stats.t.ppf(0.975, freedom), rel=4e-3)


def test_line_is_the_textbook_regression():
    x, y = np.array([25.0, 50, 75, 125]), np.array([25.2, 50.1, 75.3, 125.4])
    line = scale.line_of(x, y, np.ones((4, 1)), scale.Spread(0.1, 0.0))
    known = stats.linregress(x, y)
    found = (line.scale.value, line.offsets[0].value)
    assert found == pytest.approx((known.slope, known.intercept))


@pytest.mark.parametrize(
    "resolution, setting", [(0.1, 0.05), (0.1, 0.02), (0.5, 0.1), (0.05, 0.001)]
)
def test_rounding_that_repeats_is_not_averaged_away(resolution, setting):
    """Simulated here: the rounding's part common to repeats, over every position between two steps."""
    random = np.random.default_rng(4)
    true = random.uniform(0, resolution, 400)
    read = (
        np.round((true[:, None] + random.normal(0, setting, (400, 2000))) / resolution) * resolution
    )
    spread = scale.reading_spread(resolution, setting)
    assert spread.common == pytest.approx(
        np.std(read.mean(axis=1) - true), abs=0.15 * resolution / np.sqrt(12)
    )
    assert spread.random == pytest.approx(np.mean(read.std(axis=1)), rel=0.25, abs=0.1 * resolution)


@pytest.mark.parametrize(
    "text, mm, places",
    [
        ("34.6", 34.6, 1),
        ("34,6 mm", 34.6, 1),
        ("1.36 in", 34.544, 2),
        ("8 cm", 80, 0),
        (' -2.10"', -53.34, 2),
        (".5", 0.5, 1),
        ("−1,85", -1.85, 2),
        ("1e-2", 0.01, 0),
    ],
)
def test_lengths_as_people_write_them(text, mm, places):
    found = number_in(text, QUANTITIES["length"])
    assert (found.value, found.places) == (pytest.approx(mm), places)


EXTRUDER = ["extruder", "fit", "--steps", "412"]
MARKED = [*EXTRUDER, "--asked", "80", "--mark", "110"]
PART = ["axis", "fit", "--axis", "x", "--steps", "80", "--kind", "outside"]
MOVE = ["axis", "fit", "--axis", "x", "--steps", "80"]
BELT = ["--belt-pitch", "2", "--teeth", "20", "--microsteps", "16"]
FLOW = ["flow", "fit", "--flow", "1", "--expected", "0.45"]
Y = ["motion", "fit", "--axis", "y"]


def lengths(option, *values):
    return [word for v in values for word in (option, str(v))]


# words → verdict, settings, warning codes, a piece of the reason
CASES = [
    (
        [*MARKED, *lengths("--left", 30.4, 30.1, 29.8, 30.2)],
        "keep",
        {"steps_per_mm": 412},
        set(),
        "no print shows that",
    ),
    (
        [*MARKED, "--left", "34.6"],
        "change",
        {"steps_per_mm": 437.135},
        {"one-reading"},
        "412 × 80 ÷ 75.4 = 437.1352785",
    ),
    (
        [*MARKED, *lengths("--left", 34.6, "34,9 mm", 34.4)],
        "change",
        {"steps_per_mm": 437.329},
        set(),
        "437.32",
    ),
    (
        [*MARKED, *lengths("--left", 34.6, 34.9, 43.7, 34.4)],
        "change",
        {"steps_per_mm": 437.329},
        {"slip-of-the-pen"},
        "",
    ),
    (
        [*MARKED, *lengths("--left", -2.1, -1.8, -2.3)],
        "change",
        {"steps_per_mm": 294.111},
        {"large-correction"},
        "",
    ),
    (
        [*EXTRUDER, "--asked", "80", "--before", "120", "--after", "44.6"],
        "change",
        {"steps_per_mm": 437.135},
        {"one-reading"},
        "",
    ),
    (
        [
            *EXTRUDER,
            "--asked",
            "80 mm",
            "--mark",
            "110 mm",
            "--left",
            "35,5",
            "--placing",
            "0.1",
            "--back",
            "5.5",
        ],
        "keep",
        {"steps_per_mm": 412},
        {"one-reading"},
        "",
    ),
    (
        [
            *EXTRUDER,
            "--asked",
            "100",
            *lengths("--fed", 99.9, 100.0, 95.0, 94.8),
            *lengths("--speed", 1, 1, 5, 5),
        ],
        "keep",
        {"steps_per_mm": 412},
        {"slip"},
        "",
    ),
    (
        [*MARKED, "--left", "34.6", "--microsteps", "16", "--wheel", "11"],
        "change",
        {"steps_per_mm": 437.135},
        {"one-reading", "theory-differs"},
        "",
    ),
    (
        [*PART, *lengths("--asked", 25, 75, 125), *lengths("--moved", 25.15, 75.15, 125.15)],
        "keep",
        {"x": 80},
        set(),
        "offset",
    ),
    (
        [*MOVE, *lengths("--asked", 50, 100, 150), *lengths("--moved", 50.25, 100.5, 150.75)],
        "change",
        {"x": 79.602},
        set(),
        "79.60",
    ),
    (
        [
            *MOVE,
            *lengths("--asked", 50, 100, 150, -50, -100, -150),
            *lengths("--moved", 50, 100, 150, -49.7, -99.7, -149.7),
        ],
        "keep",
        {"x": 80},
        {"backlash"},
        "",
    ),
    (
        [*MOVE, "--asked", "100", "--moved", "100.3", *BELT],
        "change",
        {"x": 79.7607},
        {"one-reading"},
        "",
    ),
    (
        [*FLOW, *lengths("--wall", 0.48, 0.47, 0.48, 0.49)],
        "change",
        {"flow": 0.9375},
        set(),
        "1 × 0.45 ÷ 0.48 = 0.9375",
    ),
    ([*FLOW, *lengths("--wall", *[0.45, 0.44, 0.46, 0.45] * 3)], "keep", {"flow": 1}, set(), ""),
    (
        ["flow", "fit", "--flow", "100 %", *FLOW[4:], *lengths("--wall", *[0.45] * 9)],
        "keep",
        {"flow": 1},
        set(),
        "",
    ),
    (
        [*FLOW, *lengths("--wall", 0.48, 0.48, 0.84, 0.47, 0.48)],
        "change",
        {"flow": 0.94241},
        {"slip-of-the-pen"},
        "",
    ),
    (
        [*Y, *lengths("--pass", 150, 175, 200), *lengths("--fail", 225)],
        "change",
        {"y": 160},
        set(),
        "20% below",
    ),
    (
        [*Y, *lengths("--pass", 150, 200, 250), *lengths("--fail", 225)],
        "change",
        {"y": 160},
        {"passes-after-fail"},
        "",
    ),
    (
        ["probe", "fit", "--offset", "-1.85", *lengths("--drag", 0.22, 0.24, 0.22)],
        "change",
        {"offset_mm": -1.72333},
        set(),
        "off by +0.127 mm",
    ),
    (
        ["probe", "fit", "--offset", "-1.85", *lengths("--drag", 0.10, 0.12, 0.09)],
        "keep",
        {"offset_mm": -1.85},
        set(),
        "",
    ),
    (
        ["probe", "fit", "--offset", "-0.5", *lengths("--drag", 1.0, 1.02, 1.0)],
        "change",
        {"offset_mm": 0.406667},
        {"large-correction"},
        "",
    ),
    (
        ["extruder", "check", "--steps", "437.1", "--asked", "80", *lengths("--fed", 80.1, 79.9)],
        "keep",
        {},
        set(),
        "",
    ),
    (
        ["extruder", "check", "--steps", "437.1", "--asked", "80", *lengths("--fed", 77.1, 76.9)],
        "change",
        {},
        set(),
        "",
    ),
    (
        ["axis", "check", *MOVE[2:], "--asked", "100", "--moved", "100.02"],
        "keep",
        {},
        {"one-reading"},
        "",
    ),
    (["flow", "check", *FLOW[2:], *lengths("--wall", 0.5, 0.5, 0.51)], "change", {}, set(), ""),
    (
        ["probe", "check", "--offset", "-1.7", *lengths("--drag", 0.3, 0.31)],
        "change",
        {},
        set(),
        "",
    ),
    (
        ["motion", "check", "--axis", "y", "--limit", "160", *lengths("--pass", 120, 160)],
        "keep",
        {},
        set(),
        "",
    ),
    (
        ["motion", "check", "--axis", "y", "--limit", "160", "--pass", "120", "--fail", "160"],
        "change",
        {},
        set(),
        "",
    ),
]


def flat(settings):
    return {k: next(iter(v.values())) if isinstance(v, dict) else v for k, v in settings.items()}


@pytest.mark.parametrize("words, verdict, settings, codes, reason", CASES)
def test_closed_case(words, verdict, settings, codes, reason, run):
    done = run(*words, "--json")
    document = json.loads(done.stdout)
    assert document["verdict"] == verdict, done.stdout
    assert done.returncode == (4 if verdict == "change" and words[1] == "check" else 0)
    assert flat(document["settings"]) == pytest.approx(settings, rel=1e-5)
    assert {w["code"] for w in document["warnings"]} == codes
    assert reason in document["because"]
    assert bool(document["lines"]) == (verdict == "change" and words[1] == "fit")


REFUSED = [
    (
        [*PART, "--asked", "25", "--moved", "25.15"],
        "print and measure parts of 75 and 125 mm as well",
    ),
    ([*EXTRUDER, "--asked", "80", "--fed", "40.2"], "a factor of 2: a microstepping mistake"),
    ([*EXTRUDER, "--asked", "80", "--fed", "319"], "a factor of 4: a microstepping mistake"),
    ([*EXTRUDER, "--asked", "80", "--fed", "7.9"], "as if cm were written for mm"),
    ([*EXTRUDER, "--asked", "80", "--fed", "3.14"], "as if inches were written for mm"),
    ([*EXTRUDER, "--asked", "80", "--fed", "25"], "no setting is that wrong"),
    (
        [*EXTRUDER, *lengths("--asked", 75.4, 75.1, 75.6), *lengths("--fed", 80, 80, 80)],
        "the two look swapped",
    ),
    (
        [*MOVE, *lengths("--asked", 100, 100, 150), *lengths("--moved", 100, 101.9, 150)],
        "too few to tell which one is wrong",
    ),
    (
        [*MOVE, "--asked", "100", "--moved", "100", *BELT[:4], "--microsteps", "32"],
        "a microstepping mistake",
    ),
    (
        [*MOVE, "--asked", "100", "--moved", "103", *BELT],
        "a difference above 2% is a fault, not a tolerance",
    ),
    ([*FLOW, "--wall", "0.48"], "1 wall reading"),
    ([*FLOW, *lengths("--wall", 4.8, 4.7, 4.8)], "no flow is that wrong"),
    ([*Y, *lengths("--pass", 100, 200)], "the limit was not reached"),
    ([*Y, "--fail", "100", "--pass", "200"], "failed already"),
    (["probe", "fit", "--offset", "0", "--drag", "0.1"], "the feel of paper varies"),
    (
        ["motion", "check", "--axis", "y", "--limit", "160", "--pass", "120"],
        "the limit of 160 mm/s was not tested",
    ),
    ([*MARKED, "--left", "30.4"], "an error of 1.5%, which a print shows, could hide in it"),
    ([*FLOW, *lengths("--wall", 0.45, 0.45, 0.45)], "could hide in it"),
    (
        [*MOVE, *lengths("--asked", 100, 50), *lengths("--moved", 50.5, 100)],
        "two readings are swapped",
    ),
    (["probe", "fit", "--offset", "0", *lengths("--drag", 12, 12.1)], "no offset is that wrong"),
    (
        ["axis", "check", *MOVE[2:], "--asked", "60", "--moved", "60", "--resolution", "1"],
        "could hide in it",
    ),
]


@pytest.mark.parametrize("words, reason", REFUSED)
def test_refused_without_a_setting(words, reason, run):
    done = run(*words, "--json")
    document = json.loads(done.stdout)
    assert done.returncode == 3 and document["verdict"] == "retest"
    assert reason in document["because"] + document["next"]
    assert document["settings"] == {} and document["lines"] == []


WRONG = [
    (
        ["extruder", "fit", "--steps", "0", "--asked", "80", "--fed", "75"],
        2,
        "--steps 0: cannot be: steps per mm here is 1 to 100000 per mm (a coarse belt makes some ten, "
        "a fine screw some ten thousand); check the number and its unit",
    ),
    (
        [*EXTRUDER, "--asked", "80", "--mark", "110", "--left", "190"],
        1,
        "--asked 80 --mark 110 --left 190: the fed length -80 is not above 0; measure again, in mm",
    ),
    (
        [*EXTRUDER, "--asked", "0", "--fed", "75"],
        2,
        "--asked 0: cannot be: a length here is more than 0 to 5000 mm (no printer is larger, and "
        "nothing is shorter than 0); check the number and its unit",
    ),
    (
        [*EXTRUDER, "--fed", "75"],
        2,
        "no commanded length for every reading; give --asked MM, or a column asked_mm",
    ),
    (
        [*EXTRUDER, "--asked", "80"],
        2,
        "no fed lengths; give --mark with --left, --before with --after, or --fed",
    ),
    (
        [*EXTRUDER, "--asked", "80", "--fed", "abc"],
        2,
        "--fed abc: is not a length; write a number, with a unit if it is not mm "
        "(34.6, 34,6 mm, 1.36 in)",
    ),
    (
        [*EXTRUDER, *lengths("--asked", 80, 81), *lengths("--fed", 1, 2, 3)],
        2,
        "2 --asked, 3 --fed: they do not pair up; give each once for every reading "
        "(--asked may stand once for all)",
    ),
    (
        [*EXTRUDER, "runs.csv", "--fed", "3"],
        2,
        "--fed once beside a file of readings; add a column fed_mm: each row needs its own",
    ),
    (
        [*EXTRUDER, "runs.csv", "--asked", "80"],
        2,
        "--asked beside a file that has asked_mm; give one of the two",
    ),
    (
        [*EXTRUDER, "--asked", "80", "--wheel", "11"],
        2,
        "--wheel without --microsteps; give both to check against theory, or none of "
        "--motor-steps, --microsteps, --gear and --wheel",
    ),
    (
        [*MOVE, "--asked", "80", "--moved", "80", "--teeth", "20"],
        2,
        "--teeth without --belt-pitch; give both",
    ),
    (
        [*MOVE, "--asked", "80", "--moved", "80", "--sides", "3", "3"],
        2,
        "--sides without --diagonal; give both: diagonals and sides",
    ),
    (
        [*EXTRUDER, "runs.csv"],
        2,
        "no fed lengths; give --mark with --left, --before with --after, or --fed",
    ),
    (
        [*EXTRUDER, "cells.csv"],
        1,
        "cells.csv: row 3: fed_mm 'x' is not a length; write a number, with a unit if it is not mm "
        "(34.6, 34,6 mm, 1.36 in)",
    ),
    ([*EXTRUDER, "none.csv"], 1, "none.csv: no readings below the header; add one row a reading"),
    (
        ["axis", "fit", "--steps", "80", "--asked", "1", "--moved", "1"],
        2,
        "no axis; give --axis x, y or z with the readings",
    ),
    (["axis", "fit", "axis.csv", "--steps", "x=80"], 1, "axis.csv: row 2: axis 'w'; use x, y or z"),
    (
        ["axis", "fit", "--axis", "x", "--steps", "y=80", "--asked", "50", "--moved", "50"],
        2,
        "no present steps for axis x; give --steps x=N",
    ),
    (
        ["axis", "fit", "--axis", "x", "--steps", "-80", "--asked", "50", "--moved", "50"],
        2,
        "--steps -80: cannot be: steps per mm here is 1 to 100000 per mm (a coarse belt makes some "
        "ten, a fine screw some ten thousand); check the number and its unit",
    ),
    (
        [*FLOW, "--wall", "0"],
        2,
        "--wall 0: cannot be: a wall's thickness here is 0.02 to 20 mm (thinner than a caliper "
        "holds, thicker than any line); check the number and its unit",
    ),
    (FLOW, 2, "no wall thicknesses; give --wall MM once for each, or a column wall_mm"),
    (["motion", "fit"], 2, "no levels; give a file, or --axis with --pass and --fail"),
    (
        ["motion", "plan", "--axis", "y", "--speed", "300:100:25", "--out", "d.gcode"],
        2,
        "300:100:25: not FROM:TO:STEP; give a lower and a higher level and a step above 0",
    ),
    (
        ["motion", "plan", "--axis", "y", "--acceleration", "500:900:100", "--out", "d.gcode"],
        2,
        "no line that sets the acceleration; give --line TEMPLATE with {acceleration} in it",
    ),
    (
        [
            "motion",
            "plan",
            "--axis",
            "y",
            "--acceleration",
            "500:900:100",
            "--line",
            "A",
            "--out",
            "d.gcode",
        ],
        2,
        "--line A: no {acceleration} in it; put it where the number belongs: "
        "'… {acceleration:.0f} …'",
    ),
    (
        ["motion", "plan", "--axis", "y", "--speed", "100", "--out", "d.gcode"],
        2,
        "--speed 100: not 3 numbers with colons between; for example 100:300:25",
    ),
    (
        ["motion", "plan", "--axis", "y", "--speed", "100:300:50", "--out", "no/d.gcode"],
        2,
        "--out no/d.gcode: the folder is not there; make it first, or choose another",
    ),
    (
        ["probe", "fit", "--offset", "0"],
        2,
        "no heights; give --drag MM for each drag of the paper, and --trigger MM for each probing",
    ),
    (
        ["probe", "fit", "--offset", "0", *lengths("--drag", 100, 0.1)],
        2,
        "--drag 100: cannot be: a height here is -20 to 20 mm (from the present zero; a probe sits "
        "within some mm of the nozzle); write the unit behind the number if it is not mm",
    ),
    (
        ["extruder", "plan", "--wanted", "0.0005", "--asked", "10"],
        2,
        "--wanted 0.0005: not to be had with marks placed to 0.3 mm "
        "over 10 mm; ask for more length, or a wider certainty",
    ),
    (
        ["motion", "fit", "lost.csv"],
        1,
        "lost.csv: row 2: result 'lost'; use pass, passed, ok, yes, 1, fail, failed, no or 0",
    ),
    (
        ["motion", "fit", "moved.csv", "--axis", "z"],
        2,
        "--axis z: no run of that axis in moved.csv; leave it out, or give another file",
    ),
]


@pytest.mark.parametrize("words, code, line", WRONG)
def test_wrong_input_gets_one_clear_sentence(words, code, line, run, tmp_path):
    (tmp_path / "runs.csv").write_text("asked_mm,left\n80,3\n")
    (tmp_path / "cells.csv").write_text("asked_mm,fed_mm\n80,79\n80,x\n")
    (tmp_path / "none.csv").write_text("asked_mm,fed_mm\n")
    (tmp_path / "axis.csv").write_text("axis,asked_mm,moved_mm\nw,50,50\n")
    (tmp_path / "lost.csv").write_text("axis,speed_mm_s,result\nx,100,lost\n")
    (tmp_path / "moved.csv").write_text("axis,speed_mm_s,result\nx,100,pass\n")
    done = run(*words)
    assert (done.returncode, done.stderr, done.stdout) == (code, f"omphalon: {line}\n", "")
    assert not (tmp_path / "d.gcode").exists()


@pytest.mark.parametrize(
    "words",
    [
        EXTRUDER + ["--asked", "80", "--fed", "75"],
        MOVE + ["--asked", "9", "--moved", "9"],
        FLOW + lengths("--wall", 0.4, 0.4, 0.4),
        Y + ["--pass", "1", "--fail", "2"],
        ["probe", "fit", "--offset", "0", "--drag", "0.1", "--drag", "0.1"],
    ],
)
def test_small_sums_load_no_large_libraries(words):
    code = (
        f"import sys; sys.argv = ['omphalon', *{words!r}]\nfrom omphalon.cli import main\n"
        "try: main()\nexcept SystemExit: pass\n"
        "print('LOADED', *(m for m in ('scipy.optimize', 'matplotlib') if m in sys.modules))"
    )
    out = subprocess.run([sys.executable, "-c", code], text=True, capture_output=True).stdout
    assert out.splitlines()[-1] == "LOADED" and len(out.splitlines()) > 3


@pytest.mark.parametrize("wanted", [0.02, 0.01, 0.006])
def test_plan_counts_runs_from_the_numbers(wanted, run):
    """Two placings of 0.3 mm, two readings to 0.1 mm, a hand unknown within half and three times
    (its geometric mean), Student's t: worked out here."""
    words = ["--asked", "80", "--resolution", "0.1", "--wanted", wanted, "--json"]
    runs = json.loads(run("extruder", "plan", *words).stdout)["settings"]["runs"]
    one = np.sqrt(0.5 * 3) * np.sqrt(2 * 0.3**2 + 2 * 0.1**2 / 12)
    half = lambda n: stats.t.ppf(0.975, scale.PRIOR_FREEDOM + n - 1) * one / 80 / np.sqrt(n)  # noqa: E731
    assert half(runs) <= wanted * 1.03 and (runs == 1 or half(runs - 1) > wanted * 0.97)


def test_repeats_give_the_failure_curve(run, tmp_path):
    """Levels with a true chance to fail of 1/(1 + (300/level)^12): one in twenty fails at 300 · 19^(−1/12) = 234.7."""
    random = np.random.default_rng(3)
    tried = [
        (v, "fail" if random.uniform() < 1 / (1 + (300 / v) ** 12) else "pass")
        for v in range(180, 400, 20)
        for _ in range(30)
    ]
    (tmp_path / "runs.csv").write_text(
        "axis,speed_mm_s,result\n" + "".join(f"y,{v},{r}\n" for v, r in tried)
    )
    document = json.loads(run("motion", "fit", "runs.csv", "--json").stdout)
    found = document["evidence"]["y"]["speed_mm_s"]
    assert found["risk_level"] <= found["highest_pass"]
    assert found["risk_level"] == pytest.approx(
        min(300 * 19 ** (-1 / 12), found["highest_pass"]), rel=0.08
    )


def interpreted(lines, low, high, axis):
    """A plain G-code reader of this test's own: where it goes, and that nothing is heated or fed."""
    at, visits, levels = {}, [], 0
    for line in lines:
        code = line.split(";")[0].split()
        if not code:
            continue
        assert code[0] in ("G1", "G4", "G21", "G28", "G90", "M84", "M117", "M400") or code[
            0
        ].startswith("SETA"), line
        if code[0] == "M117" and "/" in code[1]:
            levels += 1
        if code[0] != "G1":
            continue
        words = {w[0]: float(w[1:]) for w in code[1:]}
        assert "E" not in words and set(words) <= {axis.upper(), "Z", "F"} and words["F"] > 0
        at |= {k: v for k, v in words.items() if k != "F"}
        if axis.upper() in words:
            assert low <= words[axis.upper()] <= high
            visits.append((levels, words[axis.upper()], words["F"] / 60))
    return levels, visits, at


@pytest.mark.parametrize(
    "axis, what, levels, travel, line",
    [
        ("y", "--speed", (100, 300, 25), (10, 180), None),
        ("x", "--speed", (50, 60, 10), (0, 220), None),
        ("z", "--speed", (5, 15, 5), (5, 100), None),
        ("x", "--acceleration", (1000, 3000, 500), (20, 200), "SETA {acceleration:.0f}"),
    ],
)
def test_dry_run_stays_inside_and_comes_back(axis, what, levels, travel, line, run, tmp_path):
    done = run(
        "motion",
        "plan",
        "--axis",
        axis,
        what,
        ":".join(map(str, levels)),
        "--travel",
        "{}:{}".format(*travel),
        "--out",
        "d.gcode",
        *(["--line", line] if line else []),
    )
    assert done.returncode == 0, done.stderr
    lines = (tmp_path / "d.gcode").read_text().splitlines()
    count, visits, _ = interpreted(lines, *travel, axis)
    wanted = list(range(levels[0], levels[1] + 1, levels[2]))
    assert count == len(wanted)
    for number, level in enumerate(wanted, 1):
        here = [v for v in visits if v[0] == number]
        assert here[-1][1] == travel[0] and here[-1][2] <= 20  # back at the reference, slowly
        assert max(v[1] for v in here) == travel[1] and min(v[1] for v in here) == travel[0]
        assert max(v[2] for v in here) == pytest.approx(
            level if what == "--speed" else 100.0, rel=0.01
        )
        if line:
            assert f"SETA {level}" in lines
    assert re.search(rf"dry run of axis {axis.upper()}", lines[1]) and not any(
        x.startswith(("M104", "M109", "M140", "M190")) for x in lines
    )


def test_a_zero_error_of_the_mark_stays_out_of_the_steps(run):
    """Fed 0.5 mm too little at 40, 80 and 120 mm alike: the edge was misjudged, the scale is right."""
    words = lengths("--asked", 40, 80, 120) + lengths("--before", 150, 150, 150)
    done = run(*EXTRUDER, *words, *lengths("--after", 110.5, 70.5, 30.5), "--json")
    document = json.loads(done.stdout)
    assert document["verdict"] == "keep"
    assert document["evidence"]["offset_mm"] == pytest.approx(-0.5)
    assert document["evidence"]["ratio"] == pytest.approx(1.0)


def test_skew_from_the_two_diagonals(run):
    """A 100 mm square sheared by 0.3 degrees: diagonals by the law of cosines, worked out here."""
    angle = np.radians(90 - 0.3)
    long, short = (np.sqrt(20000 + s * 20000 * np.cos(angle)) for s in (1, -1))
    words = ["--asked", "100", "--moved", "100.00", "--diagonal", f"{long:.4f}", f"{short:.4f}"]
    document = json.loads(run(*MOVE, *words, "--sides", "100", "100", "--json").stdout)
    assert document["evidence"]["skew_deg"] == pytest.approx(0.3, abs=0.01)


@pytest.mark.parametrize(
    "words",
    [
        [*MARKED, *lengths("--left", 34.6, 34.9, 43.7, 34.4)],
        [*MOVE, *lengths("--asked", 50, 100, 150), *lengths("--moved", 50.2, 100.4, 150.6)],
        [*FLOW, *lengths("--wall", 0.48, 0.47, 0.49, 0.48, 0.48)],
        [*Y, *lengths("--pass", 100, 150), "--fail", "200"],
        ["probe", "fit", "--offset", "0", *lengths("--drag", 0.2, 0.21, 0.2)],
    ],
)
def test_every_fit_draws_its_answer(words, run, tmp_path):
    done = run(*words, "--plot", "figure.svg")
    assert done.returncode == 0 and done.stdout.rstrip().endswith("figure  figure.svg")
    assert (tmp_path / "figure.svg").read_text().count("<path") > 15


MEANS = {
    # 75.367 of 80 mm came
    "extruder fit --steps 412 --asked 80 --mark 110 --left 34.6 --left 34.9 --left 34.4": (
        "5.8% too little plastic"
    ),
    "extruder fit --steps 412 --asked 80 --mark 110 --left 30.0 --left 30.1 --left 29.9": (
        "(-0.8% to +0.8%)"
    ),
    "axis fit --axis x --steps 80 --asked 100 --asked 150 --asked 200 --moved 99.5 --moved 149.25 "
    "--moved 199": "0.50 mm too short in X",
    "flow fit --flow 1 --expected 0.45 --wall 0.48 --wall 0.48 --wall 0.48 --wall 0.48": (
        "0.030 mm too thick now, by 6.7%"
    ),
    "flow fit --flow 1 --expected 0.45 --wall 0.45 --wall 0.45 --wall 0.45 --wall 0.45": (
        "as thick as they were drawn"
    ),
    "probe fit --offset -1.85 --drag 0.2 --drag 0.2 --drag 0.2": "0.10 mm of room",
}


@pytest.mark.parametrize("words", MEANS)
def test_a_fit_says_what_it_means_for_a_print(words, run):
    done = run(*words.split(), "--json")
    document = json.loads(done.stdout)
    assert MEANS[words] in document["means"], document


@pytest.mark.parametrize(
    "words, runs, failed, verdict",
    [
        # what failed above the limit does not bear on it; what passed there does
        ("--pass 150 --fail 160 --fail 200", 2, 1, "change"),
        ("--pass 150 --pass 160 --fail 200", 2, 0, "keep"),
        ("--pass 160 --pass 200 --fail 250", 2, 0, "keep"),
    ],
)
def test_runs_that_bear_on_a_limit_are_counted(words, runs, failed, verdict, run):
    words = ["--axis", "x", "--limit", "160", "--quantity", "speed", *words.split()]
    document = json.loads(run("motion", "check", *words, "--json").stdout)
    evidence = document["evidence"]
    assert (evidence["runs"], evidence["failed"]) == (runs, failed)
    assert document["verdict"] == verdict


def test_backlash_is_the_whole_way_between_there_and_back(run):
    there = [w for n in (50, 100, 150) for w in ("--asked", str(n), "--moved", f"{n - 0.15}")]
    back = [w for n in (50, 100, 150) for w in ("--asked", f"-{n}", "--moved", f"-{n + 0.15}")]
    words = ("axis", "fit", "--axis", "x", "--steps", "80", *there, *back)
    document = json.loads(run(*words, "--json").stdout)
    assert abs(document["evidence"]["x"]["backlash_mm"]) == pytest.approx(0.3, abs=0.02)
    assert "differ by 0.30 mm" in document["warnings"][0]["message"]
    row = re.search(r"there and back +(\S+) ± (\S+) mm", run(*words).stdout)
    assert abs(float(row[1])) == pytest.approx(0.3, abs=0.02) and 0 < float(row[2]) < 0.2


# steps a turn × microsteps × gear ÷ travel a turn, by hand
@pytest.mark.parametrize(
    "words, steps",
    [
        ("--microsteps 16 --wheel 11 --gear 3", 200 * 16 * 3 / 34.55751919),
        ("--microsteps 32 --wheel 7.3 --motor-steps 400", 400 * 32 / 22.93362637),
    ],
)
def test_what_a_wheel_makes_by_construction(words, steps, run):
    done = run(*EXTRUDER, "--asked", 80, "--fed", 80, "--fed", 80.1, *words.split(), "--json")
    evidence = json.loads(done.stdout)["evidence"]
    assert evidence["theory_steps_per_mm"] == pytest.approx(steps, rel=1e-5)


def test_what_belt_and_screw_make_by_construction():
    assert Parts(microsteps=16, per_turn_mm=2 * 20).steps_per_mm == 80
    assert Parts(microsteps=16, per_turn_mm=8, motor_steps=400).steps_per_mm == 800


def test_the_walls_scatter_is_their_own(run):
    walls = [0.47, 0.48, 0.49, 0.48, 0.50]
    done = run(
        "flow", "fit", "--flow", 1, "--expected", 0.45, *(w for x in walls for w in ("--wall", x))
    )
    assert f"scatter of {statistics.stdev(walls):.3f} mm" in " ".join(done.stdout.split())


@pytest.mark.parametrize("factor", [2, 4, 0.5, 0.25])
def test_a_factor_of_microsteps_is_named(factor, run):
    moves = ("--asked", 50, "--moved", 50, "--asked", 100, "--moved", 100)
    done = run("axis", "fit", "--axis", "x", "--steps", 80 * factor, *moves, *BELT)
    assert done.returncode == 3
    assert f"{factor:g} times the 80.0" in " ".join(done.stdout.split())


def test_crossed_belts_tell_how_unlike_x_and_y_come_out(run, tmp_path):
    rows = [(a, n, n * k) for a, k in (("x", 1.004), ("y", 0.997)) for n in (50, 100, 150) * 2]
    text = "\n".join(["axis,asked_mm,moved_mm", *(f"{a},{n},{m:.2f}" for a, n, m in rows)])
    (tmp_path / "both.csv").write_text(text)
    belts = ("--steps", "x=80", "--steps", "y=80", "--build", "crossed-belts")
    done = run("axis", "fit", "both.csv", *belts)
    assert "X and Y differ by 0.70%" in done.stdout
