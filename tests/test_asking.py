"""--ask: what is missing is asked for, and the answers are the command line that would have given it."""

import shlex

import pytest

from conftest import SAMPLES
from omphalon.cli import omphalon as program
from omphalon.cli.groups import Asking
from omphalon.tables.order import ORDER
from rig import StandIn, started

# words given, what is typed, the command line it comes to, words on the way
TALKS = {
    "all of it": (
        "extruder fit",
        "412 80 110 34.6 34.9 34.4 -",
        "--steps 412 --asked 80 --mark 110 --left 34.6 --left 34.9 --left 34.4",
        "so far 34.6, 34.9",
    ),
    "some was given": (
        "extruder fit --steps 412 --asked 80",
        "110 34.6 34.9 34.4 -",
        "--steps 412 --asked 80 --mark 110 --left 34.6 --left 34.9 --left 34.4",
        "where the mark was",
    ),
    "a slip of the finger": (
        "flow fit --flow 1",
        "0,45 0.48 o.47 0.47 0.48 -",
        "--flow 1 --expected 0,45 --wall 0.48 --wall 0.47 --wall 0.48",
        "o.47",
    ),
    "a reading unlike the others, typed right": (
        "flow fit --flow 1 --expected 0.45",
        "0.48 0.47 0.48 0.84 0.48 -",
        "--flow 1 --expected 0.45 --wall 0.48 --wall 0.47 --wall 0.48 --wall 0.48",
        "0.84 does not fit 0.48, 0.47, 0.48",
    ),
    "a reading unlike the others, meant so": (
        "probe fit --offset -1.85",
        "0.12 0.13 0.12 0.21 0.21 -",
        "--offset -1.85 --drag 0.12 --drag 0.13 --drag 0.12 --drag 0.21",
        "does not fit",
    ),
    "pairs, held together by their ratio": (
        "axis fit --axis x --steps 80",
        "- 50 49.8 100 99.6 150 149.4 200 189.2 199.2 -",
        "--axis x --steps 80 --asked 50 --moved 49.8 --asked 100 --moved 99.6 --asked 150 "
        "--moved 149.4 --asked 200 --moved 199.2",
        "189.2 does not fit",
    ),
    "a move back is negative": (
        "axis fit --axis x --steps 80",
        "crossed-belts -100 -99.5 100 99.4 -",
        "--axis x --steps 80 --build crossed-belts --asked -100 --moved -99.5 --asked 100 --moved 99.4",
        "(-5000 to 5000 mm)",
    ),
    "no twin is doubted, nor one step of the caliper": (
        "flow fit --flow 1 --expected 0.45",
        "0.48 0.48 0.48 0.47 0.49 -",
        "--flow 1 --expected 0.45 --wall 0.48 --wall 0.48 --wall 0.48 --wall 0.47 --wall 0.49",
        "so far",
    ),
    "the last reading is taken back": (
        "probe fit --offset -1.85",
        "0.12 1.3 back 0.13 0.12 -",
        "--offset -1.85 --drag 0.12 --drag 0.13 --drag 0.12",
        "1.3 taken back",
    ),
    "an offset that none can be": (
        "probe fit",
        "5000 -1.85 0.12 0.13 0.12 -",
        "--offset -1.85 --drag 0.12 --drag 0.13 --drag 0.12",
        "5000",
    ),
    "levels are meant to differ": (
        "motion fit --axis x --quantity speed",
        "100 150 200 - 250 -",
        "--axis x --quantity speed --pass 100 --pass 150 --pass 200 --fail 250",
        "a level that failed",
    ),
    "an axis that there is not": (
        "motion fit --quantity speed",
        "q x 100 150 - 200 -",
        "--quantity speed --axis x --pass 100 --pass 150 --fail 200",
        "one of x, y, z",
    ),
}


