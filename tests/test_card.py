"""The test card: its plan, its pictures, and what is read from them. Truth comes from the stand-in's
frame, bead and scanner.
"""

import json
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from scipy.ndimage import gaussian_filter1d

from conftest import SAMPLES
from omphalon.physics.resonance import Mode
from omphalon.physics.swing import Swings, Trace, fit_swings
from omphalon.prints.card import mixed
from omphalon.standin.frame import Swing, left_behind
from omphalon.standin.samples import FULMAR_X, FULMAR_Y
from omphalon.studies.card.modes import readings_of

FIT = ("card", "fit", "card-1.jpg", "card-2.jpg", "--print", "card.gcode")
KNOWN = ("--length", "144.5", "--steps", "80:80")


@pytest.fixture
def folder(tmp_path):
    for name in ("card-1.jpg", "card-2.jpg", "card.gcode"):
        (tmp_path / name).write_bytes((SAMPLES / name).read_bytes())
    return tmp_path


@given(st.integers(5, 30))
def test_every_value_stands_twice_and_far_apart(count):
    values = tuple(n / 100 for n in range(count))
    order = mixed(values)
    places = {v: [n for n, one in enumerate(order) if one == v] for v in values}
    assert all(len(at) == 2 for at in places.values())
    assert min(b - a for a, b in places.values()) >= count // 2
    # a tilt moves all values alike: no trend of the places with the value
    middles = [sum(places[v]) / 2 for v in values]
    assert np.ptp(middles) <= count / 2


def ridden(speed, acceleration, leg, jump, step_s=1e-5):
    """Speed along leg and line by a walk in time, apart from the code under test."""
    parts = []
    for length, first, last in ((leg, 0.0, jump), (60.0, jump, 0.0)):
        way, v = 0.0, first
        while way < length - 1e-6 and (v > 0 or way == 0):
            room = (v * v - last * last) / (2 * acceleration)
            braking = length - way <= room
            v = (
                max(v - acceleration * step_s, last)
                if braking
                else min(v + acceleration * step_s, speed)
            )
            way += max(v, 1e-3) * step_s
            parts.append((v, length == leg))
    return np.array([p[0] for p in parts]), np.array([p[1] for p in parts]), step_s


@pytest.mark.parametrize(
    ("frequency", "damping", "jump", "acceleration", "late_mm", "evened_mm"),
    [
        (26.0, 0.1, 8.0, 2500.0, 0.0, 0.003),
        (31.0, 0.03, 0.0, 3500.0, 0.0, 0.003),
        (47.5, 0.05, 5.0, 3500.0, 0.2, 0.25),
        (67.0, 0.04, 12.0, 5000.0, 0.0, 0.35),
        (67.0, 0.04, 12.0, 5000.0, 0.2, 0.1),
        (88.0, 0.08, 3.0, 6000.0, 0.0, 0.003),
    ],
)
def test_a_mode_is_found_in_lines_that_a_walk_in_time_swung(
    frequency, damping, jump, acceleration, late_mm, evened_mm
):
    """However late the bead follows, and however far it evens out."""
    random = np.random.default_rng(3)
    traces = []
    for speed in (60.0, 100.0, 110.0):
        v, on_leg, step = ridden(speed, acceleration, 7.0, jump)
        across, along = np.where(on_leg, v, 0.0), np.where(on_leg, 0.0, v)
        push = np.diff(across, prepend=0.0) / step
        aside = left_behind(push, 1 / step, (Swing(frequency, damping, 1.0),))
        way = np.cumsum(along) * step
        fine = np.arange(0.0, 56.0, 0.01)
        laid = np.interp(fine - late_mm, way[~on_leg], aside[~on_leg])
        at = np.arange(1.0, 55.0, 0.25)
        evened = gaussian_filter1d(laid, evened_mm / 0.01)
        seen = np.interp(at, fine, evened) + random.normal(0, 0.001, len(at))
        traces += [
            Trace(
                along_mm=at,
                middle_mm=seen + 0.01 + 0.0002 * at,
                speed_mm_s=speed,
                acceleration_mm_s2=acceleration,
                leg_mm=7.0,
            )
        ] * 2
    found = fit_swings(traces, 0.01 if evened_mm < 0.01 else 0.6)
    main = max(found.modes, key=lambda m: m.share)
    assert main.frequency_hz == pytest.approx(frequency, rel=0.02)
    assert main.damping == pytest.approx(damping, rel=0.25, abs=0.008)


