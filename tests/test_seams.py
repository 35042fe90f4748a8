"""Between the parts: inputs that were right in themselves and came wrong to the next room."""

import csv
import io
import json
import math
import re
from dataclasses import replace
from datetime import datetime, timedelta

import numpy as np
import pytest

from conftest import SAMPLES
from omphalon.standin.builds import Build
from omphalon.standin.samples import FULMAR_BUILDS, found_as

OSCILLATION = SAMPLES / "hotend-oscillation.csv"
BEGAN = datetime(2026, 11, 20, 23, 58)  # the log runs past midnight


def reports():
    lines = [line for line in OSCILLATION.read_text().splitlines() if not line.startswith("#")]
    return [{k: float(v) for k, v in row.items()} for row in csv.DictReader(lines)]


def table(head, row, first=""):
    """The sample's log under other headers."""
    return first + head + "\n" + "".join(row(one) + "\n" for one in reports())


def at(one):
    return BEGAN + timedelta(seconds=one["time_s"])


def plain(one, *names):
    return ",".join(f"{one[name]:g}" for name in names)


FIELDS = ("time_s", "temperature_c", "target_c", "power_counts")


def around():
    """The sample's log in an evening's: two hours of idling before it, one of cooling after."""
    rows = reports()
    idle = [f"{t},{rows[0]['temperature_c'] + t % 3 / 100:.2f},0,0" for t in range(0, 7200, 2)]
    start, end = 7200, 7200 + rows[-1]["time_s"]
    log = [f"{start + one['time_s']:.2f},{plain(one, *FIELDS[1:])}" for one in rows]
    above = rows[-1]["temperature_c"] - 24
    cooling = [f"{end + t:.2f},{24 + above * 0.997**t:.2f},0,0" for t in range(1, 3600)]
    return "\n".join([",".join(FIELDS), *idle, *log, *cooling])


ANSWERED = {
    "a date and a clock in two columns": (
        table(
            "Date,Time,Temperature,Setpoint,Output",
            lambda one: f"{at(one):%d.%m.%Y,%H:%M:%S.%f},{plain(one, *FIELDS[1:])}",
        ),
        [],
    ),
    "two heaters, columns mixed": (
        table(
            "hotend0_target,bed_temp,bed_target,time_s,hotend0_temp,bed_power,hotend0_power",
            lambda one: (
                f"{one['target_c']:g},60.1,60,{plain(one, *FIELDS[:2])},30,{one['power_counts']:g}"
            ),
        ),
        [],
    ),
    "a German spreadsheet's": (
        table(
            "Zeit (s);Temperatur (°C);Soll (°C);Leistung (%)",
            lambda one: ";".join(
                f"{one[n] * (100 / 255 if 'power' in n else 1):.2f}".replace(".", ",")
                for n in FIELDS
            ),
            "sep=;\n",
        ),
        [],
    ),
    "power_pct": (
        table(
            "time_s,temperature_c,target_c,power_pct",
            lambda one: f"{plain(one, *FIELDS[:3])},{one['power_counts'] / 2.55:.2f}",
        ),
        [],
    ),
    "an evening's": (around(), []),
    "watts, and how many are full": (
        table(
            "time_s,temperature_c,target_c,power_w",
            lambda one: f"{plain(one, *FIELDS[:3])},{40 * one['power_counts'] / 255:.2f}",
        ),
        ["--full-power", "40", "--gain-scale", "255"],
    ),
}


@pytest.fixture(scope="module")
def clean(tmp_path_factory):
    from omphalon.cli import omphalon as program

    answer = program.main(
        ["heater", "fit", str(OSCILLATION), "--quiet"], "omphalon", standalone_mode=False
    )
    return {one.field: one.value for one in answer.settings}


@pytest.mark.parametrize("name", ANSWERED)
def test_a_log_as_it_comes_answers_as_the_plain_one(name, clean, run, tmp_path):
    text, more = ANSWERED[name]
    (tmp_path / "log.csv").write_text(text)
    done = run("heater", "fit", "log.csv", "--heater", "hotend", *more, "--json")
    found = json.loads(done.stdout)
    assert done.returncode == 0 and not done.stderr
    for field, value in clean.items():
        assert found["settings"][field] == pytest.approx(value, rel=0.1)


