"""Input shapers: known frames through the built program, shapers against simulation and print, logs
that must not be believed.
"""

import gzip
import json
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gcode import Machine, strokes
from logs import tap_log
from omphalon.physics.impulses import SHAPERS, residual, seconds
from omphalon.physics.resonance import Mode
from omphalon.physics.shaping import Limits, at_setting, candidates, pick
from omphalon.standin.frame import (
    G_MM_S2,
    FrameLog,
    Sensor,
    Sweep,
    Swing,
    as_csv,
    shaken,
    sweep_log,
)

ONE = (Swing(42.0, 0.05, 1.0),)
TWO = (Swing(38.0, 0.045, 0.7), Swing(62.0, 0.06, 0.3))
THREE = (Swing(29.0, 0.05, 0.35), Swing(44.0, 0.04, 0.4), Swing(70.0, 0.06, 0.25))
FAST = Sweep(low_hz=5, high_hz=110, rate_hz_s=2.5)
SENSOR = Sensor(rate_hz=800.0, seed=3)


def save(folder, log, name="log.csv", unit="g", text=None):
    lines = list(as_csv(log, unit))
    content = "\n".join(text(lines) if text else lines) + "\n"
    (folder / name).write_text(content, encoding="utf-8")
    return name


def fitted(run, *words):
    done = run("shaper", "fit", *words, "--json")
    assert not done.stderr, done.stderr
    return json.loads(done.stdout), done.returncode


def simulated_residual(impulses, times, frequency, damping):
    """Vibration left after a shaped step of acceleration, over that of the plain step, by small
    steps of time.
    """
    omega, step = 2 * math.pi * frequency, 1e-5
    turn = omega * math.sqrt(1 - damping**2)
    held = math.exp(-damping * omega * step)
    c, s = math.cos(turn * step), math.sin(turn * step)
    size = []
    for weights, at in ((impulses, times), (np.ones(1), np.zeros(1))):
        end = float(at[-1]) + 2 * step
        pushes = dict.fromkeys(range(int(end / step) + 2), 0.0)
        for weight, time in zip(weights, at, strict=True):
            pushes[round(float(time) / step)] += float(weight)
        x = v = 0.0  # in the turning frame: place and speed / turn
        for n in range(int(end / step) + 1):
            v += pushes[n]
            x, v = held * (c * x + s * v), held * (-s * x + c * v)
        size.append(math.hypot(x, v) * math.exp(damping * omega * (end - float(at[-1]))))
    return size[0] / size[1]


@pytest.mark.parametrize("name", SHAPERS)
@pytest.mark.parametrize("damping", [0.0, 0.05, 0.1])
def test_residual_against_simulation(name, damping):
    shaper = SHAPERS[name](damping)
    times = seconds(shaper, 40.0, damping)
    assert shaper.weights.sum() == pytest.approx(1) and times[0] == 0
    for true in (32.0, 40.0, 47.0):
        omega = np.array(2 * math.pi * true)
        told = float(residual(shaper.weights, times, omega, damping))
        assert told == pytest.approx(
            simulated_residual(shaper.weights, times, true, damping), abs=0.002
        )


# Published: zv and zvd leave nothing at the designed frequency (Singer and Seering 1990); ei leaves
# its tolerance of 5 % there;
# widths of insensitivity at 5 %, as printed: zv 0.06, zvd 0.29, ei 0.40, two-hump 0.73, three-hump
# 0.95 (Singhose, Porter, Tuttle, Singer 1997)
PUBLISHED = {
    "zv": (0, 0.06),
    "zvd": (0, 0.29),
    "ei": (0.05, 0.40),
    "two-hump": (0, 0.73),
    "three-hump": (0.05, 0.95),
}


