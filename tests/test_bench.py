"""The bench through the built program: a printer's year, its journal under stress, hostile input."""

import json
import os
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
import tomllib

import pytest

from omphalon.base.errors import UnreadableFile, UnwritableFile
from omphalon.bench.bench import Bench, make
from omphalon.bench.journal import Journal
from omphalon.bench.settings import KINDS
from omphalon.bench.sheet import slip
from omphalon.cli.bench.work import PARTS as OFFERED
from omphalon.lines.dialect import load_dialect
from omphalon.lines.listing import listed
from omphalon.tables.parts import PARTS

LISTING = """ready
say: steps a mm
say:  M92 X80.0000 Y80.0000 Z402.5000 E412.0000
say: gains
say:  M301 P71.10000 I8.90000 D28.00000
say:  M304 P61.00000 I0.30000 D140.00000
say:  LEAD 0.35000
ok
"""
FILED = """
name = "a controller that is set by a file"
gain_scale = 1
[lines]
steps = { section = "motors", line = "{axis} = {steps:.3f}" }
hotend-gains = { section = "nozzle heat", line = "gains = {kp:.5f}, {ki:.5f}, {kd:.5f}" }
flow = { section = "plastic", line = "flow: {flow:.3f}" }
shaper = { section = "calm", line = "{axis} = {shaper} {frequency:.1f} {damping:.3f}" }
acceleration = { section = "calm", line = "most = {acceleration:.0f}" }
[shaper-names]
mzv = "threefold"
"""


FOUND = {
    "kind": "flow-fit",
    "verdict": "retest",
    "because": "a word",
    "settings": {},
    "spread": {},
    "evidence": {},
    "lines": [],
    "warnings": [],
}


@pytest.fixture
def bench(run, tmp_path, sample):
    """A bench made from a listing, with the samples beside it; `go` runs a command for it."""
    (tmp_path / "listing.txt").write_text(LISTING)
    for path in sample(".").iterdir():
        shutil.copy(path, tmp_path / path.name)
    facts = {
        "printer.name": "Fulmar",
        "printer.loaded": "grey-petg",
        "extruder.drive": "bowden",
        "controller.dialect": "stand-in",
        "heaters.hotend_target": "235",
        "heaters.bed_target": "75",
        "filament.grey-petg.line": "0.45",
    }
    sets = [word for key, value in facts.items() for word in ("--set", f"{key}={value}")]
    done = run("bench", "new", "fulmar", *sets, "--listing", "listing.txt")
    assert done.returncode == 0, done.stderr

    def go(*words, code=0):
        done = run(*" ".join(words).split(), "--bench", "fulmar")
        assert done.returncode == code, f"{words}\n{done.stdout}\n{done.stderr}"
        return done

    go.folder = tmp_path
    return go


def wanted(go):
    return {s["setting"]: s["reason"] for s in json.loads(go("bench next --json").stdout)["steps"]}


def settings(go):
    return json.loads(go("bench show --json").stdout)["settings"]


GIVING = (
    "heater fit hotend-oscillation.csv --heater hotend --fan on",
    "extruder fit extruder-runs.csv --steps 412",
    "axis fit axis-parts.csv --steps x=80 --steps y=80",
    "flow fit flow-walls.csv --flow 1 --expected 0.45",
    "advance fit ladder-widths.csv --drive bowden",
    "shaper fit --x sweep-x.csv.gz --y sweep-y.csv.gz",
)


SCALES = ("heaters.full_power=280", "controller.gain_scale=127")


@pytest.mark.parametrize(
    "fit, fact", [*((fit, "") for fit in GIVING), *((GIVING[0], s) for s in SCALES)]
)
def test_fit_adopt_sheet_and_readback_give_one_and_the_same_line(fit, fact, bench, tmp_path):
    """No digit is lost on the way: lines are made of full numbers, wherever they are made."""
    if fact:
        bench(f"bench set {fact}")
    lines = json.loads(bench(f"{fit} --json").stdout)["lines"]
    lines = [line for line in lines if line not in ("M500", "M503")]
    assert lines and all(line in bench("bench adopt").stdout for line in lines[:1])
    own = fit.startswith(("flow", "advance", "shaper"))  # asked by a filament, or not stored
    start = bench("bench sheet --start", code=0 if own else 2).stdout.splitlines()
    sheet = [*bench("bench sheet").stdout.splitlines(), *start]
    assert not [line for line in lines if line not in sheet]
    (tmp_path / "listed.txt").write_text("\n".join(lines) + "\n")
    found = bench("bench readback listed.txt", code=4).stdout  # what else was found is missing
    assert "different" not in found and found.count(" same") >= len(lines)