@pytest.mark.slow
@settings(max_examples=8, deadline=None)
@given(st.integers(0, 100), st.floats(1.2, 4.0))
def test_what_is_fixed_in_space_is_no_resonance(seed, wave_mm):
    """A belt's teeth or a wavy bed: the same ripple at every speed."""
    random = np.random.default_rng(seed)
    at = np.arange(1.0, 55.0, 0.25)
    traces = [
        Trace(
            along_mm=at,
            middle_mm=0.006 * np.sin(2 * math.pi * at / wave_mm + row)
            + random.normal(0, 0.002, len(at)),
            speed_mm_s=speed,
            acceleration_mm_s2=3500.0,
            leg_mm=7.0,
        )
        for speed in (60.0, 100.0, 140.0)
        for row in range(6)
    ]
    assert fit_swings(traces, 0.3).modes == ()


@pytest.mark.parametrize(("whole", "codes"), [(0.4, ["rest-unseen"]), (0.95, [])])
def test_motion_that_no_mode_holds_is_named(whole, codes):
    none = np.zeros(0)
    seen = Swings(
        modes=(Mode(47.0, 0.05, 1.0),),
        corner_mm_s=5.0,
        noise_mm=0.003,
        whole=whole,
        lines=((none, none, none),),
        seen_to_hz=64.0,
    )
    found = readings_of(None, {"x": seen})["x"]
    assert [one.document()["code"] for one in found.remarks] == codes


def test_one_card_answers_all_three_questions(run, folder):
    done = run(*FIT, *KNOWN, "--json")
    assert done.returncode == 0, done.stderr
    answers = json.loads(done.stdout)["evidence"]["answers"]
    assert {name: one["verdict"] for name, one in answers.items()} == {
        "advance": "change",
        "shaper": "change",
        "axis": "change",
    }
    advance = answers["advance"]
    assert advance["settings"]["advance_s"] == pytest.approx(0.52, abs=0.006)
    for axis, true in (("x", FULMAR_X), ("y", FULMAR_Y)):
        modes = answers["shaper"]["evidence"][axis]["modes"]
        assert modes[0]["frequency_hz"] == pytest.approx(true[0].frequency_hz, rel=0.02)
        assert modes[0]["damping"] == pytest.approx(true[0].damping, rel=0.15)
    # tools/make_samples.py: X 1.0002, Y 1.0052 long, Y leaning by 0.0021; the scanner off by more
    evidence = answers["axis"]["evidence"]
    assert evidence["ratio_xy"] == pytest.approx(1.0002 / 1.0052, abs=2e-4)
    assert evidence["squareness_deg"] == pytest.approx(-math.degrees(0.0021 / 1.0052), abs=0.01)
    assert answers["axis"]["settings"]["y"]["steps_per_mm"] == pytest.approx(80 / 1.0052, abs=0.06)


@pytest.mark.slow
@pytest.mark.parametrize(
    ("logs", "on"),
    [
        (["card-1.jpg", "sweep-x.csv.gz"], "on this log"),
        (["sweep-x.csv.gz", "card-1.jpg"], "on this card"),
        (["card-1.jpg"], "on this card"),
    ],
)
def test_a_card_is_held_against_a_sensor(logs, on, run, folder):
    sweep = "sweep-x.csv.gz"
    (folder / sweep).write_bytes((SAMPLES / sweep).read_bytes())
    force = ("--axis", "x", "--shaper", "zv", "--frequency", "48", "--acceleration", "2000")
    done = run("shaper", "check", *logs, "--print", "card.gcode", *force)
    assert done.returncode == 0 and on in done.stdout, done.stderr
    # the sensor hears a small mode that the card cannot show: that is no change of the frame
    changed = "80.9 Hz is in one of the two alone: a card does not show"
    assert (changed in done.stdout) == (len(logs) == 2) and "gone" not in done.stdout


@pytest.mark.slow
def test_a_bench_records_each_answer_and_adopts_it(run, folder):
    assert run("bench", "new", "b").returncode == 0
    (folder / "b" / "prints" / "card.gcode").write_bytes((folder / "card.gcode").read_bytes())
    done = run("card", "fit", "card-1.jpg", "card-2.jpg", *KNOWN, "--bench", "b")
    assert done.returncode == 0, done.stderr
    assert "recorded as entries 1, 2, 3, 4" in done.stdout
    for entry in ("2", "3", "4"):
        adopted = run("bench", "adopt", entry, "--bench", "b")
        assert adopted.returncode == 0, adopted.stderr
    shown = run("bench", "show", "--bench", "b").stdout
    assert all(word in shown for word in ("advance", "shaper", "steps"))


