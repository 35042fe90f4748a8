"""Dry runs through corners and of the extruder: the file under a G-code reader of the tests' own, and
what becomes of their levels.
"""

import json
import math

import pytest

LEVELS = (4, 8, 12, 16, 20, 24)


def walked(lines):
    """Moves of a file as (from, to, mm/s) by level, and what a controller was told besides."""
    at, level, moves, told = {"X": 0.0, "Y": 0.0, "Z": 0.0, "E": 0.0}, None, {}, []
    for line in lines:
        words = line.split(";")[0].split()
        if line.startswith("; level"):
            level = float(line.split(": ")[1].split()[0])
        if not words or words[0] not in ("G0", "G1"):
            told += words[:1] and [" ".join(words)]
            level = None if words[:1] == ["M400"] else level
            continue
        given = {w[0]: float(w[1:]) for w in words[1:]}
        speed = given.pop("F") / 60
        new = {**at, **{k: v for k, v in given.items() if k != "E"}}
        new["E"] = at["E"] + given.get("E", 0.0)
        moves.setdefault(level, []).append((at, new, speed))
        at = new
    return moves, told


def planned(run, folder, *words):
    done = run("motion", "plan", *words, "--out", "run.gcode", "--json")
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout), (folder / "run.gcode").read_text().splitlines()


@pytest.mark.parametrize("axis, other", [("x", "Y"), ("y", "X")])
@pytest.mark.parametrize("across", [None, (20, 95)])
def test_every_corner_turns_by_a_right_angle_at_full_speed(axis, other, across, run, tmp_path):
    words = ["--axis", axis, "--corner", "4:24:4", "--travel", "10:150"]
    words += ["--travel-across", "{}:{}".format(*across)] if across else []
    plan, lines = planned(run, tmp_path, *words)
    assert plan["settings"]["levels"] == list(LEVELS)
    moves, _ = walked(lines)
    low, high = across or (10, 150)
    home = {axis.upper(): 10.0, other: float(low)}
    for level in LEVELS:
        ways = moves[level]
        assert {round(speed, 6) for _, _, speed in ways} == {level}
        steps = [(b["X"] - a["X"], b["Y"] - a["Y"]) for a, b, _ in ways]
        for (ax, ay), (bx, by) in zip(steps, steps[1:], strict=False):
            assert ax * bx + ay * by == pytest.approx(0, abs=1e-9)
            assert math.hypot(bx, by) >= 5
        assert all(10 <= b[axis.upper()] <= 150 and low <= b[other] <= high for _, b, _ in ways)
        # it ends where it started
        assert {k: ways[-1][1][k] for k in home} == home
    named = next(line for line in lines if line.startswith("; each level runs"))
    # a corner at the end of each move: the last one of a level turns into the next round
    assert int(named.split()[4]) == len(moves[4])


def test_limits_of_both_axes_are_lifted_and_put_back(run, tmp_path):
    words = ["--axis", "x", "--corner", "4:24:4", "--limit", "9", "--dialect", "stand-in"]
    _, lines = planned(run, tmp_path, *words)
    set_ = [line for line in lines if line.startswith("CEIL")]
    assert set_ == [
        "CEIL X CORNER 26.4",
        "CEIL Y CORNER 26.4",
        "CEIL X CORNER 9.0",
        "CEIL Y CORNER 9.0",
    ]


@pytest.mark.parametrize("retract", [2.0, 5.5])
def test_filament_goes_in_and_out_and_comes_home(retract, run, tmp_path):
    words = ["--axis", "e", "--speed", "20:60:20", "--temp", "215", "--retract", retract]
    _, lines = planned(run, tmp_path, *words)
    moves, told = walked(lines)
    for level in (20, 40, 60):
        ways = [(b["E"] - a["E"], speed) for a, b, speed in moves[level]]
        assert [way for way, _ in ways] == pytest.approx([-retract, retract] * 20)
        assert [speed for _, speed in ways] == pytest.approx([level] * 40)
        assert moves[level][0][0] == pytest.approx(moves[level][-1][1])  # nothing else moves
    assert [t for t in told if t.startswith(("M109", "M104"))] == ["M109 S215", "M104 S0"]
    # hot and in relative feed before filament moves; cold only after the last move
    first = next(n for n, line in enumerate(lines) if " E" in line)
    last = max(n for n, line in enumerate(lines) if line.startswith("G1 E"))
    assert lines.index("M83") < lines.index("M109 S215") < first
    assert lines.index("M104 S0") > last