WORK = (
    # a fit with its readings, the settings it gives, and a check that passes
    *(
        (
            f"motion fit --axis {axis} --quantity {what} --pass {low} --fail {high}",
            [f"{what}-limit-{axis}"],
            "",
        )
        for axis in "xy"
        for what, low, high in (("speed", 200, 250), ("acceleration", 4000, 5000))
    ),
    (
        "probe fit --offset -1.85 --drag 0.12 --drag 0.13 --drag 0.12 --drag 0.13",
        ["probe-offset"],
        "",
    ),
    (
        "heater fit hotend-oscillation.csv --heater hotend",
        ["hotend-gains"],
        "heater check hold-after.csv --heater hotend",
    ),
    ("heater fit bed-console.txt --heater bed", ["bed-gains"], ""),
    (
        "extruder fit extruder-runs.csv",
        ["steps-e"],
        "extruder check --asked 80 --mark 110 --left 30.2 --left 29.9 --left 30.1",
    ),
    ("axis fit axis-parts.csv", ["steps-x", "steps-y"], ""),
    ("flow fit flow-walls.csv", ["flow"], ""),
    (
        "shaper fit --x sweep-x.csv.gz --y sweep-y.csv.gz",
        ["shaper-x", "shaper-y", "acceleration"],
        "shaper check sweep-y-later.csv.gz --axis y",
    ),
    (
        "advance fit tower-heights.csv --from 0 --per-mm 0.025 --to 1.2",
        ["advance"],
        "",
    ),
)


@pytest.mark.slow
def test_a_year_in_the_life(bench, run, tmp_path):
    first = wanted(bench)
    assert first["steps-e"] == "found" and first["flow"] == "never"
    for fit, keys, check in WORK:
        asked = fit.startswith("motion")  # limits are only for who asks for them
        assert asked or wanted(bench).keys() >= set(keys)
        bench(fit)
        adopted = bench("bench adopt")
        assert adopted.stdout
        assert not wanted(bench).keys() & set(keys), keys
        if check:
            bench(check)
    assert wanted(bench) == {"steps-z": "found"}
    old = settings(bench)

    # a mistyped value is caught on reading back
    sheet = bench("bench sheet").stdout
    told = [line for line in sheet.splitlines() if not line.startswith(";")]
    start = bench("bench sheet --start").stdout.splitlines()
    lines = [*told, *(x for x in start if not x.startswith(";"))]
    (tmp_path / "printer.txt").write_text("\n".join(f"say: {x}" for x in lines))
    bench("bench readback printer.txt")
    steps = f"{old['steps-e']['value']['steps']:.4f}"
    typo = steps[:1] + steps[2] + steps[1] + steps[3:]
    (tmp_path / "printer.txt").write_text("\n".join(lines).replace(steps, typo))
    found = bench("bench readback printer.txt", code=4).stdout
    assert f"two digits swapped: {steps[1:3]} became {typo[1:3]}" in found

    # a nozzle change makes stale what the table says, and nothing else
    bench("bench changed nozzle --note hardened")
    expected = dict.fromkeys(PARTS["nozzle"], "stale")
    assert wanted(bench) == {"steps-z": "found", **expected}
    bench("flow fit --wall 0.48 --wall 0.47 --wall 0.48 --wall 0.475 --wall 0.48")
    bench("bench adopt")
    assert "flow" not in wanted(bench)

    # back again; the journal keeps both
    now = settings(bench)["flow"]["value"]["flow"]
    bench("bench revert")
    assert settings(bench)["flow"]["value"] == old["flow"]["value"] != {"flow": now}
    assert settings(bench)["flow"]["how"] == "reverted"

    # another filament has settings of its own
    bench("bench set printer.loaded=red-pla filament.red-pla.line=0.45")
    assert wanted(bench)["flow"] == wanted(bench)["advance"] == "never"
    assert "flow" not in settings(bench)
    bench("bench set printer.loaded=grey-petg")
    assert settings(bench)["flow"]["value"] == old["flow"]["value"]

    # a check that fails is said
    bench("flow check --wall 0.60 --wall 0.61 --wall 0.60 --wall 0.61", code=4)
    assert wanted(bench)["flow"] in ("check-failed", "stale")

    # everything comes back from an archive
    bench("bench back-up year.zip")
    assert run("bench", "restore", "year.zip", "again").returncode == 0
    again = run("bench", "journal", "--json", "--bench", "again").stdout
    assert again == bench("bench journal --json").stdout


Z_MOVES = (
    "axis fit --axis z --asked 40 --moved 40.02 --asked 80 --moved 79.98 --asked 120 --moved 120.01"
)
FITS = {key: fit for fit, keys, _ in WORK for key in keys} | {"steps-z": Z_MOVES}
YEAR = (
    # what happens, and what has to be measured again for it
    ("bench set printer.loaded=grey-petg", None),
    ("bench changed nozzle --to 0.6", {"probe-offset", "flow", "advance"}),
    ("bench set printer.loaded=red-pla filament.red-pla.line=0.6", {"flow", "advance"}),
    ("bench set printer.loaded=grey-petg", set()),
    ("bench changed nozzle --to 0.4", {"probe-offset", "flow", "advance"}),
)