def test_the_lines_are_of_the_heater_that_the_log_is_of(run, tmp_path):
    two = table(
        "time_s,hotend0_temp,hotend0_power,hotend1_temp,hotend1_target,hotend1_power",
        lambda one: f"{one['time_s']},25.0,0,{plain(one, *FIELDS[1:3])},{one['power_counts']:g}",
    )
    chamber = re.sub(r"\bB(@?):", r"C\1:", (SAMPLES / "bed-console.txt").read_text())
    for name, text in (("two.csv", two), ("chamber.txt", chamber)):
        (tmp_path / name).write_text(text)
    untold = run("heater", "fit", "two.csv")
    assert untold.returncode == 2 and "give --tool 1" in untold.stderr
    told = json.loads(run("heater", "fit", "two.csv", "--tool", "1", "--json").stdout)
    assert told["tool"] == 1 and told["lines"][0].startswith("M301 E1 P")
    found = json.loads(run("heater", "fit", "chamber.txt", "--json").stdout)
    assert found["evidence"]["heater"] == "chamber" and found["lines"][0].startswith("; chamber")


LOG = OSCILLATION.read_text()
REFUSED = {
    # what was given: the words, the exit code, what is said and what mends it
    "seconds under a header of µs": (
        LOG.replace("time_s", "time_us"),
        [],
        (1, "no heater moves in that", "time_us"),
    ),
    "watts": (LOG.replace("power_counts", "power_w"), [], (2, "power in watts", "--full-power")),
    "prose": (
        "Dear reader, this page tells of a heater,\nand of its power, in words.\n",
        [],
        (1, "no log", "time_s,temperature_c,power"),
    ),
    "present gains of a power 0…1": (
        LOG,
        ["--kp", "0.09", "--ki", "0.0074", "--kd", "0.246"],
        (3, "full power of 1, not 255", "--gain-scale 1"),
    ),
    "present gains of 255 where full power is 1": (
        LOG,
        ["--kp", "22", "--ki", "2.2", "--kd", "60", "--gain-scale", "1"],
        (3, "full power of 255, not 1", "--gain-scale 255"),
    ),
    "present gains in minutes": (
        LOG,
        ["--kp", "30", "--ki", "120", "--kd", "1.2"],
        (3, "in minutes, not in seconds", "divide ki by 60"),
    ),
    "present gains a loop": (
        LOG,
        ["--kp", "30", "--ki", "0.12", "--kd", "1000", "--loop-period", "0.05"],
        (3, "a loop, not a second", "divide ki by 0.05"),
    ),
}


@pytest.mark.parametrize("name", REFUSED)
def test_a_heater_log_with_a_mistake_names_it_and_gives_no_setting(name, run, tmp_path):
    text, more, (code, *said) = REFUSED[name]
    (tmp_path / "log.csv").write_text(text)
    done = run("heater", "fit", "log.csv", *more)
    words = " ".join((done.stdout + done.stderr).split())
    assert done.returncode == code and all(one in words for one in said)
    assert "M301" not in words


SWAPPED = {
    "--asked 95 --fed 100 --fed 100 --fed 100": True,
    "--asked 34.6 --mark 110 --left 80": True,
    "--asked 100 --fed 100 --fed 100 --fed 100": False,
    "--asked 95 --fed 100": False,
    "--asked 95 --fed 100 --fed 100 --fed 99.5": False,
    "--asked 80 --mark 110 --left 34.6 --left 34.6 --left 34.6": False,
}


@pytest.mark.parametrize("words", SWAPPED)
def test_a_round_answer_to_an_odd_question_is_a_swap(words, run):
    done = run("extruder", "fit", "--steps", "412", *words.split())
    assert ("swapped" in done.stdout) == SWAPPED[words]
    assert done.returncode == 3 or not SWAPPED[words]