@pytest.mark.parametrize("given, typed, line, on_the_way", TALKS.values(), ids=TALKS)
def test_what_is_missing_is_asked_for(given, typed, line, on_the_way, run, tmp_path):
    answers = "".join(f"{'' if word == '-' else word}\n" for word in typed.split())
    process = started(*given.split(), "--ask", folder=tmp_path)
    out, err = process.communicate(answers, timeout=60)
    group = " ".join(given.split()[:2])
    assert f"omphalon {group} {line}\n" in err and on_the_way in err
    at_once = run(*group.split(), *shlex.split(line))
    assert (out, process.returncode) == (at_once.stdout, at_once.returncode)


def test_a_file_tells_its_axes_by_itself(sample, tmp_path):
    parts = sample("axis-parts.csv")
    process = started("axis", "fit", "--ask", parts, folder=tmp_path)
    _, err = process.communicate("\n80\n80\n", timeout=60)
    assert process.returncode == 0 and "which axis" not in err
    assert "present steps per mm of x" in err and "--steps x=80 --steps y=80\n" in err


def test_no_answer_any_more_ends_it(tmp_path):
    process = started("extruder", "fit", "--ask", folder=tmp_path)
    _, err = process.communicate("412\n", timeout=60)
    assert process.returncode == 1 and "stopped" in err and "Traceback" not in err


def test_every_fit_can_ask():
    fits = [program.get_command(None, group).commands["fit"] for group in ORDER]
    assert all(isinstance(fit, Asking) and any(p.ask for p in fit.params[:-1]) for fit in fits)


def test_what_a_bench_knows_is_not_asked(run, tmp_path):
    assert run("bench", "new", "b").returncode == 0
    (tmp_path / "list.txt").write_text("M92 X80 Y80 Z400 E412\n")
    assert run("bench", "readback", "list.txt", "--adopt-found", "--bench", "b").returncode == 0
    process = started(*("extruder", "fit", "--ask", "--bench", "b"), folder=tmp_path)
    _, err = process.communicate("80\n110\n34.6\n34.9\n34.4\n\n", timeout=60)
    assert "present steps" not in err and process.returncode == 0, err


# what is typed to `omphalon start`: where the printer is, bed, drive, filament, what is wrong; what
# comes of it
STARTS = {
    "nothing known": ("\n\n\n\n\n\n", "no settings yet", "nozzle-to-bed zero"),
    "a listing": (
        f"{SAMPLES / 'found-settings.txt'}\n220\n220\nbowden\ngrey-petg\n\n",
        "pressure advance",
        "stand-in printer",
    ),
    "slips": (
        "nowhere.txt\nsocket://127.0.0.1:1\n\n2200 km\n220\n220\nbow\nbowden\n\nxyzzy\n\n",
        "extruder.drive  bowden",
        "shared numbered codes",
    ),
    "at a printer": ("{port}\n220\n220\nbowden\ngrey-petg\n\n", "controller.port", "steps-e"),
}


@pytest.mark.parametrize("typed, held, told", STARTS.values(), ids=STARTS)
def test_a_start_makes_a_bench_and_says_what_comes_first(typed, held, told, run, tmp_path):
    with StandIn(tmp_path, "--tcp", 0) as printer:
        process = started("start", folder=tmp_path)
        out, err = process.communicate("My Fulmar\n" + typed.format(port=printer.port), timeout=60)
    assert process.returncode == 0 and "Traceback" not in err, err
    assert told in out and "omphalon probe plan" in out
    assert held in run("bench", "show", "--bench", "My-Fulmar").stdout
    first = shlex.split(out.split(" 1. ")[1].splitlines()[1].split("   then")[0])[1:]
    assert run(*first, "--bench", "My-Fulmar").returncode == 0


def test_a_start_with_a_complaint_says_what_tells(tmp_path):
    process = started("start", folder=tmp_path)
    out, err = process.communicate("Fulmar\n\n\n\n\n\nmy corners are fat\n", timeout=60)
    assert process.returncode == 0, err
    assert "too little pressure advance" in out and "omphalon advance plan" in out


def test_a_start_that_is_stopped_leaves_nothing(tmp_path):
    process = started("start", folder=tmp_path)
    _, err = process.communicate("Fulmar\n\n220\n", timeout=60)
    assert process.returncode == 1 and "stopped" in err and not list(tmp_path.iterdir())
