"""Ordinary slips of hand, through the built program: none may give a setting without a word on it,
none may be a fault of our own."""

import gzip
import json
import shutil
from dataclasses import replace

import numpy as np
import pytest

from conftest import SAMPLES
from omphalon.answers.remarks import warnings
from omphalon.standin.oscillation import as_csv, oscillation_log
from omphalon.standin.samples import FULMAR_HOTEND, HOTEND_TEST

E = "extruder fit --steps 412 --asked 80 --mark 110 "
A = "axis fit --axis x --steps 80 "
F = "flow fit --flow 1 --expected 0.45 "
W = "--wall 0.48 --wall 0.47 --wall 0.48 --wall 0.49 "
H = "heater fit good.csv "
T = "advance fit --from 0 --per-mm 0.0025 --to 0.12 "
P = "probe fit --offset -1.85 "
S = "shaper fit --ripple-x 2 --speed 80 "
L = "advance plan --style ladder --out p.gcode "
RETEST = 3
WARM = replace(HOTEND_TEST, target_c=75.0)

# words: exit code and a piece of what is said, or the code of the warning that must stand there
SLIPS = {
    # not finite, too large, of another kind
    "extruder fit --steps nan --asked 80 --fed 75": (2, "is not a finite number"),
    "extruder fit --steps inf --asked 80 --fed 75": (2, "is not a finite number"),
    f"extruder fit --steps {'9' * 300} --asked 80 --fed 75": (2, "too many digits"),
    "extruder fit --steps 4e9 --asked 80 --fed 75": (2, "steps per mm here is 1 to 100000"),
    "extruder fit --steps ٤١٢ --asked 80 --fed 75": (2, "is not steps per mm"),
    "extruder fit --steps 412 --asked 80 --fed nan": (2, "is not a finite number"),
    "extruder fit --steps 412 --asked 80 --fed 20cm": (RETEST, "no setting is that wrong"),
    "extruder fit --steps 412 --asked 80 --fed 75 --speed 20cm": (2, "units here: mm/s"),
    "extruder fit --steps 412 --asked 80 --fed 75.4kg": (2, "does not belong to a length"),
    "extruder fit --steps 412 --asked 80 --fed 75..4": (2, "is not a length"),
    "extruder fit --steps 412 --asked 80 --fed 1,234.5": (2, "is not a length"),
    E + "--left 34.6 --placing nan": (2, "is not a finite number"),
    E + "--left 34.6 --resolution 0": (2, "more than 0"),
    E + "--left 34.6 --temp 900": (2, "°F? write °C"),
    E + "--left 34.6 --temp 350": "unusual-value",
    F + W + "--squeeze nan": (2, "is not a finite number"),
    "flow fit --flow 97 --expected 0.45 " + W: (2, "97 % is 0.97"),
    "flow fit --flow nan --expected 0.45 " + W: (2, "is not a finite number"),
    "flow fit --flow 2 --expected 0.45 " + W: "unusual-value",
    "flow fit --flow 1 --expected 0.48in " + W: (RETEST, "no flow is that wrong"),
    H + "--gain-scale nan": (2, "is not a finite number"),
    H + "--loop-period nan": (2, "is not a finite number"),
    H + "--power-limit nan": (2, "is not a finite number"),
    H + "--power-limit 80": (2, "80 % is 0.8"),
    H + "--target 455": (RETEST, "is the target in °F?"),
    H + "--target 900": (2, "°F? write °C"),
    H + "--target 225": "tested-elsewhere",
    H + "--power-high 0.9": (2, "--power-high with a LOG"),
    H + "--target 150": (RETEST, "more than 60 °C away"),
    H + "--full-power 127": (2, "--full-power 255 would fit"),
    H + "--heater bed": (RETEST, "which no bed does"),
    H + "--every 1": (2, "has times of its own"),
    H + "--kp 30": (2, "is neither form"),
    H + "--kp 30 --ki nan --kd 3": (2, "is not a finite number"),
    H + "good.csv": (2, "one log is given twice"),
    H + "--dialect nan.toml": (1, "gain_scale must be a number above 0"),
    H + "--column power=temperature_c": (1, "no temperature among the columns"),
    "heater fit fahrenheit.csv": (RETEST, "in °F it is room temperature and a typical hotend"),
    "heater fit bare.csv": (RETEST, "temperatures only: neither power nor target"),
    "heater fit bare.csv --target 235": "power-missing",
    "heater fit untold.csv": "target-guessed",
    "heater fit warm-bed.csv --heater bed --target 75": "heater-doubtful",
    "heater fit good.csv.gz": "power-scale-guessed",
    "heater check hold.csv --target 455": (RETEST, "the log never gets close to 455 °C"),
    "heater check hold.csv --target 233": "target-differs",
    "heater check hold.csv --target 235 --from nan": (2, "is not a finite number"),
    "heater check hold.csv --target 235 --dialect x.toml": (2, "No such option"),
    "heater check hold.csv hold.csv --target 235": (2, "before and after are one log"),
    "heater plan --target 455": "unusual-value",
    "heater plan --target 900": (2, "not a hotend's temperature"),
    "heater plan --heater bed --target 140": "unusual-value",
    # readings that do not belong together
    A + "--asked 100 --moved 101 --asked 50": (2, "they do not pair up"),
    A + "--asked 100 --asked 50 --moved 50.5 --moved 100": (RETEST, "two readings are swapped"),
    A + "--asked 100 --moved -101": (1, "write both with the sign of the direction"),
    A + "--asked 100 --moved 10.05": (RETEST, "as if cm were written for mm"),
    A + "--asked 100 --moved 200": (RETEST, "a microstepping mistake"),
    A + "--asked 100 --moved 170": (RETEST, "no setting is that wrong"),
    A + "--asked 100 --moved 102": "one-reading",
    A + "--asked 60 --moved 60": (RETEST, "could hide in it"),
    A + "--asked 100 --moved 100.5 --belt-pitch 2": (2, "--belt-pitch without --teeth"),
    A + "--asked 100 --moved 100.5 --gear 3": (2, "--gear without --belt-pitch or --screw-lead"),
    A + "--asked 100 --moved 100.5 --diagonal 141 142": (2, "--diagonal without --sides"),
    "axis fit --axis X --steps 80 --steps y=80 --asked 9 --moved 9": (2, "no reading of axis y"),
    "axis fit --axis w --steps 80 --asked 9 --moved 9": (2, "Invalid value for '--axis'"),
    "axis fit swapped.csv --steps x=80": (RETEST, "two readings are swapped"),
    E + "--left 34.6 --left 34.9 --speed 1 --speed 2 --speed 3": (2, "they do not pair up"),
    E + "--left 34.6 --fed 75": (2, "fed lengths told twice"),
    E + "--left 34.6 --gear 3": (2, "--gear without --wheel"),
    E + "--left 134.6": (1, "is not above 0"),
    "extruder fit comma.csv --steps 412": (1, "row 2: 4 cells under 3 columns"),
    "extruder fit doubled.csv --steps 412": (1, "two columns are named 'left_mm'"),
    "extruder fit forgotten.csv --steps 412": (1, "row 3: no left_mm; fill it in"),
    "extruder fit note.csv --steps 412": "column-passed-over",
    "extruder fit inch.csv --steps 412": (RETEST, "as if inches were written for mm"),
    F + "--wall 0.48 --wall 0.47 --wall 4.8": "reading-left-out",
    F + "--wall 0.90 --wall 0.91 --wall 0.90 --wall 0.9": (RETEST, "two walls for one"),
    F + "--wall 0.45": (RETEST, "walls vary from place to place"),
    T + "--height 70": (RETEST, "all heights lie above the tower"),
    T + "--height 20 --height 20in": "outside-tower",
    T + "--value 0.02": (2, "--per-mm without heights"),
    "advance fit --height 3 --value 0.1": (2, "two kinds of reading at once"),
    "advance fit --value 0 --value 0.02": (RETEST, "±0.020 s only"),
    "advance fit --value 40 --value 42": (2, "write the unit behind the number"),
    "advance fit --value 0.04 --per-mm 0.002": (2, "--per-mm without heights"),
    "advance check --before 0.2 --after 1.5in": (2, "a bulge here is -3 to 3 mm"),
    P + "--drag 0.22 --drag 2.4 --drag 0.22 --drag 0.23": "slip-of-the-pen,reading-left-out",
    P + "--drag 22 --drag 24": (2, "a height here is -20 to 20 mm"),
    P + "--drag 0.22 --drag 0.24 --drag 0.23 --trigger 0.01 --trigger 0.3": "probe-unsteady",
    P + "--drag 0.22 --drag 0.24 --drag 0.22 --trigger -0.4": "probe-below",
    "probe fit --offset 1.85 --drag 0.22 --drag 0.1 --drag 0.1 --paper 0.1in": (2, "a length here"),
    "motion fit lost.csv": (1, "row 3: result 'lost'"),
    "motion fit --axis x --pass 300 --fail 200 --pass 100 --quantity warp": (2, "'--quantity'"),
    "motion fit --axis x --pass 1 --pass 2 --fail 3": "limit-too-low",
    "motion check --axis y --limit 160 --pass 120": (RETEST, "was not tested"),
    "motion check two.csv --limit 160": (2, "runs of axes x, y, and one limit"),
    S + "--present-y zv:40:0.1": (2, "--present-y without --y"),
    S + "--sensor-x x": (2, "--sensor-x without --x"),
    S + "--offered zv,ei2": (2, "no shaper 'ei2'"),
    S + "--drift 5": (2, "a share here is 0 to 0.3"),
    "shaper fit --ripple-x 2": (2, "ripples without the speed"),
    "shaper fit --ripple-x 2 --speed 80m": (2, "does not belong to a speed"),
    "shaper fit --x gyro.csv": (1, "could both be axis x"),
    "shaper fit --x rows.csv --every 0.01 --rate 100": (2, "--every and --rate"),
    "shaper check sweep.csv --axis x --shaper zv --frequency 4000 --acceleration 9": (2, "500 Hz"),
    # lines and files
    L + "--line {advance.__class__}": (2, "a field 'advance.__class__' in it"),
    L + "--line A{advance:99999999f}": (2, "the format '99999999f'"),
    L + "--line A{advance:.4f}\rM104S400": (2, "a control character or a line end"),
    L + "--line ;{advance:.4f}": (2, "a comment, no command"),
    L + "--line A{advance:.4f} --temp 900": (2, "°F? write °C"),
    L + "--line A{advance:.4f} --temp 390": "unusual-value",
    L + "--line A{advance:.4f} --plot p.gcode": (2, "not a kind of figure"),
    "shaper plan --axis y --out s.gcode --ringing s.gcode": (2, "--out and --ringing"),
    "advance plan --style ladder --line A{advance:f} --out note.csv": (2, "did not write it"),
    "extruder fit note.csv --steps 412 --plot note.csv": (2, "not a kind of figure"),
    "axis plan --out gauge.png": (2, "no picture is written there"),
    "flow fit f.svg --flow 1 --expected 0.45 --plot f.svg --force": (2, "overwrite what is read"),
    "motion plan --axis y --speed 100:300:25 --travel 10:20 --out d.gcode": (2, "too short"),
    "motion plan --axis y --speed 100:300:0 --out d.gcode": (2, "a speed here is 0.01 to 2000"),
    "heater fit bomb.csv.gz": (1, "larger than 30 MB"),
    "heater fit odd\x1b[31mname.csv": (1, "odd\\x1b[31mname.csv: no such file"),
    # an option that has no say in this way of answering
    E + "--left 34.6 --temp 95": (2, "no filament flows"),
    "extruder fit --steps 412 --asked 80 --fed 79 --mark 110": (2, "--mark with --fed"),
    "extruder fit --steps 412 --asked 80 --before 120 --after 41 --placing 1": (
        2,
        "--placing with --before",
    ),
    "flow fit --flow 1 --diameter 1.71 --diameter 1.72 --squeeze 0.02": (2, "--squeeze with"),
    "flow fit --flow 1 --expected 0.45 --wall 0.45 --nominal 1.75": (2, "--nominal with"),
    "probe fit --offset -1.85 --trigger 0.01 --trigger 0.02 --paper 0.1": (2, "no --drag"),
    "advance plan --style ladder --line X{advance} --out w.gcode --side 40": (2, "--side with"),
    "advance plan --style tower --line X{advance} --out w.gcode --layers 4": (2, "--layers with"),
}


