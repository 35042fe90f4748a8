"""Answers do not move unnoticed.

What is recorded in answers.json is no truth: the truths are in the other tests, and come from
outside. This is a trip wire for the many numbers that no truth is known of: verdict, codes of the
warnings, exit code and settings of each answer are held against the ones recorded when it was last
meant to change (tools/record_answers.py), a number within a share of itself or of its own spread.
Words are tested beside the rules that make them.
"""

import contextlib
import io
import json
import math
import os
import shlex
from pathlib import Path

import pytest
from filelock import FileLock
from jsonschema import Draft202012Validator

from conftest import SAMPLES
from inner import INNER, inner
from logs import LOGS
from omphalon.base.errors import OmphalonError
from omphalon.cli import omphalon as program
from omphalon.cli.common import as_json

pytestmark = pytest.mark.xdist_group("logs")  # which are made once
SCHEMA = Draft202012Validator(
    json.loads((Path(__file__).parents[1] / "docs" / "answer.schema.json").read_text("utf-8"))
)
RECORD = Path(__file__).with_name("answers.json")
SHARE, OF_SPREAD = 0.003, 0.1
# a heater's gains move with the last digits of a search, which other versions of NumPy and SciPy
# round otherwise; what stands behind them is held closer, below
SWINGS = 0.4
COMMANDS = """
heater fit hotend-oscillation.csv
heater fit bed-console.txt --aim gentle
heater fit warm.csv --heater hotend --fan off
heater fit chain.csv --fan off --kp 30 --ki 2 --kd 60 --gain-scale 255
heater fit limited.csv --power-limit 0.7 --aim quick
heater fit even.csv --fan off --band none
heater fit bed.txt --every 2 --heater bed --full-power 127
heater fit --cycle 233:237:11.5 --cycle 233.2:237:11.4 --cycle 233:236.8:11.6
heater check hold-before.csv hold-after.csv --target 235
heater check hold-poor.csv --target 220
heater check hold-slow.csv --target 220
heater check hold-wound.csv --target 220
heater check hold-bed.csv --target 70 --heater bed
heater plan --heater bed --target 80 --cycles 6
extruder plan --wanted 0.005
extruder fit extruder-runs.csv --steps 412
extruder fit --steps 412 --asked 80 --mark 110 --left 30.2 --left 29.8 --left 30.4 --left 33.1
extruder check --steps 412 --asked 100 --before 120 --after 20.3 --before 120 --after 20.1
axis plan --axis y --longest 130 --resolution 0.02
axis fit axis-parts.csv --steps x=80 --steps y=80
axis fit --axis x --steps 80 --asked 50 --asked 100 --asked 150 --asked -50 \
--asked -100 --asked -150 --moved 50.2 --moved 100.3 --moved 150.6 --moved -50.0 --moved -100.2 --moved -150.3
axis fit --axis x --steps 80 --asked 50 --asked 100 --asked -100 --moved 49.9 --moved 99.8 --moved -99.6
flow fit flow-walls.csv --flow 1 --expected 0.45
flow fit --flow 1 --diameter 1.71 --diameter 1.73 --diameter 1.70 --diameter 1.72 --diameter 1.71 --diameter 1.74
flow fit --flow 0.98 --expected 0.5 --wall 5.1 --wall 5.0 --wall 5.05
flow check --flow 1 --expected 0.45 --wall 0.45 --wall 0.46 --wall 0.44 --wall 0.45 --wall 0.46
advance fit tower-heights.csv --from 0 --per-mm 0.025 --to 1.2 --drive bowden
advance fit ladder-widths.csv --drive bowden
advance fit ladder-widths.csv --drive direct --advance 0.4
advance fit ladder-scan.jpg --print ladder.gcode --advance 0.4
advance fit --value 0.02 --score 3 --value 0.03 --score 5 --value 0.04 --score 8 --value 0.05 --score 9 \
--value 0.06 --score 7 --value 0.07 --score 4 --value 0.08 --score 9 --value 0.09 --score 2
advance check cube-corners.csv --seam rear-left
motion fit --axis y --pass 150 --pass 175 --pass 200 --fail 225 --pass 225 --fail 250
motion check --axis y --limit 160 --pass 120 --pass 160 --fail 155
probe fit --offset -1.85 --drag 0.12 --drag 0.13 --drag 0.12 --drag 0.13 --trigger 1.2 --trigger 1.21 --trigger 1.19
probe check --offset -1.85 --drag 0.1 --drag 0.11 --drag 0.1
shaper fit --x sweep-x.csv.gz --y sweep-y.csv.gz
shaper check sweep-y.csv.gz sweep-y-later.csv.gz --axis y --shaper ei --frequency 31 --acceleration 900
shaper fit --x one.csv --offered zv,mzv --ringing-limit 0.02
shaper fit --x two.csv --y three.csv --present-x mzv:38:0.05
shaper fit --x weak.csv --drift 0.08
shaper fit --x hum.csv --rounding-limit 0.05
shaper fit --x taps.csv --kind taps
shaper fit --ripple-x 2.1 --ripple-x 2.2 --ripple-y 2.9 --speed 90
shaper check rest.csv --kind rest
shaper check --seen 2500 --seen 3000 --seen 2500 --bands 500:4000:500 --axis y --acceleration 2000
shaper plan --axis y --bed-moves-y
heater fit hold-slow.csv --heater hotend
heater check hold-before.csv --target 220
shaper fit --x rest.csv
shaper fit --x sweep-x.csv.gz --sensor-x z
shaper check one.csv --axis x --shaper zv --frequency 60 --acceleration 9000
extruder fit --steps 412 --asked 80 --mark 110 --left 34.6
extruder fit --steps 412 --asked 80 --mark 110 --left 34.6 --left 34.9 --left 34.4
flow fit --flow 1 --expected 0.45 --wall 0.48 --wall 0.40 --wall 0.52 --wall 0.37
flow plan --expected 0.6
probe plan
probe fit --offset -1.85 --drag 0.1
motion fit --axis y --pass 100 --pass 150
flow fit walls.csv --flow 1 --expected 0.45
advance fit bulges.csv --drive direct
advance fit heights.csv --from 0.02 --per-mm 0.0025 --to 0.09 --drive direct
advance fit --from 0 --per-mm 0.004 --to 0.2 --height 8.2 --height 9.1 --height 12.4 --drive direct
advance fit --from 0 --per-mm 0.004 --to 0.2 --height 49.2 --height 49.6 --height 48.9 --drive direct
advance fit --value 0.02 --score 3 --value 0.03 --score 5 --value 0.04 --score 8 --value 0.05 --score 2 \
--value 0.06 --score 7 --value 0.07 --score 4 --value 0.08 --score 3 --value 0.09 --score 2
advance fit --value 0.12 --value 0.14 --value 0.13 --value 0.2
motion fit --axis x --pass 100 --pass 100 --fail 120 --pass 120 --fail 140 --fail 140 --pass 160
extruder fit --steps 412 --asked 100 --before 120 --after 20.3 --before 120 --after 20.1 --before 120 --after 21.0
probe fit --offset -1.85 --drag 0.12 --drag 0.13 --drag 0.21 --drag 0.13 --drag 0.12 --drag 0.12
axis fit --axis z --steps 400 --asked 10 --asked 20 --asked 40 --asked 80 --moved 10.1 --moved 20.1 --moved 40.3 --moved 80.4
extruder fit --steps 412 --asked 97.3 --asked 88.1 --asked 79.4 --fed 100 --fed 90 --fed 80
axis fit --axis x --steps 80 --asked 50 --moved 52.1 --asked 100 --moved 104.1 --asked 150 --moved 156.3 \
--asked -100 --moved -104.0
shaper fit --ripple-y 2.1 --ripple-y 3.9 --ripple-y 2.2 --speed 60
shaper check --seen 500 --seen 4000 --seen 2500 --bands 500:4000:500 --axis x --acceleration 5000
advance plan --style ladder --line 'X{advance:.4f}' --out w-ladder.gcode
advance plan --style tower --drive bowden --line 'X{advance:.4f}' --from 0.1 --to 0.9 --out w-tower.gcode --bed 180:200 --at 90:80
advance plan --style corners --line 'X{advance:.4f}' --to 0.08 --step 0.01 --layers 3 --advance 0.03 \
--out w-corners.gcode --bed round:200 --nozzle 0.6
advance plan --style tower --line 'X{advance:.4f}' --out w-high.gcode --height 30
advance plan --style ladder --line 'X{advance:.4f}' --out w-fast.gcode --fast 20
motion plan --axis y --speed 100:300:25 --travel 10:180 --out w-speed.gcode
motion plan --axis x --acceleration 500:3000:250 --travel 10:180 --line 'Y{acceleration:.0f}' --present 1500 --out w-accel.gcode
motion plan --axis x --corner 4:24:4 --travel 10:200 --travel-across 5:120 --out w-corner.gcode
motion plan --axis e --speed 20:80:10 --temp 215 --out w-retract.gcode
motion plan --axis x --speed 100:900:100 --travel 10:40 --out w-short.gcode
shaper plan --axis y --sweep 8:100 --out w-sweep.gcode
shaper plan --axis x --sweep 10:150 --rate 2 --microstep 0.02 --out w-quick.gcode
shaper plan --ringing w-ringing.gcode --acceleration 2500
shaper plan --ringing w-bands.gcode --bands 1000:4000:500 --acceleration-line 'Y{acceleration:.0f}' --fast 110
axis plan --longest 120 --out w-gauge.gcode
axis plan --longest 90 --out w-gauge-2.gcode --bed 150:150 --width 0.5 --layer 0.25
flow plan --expected 0.48 --out w-cube.gcode
extruder plan --wanted 0.0006
heater plan --target 180
heater fit hotend-oscillation.csv warm.csv --fan on --target 230
heater fit spikes.csv --fan off
heater fit stuck.csv
heater fit rounded.csv
heater fit twice.csv --fan off
heater fit fahrenheit.csv
heater fit moved.csv
heater fit --cycle 233:237:11.5 --cycle 229:237:11.4 --cycle 233:236.8:41.6
heater fit --cycle 40:44:61 --cycle 40.2:44:62 --heater bed --cycle 40.1:44:61.3 --power-high 0.8 --power-low 0.1
heater check hold-after.csv --target 235
heater check short.csv --target 220
axis fit --axis x --steps 80 --belt-pitch 2 --teeth 20 --microsteps 16 --diagonal 141.2 141.7 --sides 100 100 --asked 100 --moved 100.2
axis fit --axis z --steps 400 --screw-lead 8 --microsteps 16 --asked 100 --moved 99.2 --asked 50 --moved 49.6
extruder fit --steps 412 --wheel 11 --microsteps 16 --gear 3 --asked 100 --before 120 --after 24.1 --before 120 --after 23.8
extruder fit --steps 412 --asked 80 --asked 100 --asked 60 --mark 110 --left 34.6 --left 16.1 --left 53.2 --speed 2 --speed 4 --speed 8
extruder fit --steps 412 --asked 80 --mark 110 --left 0.4 --left 0.9 --left 0.2 --back 10
extruder fit --steps 412 --asked 80 --mark 30 --left 110.2
flow fit walls.csv --flow 0.95 --expected 0.45 --diameter 1.74 --diameter 1.76 \
--diameter 1.75 --diameter 1.76 --diameter 1.77 --diameter 1.75
flow fit --flow 1 --diameter 1.71 --diameter 1.93 --diameter 1.70 --diameter 1.72 --diameter 1.69 --diameter 1.73
flow check --flow 1 --expected 0.45 --wall 0.51 --wall 0.52 --wall 0.51
advance fit --value 0.02 --score 9 --value 0.03 --score 8 --value 0.04 --score 6 --value 0.05 --score 4 --value 0.06 --score 2
advance fit --from 0 --per-mm 0.004 --to 0.2 --height 8.2 --height 8.4 --height 8.1 --drive bowden --advance 0.03
advance check --before 0.21 --before 0.18 --before 0.24 --before 0.2 --after 0.05 --after 0.04 --after 0.08 --after 0.03
advance check --before 0.05 --before 0.04 --before 0.06 --after 0.21 --after 0.18 --after 0.17
motion check --axis x --limit 160 --pass 160 --pass 160
motion fit --axis y --fail 100 --fail 100 --pass 125 --fail 150
probe fit --offset -1.85 --trigger 1.2 --trigger 1.31 --trigger 1.05 --trigger 1.4
shaper fit --ripple-x 2.1 --ripple-x 2.2 --ripple-x 2.15 --speed 90 --present-x zv:40:0.05
shaper check sensor-rest.csv.gz --kind rest
shaper check sweep-y.csv.gz --kind rest
shaper check --seen 0 --seen 500 --bands 500:4000:500 --axis y --acceleration 2000 --shaper mzv --frequency 40
shaper fit --x one.csv --drift 0.15 --rounding-limit 0.3 --offered ei,three-hump
shaper fit --x few.csv --kind taps
shaper fit --x gaps.csv
""".strip().splitlines()