@pytest.mark.slow
def test_a_year_of_doing_what_comes_next_ends_with_nothing_stale_and_nothing_twice(bench):
    for _ in range(2):
        for happens, again in YEAR:
            bench(happens)
            measured = []
            while steps := json.loads(bench("bench next --json").stdout)["steps"]:
                key, command = steps[0]["setting"], steps[0]["command"]
                assert key not in measured
                bench(command.removeprefix("omphalon "))  # it runs as it is printed
                bench(FITS[key])
                bench("bench adopt")
                measured += [k for k in FITS if FITS[k] == FITS[key]]
            if again is not None:
                assert set(measured) == again


WALLS = {
    "good": "flow fit --wall 0.48 --wall 0.47 --wall 0.48 --wall 0.475 --wall 0.48",
    "later": "flow fit --wall 0.42 --wall 0.41 --wall 0.42 --wall 0.415 --wall 0.42",
    "last": "flow fit --wall 0.50 --wall 0.51 --wall 0.50 --wall 0.505 --wall 0.50",
    "checked": "flow check --wall 0.45 --wall 0.455 --wall 0.445 --wall 0.45 --wall 0.45",
}


def flow(bench):
    return settings(bench)["flow"]["value"]["flow"]


def test_what_a_setting_rests_on_is_its_finding_also_after_a_revert(bench):
    for walls in ("good", "later"):
        bench(WALLS[walls])
        bench("bench adopt")
    assert "flow" not in wanted(bench)
    bench("bench changed nozzle")
    bench("bench revert flow")
    assert wanted(bench)["flow"] == "stale"  # measured before the nozzle, whenever it was set again


def test_a_passed_check_renews(bench):
    bench(WALLS["good"])
    bench("bench adopt")
    bench("bench changed nozzle")
    assert wanted(bench)["flow"] == "stale"
    bench(f"{WALLS['checked']} --flow {flow(bench)}")
    assert "flow" not in wanted(bench)


def test_who_goes_back_twice_goes_further_back_and_an_entry_names_any(bench):
    had = [1.0]
    for walls in ("good", "later", "last"):
        bench(f"{WALLS[walls]} --flow {had[-1]}")
        bench("bench adopt")
        had.append(flow(bench))
    assert len(set(had[1:])) == 3
    bench("axis fit axis-parts.csv")
    bench("bench adopt")
    for value in (had[2], had[1]):
        bench("bench revert flow")
        assert flow(bench) == value
    bench("bench revert flow", code=2)
    entries = json.loads(bench("bench journal --kind setting --json").stdout)["entries"]
    third = next(e["id"] for e in entries if e["body"]["value"] == {"flow": had[3]})
    bench(f"bench revert --entry {third}")
    assert flow(bench) == had[3]
    out = bench("bench revert steps-y").stdout  # by what it is, and how to keep it
    assert "M92 Y80" in out and out.rstrip().endswith("M503")
    assert flow(bench) == had[3]


def test_what_the_printer_lists_as_it_stands_is_not_found_anew(bench):
    bench("extruder fit extruder-runs.csv")
    bench("bench adopt")
    steps = settings(bench)["steps-e"]["value"]["steps"]
    (bench.folder / "now.txt").write_text(f"M92 X81.5 Y80 E{steps:.2f}\n")
    assert "found   steps-x\n" in bench("bench readback now.txt --adopt-found").stdout
    assert settings(bench)["steps-e"]["how"] == "adopted"
    assert settings(bench)["steps-x"]["value"]["steps"] == 81.5


def test_what_differs_is_mended_both_ways(bench):
    bench("extruder fit extruder-runs.csv")
    bench("bench adopt")
    (bench.folder / "now.txt").write_text("M92 X80 Y80 E412\n")
    out = bench("bench readback now.txt", code=4).stdout
    assert (
        re.search(r"^enter   ", out, re.M)
        and " M92 E437" in out
        and "M500" in out
        and "--adopt-found" in out
    )


def test_a_sheet_says_what_it_leaves_to_the_start_of_a_print(bench):
    bench(WALLS["good"])
    bench("bench adopt")
    assert re.search(
        r"; flow: 0\.943\d* \(of grey-petg: omphalon bench sheet --start\)",
        bench("bench sheet").stdout,
    )
    error = bench("bench sheet --filament abs", code=2).stderr
    assert "--filament abs" in error and "grey-petg" in error


