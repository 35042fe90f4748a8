"""Settings for a range: gains over temperatures and with plastic that flows, pressure advance over
speeds, and where a setting in force no longer holds.
"""

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import omphalon
from omphalon.physics.aims import AIMS
from omphalon.physics.choice import choose_gains, ensemble_of
from omphalon.physics.loop import Loop, run_loop
from omphalon.physics.thermal import ThermalModel
from omphalon.standin.oscillation import Test, as_console, oscillation_log
from omphalon.standin.samples import FULMAR_HOTEND as HOTEND

SAMPLES = Path(omphalon.__file__).parent / "samples"
HEATER = ("heater", "fit", "--heater", "hotend", "--fan", "on", "--json")
RANGE = (*HEATER, "--target", "215:240")


def answer(done):
    assert done.returncode in (0, 3), done.stderr
    return json.loads(done.stdout)


@pytest.fixture(scope="module")
def logs(tmp_path_factory):
    """Tests of the stand-in's hotend at two targets."""
    folder = tmp_path_factory.mktemp("logs")
    for goal in (195.0, 240.0):
        log = oscillation_log(HOTEND, Test(target_c=goal, report_s=0.5, fan_on=True, seed=4))
        lines, times = [], iter(log.time_s)
        for line in as_console(log, False):
            stamp = f"{next(times):.2f} " if "T:" in line else ""
            lines.append(stamp + line)
        (folder / f"{goal:.0f}.txt").write_text("\n".join(lines) + "\n")
    return folder


def test_tests_at_two_targets_are_one_heater(logs, run):
    paths = [str(logs / "240.txt"), str(logs / "195.txt")]
    found = answer(run(*HEATER, *paths, "--full-power", "127", "--target", "195:240"))
    assert found["verdict"] == "change"
    assert "logs-disagree" not in [w["code"] for w in found["warnings"]]
    assert "tested-elsewhere" not in [w["code"] for w in found["warnings"]]
    span = found["evidence"]["over_range"]
    assert [one["target_c"] for one in span] == [195, 217.5, 240]
    assert all(-0.03 < one["cost"] < 0.10 for one in span)  # one heater, nearly linear
    arrivals = np.array([one["arrival_s"] for one in span])
    assert np.all(np.diff(arrivals) > 10)  # 22 °C further, at some 2 °C/s and falling
    # holding powers as its own parts make them
    for one in span:
        rise = one["target_c"] - HOTEND.ambient_c
        lost = (HOTEND.loss_heated_w_c + HOTEND.loss_second_w_c) * rise
        lost *= 1 + HOTEND.growth_per_c * rise
        blown = lost * (1 + HOTEND.fan_extra) / HOTEND.power_w
        assert one["holding_power"] * 1.4 == pytest.approx(blown, rel=0.08)  # 0.4 is the usual fan


def test_a_controller_with_a_table_of_gains_gets_a_set_for_each_target(run, sample, tmp_path):
    (tmp_path / "d.toml").write_text(
        'gain_scale = 100\n[lines]\nhotend-gains-at = "TABLE {target:.0f} {kp:.5f} {ki:.5f} {kd:.5f}"\n'
    )
    found = answer(run(*RANGE, str(sample("hotend-oscillation.csv")), "--dialect", "d.toml"))
    rows = [line.split() for line in found["lines"]]
    sets = found["evidence"]["over_range"]
    assert [row[:2] for row in rows] == [["TABLE", f"{one['target_c']:.0f}"] for one in sets]
    for row, one in zip(rows, sets, strict=True):
        wanted = [100 * one["alone"][k] for k in ("kp", "ki", "kd")]
        assert [float(word) for word in row[2:]] == pytest.approx(wanted, abs=1e-4)