@pytest.mark.parametrize("name", PUBLISHED)
def test_shapers_against_published_values(name):
    shaper = SHAPERS[name](0.0)
    at, wide = PUBLISHED[name]
    times = seconds(shaper, 1.0, 0.0)
    ratio = np.linspace(0.3, 1.7, 28001)
    left = residual(shaper.weights, times, 2 * np.pi * ratio, 0.0)
    assert left[14000] == pytest.approx(at, abs=0.001)
    inside = left <= 0.0501
    middle = 14000
    low = middle - int(np.argmin(inside[middle::-1]))
    high = middle + int(np.argmin(inside[middle:]))
    assert ratio[high] - ratio[low] == pytest.approx(wide, abs=0.015)


@pytest.mark.parametrize("name, powers", [("zv", [1, 1]), ("zvd", [1, 2, 1])])
def test_weights_fall_as_the_vibration_does(name, powers):
    """1, K and 1, 2K, K² with K = e^(−πζ/√(1 − ζ²)) (Singer and Seering 1990, eq. 10 and 11)."""
    fall = math.exp(-math.pi * 0.1 / math.sqrt(1 - 0.01))
    raw = np.array([p * fall**n for n, p in enumerate(powers)])
    assert SHAPERS[name](0.1).weights == pytest.approx(raw / raw.sum(), abs=1e-12)


def test_pick_is_the_best_by_brute_force():
    modes = [Mode(s.frequency_hz, s.damping, s.share) for s in TWO]
    limits = Limits()
    best = max(
        at_setting(name, f, 0.045, modes, limits).acceleration_mm_s2
        for name in SHAPERS
        for f in np.arange(15, 120, 0.1)
    )
    chosen = pick(candidates(modes, limits, list(SHAPERS)))
    assert chosen.acceleration_mm_s2 > 0.979 * best
    one = [Mode(40.0, 0.0, 1.0)]
    clean = at_setting("zv", 40.0, 0.0, one, Limits(drift=0.0))
    assert clean.rounding_mm == pytest.approx(0.1) and clean.limited_by == "rounding"
    # zv at 40 Hz: two equal impulses 12.5 ms apart, variance (6.25 ms)²
    assert clean.acceleration_mm_s2 == pytest.approx(2 * 0.1 / 0.00625**2, rel=1e-6)


@pytest.mark.parametrize("swings", [ONE, TWO, THREE], ids=["one", "two", "three"])
def test_modes_of_known_frames(swings, run, tmp_path):
    name = save(tmp_path, sweep_log(swings, FAST, SENSOR))
    answer, code = fitted(run, "--x", name)
    modes = answer["evidence"]["x"]["modes"]
    assert code == 0 and answer["verdict"] == "change" and len(modes) == len(swings)
    for mode, true in zip(modes, swings, strict=True):
        assert mode["frequency_hz"] == pytest.approx(true.frequency_hz, abs=0.5)
        assert mode["damping"] == pytest.approx(true.damping, rel=0.2)
        assert mode["share"] == pytest.approx(true.share, abs=0.05)
    assert set(answer["settings"]["x"]) == {"shaper", "frequency_hz", "damping"}
    assert len(answer["evidence"]["x"]["candidates"]) == 6
    assert answer["spread"]["acceleration_mm_s2"] > 0


def test_both_axes_share_the_lower_acceleration_and_keep_what_serves(run, tmp_path):
    x = save(tmp_path, sweep_log(ONE, FAST, SENSOR), "x.csv")
    slow = (Swing(28.0, 0.05, 1.0),)
    y = save(tmp_path, sweep_log(slow, FAST, Sensor(rate_hz=800, along=1, seed=4)), "y.csv")
    answer, _ = fitted(run, "--x", x, "--y", y, "--dialect", "stand-in", "--plot", "f.png")
    settings = answer["settings"]
    alone = [
        fitted(run, f"--{a}", f)[0]["settings"]["acceleration_mm_s2"]
        for a, f in (("x", x), ("y", y))
    ]
    assert settings["acceleration_mm_s2"] == min(alone) == alone[1]
    assert answer["lines"][0].startswith("CALM X ") and answer["lines"][2].startswith("PUSH ")
    present = [
        f"{settings[a]['shaper']}:{settings[a]['frequency_hz']}:{settings[a]['damping']}"
        for a in "xy"
    ]
    kept, _ = fitted(run, "--x", x, "--y", y, "--present-x", present[0], "--present-y", present[1])
    assert kept["verdict"] == "keep" and kept["lines"] == []
    half, _ = fitted(run, "--x", x, "--y", y, "--present-x", present[0], "--present-y", "zv:60:0.1")
    assert half["verdict"] == "change" and half["settings"]["x"] == pytest.approx(settings["x"])
    fewer, _ = fitted(run, "--x", x, "--offered", "ei,two-hump")
    assert fewer["settings"]["x"]["shaper"] in ("ei", "two-hump")