def test_a_changed_part_tells_its_fact(bench):
    bench("bench changed nozzle --to 0.6")
    bench("bench changed filament --to red-pla")
    facts = json.loads(bench("bench show --json").stdout)["facts"]
    assert facts["nozzle.width"] == 0.6 and facts["printer.loaded"] == "red-pla"
    assert "nozzle.width is still 0.6" in bench("bench changed nozzle").stdout
    assert "a nozzle's or a filament's" in bench("bench changed belt --to 3", code=2).stderr
    assert (
        "not known of blue-abs yet: width, temp"
        in bench("bench changed filament --to blue-abs").stdout
    )
    bench("bench changed hotend --to 0.4")
    first = json.loads(bench("bench next --json").stdout)["steps"]
    assert {"hotend-gains", "flow", "advance"} <= {one["setting"] for one in first}


def test_a_back_up_of_ours_is_replaced_by_the_next(bench):
    bench("bench back-up year.zip")
    bench("bench back-up year.zip")
    (bench.folder / "other.zip").write_bytes(b"PK of somebody else's")
    bench("bench back-up other.zip", code=2)


def test_spreads_stand_in_their_own_unit(bench):
    bench("probe fit --offset -1.85 --drag 0.22 --drag 0.24 --drag 0.22 --drag 0.23")
    bench("bench adopt")
    assert re.search(r"-1\.72\d* mm +± 0\.0\d+ mm", bench("bench show").stdout)


def test_the_first_answer_is_three_steps_with_their_minutes(bench):
    first, whole = bench("bench next").stdout, bench("bench next --all").stdout
    assert len(re.findall(r"^ *\d+\. ", first, re.M)) == 3 and "omphalon bench next --all" in first
    order = [line for line in whole.splitlines() if re.match(r" *\d+\. ", line)]
    words = ("zero", "of the hotend", "of the bed", "of X", "extruder", "flow", "shaper", "advance")
    places = [next(n for n, line in enumerate(order) if word in line) for word in words]
    assert places == sorted(places)
    assert all(re.search(r"\(\d+ min(, \d+ g)?\)", line) for line in order)
    bench("bench changed belt")
    assert "belt changed since" in bench("bench next").stdout.splitlines()[0]


def test_the_commands_that_next_gives_run_as_printed(bench):
    found = json.loads(bench("bench next --json").stdout)["steps"]
    assert len(found) > 8
    for step in found:
        bench(step["command"].removeprefix("omphalon "))


def test_by_hand_wins_and_is_said_and_no_record_leaves_no_trace(bench, tmp_path):
    told = bench("extruder fit extruder-runs.csv --steps 400").stdout
    assert "given by hand: --steps: 412 in the bench" in told
    count = len(bench("bench journal --csv").stdout.splitlines())
    kept = sorted(p.name for p in (tmp_path / "fulmar").rglob("*"))
    bench("extruder fit extruder-runs.csv --no-record")
    assert len(bench("bench journal --csv").stdout.splitlines()) == count
    assert sorted(p.name for p in (tmp_path / "fulmar").rglob("*")) == kept
    document = json.loads(bench("extruder fit extruder-runs.csv --json").stdout)
    assert document["kind"] == "extruder-fit"


def test_what_befalls_one_filament_leaves_the_other_alone(bench):
    good = "--wall 0.45 --wall 0.455 --wall 0.445 --wall 0.45 --wall 0.45"
    for name in ("grey-petg", "red-pla"):
        bench(f"bench set printer.loaded={name} filament.{name}.line=0.45")
        bench(f"flow fit --flow 1 {good}")
    bench("bench adopt --all")  # both wait: each filament has a flow of its own
    bench("bench changed filament")
    bench("flow check --wall 0.60 --wall 0.61 --wall 0.60 --wall 0.61", code=4)
    assert wanted(bench)["flow"] == "stale"
    bench("bench set printer.loaded=grey-petg")
    assert "flow" not in wanted(bench)
    told = json.loads(bench("bench show --filament red-pla --json").stdout)
    assert "filament changed" in told["settings"]["flow"]["doubt"]
    bench("bench changed filament")
    assert wanted(bench)["flow"] == "stale"


