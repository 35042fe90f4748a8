"""`omphalon printer tune` without a group: an evening at the stand-in, ended and gone on with."""

import json
import re
import signal

import pytest

from rig import StandIn, started

FACTS = ("bed.x=220", "bed.y=220", "controller.dialect=stand-in", "heaters.hotend_target=235")
NOBODY = "socket://127.0.0.1:1"
BEFORE = "axis,asked_mm,moved_mm\nx,30,29.85\nx,90,89.53\nx,150,149.25\n"
AFTER = "axis,asked_mm,moved_mm\nx,30,30.01\nx,90,90.02\nx,150,149.98\n"


@pytest.fixture
def bench(run, sample, tmp_path):
    sets = [w for fact in FACTS for w in ("--set", fact)]
    listing = ("--listing", sample("found-settings.txt"))
    assert run("bench", "new", "b", *sets, *listing).returncode == 0
    (tmp_path / "before.csv").write_text(BEFORE)
    (tmp_path / "after.csv").write_text(AFTER)
    return {"OMPHALON_BENCH": "b", "XDG_STATE_HOME": str(tmp_path / "state")}


@pytest.fixture
def evening(bench, tmp_path):
    """evening(port, "answer", …) → what an evening says to these answers, and its exit code."""

    def run(port, *answers):
        process = started("printer", "tune", "--port", port, folder=tmp_path, env=bench)
        out, err = process.communicate("".join(f"{a}\n" for a in answers), timeout=60)
        return process.returncode, out, err

    return run


def due(out):
    return re.findall(r"^step \d+, \d+ left: ([\w -]+)", out, re.M)


@pytest.mark.slow
def test_what_is_left_for_another_day_is_listed_and_a_slip_is_asked_again(evening, tmp_path):
    code, out, err = evening(NOBODY, "what", *"ssssssss", "q")
    assert code == 0 and "one of s, q, or Enter" in err
    steps = due(out)
    assert steps[:3] == ["nozzle-to-bed zero", "gains of the hotend", "gains of the bed"]
    assert "nothing was set" in out and "what is left" in out
    assert all(out.count(f"left for another day: {step}") == 1 for step in steps)
    assert "Nothing was set." in (tmp_path / "b" / "evening.html").read_text()


@pytest.mark.slow
def test_a_step_that_fails_is_said_and_the_evening_goes_on(evening):
    code, out, err = evening(NOBODY, "s", "", "y", "", "q")
    assert code == 0 and "nobody answers" in err or "refused" in err
    assert due(out)[2] == "gains of the bed"


@pytest.mark.parametrize(
    "words, says",
    [(("heatr",), "No such command 'heatr'"), (("--prot", "x"), "No such option '--prot'")],
)
def test_a_typo_begins_no_evening(run, bench, words, says):
    done = run("printer", "tune", *words, env=bench)
    assert done.returncode == 2 and says in done.stderr


def test_an_evening_needs_a_port(run, bench):
    done = run("printer", "tune", env=bench)
    assert done.returncode == 2 and "omphalon printer list" in done.stderr


@pytest.mark.slow
def test_an_axis_is_measured_set_stored_and_checked_over_two_evenings(
    evening, run, bench, tmp_path
):
    to_axis = ("s", "s", "s", "")
    with StandIn(tmp_path, "--tcp", 0, "--pace", 300, "--state", "fulmar.json") as fulmar:
        code, out, err = evening(fulmar.port, *to_axis, "n", "before.csv", "y", "y", "", "q")
        assert code == 0, err
        assert "CHANGE  axis" in out and "stored  M500" in out and "bench adopt" not in out
        assert re.search(r"steps of X +.* → +80\.4\d per mm +not checked yet", out)
        assert "stored" in fulmar.panel
        # another evening begins with the check of what was set
        code, out, err = evening(fulmar.port, "", *["", "", "", "", ""], "after.csv", "", "q")
        assert code == 0, err
        assert due(out)[0] == "steps of X" and "KEEP" in out
    state = json.loads(run("bench", "show", "--json", env=bench).stdout)
    assert state["settings"]["steps-x"]["value"]["steps"] == pytest.approx(80.4, abs=0.1)
    page = (tmp_path / "b" / "evening.html").read_text()
    assert "This evening" in page and "steps of X" in page


@pytest.mark.slow
def test_ctrl_c_ends_an_evening_with_the_heaters_off(bench, tmp_path):
    with StandIn(tmp_path, "--tcp", 0, "--pace", 60) as fulmar:
        process = started("printer", "tune", "--port", fulmar.port, folder=tmp_path, env=bench)
        process.stdin.write("s\n\ny\n")
        process.stdin.flush()
        fulmar.until(r" s  hotend [\d.]+$|hotend .*test|M303")
        process.send_signal(signal.SIGINT)
        _, err = process.communicate(timeout=60)
        assert process.returncode == 1 and "it goes on with" in err
        assert "omphalon printer tune" in err and fulmar.hot() == set()


@pytest.mark.slow
def test_a_finding_that_was_not_set_is_offered_and_no_other_is_adopted(
    evening, run, bench, tmp_path
):
    walls = [w for _ in range(8) for w in ("--wall", 0.48)]
    for words in (
        ("axis", "fit", "before.csv"),
        ("flow", "fit", "--flow", 1, "--expected", 0.45, *walls),
    ):
        assert run(*words, env=bench).returncode == 0
    with StandIn(tmp_path, "--tcp", 0, "--pace", 300) as fulmar:
        code, out, err = evening(fulmar.port, "s", "s", "s", "", "", "y", "y", "", "q")
    assert code == 0 and "and not yet set" in out and "stored" in out, err
    settings = json.loads(run("bench", "show", "--json", env=bench).stdout)["settings"]
    assert settings["steps-x"]["how"] == "adopted" and "flow" not in settings