def test_hum_is_no_resonance(run, tmp_path):
    noisy = Sensor(
        rate_hz=800, hum=((47.0, 6000.0), (100.0, 3000.0)), noise_mm_s2=400, lost=0.05, seed=5
    )
    answer, _ = fitted(run, "--x", save(tmp_path, sweep_log(ONE, FAST, noisy)))
    modes = answer["evidence"]["x"]["modes"]
    assert len(modes) == 1 and modes[0]["frequency_hz"] == pytest.approx(42, abs=0.5)


def test_taps_and_ripples(run, tmp_path):
    name = save(tmp_path, tap_log(TWO, Sensor(rate_hz=1600, seed=6)), unit="m/s²")
    modes = fitted(run, "--y", name, "--kind", "taps")[0]["evidence"]["y"]["modes"]
    assert [m["frequency_hz"] for m in modes] == pytest.approx([38, 62], abs=0.8)
    assert [m["damping"] for m in modes] == pytest.approx([0.045, 0.06], rel=0.2)
    ripples = ["--ripple-x", 2.5, "--ripple-x", 2.45, "--speed", 100]
    answer, _ = fitted(run, *ripples)
    assert answer["evidence"]["x"]["modes"][0]["frequency_hz"] == pytest.approx(40.4, abs=0.1)
    assert [w["code"] for w in answer["warnings"]] == ["ripples-only"]


def clipped(log):
    return FrameLog(log.time_s, np.clip(log.acceleration, -12000, 12000))


def cut(log, low, high):
    keep = (log.time_s < low) | (log.time_s > high)
    return FrameLog(log.time_s[keep], log.acceleration[keep])


def flat(log, axis):
    still = log.acceleration.copy()
    still[:, axis] = 17.0
    return FrameLog(log.time_s, still)


GOOD = sweep_log(TWO, FAST, SENSOR)
SLOW = sweep_log(TWO, FAST, Sensor(rate_hz=200.0, seed=3))
STILL = sweep_log(TWO, Sweep(drive_mm_s2=0.0, rate_hz_s=2.5), SENSOR)


def worded(lines):
    return [*lines[:300], "no number,here,at,all", *lines[300:]]


def bare(lines):
    return [lines[0].replace(" (g)", ""), *lines[1:]]


POOR = {
    # name: (log, change of its text, more options), verdict or exit code, words or warning codes
    "clipped": ((clipped(GOOD), None, []), "retest", "the sensor's x is clipped at 12 m/s²"),
    "short": ((cut(GOOD, 5, 99), None, []), "retest", "5.0 s is too short"),
    "no sweep": ((STILL, None, []), "retest", "this log holds no sweep"),
    "slow sensor": ((SLOW, None, []), "retest", "200 samples a second are too few for a sweep to"),
    "gap": ((cut(GOOD, 18, 20.5), None, []), "retest", "a gap of 2.50 s at 18.0 s"),
    "still axis": (
        (flat(GOOD, 0), None, ["--sensor-x", "x"]),
        "retest",
        "hardly stands out from the noise on the sensor's x",
    ),
    "all still": (
        (FrameLog(GOOD.time_s, np.ones((len(GOOD.time_s), 3)) * 9806), None, []),
        "retest",
        "the readings never change",
    ),
    "half a sweep": ((cut(GOOD, 22, 99), None, []), "retest", "the test covers only"),
    "text in numbers": ((GOOD, worded, []), "change", ["rows-passed-over"]),
    "no unit": ((GOOD, bare, []), "change", ["unit-from-gravity"]),
    "wrong unit": ((GOOD, None, ["--unit", "m/s²"]), "change", ["unit-differs"]),
    "wrong axis": ((GOOD, None, ["--sensor-x", "y"]), "change", ["sensor-axis-doubtful"]),
    "up and down": (
        (GOOD, None, ["--sensor-x", "z"]),
        "change",
        ["sensor-axis-doubtful", "sensor-axis-doubtful"],
    ),
    "small gap": ((cut(GOOD, 18, 18.2), None, []), "change", ["dropout"]),
}