def test_acceleration_of_retractions_is_set_level_by_level(run, tmp_path):
    words = ["--axis", "e", "--acceleration", "500:1500:500", "--temp", "215", "--present", "800"]
    _, lines = planned(run, tmp_path, *words, "--line", "FEEDPUSH {acceleration:.0f}")
    set_ = [line for line in lines if line.startswith("FEEDPUSH")]
    assert set_ == [f"FEEDPUSH {v}" for v in (500, 1000, 1500, 800)]


CORNERS = ["--axis", "x", "--corner", "4:24:4"]
FEEDS = ["--axis", "e", "--speed", "20:60:20"]
REFUSED = (
    (["--axis", "z", *CORNERS[2:]], "--corner --axis z; corners are of X and Y: name x or y"),
    (["--axis", "e", *CORNERS[2:]], "--corner --axis e; corners are of X and Y: name x or y"),
    (
        FEEDS,
        "--axis e without --temp; filament moves hot only: give its printing temperature",
    ),
    ([*CORNERS, "--temp", "210"], "--temp with --axis x: it has no say there; leave it out"),
    (
        [*FEEDS, "--temp", "210", "--travel", "0:9"],
        "--travel with --axis e: it has no say there; leave it out",
    ),
    (
        ["--axis", "x", "--speed", "20:60:20", "--travel-across", "0:9"],
        "--travel-across with --axis x alone: it has no say there; leave it out",
    ),
    (
        [*CORNERS, "--travel-across", "0:9"],
        "a travel of 9 mm: too short; give --travel-across LOW:HIGH, 20 mm or more",
    ),
    (
        [*CORNERS, "--present", "900"],
        "--present without --acceleration; give both",
    ),
    (
        [*CORNERS, "--speed", "20:60:20"],
        "--speed and --corner; give one of them, as FROM:TO:STEP",
    ),
    (
        ["--axis", "x", "--corner", "400:900:100"],
        "--corner 400: cannot be: a speed through corners here is 0.1 to 200 mm/s (a sharp "
        "corner is a jump of speed, and no motor jumps further); if it is mm/min, write the unit "
        "behind it",
    ),
    (
        [*CORNERS, "--limit", "9"],
        "--limit: the dialect has no line that sets the controller's own limit; leave it out and "
        "set the limit by hand, or give a dialect with 'corner-limit'",
    ),
)


@pytest.mark.parametrize(
    "words, told", REFUSED, ids=lambda v: " ".join(v) if isinstance(v, list) else ""
)
def test_a_run_that_makes_no_sense(words, told, run, tmp_path):
    done = run("motion", "plan", *words, "--out", "run.gcode")
    assert (done.returncode, done.stderr) == (2, f"omphalon: {told}\n")
    assert not list(tmp_path.iterdir())


@pytest.mark.parametrize(
    "axis, what, column, means",
    [
        ("x", "corner", "corner_mm_s", "below 9.60 mm/s through corners keeps its place in X"),
        ("e", "speed", "speed_mm_s", "below 9.60 mm/s in its retractions loses no filament"),
    ],
)
def test_levels_become_a_limit(axis, what, column, means, run, tmp_path):
    words = ["--axis", axis, "--quantity", what, "--pass", 8, "--pass", 12, "--fail", 16]
    document = json.loads(run("motion", "fit", *words, "--json").stdout)
    # a fifth below the highest that passed
    assert document["settings"] == {axis: {column: pytest.approx(9.6)}}
    assert means in document["means"]
    rows = [f"{axis},{level},{'pass' if level < 16 else 'fail'}" for level in (8, 12, 16)]
    (tmp_path / "levels.csv").write_text("\n".join([f"axis,{column},result", *rows]) + "\n")
    same = json.loads(run("motion", "fit", "levels.csv", "--json").stdout)
    assert same["settings"] == document["settings"]
    check = ["--axis", axis, "--quantity", what, "--limit", "9.6"]
    assert run("motion", "check", *check, "--pass", "9.6").returncode == 0
    bad = run("motion", "check", *check, "--fail", "9.6")
    assert bad.returncode == 4 and f"motion plan --axis {axis} --{what} FROM:TO:STEP" in " ".join(
        bad.stdout.split()
    )