def test_what_befalls_one_tool_leaves_the_other_alone(bench):
    """Each has its facts, its filament, its settings and its parts; what was there is tool 0."""
    runs = "--steps 412 --asked 80 --mark 110 --left 34.6 --left 34.9 --left 34.4"
    walls = "--flow 1 --wall 0.48 --wall 0.48 --wall 0.475"
    bench("bench set filament.red-pla.line=0.45 tool.1.printer.loaded=red-pla")
    for tool in ("", "--tool 1"):
        assert ("M92 T1 E437" in bench(f"extruder fit {runs} {tool}").stdout) == bool(tool)
        bench("bench adopt")
        bench(f"flow fit {walls} {tool}")
        bench("bench adopt")
    bench("bench changed nozzle --tool 1 --to 0.6")
    next_ = wanted(bench)
    assert next_["flow@1"] == "stale" and next_["advance@1"] == "never" and "flow" not in next_
    steps = json.loads(bench("bench next --json").stdout)["steps"]
    assert {s["setting"]: s["command"] for s in steps}["flow@1"] == "omphalon flow plan --tool 1"
    in_force = settings(bench)
    assert (in_force["flow"]["filament"], in_force["flow@1"]["filament"]) == (
        "grey-petg",
        "red-pla",
    )
    sheet = bench("bench sheet").stdout
    assert "M92 E437" in sheet and "M92 T1 E437" in sheet
    (bench.folder / "lists.txt").write_text(sheet.replace("M92 T1 E437", "M92 T1 E434"))
    told = json.loads(bench("bench readback lists.txt --json", code=4).stdout)["compared"]
    verdicts = {r["setting"]: r["verdict"] for r in told if r["setting"].startswith("steps-e")}
    assert verdicts == {"steps-e": "same", "steps-e@1": "different"}
    print_ = bench("flow plan --tool 1 --out tool-1.gcode").stdout
    lines = (bench.folder / "tool-1.gcode").read_text().splitlines()
    heats = [line for line in lines if line.startswith(("M104", "M109"))]
    assert "tool 1" in print_ and all(" T1 " in line for line in heats) and "T1" in lines
    bench("bench changed bed-plate --tool 1", code=2)


def test_a_listing_that_names_tool_0_is_of_the_first_extruder(run, tmp_path):
    (tmp_path / "lists.txt").write_text("M92 X80.0\nM92 T0 E412.0\nM92 T1 E430.0\n")
    assert run("bench", "new", "b", "--listing", "lists.txt").returncode == 0
    found = json.loads(run("bench", "show", "--bench", "b", "--json").stdout)["settings"]
    steps = {key: one["value"]["steps"] for key, one in found.items()}
    assert steps == {"steps-x": 80.0, "steps-e": 412.0, "steps-e@1": 430.0}


def test_a_retest_cannot_be_adopted(bench):
    bench("flow fit --wall 0.48 --wall 0.47", code=3)
    bench("bench adopt", code=2)
    number = json.loads(bench("bench journal --json --kind finding").stdout)["entries"][0]["id"]
    assert "no setting in it" in bench(f"bench adopt {number}", code=2).stderr


def test_facts_keep_comments_and_order(bench, tmp_path):
    path = tmp_path / "fulmar" / "bench.toml"
    path.write_text(path.read_text() + "\n# my own word\n[filament.red-pla]\ntemp = 210 # hot\n")
    bench("bench set filament.red-pla.temp=205 travel.x=0:210 controller.shapers=zv,mzv")
    text = path.read_text()
    assert "# my own word" in text and "temp = 205 # hot" in text
    assert tomllib.loads(text)["travel"]["x"] == [0, 210]


SLIPS = {
    # a fact that cannot be: what the one line says
    "nozzle.width=4000": "nozzle.width 4000",
    "nozzle.widht=0.4": "did you mean nozzle.width?",
    "heaters.hotend_target=900": "heaters.hotend_target 900",
    "extruder.drive=belt": "it may be direct, bowden",
    "printer.bed_moves_y=maybe": "neither true nor false",
    "travel.x=5": "not 2 numbers",
    "controller.shapers=zv,fast": "it may be zv",
    "nozzle.width=nan": "nozzle.width nan",
    "bed.x": "not of the form KEY=VALUE",
    "controller.dialect=none.toml": "No such file",
}


@pytest.mark.parametrize("slip_of_hand", SLIPS)
def test_a_fact_that_cannot_be_is_refused(slip_of_hand, bench, tmp_path):
    before = (tmp_path / "fulmar" / "bench.toml").read_bytes()
    done = bench(f"bench set {slip_of_hand}", code=1 if "none" in slip_of_hand else 2)
    assert SLIPS[slip_of_hand] in done.stderr and done.stderr.count("\n") == 1
    assert (tmp_path / "fulmar" / "bench.toml").read_bytes() == before


def spoil(path, content):
    path.write_bytes(content)


DAMAGE = {
    "a slip in the facts": (lambda b: spoil(b / "bench.toml", b"[bed\nx = 1\n"), "mend that line"),
    "an unknown fact": (lambda b: spoil(b / "bench.toml", b"[bed]\nwide = 1\n"), "no key bed.wide"),
    "a journal cut": (
        lambda b: spoil(b / "bench.db", (b / "bench.db").read_bytes()[:5000]),
        "bench.db",
    ),
    "no journal at all": (lambda b: spoil(b / "bench.db", b"x" * 9000), "bench.db"),
    "a dialect with code": (
        lambda b: (
            spoil(b / "bench.toml", b'[controller]\ndialect = "d.toml"\n')
            or spoil(b / "d.toml", b'[lines]\nflow = "F{flow.__class__}"\n')
        ),
        "a field",
    ),
    "a dialect elsewhere": (
        lambda b: spoil(b / "bench.toml", b'[controller]\ndialect = "../../d.toml"\n'),
        "leads out of the bench",
    ),
}