@pytest.mark.parametrize("name", POOR)
def test_a_poor_log_is_refused_or_warned_of(name, run, tmp_path):
    (log, text, words), verdict, expected = POOR[name]
    answer, code = fitted(run, "--x", save(tmp_path, log, text=text), *words)
    assert answer["verdict"] == verdict, answer["because"]
    if verdict == "retest":
        assert (
            expected in answer["because"]
            and answer["settings"] == {}
            and code == 3
            and not answer["lines"]
        )
    else:
        assert [w["code"] for w in answer["warnings"]] == expected
        if "axis" not in name and name != "up and down":
            modes = answer["evidence"]["x"]["modes"]
            assert [m["frequency_hz"] for m in modes] == pytest.approx([38, 62], abs=0.5)


def test_swapped_files_are_pointed_out(run, tmp_path):
    x = save(tmp_path, sweep_log(TWO, FAST, Sensor(rate_hz=800, along=1)), "x.csv")
    y = save(tmp_path, sweep_log(ONE, FAST, Sensor(rate_hz=800, along=0)), "y.csv")
    answer, _ = fitted(run, "--x", x, "--y", y)
    assert [w["code"] for w in answer["warnings"]] == ["files-swapped"]


def semicolons(lines):
    return ["﻿# note", *(line.replace(",", ";").replace(".", ",") for line in lines)]


def shuffled(lines):
    return [
        lines[0],
        *lines[400:800],
        *lines[1:400],
        lines[0],
        *lines[800:],
        lines[-1],
        lines[-1][:9],
    ]


def milliseconds(lines):
    rows = (line.split(",") for line in lines[1:])
    return [
        "t_ms,acc_x_g,acc_y_g,acc_z_g",
        *(f"{float(r[0]) * 1000:.3f}," + ",".join(r[1:]) for r in rows),
    ]


@pytest.mark.parametrize(
    "text",
    [None, semicolons, shuffled, milliseconds],
    ids=lambda t: getattr(t, "__name__", "plain"),
)
def test_spellings_of_a_log(text, tmp_path):
    from omphalon.readers.acceleration import read_motion

    log = read_motion(str(tmp_path / save(tmp_path, GOOD, text=text)))
    assert len(log.time_s) == len(GOOD.time_s) and np.all(np.diff(log.time_s) > 0)
    assert log.time_s == pytest.approx(GOOD.time_s, abs=1e-5)
    assert np.abs(log.acceleration_mm_s2 - GOOD.acceleration).max() < 0.6
    packed = tmp_path / "log.csv.gz"
    packed.write_bytes(gzip.compress((tmp_path / "log.csv").read_bytes()))
    assert np.array_equal(read_motion(str(packed)).acceleration_mm_s2, log.acceleration_mm_s2)


@pytest.mark.parametrize("unit, scale", [("mm/s²", 1.0), ("m/s²", 1000.0), ("g", G_MM_S2)])
def test_units_come_from_the_header(unit, scale, tmp_path):
    from omphalon.readers.acceleration import read_motion

    log = read_motion(str(tmp_path / save(tmp_path, GOOD, unit=unit)))
    assert log.unit == unit and log.acceleration_mm_s2[:, 2].mean() == pytest.approx(
        G_MM_S2, rel=0.01
    )