def test_plastic_takes_what_its_heat_says(run, sample):
    words = (str(sample("hotend-oscillation.csv")), "--target", "235", "--fan-cooling", "0.45")
    more = ("--watts", "40", "--plastic", "petg", "--volume-flow", "10")
    told = answer(run(*HEATER, *words, *more))["evidence"]["plastic"]
    rise = 235 - HOTEND.ambient_c
    lost = (HOTEND.loss_heated_w_c + HOTEND.loss_second_w_c) * rise
    lost *= (1 + HOTEND.growth_per_c * rise) * (1 + HOTEND.fan_extra)
    heat = 1.27e-3 * 1.7 * rise  # J/mm³ of amorphous PETG
    low, expected, high = told["most_mm3_s"]
    assert low < (HOTEND.power_w - lost) / heat < high
    assert expected == pytest.approx((HOTEND.power_w - lost) / heat, rel=0.12)
    assert told["takes"] == pytest.approx(10 * heat / 40, rel=0.01)
    words_of_range = (words[0], "--target", "215:235", *words[3:])
    ranged = answer(run(*HEATER, *words_of_range, *more))["evidence"]["plastic"]
    assert ranged["target_c"] == 235  # the hottest, and there the same
    assert ranged["takes"] == pytest.approx(told["takes"], rel=0.01)
    twice = answer(run(*HEATER, *words, *more[:-1], "20"))["evidence"]["plastic"]
    assert twice["dip_c"][1] == pytest.approx(2 * told["dip_c"][1], rel=0.1)
    past = answer(run(*HEATER, *words, *more[:-1], "60"))
    assert "power-ends" in [w["code"] for w in past["warnings"]]
    assert past["evidence"]["plastic"]["dip_c"] is None


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (("--target", "240:215"), 2, "upside down"),
        (("--target", "235:310"), 3, "more than 60 °C away"),
        (("--target", "235", "--volume-flow", "10"), 2, "--watts"),
        (("--target", "235", "--watts", "40"), 2, "--plastic"),
        (("--target", "235", "--watts", "40", "--plastic", "wood"), 2, "pla"),
    ],
)
def test_a_range_that_makes_no_sense_is_refused(words, code, said, run, sample):
    done = run(*HEATER[:-1], str(sample("hotend-oscillation.csv")), *words)
    assert done.returncode == code and said in done.stdout + done.stderr


def test_one_set_for_two_heaters_alike_is_the_set_of_each():
    """A heater whose losses do not grow needs the same gains at every target."""
    model = ThermalModel.between(20.0, 180.0)
    model = replace(model, gain_c=400.0, time_constant_s=150.0, lag_s=2.0)
    loop = Loop(200.0)
    hot = model.read_as(240.0, 200.0)
    assert hot.holding_power == pytest.approx(220 / 400)
    gains = np.array([[0.2, 0.01, 0.4]])
    run = run_loop([model, hot], gains, loop)
    assert run.ripple_c[0, 0] == pytest.approx(run.ripple_c[1, 0], abs=0.05)
    one = choose_gains(model, ensemble_of(model, []), loop, AIMS["even"]).gains
    both = choose_gains(
        [model, hot], [*ensemble_of(model, []), *ensemble_of(hot, [])], loop, AIMS["even"]
    ).gains
    assert both.kp == pytest.approx(one.kp, rel=0.25)


def widths(best, slope=-2.0):
    """Readings of lines whose widths cross zero at a value for each speed, as a caliper has them."""
    rows = ["fast_mm_s,advance_s,speedup_mm,slowdown_mm"]
    random = np.random.default_rng(8)
    for speed, at in best.items():
        for value in np.linspace(0, 0.12, 13):
            off = slope * (value - at) + random.normal(0, 0.01)
            rows.append(f"{speed:g},{value:.3f},0.450,{0.45 + off:.3f}")
    return "\n".join(rows) + "\n"