@pytest.mark.parametrize("name", DAMAGE)
def test_a_damaged_bench_gets_one_line(name, bench, tmp_path):
    harm, says = DAMAGE[name]
    harm(tmp_path / "fulmar")
    shows = [] if name.startswith("a dialect") else ["bench show"]  # it needs no dialect
    for words in (*shows, "extruder fit extruder-runs.csv", "bench sheet"):
        done = run_anyhow(bench, words)
        assert says in done and done.count("\n") == 1 and "fault" not in done, (words, done)


def run_anyhow(go, words):
    for code in (1, 2):
        try:
            return go(words, code=code).stderr
        except AssertionError as error:
            last = error
    raise last


def test_an_overwritten_entry_is_named(bench, tmp_path):
    path = tmp_path / "fulmar" / "bench.db"
    path.write_bytes(path.read_bytes().replace(b"402.5", b"412.5"))
    assert "entry 3 is damaged" in bench("bench journal", code=1).stderr


def test_nothing_is_changed_or_deleted(tmp_path):
    journal = make(tmp_path / "b").journal
    journal.append("part", "nozzle", {"note": ""})
    with sqlite3.connect(journal.path) as base:
        for words in ("UPDATE entries SET body = '{}'", "DELETE FROM entries"):
            with pytest.raises(sqlite3.IntegrityError, match="only grows"):
                base.execute(words)
    assert len(journal.entries()) == 1


def test_a_newer_bench_is_read_and_not_written(tmp_path):
    journal = make(tmp_path / "b").journal
    journal.append("part", "nozzle", {"note": "old"})
    with sqlite3.connect(journal.path) as base:
        base.execute("PRAGMA user_version = 2")
    assert journal.entries()[0].body == {"note": "old"}
    with pytest.raises(UnwritableFile, match="newer omphalon"):
        journal.append("part", "nozzle", {"note": "new"})


def test_a_bench_that_cannot_be_written_still_answers(bench, tmp_path):
    with sqlite3.connect(tmp_path / "fulmar" / "bench.db") as base:
        base.execute("PRAGMA user_version = 9")
    done = bench("extruder fit extruder-runs.csv", code=1)
    assert "newer omphalon" in done.stderr and "--no-record answers" in done.stderr
    assert "CHANGE" in bench("extruder fit extruder-runs.csv --no-record").stdout


APPENDING = """
import sys
from pathlib import Path
from omphalon.bench.journal import Journal
journal = Journal(Path(sys.argv[1]))
for n in range(int(sys.argv[2])):
    number = journal.append("part", "nozzle", {"note": f"{sys.argv[3]} {n}"})
    print(number, flush=True)
"""


def appending(journal, count, name):
    words = [sys.executable, "-c", APPENDING, str(journal.path), str(count), name]
    return subprocess.Popen(words, stdout=subprocess.PIPE, text=True)


def test_eight_processes_append_at_once(tmp_path):
    journal = make(tmp_path / "b").journal
    several = [appending(journal, 25, f"p{k}") for k in range(8)]
    assert all(p.wait() == 0 for p in several)
    for p in several:
        p.stdout.close()
    notes = [e.body["note"] for e in journal.entries()]
    assert sorted(notes) == sorted(f"p{k} {n}" for k in range(8) for n in range(25))


def test_what_was_acknowledged_survives_a_kill(tmp_path):
    journal = make(tmp_path / "b").journal
    acknowledged = []
    for k in range(6):
        process = appending(journal, 10_000, f"k{k}")
        acknowledged.append(int(process.stdout.readline()))
        time.sleep(0.02 * k)
        process.send_signal(signal.SIGKILL)
        acknowledged += [
            int(x) for x in process.stdout.read().splitlines(keepends=True) if "\n" in x
        ]
        process.stdout.close()
        process.wait()
    journal.sound()
    assert set(acknowledged) <= {e.id for e in journal.entries()}


KILLED = """
import os, signal, sqlite3, sys
base = sqlite3.connect(sys.argv[1], isolation_level=None)
base.execute("PRAGMA cache_size = 1")
base.execute("BEGIN IMMEDIATE")
for n in range(2000):
    base.execute(
        "INSERT INTO entries (at, kind, subject, schema, body, digest) VALUES ('', 'part', 'x', 1, '{}', '')"
    )
os.kill(os.getpid(), signal.SIGKILL)
"""