@pytest.fixture(scope="session")
def slips(tmp_path_factory):
    """Files with slips in them, made once."""
    made = tmp_path_factory.mktemp("slips")
    log = list(as_csv(oscillation_log(FULMAR_HOTEND, HOTEND_TEST)))
    rows = [line.split(",") for line in log[1:]]
    text = (SAMPLES / "hotend-oscillation.csv").read_text()
    files = {
        "good.csv": text,
        "fahrenheit.csv": "\n".join(
            ["time_s,temperature,target,power"]
            + [
                f"{t},{float(c) * 1.8 + 32:.1f},{float(g) * 1.8 + 32:.1f},{p}"
                for t, c, g, p in rows
            ]
        ),
        "bare.csv": "\n".join(["time_s,temperature"] + [f"{r[0]},{r[1]}" for r in rows]),
        "untold.csv": "\n".join(
            ["time_s,temperature,power"] + [",".join([*r[:2], r[3]]) for r in rows]
        ),
        "warm-bed.csv": "\n".join(as_csv(oscillation_log(FULMAR_HOTEND, WARM))),
        "hold.csv": (SAMPLES / "hold-after.csv").read_text(),
        "nan.toml": "gain_scale = nan\n",
        "swapped.csv": "axis,asked_mm,moved_mm\nx,50,100.1\nx,100,50.2\nx,52,98\nx,98,52.1\n",
        "comma.csv": "asked_mm,mark_mm,left_mm\n80,110,34,6\n80,110,34,9\n",
        "doubled.csv": "asked_mm,left_mm,left_mm\n80,34.6,34.6\n",
        "forgotten.csv": "asked_mm,mark_mm,left_mm\n80,110,34.6\n80,110,\n80,110,34.4\n",
        "note.csv": "asked,mark,left,colour\n80,110,34.6,red\n80,110,34.9,red\n80,110,34.4,red\n",
        "inch.csv": "asked_mm,fed_mm\n80,2.97\n80,2.98\n",
        "lost.csv": "axis,speed_mm_s,result\nx,100,pass\nx,200,lost\n",
        "two.csv": "axis,speed_mm_s,result\nx,160,pass\ny,160,pass\n",
        "gyro.csv": "time_s,x_1,x_2,y,z\n0,1,1,1,1\n",
        "rows.csv": "x_g,y_g,z_g\n0,0,1\n",
        "f.svg": "wall_mm\n0.45\n",
    }
    for name, content in files.items():
        (made / name).write_text(content)
    (made / "good.csv.gz").write_bytes(gzip.compress(text.encode()))
    (made / "bomb.csv.gz").write_bytes(gzip.compress(b"time,temp\n" + b"1,200\n" * 6_000_000, 9))
    return made


