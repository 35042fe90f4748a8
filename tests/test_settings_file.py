"""A controller that is set by a file: its settings are read, changed in a copy of it, read back and put
back; and where a filament's settings live.
"""

import json
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from omphalon.base.errors import UnknownFormat
from omphalon.lines.dialect import load_dialect
from omphalon.lines.editing import Filed, written_into
from omphalon.lines.listing import listed
from omphalon.lines.template import Entered, Template, block, lines_in

OWN = """
name = "set by a file"
gain_scale = 1
[lines]
steps = { section = "drive {axis_lower}", line = "steps per mm: {steps:.3f}" }
hotend-gains = [
  { section = "heat nozzle", line = "p = {kp:.5f}" },
  { section = "heat nozzle", line = "i = {ki:.6f}" },
  { section = "heat nozzle", line = "d = {kd:.4f}" },
]
shaper = [
  { section = "calm {axis}", line = "form = {shaper}" },
  { section = "calm {axis}", line = "hertz = {frequency:.1f}" },
]
acceleration = { section = "motion", line = "most = {acceleration:.0f}" }
speed-limit = { section = "drive {axis_lower}", line = "top speed: {speed:.0f}" }
advance = { section = "drive e", line = "ahead: {advance:.4f}" }
probe-offset = { section = "probe", line = "height = {offset:.3f}" }
[shaper-names]
mzv = "threefold"
"""
FILE = """# Fulmar, set by hand in March
[drive x]
steps per mm: 80.000     ; belt, 20 teeth
top speed: 220
[drive e]
steps per mm: 412.0   # as it came
ahead: 0.35

[heat nozzle]
# p = 0.3
p = 0.279
i=0.0349
d = 0.1098     ; from the forum

[motion]
most = 3000

[probe]
height = -1.85
"""
SET = {
    "steps-x": {"steps": 80.0},
    "speed-limit-x": {"speed": 220.0},
    "steps-e": {"steps": 412.0},
    "advance": {"advance": 0.35},
    "hotend-gains": {"kp": 0.279, "ki": 0.0349, "kd": 0.1098},
    "acceleration": {"acceleration": 3000.0},
    "probe-offset": {"offset": -1.85},
}


@pytest.fixture
def go(run, tmp_path, sample):
    (tmp_path / "own.toml").write_text(OWN)
    (tmp_path / "machine.conf").write_text(FILE)

    def go(words, code=0):
        names = (str(sample(w)) if re.search(r"\.(csv|gz)$", w) else w for w in words.split())
        done = run(*names, "--bench", "b")
        assert done.returncode == code, done.stdout + done.stderr
        return done

    new = "bench new b --dialect own.toml --listing machine.conf --set printer.loaded=grey"
    assert run(*new.split()).returncode == 0
    go.folder = tmp_path
    return go


def in_force(go):
    settings = json.loads(go("bench show --json").stdout)["settings"]
    return {key: one["value"] for key, one in settings.items()}


def test_a_settings_file_goes_the_whole_way(go):
    assert in_force(go) == SET
    for fit in (
        "heater fit hotend-oscillation.csv --heater hotend",
        "shaper fit --y sweep-y.csv.gz",
    ):
        go(fit)
        shown = go("bench adopt")
    assert "bench sheet --into FILE --out NEW-FILE --bench b" in shown.stderr
    go("bench sheet --into machine.conf --out new.conf")
    new = (go.folder / "new.conf").read_text()
    for kept in ("# Fulmar, set by hand", "; belt, 20 teeth", "     ; from the forum", "# p = 0.3"):
        assert kept in new
    # nothing but the values, and the section that was not there
    rows = zip(FILE.splitlines(), new.splitlines(), strict=False)
    changed = [old for old, now in rows if old != now]
    assert changed == ["p = 0.279", "i=0.0349", "d = 0.1098     ; from the forum", "most = 3000"]
    assert new.endswith("\n[calm Y]\nform = threefold\nhertz = 30.7\n")
    assert "different" not in go("bench readback new.conf").stdout
    go("bench revert hotend-gains")
    go("bench sheet --into new.conf --out old.conf")
    old = (go.folder / "old.conf").read_text()
    rows = listed(old, load_dialect(str(go.folder / "own.toml")))
    gains = next(one.values for one in rows if one.setting == "hotend-gains")
    assert gains == {"kp": "0.27900", "ki": "0.034900", "kd": "0.1098"}


@pytest.mark.parametrize(
    ("words", "code", "says"),
    [
        ("bench sheet --into machine.conf", 2, "--into without --out"),
        ("bench sheet --into machine.conf --out machine.conf", 2, "would overwrite"),
        ("bench sheet --into none.conf --out new.conf", 1, "no such file"),
    ],
)
def test_a_copy_is_written_or_nothing(words, code, says, go):
    assert says in go(words, code).stderr.lower()
    assert (go.folder / "machine.conf").read_text() == FILE