def written(folder):
    """The samples and the stand-in's logs, in a folder."""
    for sample in SAMPLES.iterdir():
        (folder / sample.name).write_bytes(sample.read_bytes())
    for name, lines in LOGS.items():
        (folder / name).write_text("\n".join(lines()) + "\n", encoding="utf-8")


def answered(command, folder):
    """What the program answers in a folder: verdict, codes, settings with their spread, exit code."""
    with contextlib.chdir(folder), contextlib.redirect_stdout(io.StringIO()):
        try:
            given = program.main(shlex.split(command), "omphalon", standalone_mode=False)
        except OmphalonError as refusal:
            return {"error": str(refusal), "exit": refusal.exit_code}
    document = json.loads(as_json(given))
    SCHEMA.validate(document)
    kept = {name: document.get(name) for name in ("verdict", "settings", "spread")}
    return {**kept, "codes": [one["code"] for one in document["warnings"]], "exit": given.exit_code}


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """The folder with the logs; one that is kept from run to run, where a run names it."""
    kept = os.environ.get("OMPHALON_TEST_LOGS")
    place = Path(kept) if kept else tmp_path_factory.mktemp("logs")
    place.mkdir(exist_ok=True)
    with FileLock(place / "lock"):
        if not (place / "rest.csv").exists():  # the last that is written
            written(place)
    return place


