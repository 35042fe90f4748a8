"""A sensor at rest, and a ringing print in bands that eyes have read: through the built program, the
truth being what the sensor and the print were made with.
"""

import json
from dataclasses import replace

import numpy as np
import pytest

from gcode import Machine, strokes
from omphalon.physics.rest import ranges
from omphalon.standin.frame import G_MM_S2, FrameLog, Sensor, Swing, as_csv, sensed, sweep_log
from omphalon.standin.samples import FULMAR_SWEEP

FRAME = (Swing(47.0, 0.05, 1.0),)
SENSOR = Sensor(rate_hz=1600.0, seed=5)


def still(seconds=5.0, **how):
    """Some seconds of a sensor that nobody moves."""
    sensor = replace(SENSOR, **how)
    return sensed(np.zeros(int(seconds * sensor.rate_hz)), FRAME, sensor)


def pushed(log, axis, size, rows):
    """The same with an axis off by so much in some rows."""
    axes = log.acceleration.copy()
    axes[rows, axis] += size
    return FrameLog(log.time_s, axes)


def judged(run, folder, log, *words, unit="g"):
    (folder / "rest.csv").write_text("\n".join(as_csv(log, unit)) + "\n")
    done = run("shaper", "check", "rest.csv", "--kind", "rest", "--json", *words)
    assert not done.stderr, done.stderr
    return json.loads(done.stdout), done.returncode


@pytest.mark.parametrize("noise", [60.0, 150.0, 900.0])
@pytest.mark.parametrize("rate", [800.0, 3200.0])
@pytest.mark.parametrize("down", [0, 1, 2])
def test_a_still_sensor_is_read_as_it_was_made(noise, rate, down, run, tmp_path):
    along = (down + 1) % 3
    log = still(noise_mm_s2=noise, rate_hz=rate, down=down, along=along)
    answer, code = judged(run, tmp_path, log)
    assert (answer["kind"], answer["verdict"], code) == ("sensor-check", "keep", 0)
    seen = answer["evidence"]
    assert seen["upright"] == "xyz"[down] and seen["tilt_deg"] < 0.5
    assert seen["gravity_mm_s2"] == pytest.approx(G_MM_S2, rel=0.002)
    assert seen["rate_hz"] == pytest.approx(rate, rel=1e-3)
    # white noise of deviation s, sampled r times a second: s²·2/r in each hertz; steps add d²/12
    whole = np.hypot(noise, 38.3 / np.sqrt(12))
    for density in seen["noise_mm_s2_hz"].values():
        assert density == pytest.approx(whole * np.sqrt(2 / rate), rel=0.1)
    assert seen["step_mm_s2"]["x"] == pytest.approx(38.3, rel=0.03)
    assert not answer["warnings"]


REST = {
    # name: (log, more words), exit code, what is said, warnings
    "too slow": (still(rate_hz=200.0), 4, "200 samples a second are too few", []),
    "lossy": (still(lost=0.35), 4, "35% of the samples are missing", []),
    "noisy": (still(noise_mm_s2=6000.0, rate_hz=3200.0), 4, "is too noisy", []),
    "short": (still(1.5), 3, "1.5 s is too short", []),
    "turned": (pushed(still(), 1, 3000.0, slice(4000, None)), 3, "turned or pushed", []),
    "knocked": (pushed(still(), 0, 9000.0, slice(4000, 4003)), 3, "somebody knocked", []),
    "coarse": (still(noise_mm_s2=10.0, step_mm_s2=306.0), 3, "the readings never change", []),
    "a sweep": (sweep_log(FRAME, FULMAR_SWEEP, SENSOR), 3, "leave out --kind rest", []),
    "wrong scale": (
        FrameLog(still().time_s, 1.2 * still().acceleration),
        0,
        "fit for a sweep",
        ["gravity-differs"],
    ),
    "askew": (
        FrameLog(still().time_s, still().acceleration @ np.diag([1, 1, 0.966]) + [0, 2538.0, 0]),
        0,
        "fit for a sweep",
        ["sensor-skewed"],
    ),
    "a hum": (still(hum=((87.0, 400.0),)), 0, "fit for a sweep", ["hum"]),
    "a dead axis": (
        FrameLog(still().time_s, still().acceleration * [1, 0, 1]),
        0,
        "fit for a sweep",
        ["axis-still"],
    ),
}