def test_one_sensor_log_by_itself_is_of_the_axis_that_moves_in_it(run, sample):
    one = json.loads(run("shaper", "fit", sample("sweep-x.csv.gz"), "--json").stdout)
    named = json.loads(run("shaper", "fit", "--x", sample("sweep-x.csv.gz"), "--json").stdout)
    assert one["settings"] == named["settings"] and list(one["settings"]) == [
        "x",
        "acceleration_mm_s2",
    ]
    both = run("shaper", "fit", sample("sweep-x.csv.gz"), "--y", sample("sweep-y.csv.gz"))
    assert both.returncode == 2 and "name each by its axis" in both.stderr


SAID = {
    "extruder fit --asked 80 --fed 75": ("Missing option '--steps'", "M503", "--ask"),
    "printer send --line M503 --port 127.0.0.1:5591": ("write socket://127.0.0.1:5591",),
    "extruder fit --steps 412 --asked 80 --mark 110 --left 30.4": ("runs like these in total",),
    "extruder fit --steps 412 --asked 100 --fed 100 --fed 90 --fed 95": ("why they differ",),
    "heatr fit log.csv": ("Did you mean 'heater'?",),
    "probe check --offset -1.85 --drag 0.12 --drag 0.13 --drag 0.12": (
        "no first layer shows that",
    ),
}


@pytest.mark.parametrize("words", SAID)
def test_what_is_said_helps(words, run):
    done = run(*words.split())
    text = " ".join((done.stdout + done.stderr).split())
    assert all(part in text for part in SAID[words]), text


PITCH = {"X": 80.4, "Y": 80.4, "Z": 400.0}  # belts 0.5 % off what the printer is set to
SET = {"X": 80.0, "Y": 80.0, "Z": 402.5}
BUILDS = {
    # how it is built, how it is told, the steps that are right for X and Y, warning
    "crossed belts of another pitch, out of square": (
        Build(kind="crossed-belts", true_steps=PITCH, square_deg=0.3),
        *("crossed-belts", (80.4, 80.4), None),
    ),
    "crossed belts, parts that shrink in X": (
        Build(kind="crossed-belts", true_steps=PITCH, square_deg=0.3, shrinks=(0.004, 0.0)),
        *("crossed-belts", (80.4 * 1.002, 80.4 * 1.002), "belts-unlike"),
    ),
    "a motor an axis": (
        Build(kind="moving-head", true_steps={**PITCH, "X": 79.7}),
        *("moving-head", (79.7, 80.4), None),
    ),
    "not told": (
        Build(kind="moving-bed", true_steps={**PITCH, "X": 79.7}),
        *("", (79.7, 80.4), "build-not-told"),
    ),
    "three towers": (
        Build(kind="delta", true_steps=dict.fromkeys("XYZ", 402.5), arm_off_mm=0.8),
        *("delta", None, None),
    ),
}


def parts_answer(run, tmp_path, build, told):
    """What `axis fit` answers of that printer's parts."""
    steps = dict.fromkeys("XYZ", 402.5) if build.kind == "delta" else SET
    (tmp_path / "parts.csv").write_text("\n".join(build.parts_csv(steps)))
    words = ["--build", told] if told else []
    now = ("--steps", f"x={steps['X']}", "--steps", f"y={steps['Y']}")
    return run("axis", "fit", "parts.csv", *now, *words, "--json")


@pytest.mark.parametrize("build, told, right, code", BUILDS.values(), ids=BUILDS)
def test_steps_belong_to_what_the_motors_move(build, told, right, code, run, tmp_path):
    done = parts_answer(run, tmp_path, build, told)
    found = json.loads(done.stdout)
    if right is None:
        assert done.returncode == 3 and "arms and radii" in found["because"]
        return
    for axis, steps in zip("xy", right, strict=True):
        one = found["settings"][axis]["steps_per_mm"]
        assert one == pytest.approx(steps, abs=found["spread"][axis]["steps_per_mm"])
        if told == "crossed-belts":
            assert one == found["settings"]["x"]["steps_per_mm"]
    assert [warning["code"] for warning in found["warnings"]] == ([code] if code else [])