@pytest.fixture
def folder(slips, tmp_path):
    """A folder of its own with the files."""
    shutil.copytree(slips, tmp_path, dirs_exist_ok=True)
    return tmp_path


def check(words, expected, run):
    words = words.split(" ")
    done = run(*[w for w in words if w], "--json")
    document = json.loads(done.stdout) if done.stdout else {}
    if isinstance(expected, str):
        assert done.returncode in (0, 3, 4), done.stderr
        codes = {w["code"] for w in document["warnings"]}
        assert codes & set(expected.split(",")), (codes, document["warnings"])
        assert codes <= set(warnings())
        return
    code, says = expected
    assert done.returncode == code, (done.stdout, done.stderr)
    assert says in (done.stderr if code < 3 else document["because"] + document["next"])
    if code < 3:
        assert done.stderr.startswith("omphalon: ") and done.stderr.count("\n") == 1
        assert not done.stdout
    else:
        assert document["settings"] == {} and document["lines"] == []


@pytest.mark.parametrize("words", SLIPS)
def test_a_slip_is_refused_or_warned_of(words, run, folder):
    before = sorted(p.name for p in folder.iterdir())
    check(words, SLIPS[words], run)
    made = {p.name for p in folder.iterdir()} - set(before)
    assert not made or isinstance(SLIPS[words], str)


