"""Loops judged through the built program: good ones kept, spoiled ones named by what is wrong."""

import json

import numpy as np
import pytest

from omphalon.standin.loop import Hold, hold_log
from omphalon.standin.oscillation import as_csv
from omphalon.standin.samples import FULMAR_BED, FULMAR_HOTEND

GOOD = {"hotend": (0.13, 0.0088, 0.23), "bed": (0.5, 0.002, 0.8)}
RIGS = {"hotend": (FULMAR_HOTEND, 235.0, 60.0), "bed": (FULMAR_BED, 75.0, 300.0)}
TIMES = lambda gains, *factors: tuple(g * f for g, f in zip(gains, factors, strict=True))  # noqa: E731

# heater, factors on good gains, windup, sensor noise, power limit → verdict, first sign
LOOPS = [
    ("hotend", (1, 1, 1), False, None, 1.0, "keep", set()),
    ("bed", (1, 1, 1), False, None, 1.0, "keep", set()),
    ("hotend", (4, 4, 2.5), False, None, 1.0, "change", {"oscillating", "hot"}),
    ("bed", (5, 5, 3), False, None, 1.0, "change", {"oscillating", "hot"}),
    ("hotend", (0.25, 0.15, 0.25), False, None, 1.0, "change", {"slow"}),
    ("bed", (0.2, 0.1, 0.2), False, None, 1.0, "change", {"slow"}),
    ("hotend", (0.6, 0.8, 0.4), True, None, 1.0, "change", {"windup"}),
    ("hotend", (1, 1, 1), False, 0.6, 1.0, "change", {"sensor noise"}),
    ("hotend", (1, 1, 1), False, None, 0.38, "change", {"power too weak"}),
]


def log_of(heater, factors, windup, noise, limit, seed=3):
    from dataclasses import replace

    rig, target, unit = RIGS[heater]
    rig = rig if noise is None else replace(rig, noise_c=noise)
    return hold_log(
        rig,
        Hold(
            target_c=target,
            gains=TIMES(GOOD[heater], *factors),
            hold_s=2.5 * unit,
            fan_after_s=1.5 * unit,
            windup=windup,
            seed=seed,
            power_limit=limit,
            most_s=900,
        ),
    )


def test_the_fan_s_moment_is_taken_from_the_log(run, tmp_path):
    head, *rows = as_csv(log_of("hotend", (1, 1, 1), False, None, 1.0))
    times, readings = zip(*(map(float, row.split(",")[:2]) for row in rows), strict=True)
    near = next(t for t, c in zip(times, readings, strict=True) if c >= 225)
    came = next(t for t in times if t >= near + 90)  # as the made-up run has it
    blows = [f"{row},{t >= came:d}" for row, t in zip(rows, times, strict=True)]
    (tmp_path / "plain.csv").write_text("\n".join([head, *rows]))
    (tmp_path / "own.csv").write_text("\n".join([f"{head},fan", *blows]))
    told, own = (
        json.loads(run("heater", "check", *words, "--target", 235, "--json").stdout)["evidence"]
        for words in (("plain.csv", "--fan-at", came - times[0]), ("own.csv",))
    )
    assert own["fan_s"] and all(own[n] == told[n] for n in ("fan_s", "dip_c", "ripple_c"))
    assert own["health"]["holding_power"]["value"] == pytest.approx(
        told["health"]["holding_power"]["value"], rel=0.03
    )


@pytest.mark.parametrize(
    "heater, factors, windup, noise, limit, verdict, signs",
    [
        pytest.param(*loop, marks=() if n % 3 == 0 else pytest.mark.slow)
        for n, loop in enumerate(LOOPS)
    ],
)
def test_a_loop_is_judged(heater, factors, windup, noise, limit, verdict, signs, run, tmp_path):
    (tmp_path / "log.csv").write_text(
        "\n".join(as_csv(log_of(heater, factors, windup, noise, limit))) + "\n"
    )
    done = run(
        "heater",
        "check",
        "log.csv",
        "--target",
        RIGS[heater][1],
        "--json",
        *(["--full-power", "1"] if limit == 1.0 else []),
    )
    document = json.loads(done.stdout)
    assert done.returncode == (0 if verdict == "keep" else 4)
    assert document["verdict"] == verdict and document["settings"] == {}
    found = document["evidence"]["signs"]
    assert (not found) if verdict == "keep" else found[0] in signs
    assert {"arrival_s", "overshoot_c", "settle_s", "ripple_c", "bias_c", "dip_c"} <= set(
        document["evidence"]
    )