REFUSED = {
    # name → what is done to the scan, the exit code, what is said
    "no card": (lambda g: np.full_like(g, 40), 3, "of the five rings"),
    "a corner cut off": (lambda g: g[:, : int(0.8 * g.shape[1])], 3, "of the five rings"),
    "two cards": (lambda g: np.hstack([g, g]), 3, "more than one card"),
    "the strip smeared": ("strip", 3, "its strip cannot be read"),
    "a side of the frame gone": ("frame", 3, "of the frame's four sides"),
    "far too bright": (lambda g: np.clip(g.astype(float) * 4.5, 0, 255), 3, ""),
    "out of focus": ("blur", 3, ""),
    "few pixels": (lambda g: g[::3, ::3], 3, ""),
}


def spoiled(how):
    with Image.open(SAMPLES / "card-1.jpg") as scan:
        grey = np.asarray(scan.convert("L"))
    if callable(how):
        return how(grey)
    from scipy.ndimage import gaussian_filter

    from omphalon.physics.pose import find_rings, poses_of
    from omphalon.prints.card import card_in
    from omphalon.readers.text import read_plan

    if how == "blur":
        return gaussian_filter(grey, 9)
    card = card_in(read_plan(str(SAMPLES / "card.gcode")), "card.gcode")
    pose = poses_of(find_rings(grey), np.array(card.rings), 3.7, grey.shape)[0]
    out = grey.copy()
    part = np.array(card.cells[0][4:9] if how == "strip" else card.frame[1])
    at = pose.seen_at(part)
    low, high = at.min(axis=0).astype(int) - 45, at.max(axis=0).astype(int) + 45
    out[low[1] : high[1], low[0] : high[0]] = 60
    return out


@pytest.mark.slow
@pytest.mark.parametrize(("how", "code", "said"), REFUSED.values(), ids=REFUSED)
def test_a_spoiled_picture_is_refused_with_a_sentence(how, code, said, run, folder):
    Image.fromarray(spoiled(how).astype(np.uint8)).save(folder / "spoiled.png")
    done = run("card", "fit", "spoiled.png", "--print", "card.gcode", "--json")
    assert done.returncode == code, done.stderr
    found = json.loads(done.stdout)
    assert found["verdict"] == "retest" and not found["lines"] and said in found["because"]


@pytest.mark.slow
def test_crossed_belts_have_one_value_of_steps(run, folder):
    done = run(*FIT, *KNOWN, "--build", "crossed-belts", "--json")
    axis = json.loads(done.stdout)["evidence"]["answers"]["axis"]
    assert axis["settings"]["x"] == axis["settings"]["y"]
    assert "belts-unlike" in [w["code"] for w in axis["warnings"]]
    towers = json.loads(run(*FIT, *KNOWN, "--build", "delta", "--json").stdout)
    assert towers["evidence"]["answers"]["axis"]["verdict"] == "retest"


ASKED = {
    "one scan alone": (("card-1.jpg",), 3, "turn the plate by a quarter"),
    "the same scan twice": (("card-1.jpg", "copy.jpg"), 3, "is turned by 0°"),
    "a scan turned in a program": (("card-1.jpg", "turned.jpg"), 3, "turned in a program"),
    "no length": (("card-1.jpg", "card-2.jpg"), 3, "measure the frame along X"),
    "a length of another thing": (
        ("card-1.jpg", "card-2.jpg", "--length", "20"),
        3,
        "no printer is that wrong",
    ),
}


@pytest.mark.slow
@pytest.mark.parametrize(("words", "code", "said"), ASKED.values(), ids=ASKED)
def test_what_a_scan_leaves_open_is_said(words, code, said, run, folder):
    (folder / "copy.jpg").write_bytes((folder / "card-1.jpg").read_bytes())
    with Image.open(folder / "card-1.jpg") as scan:
        turned = scan.transpose(Image.Transpose.ROTATE_90)
    turned.crop((15, 4, *turned.size)).save(folder / "turned.jpg", quality=85)
    done = run("card", "fit", *words, "--print", "card.gcode")
    assert done.returncode == code and said in " ".join(done.stdout.split())


WRONG = {
    "no print": (("card", "fit", "card-1.jpg"), "a picture without what was printed"),
    "another print": (
        ("card", "fit", "card-1.jpg", "--print", "found-settings.txt"),
        "not a print that omphalon wrote",
    ),
    "no picture": (
        ("card", "fit", "card.gcode", "--print", "card.gcode"),
        "the picture is damaged",
    ),
    "an unknown part": (
        ("card", "plan", "--parts", "combs,cubes", "--out", "c.gcode"),
        "no part 'cubes'",
    ),
    "a small bed": (
        ("card", "plan", "--bed", "120:120", "--dialect", "stand-in", "--out", "c.gcode"),
        "takes 168 mm",
    ),
    "no line": (("card", "plan", "--out", "c.gcode"), "no line that sets"),
    "a lame shake": (
        ("card", "plan", "--dialect", "stand-in", "--shake", "900", "--out", "c.gcode"),
        "are not reached on 7 mm",
    ),
}