def test_one_value_where_one_serves_all_speeds(run, tmp_path):
    (tmp_path / "w.csv").write_text(widths({60: 0.05, 120: 0.05, 180: 0.05}))
    found = answer(run("advance", "fit", "w.csv", "--json"))
    assert abs(found["settings"]["advance_s"] - 0.05) < found["spread"]["advance_s"] < 0.01
    assert "speeds-apart" not in [w["code"] for w in found["warnings"]]
    assert [s["fast_mm_s"] for s in found["evidence"]["speeds"]] == [60, 120, 180]


def test_else_the_slowest_one_s_and_what_it_makes_of_the_others(run, tmp_path):
    best = {60: 0.06, 120: 0.04}
    (tmp_path / "w.csv").write_text(widths(best))
    found = answer(run("advance", "fit", "w.csv", "--json"))
    value = found["settings"]["advance_s"]
    assert abs(value - best[60]) < found["spread"]["advance_s"]
    assert "speeds-apart" in [w["code"] for w in found["warnings"]]
    for one in found["evidence"]["speeds"]:
        assert one["off_mm"] == pytest.approx(-2.0 * (value - best[one["fast_mm_s"]]), abs=0.01)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--style", "tower", "--fast", "60:120"), "--style ladder"),
        (("--style", "ladder", "--fast", "60:70"), "too alike"),
        (("--style", "ladder", "--fast", "40:60:90:140"), "3"),
        (("--style", "ladder", "--fast", "60:900"), "mm³"),
        (("--style", "ladder", "--for", "eye", "--fast", "60:120"), "scanned"),
    ],
)
def test_speeds_that_no_print_has_room_for(words, said, run):
    done = run("advance", "plan", *words, "--dialect", "stand-in", "--out", "p.gcode")
    assert done.returncode == 2 and said in done.stderr


LEAVES = {
    # a fact that leaves the range of a setting → which
    "filament.grey.temp=275": ("hotend-gains", "advance"),
    "heaters.hotend_target=180": ("hotend-gains",),
    "slicer.speed=250": ("advance",),
    "nozzle.width=0.8": ("advance",),
    "bed.y=300": ("shaper-y",),
    "filament.grey.temp=240": (),
    "slicer.speed=120": (),
}


@pytest.fixture(scope="module")
def bench(program, tmp_path_factory):
    place = tmp_path_factory.mktemp("bench") / "fulmar"
    aside = tmp_path_factory.mktemp("aside")

    def go(*words, cwd=place):
        done = program.run(words, cwd, aside, None)
        assert done.returncode in (0, 3, 4), done.stderr
        return done

    facts = ("printer.loaded=grey", "filament.grey.temp=235", "bed.x=220", "bed.y=220")
    facts = (*facts, "heaters.hotend_target=235", "nozzle.width=0.4")
    go("bench", "new", "fulmar", *(w for f in facts for w in ("--set", f)), cwd=place.parent)
    (place / "w.csv").write_text(widths({60: 0.05, 120: 0.05}))
    y, later = (str(SAMPLES / n) for n in ("sweep-y.csv.gz", "sweep-y-later.csv.gz"))
    go(*RANGE[:-1], "210:240", str(SAMPLES / "hotend-oscillation.csv"))
    go("advance", "fit", "w.csv", "--drive", "direct")
    go("shaper", "fit", "--y", f"empty={y}", "--y", f"loaded={later}")
    go("bench", "adopt", "--all")
    return go


@pytest.mark.parametrize("fact", LEAVES)
def test_a_fact_that_leaves_the_range_makes_a_setting_due(fact, bench):
    known = json.loads(bench("bench", "show", "--json").stdout)
    key, _, _ = fact.partition("=")
    before = known["facts"].get(key, 80)
    try:
        bench("bench", "set", fact)
        steps = json.loads(bench("bench", "next", "--json").stdout)["steps"]
        left = {s["setting"] for s in steps if s["reason"] == "left-its-range"}
        assert left == set(LEAVES[fact])
    finally:
        bench("bench", "set", f"{key}={before:g}")