def test_a_bench_keeps_what_was_found(run, tmp_path):
    assert run("bench", "new", "b", "--set", "bed.x=220").returncode == 0
    words = ["--axis", "x", "--quantity", "corner", "--pass", 12, "--fail", 16]
    assert run("motion", "fit", *words, "--bench", "b").returncode == 0
    done = run("bench", "adopt", env={"OMPHALON_BENCH": "b"})
    assert done.returncode == 0, done.stderr
    assert "speed of X through corners" in run("bench", "show", env={"OMPHALON_BENCH": "b"}).stdout
    # nobody has to measure corners before a printer counts as tuned
    assert "corners" not in run("bench", "next", env={"OMPHALON_BENCH": "b"}).stdout


PRINTED = """; by hand
M140 S60
M104 S200
{units}
G90
G28
G92 E0
T0
"""


def a_print(folder, spelt="G1 X{x} Y{y} E{e} F{f}", units="G21", scale=1.0):
    """A file of a slicer's kind: twenty layers of a square, sides slow and fast in turn."""
    rows, e = [PRINTED.format(units=units)], 0.0
    for layer in range(1, 21):
        rows.append(f"G1 Z{0.2 * layer:g} F600")
        for x, y, f in ((20, 20, 3000), (60, 20, 1500), (60, 60, 3000), (20, 60, 1500)):
            e += 1.2
            place = {"x": x / scale, "y": y / scale, "e": f"{e:.4f}", "f": f / scale}
            rows.append(spelt.format(**place))
    (folder / "print.gcode").write_text("\n".join([*rows, "M107", "M104 S0", "M84", ""]))


@pytest.mark.parametrize(
    "how",
    [
        {},
        {"spelt": "G1X{x}Y{y}E{e}F{f}"},
        {"spelt": "N7 G01 X{x} Y{y} F{f} E{e}"},
        {"units": "G20", "scale": 25.4},
    ],
)
def test_a_print_of_ones_own_is_run_dry(how, run, tmp_path):
    a_print(tmp_path, **how)
    words = ("--from-print", "print.gcode", "--speed", "50:100:25", "--travel", "10:180")
    plan, lines = planned(run, tmp_path, *words)
    assert plan["settings"]["levels"] == [50, 75, 100]
    moves, told = walked(lines)
    assert not [t for t in told if t.split()[0] in ("M104", "M109", "M140", "M190", "M106", "T0")]
    assert not [line for line in lines if " E" in line and not line.startswith(";")]
    for level in (50, 75, 100):
        speeds = {round(speed, 1) for _, _, speed in moves[level][1:]}
        assert speeds == {level, level / 2}  # as fast to each other as in the print
        places = {(round(b["X"]), round(b["Y"])) for _, b, _ in moves[level]}
        assert places == {(20, 20), (60, 20), (60, 60), (20, 60)}
        assert {b["Z"] for _, b, _ in moves[level]} == {10.0}
    assert "80 lines that feed" in str(plan["steps"]) and "2 heats" not in str(plan["steps"])


@pytest.mark.parametrize(
    "words, says",
    [
        (["--from-print", "print.gcode", "--travel", "30:180"], "the print takes X 20 to 60 mm"),
        (["--from-print", "print.gcode", "--axis", "x"], "give one of the two"),
        (["--from-print", "print.gcode", "--temp", "210"], "it has no say there"),
        (["--from-print", "none.csv"], "give the G-code of a print"),
        (["--from-print", "print.gcode", "--speed", "300:100:50"], "not FROM:TO:STEP"),
        (["--from-print", "print.gcode", "--speed", "1:500:0.01"], "choose a step"),
        (["--from-print", "print.gcode", "--limit", "300"], "give one of the two"),
        (["--from-print", "print.gcode", "--build", "delta"], "give one of the two"),
        ([], "--speed, --acceleration or --corner"),
    ],
)
def test_a_print_that_cannot_be_run_is_refused(words, says, run, tmp_path):
    a_print(tmp_path)
    (tmp_path / "none.csv").write_text("a,b\n1,2\n" * 30)
    done = run("motion", "plan", *words, "--out", "run.gcode")
    assert done.returncode in (1, 2) and says in done.stderr and done.stderr.count("\n") == 1