def rhomb_deg(corners):
    """How far a printed square's corner is off a right one."""
    one, other = corners[1] - corners[0], corners[3] - corners[0]
    return 90 - math.degrees(math.acos(one @ other / np.linalg.norm(one) / np.linalg.norm(other)))


def test_one_value_for_both_motors_leaves_squares_square(run, tmp_path):
    build = BUILDS["crossed belts, parts that shrink in X"][0]
    square = replace(build, square_deg=0.0)
    skews = {}
    for told in ("crossed-belts", "moving-head"):
        found = json.loads(parts_answer(run, tmp_path, build, told).stdout)["settings"]
        steps = {**SET, **{axis.upper(): found[axis]["steps_per_mm"] for axis in "xy"}}
        corners = square.corners(100.0, steps)
        assert np.linalg.norm(corners[1] - corners[0]) == pytest.approx(100, abs=0.35)
        skews[told] = abs(rhomb_deg(corners))
    assert skews["crossed-belts"] < 0.01 and skews["moving-head"] > 0.1


def test_the_stand_in_may_be_of_any_build():
    """Three towers whose arms are not what it believes: X comes out wrong, and Z right."""
    build = FULMAR_BUILDS["delta"]
    steps = found_as("delta").steps
    x, z = (build.place(np.array(p), steps) for p in ([80.0, 0.0, 0.0], [0.0, 0.0, 80.0]))
    off = build.place(np.zeros(3), steps)
    assert (z - off)[2] == pytest.approx(80 * 402.5 / 400, abs=1e-6)
    assert abs(np.linalg.norm(x - off) - 80) > 0.1


def test_crossed_belts_of_two_values_are_made_one_first(run):
    words = ("--build", "crossed-belts", "--steps", "x=80", "--steps", "y=80.4", "--axis", "x")
    done = run("axis", "fit", *words, "--asked", "100", "--moved", "99.5")
    assert done.returncode == 2 and "one value" in done.stderr


def test_a_bench_knows_the_build(run, tmp_path):
    facts = ("--set", "printer.build=delta", "--set", "bed.x=200")
    assert run("bench", "new", "b", *facts).returncode == 0
    words = ("axis", "fit", "--axis", "x", "--steps", "80", "--asked", "100", "--moved", "99.5")
    assert run(*words, "--bench", "b").returncode == 3
    plan = run(
        *("axis", "plan", "--out", "gauge.gcode", "--bench", "b", "--longest", "100", "--json")
    )
    lines = (tmp_path / "gauge.gcode").read_text()
    places = [float(x) for x in re.findall(r"^G1 X(-?[\d.]+)", lines, re.M)]
    assert plan.returncode == 0 and min(places) < 0 < max(places)


def test_a_sweep_along_a_diagonal_is_told_from_one_of_an_axis(run, tmp_path):
    """X rings on one axis of the sensor, Y on the other; askew, the sensor shows one on both."""
    logs = [np.loadtxt(SAMPLES / f"sweep-{a}.csv.gz", delimiter=",", skiprows=2) for a in "xy"]
    x, y = (log - [0, *log[:, 1:].mean(axis=0)] for log in logs)
    turn = math.radians(40)
    both = {
        "diagonal": np.column_stack([x[:, 0], x[:, 1], y[:, 2], x[:, 3] + 1]),
        "askew": np.column_stack(
            [x[:, 0], x[:, 1] * math.cos(turn), x[:, 1] * math.sin(turn) + x[:, 2], x[:, 3] + 1]
        ),
    }
    for name, log in both.items():
        text = io.StringIO()
        np.savetxt(text, log, "%.5f", ",", header="time (s),x (g),y (g),z (g)", comments="")
        (tmp_path / f"{name}.csv").write_text(text.getvalue())
    done = run("shaper", "fit", "--x", "diagonal.csv")
    assert done.returncode == 3 and "each differently" in done.stdout
    assert run("shaper", "fit", "--x", "askew.csv").returncode == 0