@pytest.fixture(scope="module")
def recorded():
    return json.loads(RECORD.read_text("utf-8"))


def moved(old, new, spread=None, path="", share=SHARE):
    """Where two answers differ by more than they may."""
    if isinstance(old, dict) and isinstance(new, dict):
        spread = spread if isinstance(spread, dict) else {}
        names = sorted(set(old) | set(new))
        return [
            told
            for name in names
            for told in moved(
                old.get(name), new.get(name), spread.get(name), f"{path}.{name}", share
            )
        ]
    if isinstance(old, list) and isinstance(new, list) and len(old) == len(new):
        pairs = enumerate(zip(old, new, strict=True))
        return [told for n, (a, b) in pairs for told in moved(a, b, None, f"{path}[{n}]", share)]
    if type(old) in (int, float) and type(new) in (int, float):
        least = OF_SPREAD * spread if isinstance(spread, float) else 1e-6
        if math.isclose(old, new, rel_tol=share, abs_tol=least):
            return []
    return [] if old == new else [f"{path}: {old} is now {new}"]


@pytest.mark.parametrize("command", COMMANDS)
def test_an_answer_does_not_move(command, recorded, folder):
    old, new = recorded[command], answered(command, folder)
    of_heater = "kp" in (old.get("settings") or {})
    spread = {"settings": old.get("spread") or {}}
    if of_heater:  # a doubt near its edge may come or go with the gains, and so may what is flat
        old, new = (
            {
                "verdict": one["verdict"],
                "exit": one["exit"],
                **{name: one["settings"][name] for name in ("kp", "ki")},
            }
            for one in (old, new)
        )
    assert moved(old, new, spread, share=SWINGS if of_heater else SHARE) == []


@pytest.mark.parametrize("name", INNER)
def test_laws_over_numbers_drawn_once_do_not_move(name, recorded, folder):
    with contextlib.chdir(folder):
        assert moved(recorded[name], inner(name)) == []


@pytest.mark.parametrize(
    "old, new, count",
    [
        ({"settings": {"kp": 0.1}}, {"settings": {"kp": 0.1003}}, 0),
        ({"settings": {"kp": 0.1}}, {"settings": {"kp": 0.106}}, 1),
        ({"verdict": "keep"}, {"verdict": "change"}, 1),
        ({"codes": ["a"]}, {"codes": []}, 1),
        ({"modes": [1.0, 2.0]}, {"modes": [1.0]}, 1),
        ({"a": True}, {"a": False}, 1),
        ({"a": None}, {"a": 0.0}, 1),
    ],
)
def test_what_counts_as_moved(old, new, count):
    assert len(moved(old, new, {"settings": {"kp": 0.02}})) == count