@pytest.mark.parametrize("name", REST)
def test_what_is_wrong_with_a_sensor_is_said(name, run, tmp_path):
    log, code, told, codes = REST[name]
    answer, left = judged(run, tmp_path, log)
    assert left == code, answer["because"]
    assert told in f"{answer['because']}; {answer['next']}"
    assert [w["code"] for w in answer["warnings"]] == codes
    if name == "a hum":
        # of the three axes together: 400 · √(1 + 0.6² + 0.8²)
        assert answer["evidence"]["hum"]["frequency_hz"] == pytest.approx(87, abs=1)
        assert answer["evidence"]["hum"]["size_mm_s2"] == pytest.approx(566, rel=0.05)
    if name == "askew":
        assert "15° off the sensor's z" in answer["warnings"][0]["message"]


def test_a_gap_in_a_still_log_is_named(run, tmp_path):
    log = still()
    keep = (log.time_s < 2) | (log.time_s > 2.5)
    answer, code = judged(run, tmp_path, FrameLog(log.time_s[keep], log.acceleration[keep]))
    assert code == 4 and "a gap of 0.50 s at 2.0 s" in answer["because"]


@pytest.mark.parametrize(
    "bits, reach_g", [(10, 2), (12, 8), (13, 16), (16, 4), (14, 32)], ids=lambda v: str(v)
)
def test_a_range_follows_from_step_and_word_length(bits, reach_g):
    assert ranges(2 * reach_g * G_MM_S2 / 2**bits)[bits] == reach_g


def test_a_step_that_no_sensor_has_tells_no_range():
    assert ranges(7.77e-3 * G_MM_S2 * 1.1) == {}


BANDS = ["--bands", "500:4000:500", "--axis", "y"]
SET = ["--shaper", "ei", "--frequency", "31", "--damping", "0.055"]


def seen(run, *words):
    done = run("shaper", "check", *words, "--json")
    assert not done.stderr, done.stderr
    return json.loads(done.stdout), done.returncode


@pytest.mark.parametrize(
    "looks, use, code, limit",
    [
        # ripple starts between the clean band and the next: (2750 + 3250 + 2750) / 3 of those in use
        ((2500, 3000, 2500), 2900, 0, 0.01 * 2916.67 / 2900),
        ((2500, 3000, 2500), 1500, 4, 0.01 * 2916.67 / 1500),
        ((1000, 1000, 1500, 1000), 3000, 4, 0.01 * 1375 / 3000),
    ],
    ids=["agrees", "sees less", "sees more"],
)
def test_eyes_are_held_against_what_was_allowed(looks, use, code, limit, run):
    words = [w for look in looks for w in ("--seen", look)]
    answer, left = seen(run, *words, *BANDS, "--acceleration", use)
    assert left == code and answer["kind"] == "bands-check"
    assert answer["evidence"]["eye_limit_mm"] == pytest.approx(limit, rel=1e-4)
    if code:
        assert f"--ringing-limit {limit:.2g}" in answer["next"]


def test_with_a_log_the_ringing_in_use_is_worked_out(run, sample):
    log = str(sample("sweep-y.csv.gz"))
    fit, _ = seen(run, log, "--axis", "y", *SET, "--acceleration", "900")
    looks = ["--seen", 2500, "--seen", 3000, "--seen", 2500]
    answer, _ = seen(run, log, *SET, *looks, *BANDS, "--acceleration", 900)
    evidence = answer["evidence"]
    # ringing grows with the acceleration
    assert evidence["eye_limit_mm"] == pytest.approx(
        evidence["ringing_mm"] * evidence["seen_mm_s2"] / 900, rel=1e-4
    )
    # at what the setting allows, ringing stays within its limit
    most = fit["evidence"]["acceleration_mm_s2"]
    assert evidence["ringing_mm"] * most / 900 <= 0.01 * 1.001


SAID = {
    "--seen 4000 --seen 3500": (3, "1 of 2 readings found no ripple up to the last band of 4000"),
    "--seen 0 --seen 500": (3, "1 of 2 readings found ripple already in the first band of 500"),
    "--seen 500": (3, "too wide to compare with a limit"),
    "--seen 2600": (2, "--seen 2600: no band of --bands 500:4000:500"),
}


@pytest.mark.parametrize("words", SAID)
def test_looks_that_settle_nothing(words, run):
    code, told = SAID[words]
    done = run("shaper", "check", *words.split(), *BANDS, "--acceleration", "2000")
    assert done.returncode == code
    assert told in " ".join((done.stdout + done.stderr).split())