@pytest.mark.parametrize(("words", "said"), WRONG.values(), ids=WRONG)
def test_what_cannot_be_is_one_line(words, said, run, folder):
    (folder / "found-settings.txt").write_bytes((SAMPLES / "found-settings.txt").read_bytes())
    done = run(*words)
    assert done.returncode == 2 or done.returncode == 1
    assert said in done.stderr and done.stderr.count("\n") == 1


@pytest.mark.parametrize(
    ("words", "parts"),
    [
        (("--bed", "round:260"), "advance,combs,frame"),
        (("--bed", "150:150"), "advance,frame"),
        (("--drive", "bowden"), "advance,combs,frame"),
    ],
)
def test_a_card_is_planned_for_other_beds(words, parts, run, folder):
    plan = ("card", "plan", "--dialect", "stand-in", "--out", "c.gcode", "--parts", parts)
    done = run(*plan, *words, "--json")
    assert done.returncode == 0, done.stderr
    text = (folder / "c.gcode").read_text()
    assert ("CALM X OFF" in text) == ("combs" in parts)
    assert json.loads(done.stdout)["settings"]["size_mm"] <= 180


def test_the_shapers_of_the_bench_are_off_for_the_combs_and_put_back(run, folder):
    words = ("--present-x", "zv:47:0.05", "--present-y", "mzv:30:0.06", "--advance", "0.5")
    done = run("card", "plan", "--dialect", "stand-in", "--out", "c.gcode", *words)
    assert done.returncode == 0, done.stderr
    lines = (folder / "c.gcode").read_text().splitlines()
    off, back = lines.index("CALM X OFF"), lines.index("CALM X zv 47.00 0.0500")
    assert off < lines.index("G4 P400") < back < lines.index("M84")
    assert lines.index("LEAD 0.50000") > off


@pytest.mark.parametrize("split", [0.02, 0.17, 0.35])
@pytest.mark.parametrize("slips", [0.0, 4e-4])
def test_two_lags_and_a_slip_leave_the_lead_where_it_is(split, slips):
    """Widths of the stand-in's own bead: what the means differ by at the lead is told."""
    from omphalon.physics.flow import Laid
    from omphalon.standin.bead import BIN_MM, Nozzle, beads
    from omphalon.standin.frame import Move
    from omphalon.studies.card.rungs import late_mm

    lead, stretches = 0.06, (18.0, 32.0, 18.0, 32.0, 18.0)
    nozzle = Nozzle(lead_s=lead, nozzle_lag_s=split * lead, slips_s_mm=slips, grain_mm=0.002)
    turns = np.concatenate([[0.0], np.cumsum(stretches)])
    speeds = (22.0, 90.0, 22.0, 90.0, 22.0)

    ups = [(t, t + 22) for t in turns[1:4:2]]
    downs = [(t - 2, t + 7) for t in turns[2:5:2]]

    def difference(along, width):
        means = [
            np.mean([np.nanmean(width[(along >= a) & (along < b)]) for a, b in some])
            for some in (ups, downs)
        ]
        return float(means[1] - means[0])

    lines, seen = [], []
    for value in np.linspace(0.0, 0.12, 11):
        run = [
            Move(
                x0=a,
                y0=0.0,
                x1=b,
                y1=0.0,
                z=0.2,
                fed_mm=0.0343 * (b - a),
                speed_mm_s=v,
                lead_s=float(value),
                acceleration_mm_s2=1800.0,
            )
            for a, b, v in zip(turns, turns[1:], speeds, strict=False)
        ]
        bead = next(beads(run, nozzle, np.random.default_rng(5)))
        along = (np.arange(len(bead.width_mm)) + 0.5) * BIN_MM
        lines.append(
            Laid(
                value_s=float(value),
                turns_mm=tuple(turns.tolist()),
                speeds_mm_s=speeds,
                acceleration_mm_s2=1800.0,
                along_mm=along,
                width_mm=bead.width_mm,
            )
        )
        seen.append(difference(along, bead.width_mm))
    off = late_mm(lines, ups, downs, 0.2)
    crossed = np.interp(0.0, -(np.array(seen) - off), np.linspace(0.0, 0.12, 11))
    assert crossed == pytest.approx(lead, abs=0.0012)
    assert split < 0.1 and not slips or abs(off) > 1e-4
