"""Damaged versions of the sample log: the right answer with its warning, or a refusal; never a wrong one in silence.

benchmarks/heater_damage.py does the same for eight heaters; here each damage runs once.
"""

import json

import numpy as np
import pytest

from omphalon.standin.oscillation import HeaterLog, Test, as_csv, oscillation_log
from omphalon.standin.samples import FULMAR_HOTEND
from scored import day_score

BASE = {"target_c": 235.0, "cycles": 9, "fan_on": True, "seed": 21}
NAMES = ("time_s", "temperature_c", "power", "target_c")


def logged(**changes):
    return oscillation_log(FULMAR_HOTEND, Test(**BASE | changes))


def without(log, rows):
    return HeaterLog(*(list(np.delete(getattr(log, n), rows)) for n in NAMES))


def with_temperature(change):
    log = logged()
    y = np.array(log.temperature_c)
    change(y)
    log.temperature_c = list(y)
    return log


def spike(height):
    def change(y):
        y[[30, 90, 140, 170]] += np.array([1, -1, 1, -1]) * height

    return lambda: with_temperature(change)


def hold_still():
    def change(y):
        y[150:162] = y[150]

    return with_temperature(change)


def start_anew(clock):
    first, second = logged(), logged(start_c=215.0, seed=4)
    late = 0.0 if clock else first.time_s[150] + 20
    return HeaterLog(
        first.time_s[:150] + [t + late for t in second.time_s],
        *(getattr(first, n)[:150] + getattr(second, n) for n in NAMES[1:]),
    )


def rising_cold():
    """No power for a minute, and hotter all the while."""
    log = logged()
    t, y = np.array(log.time_s), np.array(log.temperature_c)
    more = np.arange(1, 60.0)
    return HeaterLog(
        [*t, *(t[-1] + more)],
        [*y, *(y[-1] + more)],
        [*log.power, *np.zeros(59)],
        [*log.target_c, *np.zeros(59)],
    )


DAMAGES = {
    "gap": (lambda: without(logged(), np.arange(140, 165)), {"dropout"}),
    "spikes": (spike(40.0), {"spikes", "sensor-jump"}),
    "small spikes": (spike(4.0), {"spikes"}),
    "stuck": (hold_still, {"stuck-reading"}),
    "restart": (lambda: start_anew(False), {"target-changed"}),
    "clock anew": (lambda: start_anew(True), {"clock-restarted"}),
    "other target": (
        lambda: logged(cycles=11, retarget_at_cycle=7, retarget_by_c=-12.0, most_s=900.0),
        {"target-changed"},
    ),
    "fan half way": (lambda: logged(fan_on=False, fan_on_at_cycle=4), {"drift"}),
    "heats alone": (rising_cold, {"heats-alone"}),
}


@pytest.mark.parametrize("name", DAMAGES)
def test_damage_is_seen(name, run, tmp_path):
    make, codes = DAMAGES[name]
    (tmp_path / "log.csv").write_text("\n".join(as_csv(make())) + "\n")
    done = run("heater", "fit", "log.csv", "--json")
    document = json.loads(done.stdout)
    assert done.returncode in (0, 3), done.stderr
    if done.returncode == 3:
        assert document["settings"] == {} and document["because"]
        return
    assert codes <= {w["code"] for w in document["warnings"]}
    gains = np.array([[document["settings"][k] for k in ("kp", "ki", "kd")]])
    sound = np.array([[0.14, 0.0093, 0.247]])  # what the whole log gives
    scores, _ = day_score(FULMAR_HOTEND, np.vstack([gains, sound]), 235.0)
    assert scores[0] < 1.25 * scores[1]


def test_safety_leads_the_warnings(run, sample):
    done = run("heater", "fit", sample("hotend-oscillation.csv"), "--max-temp", 236)
    assert done.stdout.index("above the 236 °C allowed") < done.stdout.index(
        "255 is taken as full power"
    )


def test_several_logs_together_and_at_odds(run, tmp_path):
    for name, log in (
        ("a.csv", logged()),
        ("b.csv", logged(seed=5)),
        ("other.csv", oscillation_log(FULMAR_HOTEND.other_day(1.8, 1.3), Test(**BASE))),
    ):
        (tmp_path / name).write_text("\n".join(as_csv(log)) + "\n")
    one, two, odd = (
        json.loads(run("heater", "fit", *names, "--json").stdout)
        for names in (["a.csv"], ["a.csv", "b.csv"], ["a.csv", "other.csv"])
    )
    assert two["evidence"]["logs"] == 2
    assert two["evidence"]["cycles_used"] > one["evidence"]["cycles_used"]
    assert odd["verdict"] == "retest" or "logs-disagree" in {w["code"] for w in odd["warnings"]}


@pytest.mark.parametrize(
    "options, differs",
    [
        (["--aim", "gentle", "--fan", "on"], "kp"),
        (["--aim", "quick", "--fan", "on"], "kp"),
        (["--fan", "off"], "ki"),
        (["--power-limit", "0.7", "--fan", "on"], "kp"),
        (["--loop-period", "0.5", "--fan", "on"], "kp"),
        (["--filter", "4", "--fan", "on"], "kd"),
        (["--fan-cooling", "0.9", "--fan", "on"], "ki"),
    ],
)
def test_options_reach_the_gains(options, differs, run, sample):
    words = ("heater", "fit", sample("hotend-oscillation.csv"), "--json")
    other, plain = (
        json.loads(run(*words, *more).stdout)["settings"] for more in (options, ["--fan", "on"])
    )
    assert abs(other[differs] / plain[differs] - 1) > 0.01


def test_both_forms_of_present_gains_are_one(run, sample):
    parallel, times = (
        json.loads(
            run("heater", "fit", sample("hotend-oscillation.csv"), "--json", "--kp", 20, *o).stdout
        )
        for o in (["--ki", 1.0, "--kd", 50], ["--ti", 20, "--td", 2.5])
    )
    assert (
        parallel["evidence"]["predicted_otherwise"]["present gains"]
        == times["evidence"]["predicted_otherwise"]["present gains"]
    )