REFUSED = {
    "rest.csv": "no --axis, --shaper, --frequency, --acceleration; say which axis and what is in "
    "force",
    "--kind rest": "--kind rest with 0 logs; give one log of a sensor at rest",
    "rest.csv --kind rest --axis x": "--axis with --kind rest: it has no say there; leave it out",
    "rest.csv --kind rest --seen 500": "--seen with --kind rest: it has no say there; leave it out",
    "": "no log; give a fresh log, or --seen with --bands",
    "--seen 500": "--seen without --bands; give the bands that were printed",
    "rest.csv --bands 500:4000:500": "--bands without --seen; give both",
    "--seen 500 --bands 500:4000:500": "no --axis, --acceleration; say which axis and what is in "
    "force",
    "rest.csv --seen 1000 --bands 500:4000:500 --axis x --acceleration 900": "a log without the "
    "setting; give --shaper and --frequency, or leave the log out",
    "--seen 500 --axis x --acceleration 900 --bands 4000:500:500": "--bands 4000:500:500: the range is upside down, or the "
    "step not above 0; for example 500:4000:500",
    "--seen 500 --axis x --acceleration 900 --bands 500:4000:10": "--bands 500:4000:10: 351 bands; choose a step that makes 4 "
    "to 40",
}


@pytest.mark.parametrize("words", REFUSED)
def test_a_check_that_lacks_something_says_what(words, run, tmp_path):
    (tmp_path / "rest.csv").write_text("\n".join(as_csv(still(), "g")) + "\n")
    done = run("shaper", "check", *words.split())
    assert (done.returncode, done.stderr) == (2, f"omphalon: {REFUSED[words]}\n")


@pytest.mark.parametrize("layer, fast", [(0.2, 70), (0.3, 55)])
def test_bands_rise_by_height_and_are_written_on_the_plate(layer, fast, run, tmp_path):
    words = ["--bands", "500:3000:500", "--layer", layer, "--fast", fast]
    done = run(
        *["shaper", "plan", "--dialect", "stand-in", "--ringing", "bands.gcode", "--json"], *words
    )
    assert done.returncode == 0, done.stderr
    plan = json.loads(done.stdout)
    high, bands = plan["settings"]["band_mm"], plan["settings"]["bands_mm_s2"]
    assert bands == [500, 1000, 1500, 2000, 2500, 3000]
    lines = (tmp_path / "bands.gcode").read_text().splitlines()
    machine = Machine("PUSH").run(lines)
    assert not machine.faults
    walls = [s for s in strokes(machine.moves) if len(s) > 8]
    for wall in walls:
        band = bands[min(int((wall[0].z - layer / 2) / high), len(bands) - 1)]
        assert {float(move.value) for move in wall} == {band}
    assert max(m.z for m in machine.moves) == pytest.approx(high * len(bands), abs=layer)
    # a rib tops each band: a wall with more corners than the others
    plain = min(len(wall) for wall in walls)
    ribs = [wall[0].z for wall in walls if len(wall) > plain]
    assert {round(z / high) for z in ribs} == {1, 2, 3, 4, 5, 6}
    assert all((z - layer / 2) % high > high - 0.7 for z in ribs)
    written = {m.note.split()[1] for m in machine.moves if m.note.startswith("digits")}
    assert written == {f"{band:.0f}" for band in bands}


PLANNED = {
    "--bands 500:3000:500": "--bands without --ringing; name the file: --ringing FILE",
    "--ringing r.gcode --bands 500:3000:500": "no line that sets the acceleration: the bands need "
    "one; give your controller's own with --acceleration-line '… {acceleration:.0f} …', or a "
    "dialect with --dialect FILE",
    "--ringing r.gcode --bands 100:3000:100 --dialect stand-in": "--fast 90 is not reached between "
    "the steps at 100 mm/s²; choose 49 mm/s, or bands that start higher",
    "--ringing r.gcode --bands 500:3000:500 --acceleration 900": "--acceleration and --bands; the "
    "bands say it; leave it out",
}


@pytest.mark.parametrize("words", PLANNED)
def test_bands_that_cannot_be_printed(words, run, tmp_path):
    done = run("shaper", "plan", *words.split())
    assert (done.returncode, done.stderr) == (2, f"omphalon: {PLANNED[words]}\n")
    assert not list(tmp_path.iterdir())
