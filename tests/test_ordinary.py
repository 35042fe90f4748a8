"""Gains out of logs without a test: heat-ups, holds, other targets; and what is no such log."""

import csv
import io
import json
from dataclasses import replace

import numpy as np
import pytest

from conftest import SAMPLES
from logs import as_csv
from omphalon.standin.loop import Hold, hold_log
from omphalon.standin.oscillation import as_console
from omphalon.standin.samples import FULMAR_HOTEND
from scored import day_score

GAINS = (0.13, 0.0085, 0.2)
HOLD = Hold(target_c=235.0, gains=GAINS, hold_s=240.0, fan_after_s=None, report_s=1.0, seed=4)


def logged(**changes):
    """The rows of an ordinary log of the made-up hotend."""
    log = hold_log(FULMAR_HOTEND, replace(HOLD, **changes))
    return [dict(row) for row in csv.DictReader(io.StringIO("\n".join(as_csv(log))))]


def text(rows):
    out = io.StringIO()
    writer = csv.DictWriter(out, list(rows[0]), lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return out.getvalue()


def answered(run, tmp_path, rows, *words):
    (tmp_path / "log.csv").write_text(text(rows))
    done = run("heater", "fit", "log.csv", "--json", *words)
    assert done.returncode in (0, 3), done.stderr
    return json.loads(done.stdout)


@pytest.fixture(scope="module")
def best():
    """The score of the gains of the oscillation test, on the heater itself."""
    from omphalon.cli import omphalon as program

    words = ["heater", "fit", str(SAMPLES / "hotend-oscillation.csv"), "--fan", "on", "--quiet"]
    found = program.main(words, "omphalon", standalone_mode=False)
    return scored([one.value for one in found.settings])


def scored(gains):
    return float(day_score(FULMAR_HOTEND, np.array([gains]), 235.0)[0][0])


ORDINARY = {
    # what is in the log
    "a heat-up and a hold": {},
    "power as a mean": {"averaged": True},
    "a report every 2 s": {"report_s": 2.0},
    "the part fan": {"fan_after_s": 150.0, "hold_s": 300.0},
    "a step and back": {"hold_s": 400.0, "targets": ((150.0, 220.0), (270.0, 235.0))},
    "gains far too hot": {"gains": (0.31, 0.024, 0.1)},
    "timid gains": {"gains": (0.04, 0.002, 0.05), "hold_s": 400.0},
}


QUICK = ("a heat-up and a hold", "a step and back")


@pytest.mark.parametrize(
    "changes",
    [
        pytest.param(changes, id=name, marks=() if name in QUICK else pytest.mark.slow)
        for name, changes in ORDINARY.items()
    ],
)
def test_an_ordinary_log_serves_as_the_test_does(changes, best, run, tmp_path):
    found = answered(run, tmp_path, logged(**changes))
    assert found["verdict"] == "change" and found["evidence"]["cycles_used"] == 0
    assert scored([found["settings"][k] for k in ("kp", "ki", "kd")]) < 1.3 * best
    kinds = [s["kind"] for s in found["evidence"]["stretches"]]
    assert "heats up" in kinds and "holds" in kinds
    assert "no-test-in-it" in [w["code"] for w in found["warnings"]]


@pytest.mark.slow
@pytest.mark.parametrize("number", [0, 4, 7])
def test_an_hour_in_which_the_loss_changes_from_the_first_minutes_on_is_read(number):
    """Of the first minutes so many are used as one model follows."""
    from heater_ordinary import cases, judged

    one = [case for case in cases("two masses") if case.kind == "hour"][number]
    assert judged(one).ratio < 1.3  # of the best possible score


def test_what_came_on_in_the_hold_is_found(run, tmp_path):
    losses = answered(run, tmp_path, logged(fan_after_s=150.0, hold_s=300.0))["evidence"]["losses"]
    fan = max(losses, key=lambda one: one["share"])
    assert fan["share"] == pytest.approx(FULMAR_HOTEND.fan_extra, abs=0.15)


def test_a_column_that_tells_the_fan_is_used(run, tmp_path):
    rows = other(
        logged(fan_after_s=150.0, hold_s=300.0),
        fan=lambda row: 255 if float(row["time_s"]) > 253 else 0,
    )
    losses = answered(run, tmp_path, rows)["evidence"]["losses"]
    assert [one["share"] for one in losses] == [pytest.approx(FULMAR_HOTEND.fan_extra, abs=0.15)]


def test_a_console_s_lines_that_set_the_fan_are_used(run, tmp_path):
    log = hold_log(FULMAR_HOTEND, replace(HOLD, fan_after_s=150.0, hold_s=300.0))
    lines = []
    reports = (line for line in as_console(log, bed=False) if "T:" in line)
    for at, line in zip(log.time_s, reports, strict=True):
        if 253.0 <= at < 254.0:
            lines += ["Recv: echo: M106 P1 S90", "Send: N41 M106 S255*99"]
        lines.append(f"{at:.2f}{line}")
    (tmp_path / "console.txt").write_text("\n".join(lines) + "\n")
    done = run("heater", "fit", "console.txt", "--heater", "hotend", "--json")
    losses = json.loads(done.stdout)["evidence"]["losses"]
    assert [one["share"] for one in losses] == [pytest.approx(FULMAR_HOTEND.fan_extra, abs=0.15)]


def other(rows, **columns):
    """The same log with other columns."""
    return [{**row, **{name: make(row) for name, make in columns.items()}} for row in rows]


def cut(rows, seconds):
    return [row for row in rows if float(row["time_s"]) < seconds]


CALM = np.random.default_rng(7).uniform(0.2, 0.4, 5000).round(3)
NONE = {
    # not an ordinary log of a heater, or too little of one: what is said
    "cut off in the heat-up": (lambda: cut(logged(), 60.0), "never reached"),
    "cut off as it arrives": (lambda: cut(logged(), 113.0), "the log ends too soon"),
    "power 0 throughout": (lambda: other(logged(), power=lambda row: 0), "never changes"),
    "another heater's power": (
        lambda: [{**row, "power": str(p)} for row, p in zip(logged(), CALM, strict=False)],
        "something else changed the temperature",
    ),
    "a target that is never reached": (
        lambda: other(logged(), target_c=lambda row: 260 if float(row["target_c"]) else 0),
        "never reached",
    ),
    "hardly excited": (
        lambda: [r for r in logged(hold_s=600.0) if float(r["time_s"]) > 200],
        "hardly changed",
    ),
}


@pytest.mark.parametrize("make, says", NONE.values(), ids=NONE)
def test_what_is_no_such_log_is_refused(make, says, run, tmp_path):
    found = answered(run, tmp_path, make())
    assert found["verdict"] == "retest" and found["settings"] == {}
    assert says in found["because"]


def test_a_power_that_never_comes_to_full_is_a_doubt(run, tmp_path):
    half = other(logged(), power=lambda row: round(float(row["power"]) / 2, 3))
    codes = [w["code"] for w in answered(run, tmp_path, half)["warnings"]]
    assert "power-limited" in codes


def test_a_power_that_comes_on_after_its_target_is_a_doubt(run, tmp_path):
    rows = logged()
    power = [row["power"] for row in rows]
    late = [{**row, "power": u} for row, u in zip(rows, ["0"] * 7 + power, strict=False)]
    told = [[w["code"] for w in answered(run, tmp_path, one)["warnings"]] for one in (rows, late)]
    assert "power-late" in told[1] and "power-late" not in told[0]


def test_gains_that_were_not_at_work_are_told_from_those_that_were(run, tmp_path):
    given = {k: v * 255 for k, v in zip(("--kp", "--ki", "--kd"), GAINS, strict=True)}
    words = [str(w) for pair in given.items() for w in pair]
    rows = logged(hold_s=400.0, targets=((150.0, 228.0), (270.0, 235.0)))
    assert answered(run, tmp_path, rows, *words)["verdict"] in ("change", "keep")
    wrong = [word if word.startswith("--") else str(float(word) / 6) for word in words]
    found = answered(run, tmp_path, rows, *wrong)
    assert found["verdict"] == "retest" and "in another scale" in found["because"]


def test_a_heater_s_health_is_told_and_held_against_the_last_log(run, tmp_path):
    weak = replace(FULMAR_HOTEND, power_w=0.9 * FULMAR_HOTEND.power_w)
    for name, heater in (("before", FULMAR_HOTEND), ("after", weak)):
        log = hold_log(heater, replace(HOLD, report_s=0.5))
        (tmp_path / f"{name}.csv").write_text("\n".join(as_csv(log)) + "\n")
    found = json.loads(
        run("heater", "check", "before.csv", "after.csv", "--target", "235", "--json").stdout
    )
    assert set(found["evidence"]["health"]) == {"holding_power", "rise_c_s", "delay_s"}
    assert "full power gives" in " ".join(w["message"] for w in found["warnings"])


@pytest.mark.parametrize("style", ["step", "heat-up"])
def test_other_tests_are_planned_for_controllers_without_one(style, run):
    plan = json.loads(run("heater", "plan", "--style", style, "--target", "235", "--json").stdout)
    assert plan["lines"][0] == "M104 S235" and plan["lines"][-1] == "M104 S0"
    assert ("M104 S220" in plan["lines"]) == (style == "step")


@pytest.mark.slow
def test_a_bench_holds_a_heater_against_what_it_first_was(run, tmp_path):
    weak = replace(FULMAR_HOTEND, power_w=0.88 * FULMAR_HOTEND.power_w)
    for name, heater, seed in (("a", FULMAR_HOTEND, 1), ("b", weak, 2), ("c", weak, 3)):
        log = hold_log(heater, replace(HOLD, seed=seed, averaged=True))
        (tmp_path / f"{name}.csv").write_text("\n".join(as_csv(log)) + "\n")
    run("bench", "new", "b")
    hotend, of = ("--heater", "hotend", "--target", "235", "--bench", "b"), ("--bench", "b")
    run("heater", "fit", "a.csv", *hotend)
    run("bench", "adopt", *of)
    assert "full power gives" not in run("heater", "check", "a.csv", *hotend).stdout
    for later in ("b.csv", "c.csv"):
        assert "full power gives" in run("heater", "check", later, *hotend).stdout
        assert "full power gives" in run("bench", "next", *of).stdout
    run("heater", "check", "a.csv", *hotend)
    assert "full power gives" not in run("bench", "next", *of).stdout
