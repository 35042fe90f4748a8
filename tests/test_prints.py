"""Test prints under a G-code interpreter of the tests' own: thirty option sets of each style."""

import json
import math

import numpy as np
import pytest

from gcode import Machine, strokes

SETS = 30


def option_set(style, seed):
    random = np.random.default_rng([seed, len(style)])
    nozzle = float(random.choice([0.25, 0.4, 0.6, 0.8]))
    bowden = bool(random.random() < 0.5)
    top = float(random.choice([0.4, 0.8, 1.2] if bowden else [0.04, 0.08, 0.12]))
    low = float(random.choice([0, 0.25])) * top
    count = int(random.integers(5, 12))
    height = float(random.integers(12, 60))
    layer = round(nozzle * random.uniform(0.3, 0.7), 2)
    width = round(nozzle * random.uniform(1.05, 1.3), 2)
    options = {
        "drive": "bowden" if bowden else "direct",
        "from": low,
        "to": top,
        "step": (top - low) / (height if style == "tower" else count),
        "nozzle": nozzle,
        "filament": float(random.choice([1.75, 2.85])),
        "layer": layer,
        "width": width,
        "slow": float(random.integers(8, 20)),
        "fast": float(random.integers(40, 60)),
        "first": float(random.integers(10, 25)),
        "acceleration": float(random.integers(500, 5000)),
        "temp": float(random.integers(190, 280)),
        "bed-temp": float(random.choice([0, 55, 90])),
        "retract": float(random.choice([0, 0.6, 5])),
        "margin": float(random.integers(2, 15)),
        "fan": float(random.choice([0, 0.4, 1])),
        "bed": str(random.choice(["220:220", "250:210", "round:260", "300:300"])),
        "height": 120.0,
    }
    return options, bool(random.random() < 0.3)


def section(options):
    """A line's cross-section: a strip with half circles at its sides."""
    height, width = options["layer"], options["width"]
    return height * (width - height) + math.pi * (height / 2) ** 2


def room(options, centred):
    """(inside, distance) of the bed: a function of a place that gives how far it lies inside the
    edge.
    """
    if options["bed"].startswith("round:"):
        radius = float(options["bed"][6:]) / 2
        return lambda x, y: radius - math.hypot(x, y)
    wide, deep = (float(v) for v in options["bed"].split(":"))
    if centred:
        return lambda x, y: min(wide / 2 - abs(x), deep / 2 - abs(y))
    return lambda x, y: min(x, y, wide - x, deep - y)


@pytest.mark.parametrize("style", ["tower", "ladder", "corners"])
@pytest.mark.parametrize("seed", range(SETS))
def test_a_print_holds_what_it_promises(style, seed, run, tmp_path):
    options, centred = option_set(style, seed)
    words = [w for name, value in options.items() for w in (f"--{name}", value)]
    words += ["--centred"] if centred else []
    done = run(
        *["advance", "plan", "--style", style, "--dialect", "stand-in", "--out", "p.gcode"], *words
    )
    assert done.returncode == 0, done.stderr
    machine = Machine("LEAD").run((tmp_path / "p.gcode").read_text().splitlines())
    assert not machine.faults
    inside = room(options, centred)
    edge = options["margin"] + options["width"] / 2 - 2e-3
    for move in machine.moves:
        assert inside(*move.start) >= edge and inside(*move.end) >= edge
        per_mm = section(options) / (math.pi * options["filament"] ** 2 / 4)
        assert move.filament == pytest.approx(move.length * per_mm, rel=0.01, abs=2e-5)
        frame = [min(40.0, options["fast"])] if move.note == "frame" else []
        frame += [5.0] if move.note == "tower" else []  # bands past the clean corner
        assert move.speed in [*(options[k] for k in ("slow", "fast", "first")), *frame]
    assert all(inside(*end) >= options["margin"] for _, end, z in machine.travels if z < 10)
    assert max(m.z for m in machine.moves) <= options["height"]
    assert machine.nozzle == machine.bed == machine.fan == 0
    assert VALUES[style](machine, options) > 4