FORMS = [
    "0.48",
    "0,48",
    "0.48 mm",
    "480 um",
    "0.018897638 in",
    '0.018897638"',
    "4.8e-1",
    ".48",
    "+0.48",
]


@pytest.mark.parametrize("text", FORMS)
def test_the_same_number_in_every_form(text, run):
    walls = [w for one in (text, "0.47", "0.49", "0.48") for w in ("--wall", one)]
    done = run("flow", "fit", "--flow", "100%", "--expected", "0,45 mm", *walls, "--json")
    evidence = json.loads(done.stdout)["evidence"]
    assert done.returncode == 0 and evidence["mean_mm"] == pytest.approx(0.48, abs=1e-6)


MUTATED = {
    "hotend-oscillation.csv": ["heater", "fit"],
    "bed-console.txt": ["heater", "fit"],
    "hold-after.csv": ["heater", "check", "--target", "235"],
    "extruder-runs.csv": ["extruder", "fit", "--steps", "412"],
    "axis-parts.csv": ["axis", "fit", "--steps", "x=80", "--steps", "y=80"],
    "flow-walls.csv": ["flow", "fit", "--flow", "1", "--expected", "0.45"],
    "ladder-widths.csv": ["advance", "fit"],
    "cube-corners.csv": ["advance", "check", "--seam", "rear-left"],
}
BYTES = b"0123456789.,;:-+eE\t\n\r\"'{}%/ nanx\x00\xff\xe2\x88\x92"