BAD = {
    "": (1, "log.csv: the file is empty; check that the recording was saved"),
    "1,2,3,4\n5,6,7,8\n": (
        1,
        "log.csv: row 1: no header with a time and three axes; name the columns in a first row, "
        "for example time_s,x_g,y_g,z_g",
    ),
    "time,a,b,c\n1,2,3,4\n": (
        1,
        "log.csv: row 1: no time and three axes among the columns (time, a, b, c); name the "
        "columns, for example time_s,x_g,y_g,z_g, or say which they are with --column x=HEADER",
    ),
    "time,x_g,y_g,z_g\n0,0,0,1\n1,0,0,1\n": (
        1,
        "log.csv: 2 readable rows; check that the log holds the test",
    ),
    "time,x_g,y_g,z_g\na,b,c,d\n": (
        1,
        "log.csv: row 2: time: 'a' is no time that is understood; understood are seconds, ms, µs, "
        "min, ISO 8601 (2026-11-23T10:00:05), seconds since 1970, a clock (23:59:50, 11:59:50 PM), "
        "a date and clock (23.11.2026 10:00:05)",
    ),
    "time,x,y,z\n" + "".join(f"{n / 100},{n % 3},300,0\n" for n in range(99)): (
        1,
        "log.csv: no unit in the header, and no gravity in the log to tell it by (300 at rest); "
        "name it in the header (x_g, "
        "x_m/s2, x_mm/s2) or with --unit",
    ),
}


@pytest.mark.parametrize("content", BAD, ids=range(len(BAD)))
def test_bad_files_get_one_line(content, run, tmp_path):
    (tmp_path / "log.csv").write_text(content)
    done = run("shaper", "fit", "--x", "log.csv", "--plot", "f.png")
    assert (done.returncode, done.stderr) == (BAD[content][0], f"omphalon: {BAD[content][1]}\n")
    assert [p.name for p in tmp_path.iterdir()] == ["log.csv"]


WRONG = {
    "": "no log; give --x LOG and --y LOG, or --ripple-x MM with --speed",
    "--ripple-x 2": "ripples without the speed; give --speed MM_S, the speed of the wall that "
    "shows them",
    "--ripple-x 2 --speed 100 --offered zv,best": "--offered zv,best: no shaper 'best'; choose "
    "from zv,zvd,mzv,ei,two-hump,three-hump",
    "--ripple-x 2 --speed 100 --present-x zv": "--present-x zv: not NAME:HZ:DAMPING; for example "
    "mzv:42:0.05",
}


@pytest.mark.parametrize("words", WRONG)
def test_wrong_usage_gets_one_line(words, run):
    done = run("shaper", "fit", *words.split())
    assert (done.returncode, done.stderr) == (2, f"omphalon: {WRONG[words]}\n")


def test_check_before_and_after(run, tmp_path):
    before = save(tmp_path, sweep_log((Swing(33.0, 0.05, 1.0),), FAST, SENSOR), "before.csv")
    after = save(tmp_path, sweep_log(ONE, FAST, SENSOR), "after.csv")
    good = fitted(run, "--x", after)[0]["settings"]
    words = [
        "--axis",
        "x",
        "--shaper",
        good["x"]["shaper"],
        "--frequency",
        good["x"]["frequency_hz"],
    ]
    words += [
        "--damping",
        good["x"]["damping"],
        "--acceleration",
        good["acceleration_mm_s2"],
        "--json",
    ]
    kept = run("shaper", "check", before, after, *words, "--plot", "f.png")
    answer = json.loads(kept.stdout)
    assert kept.returncode == 0 and answer["verdict"] == "keep" and (tmp_path / "f.png").exists()
    assert (
        answer["evidence"]["before"]["acceleration_mm_s2"]
        < 0.8 * answer["evidence"]["acceleration_mm_s2"]
    )
    worse = run("shaper", "check", before, *words)
    assert worse.returncode == 4 and json.loads(worse.stdout)["verdict"] == "change"