def test_a_check_that_passes_where_a_fact_went_renews_the_setting(bench, tmp_path):
    """The same hold, 40 °C hotter."""
    rows = [row.split(",") for row in (SAMPLES / "hold-after.csv").read_text().splitlines()]
    for row in rows:
        if not row[0].startswith(("#", "time")):
            row[1], row[2] = (f"{float(cell) + 40:.2f}" for cell in row[1:3])
    (tmp_path / "hot.csv").write_text("\n".join(",".join(row) for row in rows) + "\n")
    try:
        bench("bench", "set", "heaters.hotend_target=275", "filament.grey.temp=275")
        for due in (True, False):
            steps = json.loads(bench("bench", "next", "--json").stdout)["steps"]
            assert (
                ("hotend-gains", "left-its-range") in [(s["setting"], s["reason"]) for s in steps]
            ) is due
            done = bench("heater", "check", str(tmp_path / "hot.csv"), "--target", "275")
            assert done.stdout.startswith("KEEP"), done.stdout
    finally:
        bench("bench", "set", "heaters.hotend_target=235", "filament.grey.temp=235")


def test_a_bench_says_for_what_a_setting_holds(bench):
    shown = bench("bench", "show").stdout
    assert "holds, 210 to 240 °C" in shown
    assert "holds, 60 to 120 mm/s" in shown and "holds, empty, loaded" in shown
    kept = json.loads(bench("bench", "show", "--json").stdout)["settings"]["hotend-gains"]
    assert kept["ranges"]["targets"] == [210, 240]


def printed_hour(path, heat_j_mm3=0.45, watts=40.0):
    """A heat-up, a hold and forty minutes of print as a log has them: one block under a controller,
    the flow of its plastic changing every minute.
    """
    random, block, room, lag = np.random.default_rng(9), 15.0, 20.0, 2.0
    hot = seen = room
    integral, flowing, rows, step = 0.0, 0.0, [], 0.1
    for tick in range(round(2900 / step)):
        now = tick * step
        if now > 500 and tick % 600 == 0:
            flowing = float(random.integers(0, 14))
        error = 210 - seen
        integral = np.clip(integral + 0.003 * error * step, 0, 1) if error < 10 else 0.0
        power = 1.0 if error > 10 else float(np.clip(0.06 * error + integral, 0, 1))
        lost = 0.07 * (hot - room) + flowing * heat_j_mm3
        hot += step * (watts * power - lost) / block
        seen += step * (hot - seen) / lag
        if tick % 10 == 0:
            shown = round(seen + random.normal(0, 0.05), 2)
            rows.append(f"{now:.1f},{shown},210,{power:.3f},{flowing:g}")
    path.write_text("time_s,temperature_c,target_c,power,flow_mm3_s\n" + "\n".join(rows) + "\n")


def test_an_hour_with_flow_in_it_measures_what_plastic_takes(run, tmp_path):
    printed_hour(tmp_path / "hour.csv")
    test = str(SAMPLES / "hotend-oscillation.csv")
    found = answer(run(*HEATER, test, "hour.csv", "--volume-flow", "10"))
    assert found["verdict"] == "change"
    told = found["evidence"]["plastic"]
    assert told["measured"]
    assert told["takes"] == pytest.approx(10 * 0.45 / 40, rel=0.05)


@pytest.mark.parametrize(("grows", "named"), [(0.0, False), (6e-5, True)])
def test_an_axis_whose_scale_changes_along_it_is_named(grows, named, run, tmp_path):
    random = np.random.default_rng(2)
    rows = ["axis,asked_mm,moved_mm"]
    for length in (20, 40, 60, 80, 100, 120, 140, 160):
        for _ in range(2):
            moved = 1.004 * length + grows * length**2 + random.normal(0, 0.03)
            rows.append(f"x,{length},{moved:.2f}")
    (tmp_path / "a.csv").write_text("\n".join(rows) + "\n")
    found = answer(run("axis", "fit", "a.csv", "--steps", "x=80", "--json"))
    assert ("uneven-axis" in [w["code"] for w in found["warnings"]]) is named
