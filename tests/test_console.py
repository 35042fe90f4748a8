"""What a controller printed of its own test: any wording and order, cycles or gains alone, beside a log."""

import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from omphalon.standin.oscillation import as_console, oscillation_log
from omphalon.standin.samples import FULMAR_HOTEND, HOTEND_TEST

CYCLES = ((232.1, 238.9), (232.6, 237.1), (232.7, 237.1), (232.7, 237.0), (232.8, 237.1))
ULTIMATE, PERIOD_S = 72.8, 11.7  # in a scale of 255
OWN = (43.7, 7.47, 63.9)  # Ziegler and Nichols: 0.6 Ku, Tu/2, Tu/8


def said(cycle, end, share=1.0):
    """A console's text: a line a cycle, the end in its own words; gains in another scale."""
    lines = [cycle.format(n=n, low=low, high=high) for n, (low, high) in enumerate(CYCLES, 1)]
    kp, ki, kd = (value * share for value in OWN)
    figures = {"ku": ULTIMATE * share, "tu": PERIOD_S, "kp": kp, "ki": ki, "kd": kd}
    return "\n".join(["a test begins", *lines, end.format(**figures, ms=1000 * PERIOD_S), "ok"])


END = "Ku: {ku:.4f} Tu: {tu}\nKp: {kp:.5f} Ki: {ki:.5f} Kd: {kd:.5f}"
WORDINGS = {
    "colons": said("min: {low}, max: {high}, bias: 128, half: 127", END),
    "equals, in words": said(
        "cycle {n}: lowest reading = {low} C, highest reading = {high} C",
        "ultimate gain = {ku}\nultimate period = {tu} s\nproportional = {kp}\nintegral = {ki}\n"
        "derivative = {kd}",
    ),
    "tabs, high first, ms": said(
        "high\t{high}\tlow\t{low}", "Tu\t{ms} ms\nkp\t{kp}\nki\t{ki}\nkd\t{kd}"
    ),
    "two lines a cycle": said("Min {low}\nMax {high}", "period {tu}\nKp={kp} Ki={ki} Kd={kd}"),
    "decimal commas": said("low: {low} high: {high}", END).replace(".", ","),
    "of 1": said("min {low} max {high}", "K_u {ku} T_u {tu}; K_p {kp} K_i {ki} K_d {kd}", 1 / 255),
}


def fitted(run, folder, text, *words):
    (folder / "console.txt").write_text(text + "\n")
    done = run("heater", "fit", "console.txt", "--json", *words)
    return json.loads(done.stdout) if done.stdout else done.stderr


@pytest.mark.parametrize("name", WORDINGS)
def test_cycles_and_gains_are_read_in_any_words(name, run, tmp_path):
    found = fitted(run, tmp_path, WORDINGS[name])
    evidence = found["evidence"]
    assert found["verdict"] == "change" and evidence["cycles_used"] == 4
    assert evidence["period_s"] == PERIOD_S
    # 4 d / (π a) with a of ±2.2 °C and all of full power
    assert 255 * evidence["ultimate_gain"] == pytest.approx(73.4, rel=0.02)
    share = 1 / 255 if name == "of 1" else 1
    own = evidence["own"]
    assert [own[k] for k in ("kp", "ki", "kd")] == pytest.approx([v * share for v in OWN], rel=1e-3)
    assert own["table"] == "Ziegler and Nichols"
    codes = [w["code"] for w in found["warnings"]]
    assert ("own-scale" in codes) == (name == "of 1")


def test_a_relay_of_less_than_full_power_has_a_smaller_step(run, tmp_path):
    half = WORDINGS["colons"].replace("bias: 128, half: 127", "bias: 140, half: 60")
    whole, less = (fitted(run, tmp_path, text) for text in (WORDINGS["colons"], half))
    ratio = less["evidence"]["ultimate_gain"] / whole["evidence"]["ultimate_gain"]
    assert ratio == pytest.approx(60 / 127, rel=0.01)


@settings(deadline=None, max_examples=60)
@given(
    figures=st.lists(
        st.tuples(
            st.sampled_from(("Ku", "Tu", "Kp", "Ki", "Kd", "bias", "half", "min", "max", "period")),
            st.sampled_from(("0", "-1", "1e9", "1e-9", "0.5", "2", "72", "119", "240", "1023")),
        ),
        max_size=12,
    )
)
def test_no_figures_make_a_fault(figures, program, tmp_path_factory):
    folder, aside = tmp_path_factory.mktemp("console"), tmp_path_factory.mktemp("aside")
    lines = [*("min 232 max 238" for _ in CYCLES), *(f"{name}: {value}" for name, value in figures)]
    (folder / "console.txt").write_text("\n".join(lines) + "\n")
    done = program.run(["heater", "fit", "console.txt"], folder, aside)
    assert done.returncode in (0, 1, 2, 3) and "fault of omphalon" not in done.stderr, done.stderr


def test_gains_alone_say_what_they_are_and_how_to_find_out(run, tmp_path):
    found = fitted(run, tmp_path, "Kp: 22.2 Ki: 1.08 Kd: 114")
    assert (found["verdict"], found["settings"]) == ("retest", {})
    assert "integral time 20.6 s, derivative time 5.14 s" in found["because"]
    assert "heater plan --style heat-up" in found["next"]


def test_beside_a_log_the_controller_s_own_gains_are_run_too(run, tmp_path):
    log = "\n".join(as_console(oscillation_log(FULMAR_HOTEND, HOTEND_TEST), False))
    alone = fitted(run, tmp_path, log, "--every", 1)
    both = fitted(
        run,
        tmp_path,
        f"{log}\n{END.format(ku=72.8, tu=11.7, kp=43.7, ki=7.47, kd=63.9)}",
        "--every",
        1,
    )
    assert both["settings"] == alone["settings"]
    own = both["evidence"]["predicted_otherwise"]["controller's own"]
    assert own["overshoot_c"] > 1 and "the controller's own gains overshoot by" in both["because"]


@pytest.mark.parametrize(
    "text", ["min 5 max 9", "Kp: 22 Ki: 1", "low 210 and no more", "nothing at all"]
)
def test_text_that_says_too_little_is_no_result(text, run, tmp_path):
    found = fitted(run, tmp_path, text)
    assert isinstance(found, str) and found.startswith("omphalon: ") and found.count("\n") == 1