def test_half_an_entry_is_undone_by_whoever_reads_next(tmp_path):
    journal = make(tmp_path / "b").journal
    journal.append("part", "nozzle", {"note": "whole"})
    subprocess.run([sys.executable, "-c", KILLED, str(journal.path)])
    assert (tmp_path / "b" / "bench.db-journal").stat().st_size > 0
    assert [e.body for e in journal.entries()] == [{"note": "whole"}]
    journal.sound()


def test_order_is_the_journals_own(tmp_path):
    """A clock that was set back does not bring an older setting back."""
    bench = make(tmp_path / "b")
    bench.journal.append("part", "nozzle", {"note": "first"})
    bench.journal.append("part", "nozzle", {"note": "second"})
    assert [e.body["note"] for e in bench.journal.entries()] == ["second", "first"]
    assert bench.journal.latest("part")[0].body["note"] == "second"


@pytest.mark.parametrize("name", ["codes", "file"])
def test_sheet_and_listing_agree_and_every_slip_is_named(name, tmp_path):
    bench = made_up(tmp_path, name)
    state = bench.state()
    dialect = bench.dialect(state.facts)
    from omphalon.bench.sheet import compare, sheet_lines

    text = "\n".join(
        [
            *sheet_lines(state.settings, {}, dialect, False),
            *sheet_lines(state.settings, {}, dialect, True),
        ]
    )
    rows = compare(state.settings, listed(text, dialect), dialect, {})
    assert len(rows) >= 9 and {r.verdict for r in rows} == {"same"}
    for row in rows:
        if not re.fullmatch(r"[\d.]+", row.listed):
            continue
        for k, digit in enumerate(row.listed):
            if digit == ".":
                continue
            typed = row.listed[:k] + str((int(digit) + 1) % 10) + row.listed[k + 1 :]
            line = next(x for x in text.splitlines() if row.listed in x and x[0] not in ";#")
            wrong = compare(
                state.settings,
                listed(text.replace(line, line.replace(row.listed, typed)), dialect),
                dialect,
                {},
            )
            other = [r for r in wrong if r.verdict == "different"]
            assert [r.field for r in other] == [row.field], (row, typed)
            assert other[0].slip.startswith("one digit") or float(typed) == 0, (row, typed)


def made_up(tmp_path, name):
    """A bench with settings, and a controller that is set by codes or by a file."""
    from omphalon.bench.settings import Taken

    bench = make(tmp_path / name)
    if name == "file":
        (bench.place / "own.toml").write_text(FILED)
    dialect = "own.toml" if name == "file" else "stand-in"
    bench.set_facts({"controller.dialect": dialect, "printer.loaded": "grey-petg"})
    values = {
        "hotend-gains": {"kp": 0.1279, "ki": 0.0092, "kd": 0.2201},
        "steps-e": {"steps": 437.329},
        "steps-x": {"steps": 80.125},
        "flow": {"flow": 0.943},
        "shaper-y": {"shaper": "mzv", "frequency": 30.7, "damping": 0.061},
        "acceleration": {"acceleration": 2290.0},
    }
    bench.set_all(
        [(Taken(key=k, value=v, spread={}), "grey-petg", None) for k, v in values.items()],
        "adopted",
    )
    return bench


def test_what_was_never_entered_is_said(bench):
    bench("extruder fit extruder-runs.csv")
    bench("bench adopt")
    found = bench("bench readback listing.txt", code=4).stdout
    assert re.search(r"steps of the extruder +437.329 +412.0000 +not stored yet", found)
    bench("bench readback listing.txt --adopt-found")
    assert settings(bench)["steps-e"]["value"] == {"steps": 412.0}
    bench("bench readback listing.txt")


@pytest.mark.parametrize(
    "right, typed, told",
    [
        ("412.0000", "421.0000", "two digits swapped"),
        ("0.0512", "0.0521", "two digits swapped"),
        ("80.0", "8.00", "the decimal point is elsewhere"),
        ("80.00", "80.10", "one digit: 1 for 0"),
        ("437.33", "47.33", "a digit is missing"),
        ("437.33", "4377.33", "a digit too many"),
        ("-1.85", "1.85", "the sign is missing"),
        ("80.0", "93.7", ""),
    ],
)
def test_a_slip_is_named(right, typed, told):
    assert slip(right, typed).startswith(told) and bool(slip(right, typed)) == bool(told)


def test_parts_and_settings_know_each_other():
    assert list(PARTS) == list(OFFERED)
    assert {key for rows in PARTS.values() for key in rows} <= set(KINDS)
    assert {n for kind in KINDS.values() for n in kind.needs} <= set(KINDS)
    lines = load_dialect("stand-in").templates
    # no code that sets a chamber's gains is shared, and the stand-in has no probe
    assert {k.line for k in KINDS.values() if k.line} <= {
        *lines,
        "chamber-gains",
        "probe-offset",
    }