def tower_values(machine, options):
    layer, seen = options["layer"], 0
    for stroke in strokes(machine.moves):
        if stroke[0].z > 1.5 * layer:
            seen += 1
            middle = stroke[0].z - layer / 2
            expected = min(options["from"] + options["step"] * middle, options["to"])
            values = [float(m.value) for m in stroke]
            assert values == pytest.approx([expected] * len(stroke), abs=2e-5)
            assert stroke[0].start == stroke[-1].end  # the seam: rear left
    top = max(m.z for m in machine.moves)
    assert top == pytest.approx((options["to"] - options["from"]) / options["step"], abs=layer)
    return seen


def ladder_values(machine, options):
    lines = [s for s in strokes(machine.moves) if s[0].note.startswith("rung")]
    lines.sort(key=lambda s: s[0].start[1])
    slow, fast = options["slow"], options["fast"]
    values = []
    for row, line in enumerate(lines):
        values.append(float(line[0].value))
        assert {m.value for m in line} == {line[0].value}
        assert [m.speed for m in line] == [slow, *[fast, slow] * (len(line) // 2)]
        assert float(line[0].note.split()[1]) == pytest.approx(
            1000 * values[-1], abs=50 * options["step"] + 1e-3
        )
        assert (line[0].start[0] < line[-1].end[0]) == (row % 2 == 0)  # neighbours' ways
    count = round((options["to"] - options["from"]) / options["step"]) + 1
    expected = [options["from"] + n * options["step"] for n in range(count)]
    assert sorted(values) == pytest.approx(sorted(expected * 2), abs=1e-5)
    places = {v: [n for n, w in enumerate(values) if w == v] for v in values}
    assert all(b - a > 2 for a, b in places.values())  # each twice, apart
    assert len({round(b - a, 9) for a, b in zip(values, values[1:], strict=False)}) > 1
    return len(lines)


def corner_values(machine, options):
    shapes = [s for s in strokes(machine.moves) if s[0].note.startswith("corner")]
    for corner in shapes:
        a, b = corner
        assert a.value == b.value and a.start[0] == a.end[0] and b.start[1] == b.end[1]
        assert float(a.note.split()[1].rstrip(",")) == pytest.approx(float(a.value), abs=1e-5)
    places = {s[0].start for s in shapes}
    values = {s[0].start: s[0].value for s in shapes}
    row = sorted(places, key=lambda p: (-p[1], p[0]))
    expected = [options["from"] + n * options["step"] for n in range(len(row))]
    assert [float(values[p]) for p in row] == pytest.approx(expected, abs=1e-5)
    return len(places)


VALUES = {"tower": tower_values, "ladder": ladder_values, "corners": corner_values}


def test_the_interpreter_sees_faults():
    head = ["G90", "M83", "G28"]
    assert Machine("LEAD").run([*head, "G1 X9 E1"]).faults == ["line 4: feeds while cold"]
    late = Machine("LEAD").run(["M109 S200", "G1 X9 E1", *head])
    assert late.faults == ["line 2: moves before home, G90 and M83"]
    dry = Machine("LEAD").run([*head, "M109 S200", "G1 E-1", "G1 X9 E1"])
    assert dry.faults == ["line 6: lays plastic while retracted"]


BAD = {
    "--from 0.1 --to 0.05": "--from 0.1 --to 0.05: the range is upside down; give the lower value "
    "with --from",
    "--from -0.1": "--from -0.1: cannot be: a pressure advance here is 0 to 5 s (some hundredths "
    "for a direct drive, some tenths for a bowden tube); check the number and its "
    "unit",
    "--to 0.1 --step 0.2": "--step 0.2: larger than the range of 0.1; give at most 0.01",
    "--step 0": "--step 0: not above 0; give a small step, for example 0.005",
    "--to 0.1 --step 0.05": "--step 0.05 makes 3 values; choose one that makes 5 to 200: 0.0042 "
    "makes 25",
    "--to 9": "--to 9: cannot be: a pressure advance here is 0 to 5 s (some hundredths for a "
    "direct drive, some tenths for a bowden tube); write the unit behind the number if "
    "it is not s (40 ms)",
    "--step 0.001": "121 values, each twice, do not fit a bed of 220 x 220 mm, zero at its corner, "
    "220 mm high; give a larger --step: 0.0044 makes 28",
    "--bed 70:70": "a ladder takes 100 mm, a bed of 70 x 70 mm, zero at its corner, 220 mm high "
    "has 59; print a tower: --style tower",
    "--style tower --step 0.0002": "the print is 600.0 mm high, the printer 220 mm; choose a "
    "larger --step, or a narrower range",
    "--style tower --step 0.05": "--step 0.05 per mm makes a tower of 2.4 mm; give a smaller "
    "step: 0.0025 makes one of 48 mm",
    "--fast 5000": "--fast 5000: cannot be: a speed here is 1 to 1000 mm/s; if it is mm/min, "
    "write the unit behind it",
    "--fast 300 --acceleration 500": "--fast 300 is never reached within the fast stretch at 500 "
    "mm/s²; choose 110 mm/s, or more acceleration",
    "--fast 25": "--fast 25, --slow 22: too alike to see the change; let fast be twice as fast",
    "--fast 400 --acceleration 9000": "--fast 400: 33 mm³ of plastic a second, more than a nozzle "
    "melts; choose a lower speed, a narrower line or a thinner "
    "layer",
    "--layer 0.5": "--layer 0.5: cannot be printed so; choose between 0.03 and 0.36",
    "--temp 20": "--temp 20: cannot be: a nozzle's temperature while it feeds here is 150 to 500 "
    "°C (colder than that no filament flows); check the "
    "number and its unit",
    "--line SET": "--line SET: no {advance} in it; put it where the number belongs: '… "
    "{advance:.4f} …'",
    "--line X{advance:.1f}": "--line X{advance:.1f}: writes neighbouring values alike; give it "
    "more decimals: {advance:.5f}",
    "--line X{advance:.4f}{e}": "--line 'X{advance:.4f}{e}': a field 'e' in it; its fields are "
    "{advance}",
    "--bed big": "--bed big: not 2 numbers with colons between; for example 220:220 or round:180",
    "--acceleration-line PUSH": "--acceleration-line PUSH: no {acceleration} in it; put it where "
    "the number belongs: '… {acceleration:.0f} …'",
    "--dialect default": "no line that sets pressure advance: controllers share no code for it; "
    "give your controller's own with --line '… {advance:.4f} …', or a "
    "dialect with --dialect FILE",
}


@pytest.mark.parametrize("words", BAD)
def test_a_print_that_makes_no_sense_is_refused(words, run, tmp_path):
    given = words.split() if "--style" in words else ["--style", "ladder", *words.split()]
    given += [] if "--dialect" in words else ["--dialect", "stand-in"]
    done = run("advance", "plan", *given, "--out", "p.gcode")
    assert (done.returncode, done.stderr) == (2, f"omphalon: {BAD[words]}\n")
    assert not list(tmp_path.iterdir()) and not done.stdout


def test_present_value_is_set_again_and_a_picture_is_drawn(run, tmp_path):
    words = ["--style", "corners", "--line", "SET {advance:.4f}", "--advance", "0.04"]
    done = run("advance", "plan", *words, "--out", "p.gcode", "--plot", "p.png")
    lines = (tmp_path / "p.gcode").read_text().splitlines()
    assert [x for x in lines if x.startswith("SET")][-1] == "SET 0.0400"
    assert done.returncode == 0 and not done.stderr and (tmp_path / "p.png").stat().st_size > 20000
    assert (
        lines[2]
        == "; corners for pressure advance: 25 corners, 0.000 to 0.120 by 0.005, values printed "
        "below each"
    )
    assert all(line.isascii() for line in lines)


def test_a_print_that_cannot_be_saved(run):
    done = run(
        "advance", "plan", "--style", "tower", "--dialect", "stand-in", "--out", "no/p.gcode"
    )
    assert done.returncode == 2
    words = "--out no/p.gcode: the folder is not there; make it first, or choose another"
    assert done.stderr == f"omphalon: {words}\n"


def piece(group, seed, run, folder):
    """A cube or a gauge with options drawn again: the options, and what a printer would do."""
    random = np.random.default_rng([seed, 77])
    options, centred = option_set("corners", seed)
    keep = ("nozzle", "filament", "layer", "width", "fast", "first", "acceleration", "temp")
    options = {k: options[k] for k in (*keep, "bed-temp", "retract", "fan")} | {"bed": "250:210"}
    if group == "flow":
        options["expected"] = options.pop("width")
    else:
        options["longest"] = int(random.integers(80, 180))
    words = [w for name, value in options.items() for w in (f"--{name}", value)]
    words += ["--centred"] if centred else []
    done = run(group, "plan", "--out", "p.gcode", "--dialect", "stand-in", *words, "--json")
    assert done.returncode == 0, done.stderr
    machine = Machine("LEAD").run((folder / "p.gcode").read_text().splitlines())
    assert not machine.faults
    assert machine.nozzle == machine.bed == machine.fan == 0
    wide = options.get("width", options.get("expected"))
    inside = room({"bed": "250:210"}, centred)
    line = section({"layer": options["layer"], "width": wide})
    for move in machine.moves:
        assert min(inside(*move.start), inside(*move.end)) >= 5 + wide / 2 - 2e-3
        per_mm = line / (math.pi * options["filament"] ** 2 / 4)
        assert move.filament == pytest.approx(move.length * per_mm, rel=0.01, abs=2e-5)
    return options, wide, machine, json.loads(done.stdout)


@pytest.mark.parametrize("seed", range(6))
def test_a_cube_has_single_walls_up_to_its_height(seed, run, tmp_path):
    options, wide, machine, _ = piece("flow", seed, run, tmp_path)
    layer = options["layer"]
    high = [s for s in strokes(machine.moves) if s[0].z > 1.5 * layer]
    assert max(s[0].z for s in high) == pytest.approx(30, abs=layer)
    for wall in high:  # one round, closed, 30 mm from outer face to outer face
        assert len(wall) == 4 and wall[0].start == wall[-1].end
        for k in (0, 1):
            reach = [m.start[k] for m in wall]
            assert max(reach) - min(reach) + wide == pytest.approx(30, abs=2e-3)
        assert {m.speed for m in wall} == {options["fast"]}
    assert {round(s[0].z, 3) for s in high} == {
        round(n * layer, 3) for n in range(2, round(30 / layer) + 1)
    }


@pytest.mark.parametrize("seed", range(6))
def test_a_gauge_is_as_long_as_its_numbers_say(seed, run, tmp_path):
    options, wide, machine, plan = piece("axis", seed, run, tmp_path)
    layer = options["layer"]
    outside, inside = plan["settings"]["outside_mm"], plan["settings"]["inside_mm"]
    assert outside == [round(options["longest"] * share) for share in (0.25, 0.6, 1.0)]
    top = max(m.z for m in machine.moves)
    frames = [s for s in strokes(machine.moves) if 1.5 * layer < s[0].z < top - 0.5 * layer]
    spans = [max(m.start[0] for m in s) - min(m.start[0] for m in s) for s in frames]
    for out, in_ in zip(outside, inside, strict=True):
        band = [v for v in spans if in_ - 0.01 <= v <= out]
        assert max(band) + wide == pytest.approx(out, abs=2e-3)  # to the outer face
        assert min(band) - wide == pytest.approx(in_, abs=2e-3)  # to the inner face
        loops = sorted(set(np.round(band, 3)))
        assert np.diff(loops) / 2 == pytest.approx(wide, rel=0.03)  # side by side
    # jaws reach between the frames
    assert all(b - a >= 12 for a, b in zip(outside, inside[1:], strict=False))
    numbers = {m.note for m in machine.moves if m.z == top}
    assert numbers == {f"digits {o:g} {i:g}" for o, i in zip(outside, inside, strict=True)}


PIECES = {
    "flow plan --width 0.5 --out p.gcode": "--width and --expected; the wall is one line wide: give --expected",
    "flow plan --temp 210": "--temp without --out; it belongs to a print: give --out FILE too",
    "axis plan --fast 40": "--fast without --out; it belongs to a print: give --out FILE too",
    "axis plan --axis y --out p.gcode": "--axis and --out; the gauge is for X and Y: leave it out",
    "axis plan --longest 60 --out p.gcode": "--longest 60: a caliper's jaws do not reach between "
    "the frames; give 80 mm or more",
    "flow plan --bed 30:30 --out p.gcode": "the print reaches x -8 to 32, y -5 to 32 mm, beyond the "
    "margin of a bed of 30 x 30 mm, zero at its corner, 220 mm high; make it smaller (fewer "
    "values), or choose another --at",
    "axis plan --out no/p.gcode": "--out no/p.gcode: the folder is not there; make it first, or "
    "choose another",
}


@pytest.mark.parametrize("words", PIECES)
def test_a_piece_that_makes_no_sense_is_refused(words, run, tmp_path):
    done = run(*words.split())
    assert (done.returncode, done.stderr) == (2, f"omphalon: {PIECES[words]}\n")
    assert not list(tmp_path.iterdir())