def curve(t, overshoot=0.0, dip=0.0, ripple=0.0, bias=0.0):
    """Time, temperature: a ramp of 2 °C/s from 20 to 200 °C, then what is asked for, the fan on at 180 s."""
    y = np.where(t < 90, 20 + 2 * t, 200.0 + bias)
    y += np.where((t >= 90) & (t < 110), overshoot * np.sin(np.pi * (t - 90) / 20), 0)
    y -= np.where((t >= 180) & (t < 200), dip * np.sin(np.pi * (t - 180) / 20), 0)
    return y + np.where((t > 110) & (t < 180), ripple / 2 * np.sin(2 * np.pi * t / 8), 0)


@pytest.mark.parametrize(
    "shape, name, value",
    [
        ({"overshoot": 3.0}, "overshoot_c", 3.0),
        ({"dip": 2.0}, "dip_c", 2.0),
        ({"ripple": 0.8}, "ripple_c", 0.8),
        ({"bias": -0.3}, "bias_c", -0.3),
        ({}, "arrival_s", 89.5),
        ({"dip": 2.0}, "recovery_s", 18.0),
    ],
)
def test_what_is_drawn_is_measured(shape, name, value, run, tmp_path):
    t = np.arange(0, 260, 0.5)
    y = curve(t, **shape) + np.random.default_rng(1).normal(0, 0.02, len(t))
    (tmp_path / "log.csv").write_text(
        "time_s,temperature_c\n" + "".join(f"{a:.1f},{b:.3f}\n" for a, b in zip(t, y, strict=True))
    )
    document = json.loads(
        run("heater", "check", "log.csv", "--target", 200, "--fan-at", 180, "--json").stdout
    )
    # heating counts from the first rise of 3 °C, 1.5 to 2 s into this log
    assert document["evidence"][name] == pytest.approx(
        value, abs=2.2 if name.endswith("_s") else 0.1
    )


def test_before_and_after_stand_in_one_table(run, sample, tmp_path):
    done = run(
        "heater",
        "check",
        sample("hold-before.csv"),
        sample("hold-after.csv"),
        "--target",
        235,
        "--plot",
        "f.svg",
    )
    assert done.returncode == 0 and "before" in done.stdout and "after" in done.stdout
    assert (tmp_path / "f.svg").exists()
    back = run(
        "heater", "check", sample("hold-after.csv"), sample("hold-before.csv"), "--target", 235
    )
    assert back.returncode == 4 and back.stdout.startswith("CHANGE  oscillating")


@pytest.mark.parametrize(
    "words, code, start",
    [
        (
            ["--target", 235, "--from", 200, "--to", 100],
            2,
            "omphalon: --from 200 --to 100: upside down; ",
        ),
        ([], 2, "omphalon: Missing option '--target'; "),
        (["--target", 235, "--to", 20], 3, "RETEST  the log (or the part chosen) is too short"),
        (
            ["--target", 235, "--to", 60],
            3,
            "RETEST  the log ends before the target was held",
        ),
        (
            ["--target", 235, "--to", 112],
            3,
            "RETEST  the log ends before the target was held",
        ),
        (
            ["--target", 300],
            3,
            "RETEST  the log never gets close to 300 °C: its highest reading is",
        ),
    ],
)
def test_checks_that_cannot_be_answered(words, code, start, run, sample):
    done = run("heater", "check", sample("hold-after.csv"), *words)
    assert done.returncode == code and (done.stderr or done.stdout).startswith(start)