@pytest.mark.parametrize("axis", "xy")
def test_the_sweep_of_moves_passes_the_interpreter_and_finds_the_modes(axis, run, tmp_path):
    words = [
        "--axis",
        axis,
        "--sweep",
        "6:110",
        "--rate",
        2.5,
        "--dialect",
        "stand-in",
        "--acceleration",
        3000,
    ]
    assert run("shaper", "plan", *words, "--out", "s.gcode").returncode == 0
    lines = (tmp_path / "s.gcode").read_text().splitlines()
    machine = Machine("LEAD").run(lines)
    assert not machine.faults and not machine.moves and machine.nozzle == machine.bed == 0
    sides = [t for t in machine.travels if t[0] != t[1]][1:-1]
    along = "xy".index(axis)
    assert all(5 <= end[k] <= 215 for _, end, _ in sides for k in (0, 1))
    assert all(start[1 - along] == end[1 - along] for start, end, _ in sides)
    length = np.array([abs(end[along] - start[along]) for start, end, _ in sides][1:])
    time = 2 * np.sqrt(length / 3000)  # rest to rest at 3000 mm/s²: half a period each
    assert 0.5 / time[0] == pytest.approx(6, abs=0.3) and 0.5 / time[-1] == pytest.approx(
        110, abs=0.5
    )
    assert time.sum() == pytest.approx((110 - 6) / 2.5, rel=0.01) and 1 / time.min() < 400
    log = shaken(lines, axis, TWO, Sensor(rate_hz=1600, along=along))
    modes = fitted(run, f"--{axis}", save(tmp_path, log))[0]["evidence"][axis]["modes"]
    assert [m["frequency_hz"] for m in modes] == pytest.approx([38, 62], abs=0.5)
    assert [m["share"] for m in modes] == pytest.approx([0.7, 0.3], abs=0.05)


def test_the_ringing_print_passes_the_interpreter(run, tmp_path):
    words = ["--fast", 80, "--layer", 0.25, "--width", 0.5, "--dialect", "stand-in"]
    assert run("shaper", "plan", "--ringing", "r.gcode", *words, "--plot", "r.png").returncode == 0
    machine = Machine("LEAD").run((tmp_path / "r.gcode").read_text().splitlines())
    assert not machine.faults and machine.nozzle == machine.bed == machine.fan == 0
    area = 0.25 * 0.25 + math.pi * 0.125**2
    for move in machine.moves:
        assert move.filament == pytest.approx(
            move.length * area / (math.pi * 1.75**2 / 4), rel=0.01, abs=2e-5
        )
        assert all(5.2 <= v <= 214.8 for v in (*move.start, *move.end))
    walls = [s for s in strokes(machine.moves) if s[0].z > 0.3]
    assert {m.speed for s in walls for m in s} == {80} and all(
        s[0].start == s[-1].end for s in walls
    )


REFUSED = {
    "--sweep 130:5": "--sweep 130:5: upside down; give FROM:TO in Hz, for example 8:120",
    "--sweep 1:100": "--sweep 1:100: not what moves can do; stay between 2 and 200 Hz",
    "--acceleration 500": "--acceleration 500: strokes of 0.0022 mm at 120 Hz are less than a "
    "motor's step; give more "
    "acceleration, or end the sweep lower",
    "--sweep 2:130 --acceleration 20000": "strokes of 312.5 mm about x 110, y 110 leave the "
    "margin of a bed of 220 x 220 mm, zero "
    "at its corner, 220 mm high; start the sweep higher, with less acceleration, or elsewhere "
    "(--at)",
    "--ringing r.gcode": "--out and --ringing; give one of the two",
}