@pytest.mark.parametrize(
    ("lines", "says"),
    [
        ('hotend-gains = "HEAT P{kp:.4f} I{ki:.4f}"', "{kd} is missing"),
        ('hotend-gains = [{ section = "a", line = "p = {kp:.5f}" }]', "{ki} is missing"),
        ('steps = { section = "drive", line = "steps = {steps:.3f}" }', "{axis} is missing"),
        ('shaper = "CALM {axis} {shaper}"', "{frequency} is missing"),
        ("flow = []", "not of the form {section, line}"),
        ('flow = ["FLOW {flow:.3f}"]', "not of the form {section, line}"),
        ('flow = { section = "of {filament}", line = "flow = {flow:.3f}" }', "a field 'filament'"),
    ],
)
def test_a_dialect_that_forgets_something_is_refused(lines, says, tmp_path):
    (tmp_path / "own.toml").write_text(f"[lines]\n{lines}\n")
    with pytest.raises(UnknownFormat, match=re.escape(says)):
        load_dialect(str(tmp_path / "own.toml"))


WORD = st.text("abcdefg_ ", min_size=1, max_size=12).map(str.strip).filter(bool)
VALUE = st.floats(0.001, 1e4).map(lambda value: round(value, 3))
BETWEEN = st.sampled_from([" = ", "=", " =", "  =  "])
BEHIND = st.sampled_from(["", "  ; a word", "   # another", " "])


@given(
    head=WORD, key=WORD, old=VALUE, new=VALUE, between=BETWEEN, behind=BEHIND,
    before=st.lists(WORD, max_size=3), ends=st.sampled_from(["\n", "\r\n"]), last=st.booleans(),
)  # fmt: skip
def test_only_the_value_changes(head, key, old, new, between, behind, before, ends, last):
    rows = [*(f"# {word}" for word in before), f"[{head}]", f"{key}{between}{old}{behind}"]
    text = ends.join(rows) + (ends if last else "")
    template = Template(f"{key} = {{flow:.3f}}", head)
    written, edits = written_into(text, [Filed(template, Entered(f"{key} = {new:.3f}", head))])
    same = f"{old:.3f}" == f"{new:.3f}"
    assert written == (text if same else text.replace(f"{old}{behind}", f"{new:.3f}{behind}"))
    assert len(edits) == (not same)
    again, more = written_into(written, [Filed(template, Entered(f"{key} = {new:.3f}", head))])
    assert again == written and not more


@given(st.lists(st.tuples(st.sampled_from([None, "a", "b c"]), WORD), max_size=6))
def test_a_block_is_read_as_it_was_written(rows):
    lines = [Entered(text, section) for section, text in rows]
    assert sorted(map(str, lines_in(block(lines)))) == sorted(map(str, lines))


LIVING = {
    # where, what the fit of flow has to enter, what the sheet has, what its start has
    "controller": ("STREAM 0.9403", "STREAM 0.9403", None),
    "start": (
        "; flow: put it into the start of each print",
        "bench sheet --start",
        "STREAM 0.9403",
    ),
    "slicer": ("put it into the filament's profile in the slicer", "in the slicer's profile", None),
}


@pytest.mark.parametrize("lives", LIVING)
def test_a_setting_is_entered_where_it_lives(lives, run, sample):
    enter, sheet, start = LIVING[lives]
    facts = ("printer.loaded=grey", f"flow.lives={lives}", "controller.dialect=stand-in")
    run("bench", "new", "b", *(word for fact in facts for word in ("--set", fact)))
    fit = ("flow", "fit", sample("flow-walls.csv"), "--flow", "1", "--expected", "0.45")
    assert enter in run(*fit, "--bench", "b").stdout
    run("bench", "adopt", "--bench", "b")
    assert sheet in run("bench", "sheet", "--bench", "b").stdout
    begin = run("bench", "sheet", "--start", "--bench", "b")
    assert start in begin.stdout if start else begin.returncode == 2
    # the cube is fed as the slicer would feed it
    run("flow", "plan", "--out", "cube.gcode", "--bench", "b")
    run("flow", "plan", "--out", "plain.gcode")
    fed = [
        json.loads(run("flow", "plan", "--out", f"{n}.gcode", *more, "--json", "--force").stdout)[
            "settings"
        ]["filament_mm"]
        for n, more in enumerate([("--bench", "b"), ()])
    ]
    assert fed[0] / fed[1] == pytest.approx(0.9403 if lives == "slicer" else 1, abs=1e-3)


def test_the_line_that_was_given_is_kept(run, sample):
    run("bench", "new", "b", "--set", "printer.loaded=grey", "--set", "advance.lives=controller")
    heights = [sample("tower-heights.csv"), "--from", "0", "--per-mm", "0.025", "--to", "1.2"]
    run("advance", "fit", *heights, "--line", "SET {advance:.4f}", "--bench", "b")
    run("bench", "adopt", "--bench", "b")
    assert "SET 0.5062" in run("bench", "sheet", "--bench", "b").stdout


def test_a_filament_s_own_value_goes_before_the_printer_s(go):
    go("advance fit tower-heights.csv --from 0 --per-mm 0.025 --to 1.2 --drive bowden")
    go("bench adopt")
    assert in_force(go)["advance"]["advance"] == pytest.approx(0.506, abs=1e-3)
    go("bench changed filament --to red")
    assert in_force(go)["advance"] == {"advance": 0.35}
    steps = json.loads(go("bench next --json").stdout)["steps"]
    # it serves meanwhile, and is to be measured for this filament
    assert ("advance", "never") in {(step["setting"], step["reason"]) for step in steps}


def test_a_line_that_could_not_set_the_value_is_no_fact(go):
    refused = go("bench set advance.line=LEAD", 2)
    assert "no {advance} in it" in refused.stderr
    assert in_force(go) == SET