def test_trials_are_ranked_and_two_changes_are_said(bench, tmp_path):
    for words in (
        "--changed start --outcome plain --score 5",
        "--changed fan --outcome better --score 7",
        "--changed fan --outcome better --score 8.5",
        "--changed cool --changed slow --outcome worse --score 6",
    ):
        last = bench(f"bench trial {words}")
    assert "2 things changed at once" in last.stderr
    rows = bench("bench trial --rank").stdout.splitlines()
    assert "cool and slow" in rows[0] and "-2.5" in rows[0] and "together" in rows[0]
    assert "fan" in rows[1] and "+1.8" in rows[1] and "over 2" in rows[1]
    (tmp_path / "photo.png").write_text("no picture")
    bench("bench trial --outcome x --photo photo.png", code=2)


def test_hostile_text_shows_as_text(bench, tmp_path, run):
    evil = "<script>alert(1)</script>"
    done = run("bench", "trial", "--changed", evil, "--outcome", evil, "--bench", "fulmar")
    assert done.returncode == 0
    for sign in ("\x1b[31m", "\u202e", "\x9b"):
        done = run("bench", "changed", "nozzle", "--note", evil + sign, "--bench", "fulmar")
        assert done.returncode == 2 and "type the note again" in done.stderr
    place = tmp_path / "fulmar"  # an older omphalon took such notes
    Bench(place).journal.append("part", "nozzle", {"note": f"{evil}\x1b[31m\x9b\u202e"})
    for words in ("bench journal", "bench journal --json", "bench journal --csv"):
        assert not re.search("[\x1b\x9b\u202e]", bench(words).stdout)
    bench("bench report")
    page = (tmp_path / "report.html").read_text()
    assert "<script" not in page and "&lt;script&gt;alert(1)" in page and "\x1b" not in page
    assert not re.search(r"(?:src|href)=\"(?!data:)", page)


def test_links_lead_nowhere(bench, tmp_path):
    """Neither reading nor writing follows a link out of the bench."""
    (tmp_path / "secret.svg").write_text("<svg>secret</svg>")
    (tmp_path / "away").mkdir()
    place = tmp_path / "fulmar"
    body = {"document": FOUND, "command": [], "inputs": [], "figure": "link.svg"}
    (place / "figures" / "link.svg").symlink_to(tmp_path / "secret.svg")
    Bench(place).journal.append("finding", "flow-fit", body)
    bench("bench report")
    assert "data:image" not in (tmp_path / "report.html").read_text()
    (place / "data").rmdir()
    (place / "data").symlink_to(tmp_path / "away")
    assert "leads out" in bench("extruder fit extruder-runs.csv", code=2).stderr
    assert not list((tmp_path / "away").iterdir())


def test_an_archive_is_checked(bench, run, tmp_path):
    bench("bench back-up b.zip")
    (tmp_path / "cut.zip").write_bytes((tmp_path / "b.zip").read_bytes()[:-300])
    done = run("bench", "restore", "cut.zip", "cut")
    assert done.returncode == 1 and "no back-up" in done.stderr and not (tmp_path / "cut").exists()
    assert run("bench", "restore", "b.zip", "fulmar").returncode == 2


def test_a_folder_that_is_not_ours_is_left_alone(run, tmp_path):
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "x").write_text("x")
    assert run("bench", "new", "mine").returncode == 2
    assert [p.name for p in (tmp_path / "mine").iterdir()] == ["x"]
    assert "no bench here" in run("bench", "show").stderr


@pytest.mark.skipif(os.geteuid() == 0, reason="root may write anywhere")
def test_a_folder_that_may_only_be_read(bench, tmp_path):
    place = tmp_path / "fulmar"
    for path in (place / "bench.db", place):
        path.chmod(0o555 if path.is_dir() else 0o444)
    bench("bench show")
    bench("bench changed nozzle", code=1)
    place.chmod(0o755)


def test_reading_does_not_make_a_file(tmp_path):
    with pytest.raises(UnreadableFile):
        Journal(tmp_path / "none.db").entries()
    assert not list(tmp_path.iterdir())
    assert Bench(tmp_path).place == tmp_path


def test_a_check_renews_only_the_axes_that_it_measured(run, sample, tmp_path):
    assert run("bench", "new", "b", "--listing", sample("found-settings.txt")).returncode == 0
    readings = "axis,asked_mm,moved_mm\nx,30,30.01\nx,90,90.02\nx,150,149.98\n"
    (tmp_path / "moved.csv").write_text(readings)
    assert run("axis", "check", "moved.csv", "--bench", "b").returncode == 0
    settings = json.loads(run("bench", "show", "--json", "--bench", "b").stdout)["settings"]
    doubts = {key: one["doubt"] for key, one in settings.items() if key.startswith("steps-")}
    assert doubts.pop("steps-x") is None and all(doubts.values()), doubts