def mutated(text, random):
    """Some bytes changed, lines lost, doubled, swapped or cut."""
    lines = text.split(b"\n")
    for _ in range(int(random.integers(1, 4))):
        at, other = random.integers(len(lines), size=2)
        kind = random.integers(5)
        if kind == 0:
            lines[at], lines[other] = lines[other], lines[at]
        elif kind == 1:
            lines.insert(at, lines[other])
        elif kind == 2:
            lines[at] = lines[at][: random.integers(len(lines[at]) + 1)]
        else:
            line = bytearray(lines[at] or b"0")
            line[random.integers(len(line))] = BYTES[random.integers(len(BYTES))]
            lines[at] = bytes(line)
    return b"\n".join(lines)


def fuzzed(name, seeds, run, sample, folder):
    """The program on mutated copies of a sample: an answer or one line, never a fault of its own."""
    for seed in seeds:
        (folder / name).write_bytes(mutated(sample(name).read_bytes(), np.random.default_rng(seed)))
        group, verb, *options = MUTATED[name]
        done = run(group, verb, name, *options, "--json")
        assert "fault of omphalon" not in done.stderr, (name, seed, done.stderr)
        assert done.returncode in (0, 1, 2, 3, 4), (name, seed, done.returncode)
        assert (done.returncode in (1, 2)) == (not done.stdout), (name, seed)
        if done.stdout:
            json.loads(done.stdout)


@pytest.mark.slow
@pytest.mark.parametrize("name", MUTATED)
def test_mutated_samples_get_an_answer_or_one_line(name, run, sample, tmp_path):
    count = 3 if name in ("hotend-oscillation.csv", "bed-console.txt") else 30
    fuzzed(name, range(count), run, sample, tmp_path)