@pytest.mark.parametrize("words", REFUSED)
def test_a_sweep_that_makes_no_sense_is_refused(words, run, tmp_path):
    done = run("shaper", "plan", *words.split(), "--out", "s.gcode")
    assert (done.returncode, done.stderr) == (2, f"omphalon: {REFUSED[words]}\n")
    assert not list(tmp_path.iterdir())


@pytest.mark.parametrize("step", [38.3, 306.0])
def test_lost_samples_make_no_modes(step, run, tmp_path):
    """A tall, sharp resonance under few samples a second: what is lost must not look like more."""
    sharp = (Swing(54.256, 0.029, 1.0, (-0.084, 0.073)),)
    sensor = Sensor(rate_hz=700.0, lost=0.05, jitter=0.01, step_mm_s2=step, seed=320)
    log = sweep_log(sharp, Sweep(power=0.5, rate_hz_s=0.8), sensor)
    answer, _ = fitted(run, "--x", save(tmp_path, log))
    (mode,) = answer["evidence"]["x"]["modes"]
    assert mode["frequency_hz"] == pytest.approx(54.3, abs=0.3)
    assert mode["damping"] == pytest.approx(0.029, rel=0.1)


def places(run, sample, *more):
    logs = (sample("sweep-y.csv.gz"), sample("sweep-y-later.csv.gz"))
    words = ("--y", f"empty={logs[0]}", "--y", f"loaded={logs[1]}")
    return json.loads(run("shaper", "fit", *words, *more, "--json").stdout)


@pytest.mark.slow
def test_one_shaper_serves_several_places(run, sample):
    document = places(run, sample)
    one = document["evidence"]["y"]
    assert [place["label"] for place in one["places"]] == ["empty", "loaded"]
    common = document["settings"]["acceleration_mm_s2"]
    best = [place["alone"]["acceleration_mm_s2"] for place in one["places"]]
    allowed = [place["allowed_mm_s2"] for place in one["places"]]
    assert min(best) >= min(allowed) >= common and 0 < one["cost"] < 0.3
    # the shaper of one place alone allows less at the other
    alone = json.loads(run("shaper", "fit", "--y", sample("sweep-y-later.csv.gz"), "--json").stdout)
    setting = alone["settings"]["y"]
    now = f"{setting['shaper']}:{setting['frequency_hz']}:{setting['damping']}"
    present = places(run, sample, "--present-y", now)["evidence"]["y"]["present_mm_s2"]
    assert present < 0.9 * common


@pytest.mark.parametrize(
    "words, says",
    [
        (["--y", "a=SWEEP", "--y", "a=LATER"], "two logs of one label"),
        (["--y", "SWEEP", "--y", "SWEEP"], "is given twice"),
        (["--x", "SWEEP", "--y", "SWEEP"], "is given twice"),
        (["--y", "=SWEEP"], "not LABEL=LOG"),
    ],
)
def test_places_that_contradict_are_refused(run, sample, words, says):
    names = {"SWEEP": str(sample("sweep-y.csv.gz")), "LATER": str(sample("sweep-y-later.csv.gz"))}
    for name, path in names.items():
        words = [w.replace(name, path) for w in words]
    done = run("shaper", "fit", *words)
    assert done.returncode == 2 and says in done.stderr


modes_at_a_place = st.lists(
    st.tuples(st.floats(20, 90), st.floats(0.02, 0.15), st.floats(0.1, 1.0)), min_size=1, max_size=3
)


@settings(max_examples=15, deadline=None)
@given(st.lists(modes_at_a_place, min_size=2, max_size=4))
def test_what_serves_everywhere_allows_no_more_than_the_worst_place(drawn):
    places = [[Mode(f, d, s / sum(x[2] for x in rows)) for f, d, s in rows] for rows in drawn]
    limits = Limits()
    for one in candidates(places[0], limits, ("zv", "ei"), places[1:]):
        setting = (one.shaper, one.frequency_hz, one.damping)
        each = [at_setting(*setting, modes, limits).acceleration_mm_s2 for modes in places]
        assert one.acceleration_mm_s2 == pytest.approx(min(each))
