"""What a bench hands to commands, what it understands of a listing, how its journal answers; all as
tables.
"""

import csv
import json
from collections import Counter
from pathlib import Path

import pytest

from omphalon.base.errors import UsageError
from omphalon.bench.bench import make
from omphalon.bench.facts import BY_KEY, FILAMENT, checked
from omphalon.bench.journal import Journal
from omphalon.bench.settings import KINDS, Taken, same, taken
from omphalon.lines.dialect import load_dialect
from omphalon.lines.listing import listed
from omphalon.tables.complaints import COMPLAINTS, complaint_of
from omphalon.tables.rows import grouped

FACTS = {
    "printer.bed_moves_y": "true",
    "printer.loaded": "grey",
    "bed.x": "180",
    "bed.y": "190",
    "bed.height": "150",
    "travel.x": "5:175",
    "heaters.hotend_target": "235",
    "heaters.bed_target": "75",
    "extruder.drive": "bowden",
    "extruder.microsteps": "16",
    "extruder.wheel": "7.2",
    "nozzle.width": "0.6",
    "controller.shapers": "zv,mzv",
    "controller.dialect": "stand-in",
    "filament.grey.temp": "240",
    "filament.grey.line": "0.62",
}
SET = {
    "steps-e": {"steps": 412.0},
    "steps-x": {"steps": 80.0},
    "steps-y": {"steps": 80.5},
    "flow": {"flow": 0.96},
    "advance": {"advance": 0.4},
    "probe-offset": {"offset": -1.85},
    "shaper-y": {"shaper": "mzv", "frequency": 36.0, "damping": 0.05},
    "acceleration": {"acceleration": 2000.0},
    "hotend-gains": {"kp": 0.1, "ki": 0.01, "kd": 0.2},
}


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    bench = make(tmp_path_factory.mktemp("tables") / "b")
    for key, value in FACTS.items():
        bench.set_facts({key: value})
    rows = [(Taken(key=k, value=v, spread={}), "grey", None) for k, v in SET.items()]
    bench.set_all(rows, "adopted")
    return bench.place


TOLD = {
    # a command in the bench: what it takes from there
    "heater plan": ["--target 235"],
    "heater plan --heater bed": ["--target 75"],
    "heater fit LOG --heater hotend": ["--kp 25.5, --ki 2.55, --kd 51"],
    "extruder plan": ["--temp 240"],
    "extruder fit --asked 80 --fed 79.9 --fed 80.1 --fed 80": ["--steps 412", "--wheel 7.2"],
    "axis fit --axis y --asked 50 --moved 50.1 --asked 100 --moved 100.2 --asked 150 --moved 150.3": [
        "--steps y=80.5"
    ],
    "flow plan": ["--expected 0.62"],
    "flow fit --wall 0.62 --wall 0.63 --wall 0.62 --wall 0.62": ["--flow 0.96", "--expected 0.62"],
    "advance plan --style tower": [
        "--advance 0.4",
        "--drive bowden",
        "--bed 180:190",
        "--nozzle 0.6",
    ],
    "shaper plan": ["--bed-moves-y True"],
    "motion plan --axis x --speed 50:100:10": ["--travel 5:175", "--out"],
    "probe check --drag 0.1 --drag 0.11 --drag 0.1 --drag 0.1": ["--offset -1.85"],
    "shaper check SWEEP --axis y": ["--shaper mzv", "--frequency 36", "--acceleration 2000"],
    "shaper fit --x SWEEP": ["--offered zv,mzv"],
}


@pytest.mark.parametrize("words", TOLD)
def test_a_command_takes_from_the_bench_what_it_knows(words, place, run, sample):
    log, sweep = sample("hotend-oscillation.csv"), sample("sweep-y-later.csv.gz")
    words = words.replace("LOG", str(log)).replace("SWEEP", str(sweep)).split()
    done = run(*words, "--bench", place, "--force")
    assert done.returncode in (0, 3, 4), done.stderr
    told = " ".join(done.stdout.split("bench   ")[-1].split())
    for each in TOLD[" ".join(words).replace(str(log), "LOG").replace(str(sweep), "SWEEP")]:
        assert each in told, told


@pytest.mark.parametrize("key", [*BY_KEY, *(f"filament.red.{f.key}" for f in FILAMENT)])
def test_the_example_of_a_fact_is_one(key):
    fact = BY_KEY.get(key) or next(f for f in FILAMENT if key.endswith("." + f.key))
    text = fact.example.strip('"')
    value = json.loads(text) if text.startswith("[") else text
    told = checked(key, value)
    assert checked(key, told) == told
    with pytest.raises(UsageError):
        checked(key, "\x1b" if not fact.quantity else "nan")


HEARD = {
    # a line of a listing: what is understood of it
    "M92 X80.00 Y81.5 E412": [
        ("steps", "X", "80.00"),
        ("steps", "Y", "81.5"),
        ("steps", "E", "412"),
    ],
    "say:  M92 X80.00": [("steps", "X", "80.00")],
    "M92 X80.00 ; was 79": [("steps", "X", "80.00")],
    "M92 (per mm) X80": [],
    "M920 X80": [],
    "XM92 X80": [],
    "M92X80": [],
    "M301 I2.9 P31.1 D88": [("hotend-gains", "", "31.1")],
    "M301 P31.1": [("hotend-gains", "", "31.1")],
    "CALM Y mzv 36.00 0.0500": [("shaper", "Y", "36.00")],
    "CALM Y mzv 36.00": [],
    "PUSH 2000 mm/s": [],
    "LEAD 4.0e-2": [("advance", "", "4.0e-2")],
    "LEAD -.5": [("advance", "", "-.5")],
    "LEAD fast": [],
    "nothing at all": [],
}
FIRST = {"steps": "steps", "hotend-gains": "kp", "shaper": "frequency", "advance": "advance"}


@pytest.mark.parametrize("line", HEARD)
def test_a_line_of_a_listing(line):
    found = listed(line, load_dialect("stand-in"))
    told = [(one.setting, one.axis, one.values.get(FIRST[one.setting], "")) for one in found]
    assert told == HEARD[line]


def test_the_last_line_holds_and_rows_are_told():
    found = listed("LEAD 0.1\nok\nLEAD 0.2\n", load_dialect("stand-in"))
    assert [(one.row, one.values) for one in found] == [
        (1, {"advance": "0.1"}),
        (3, {"advance": "0.2"}),
    ]


@pytest.fixture(scope="module")
def journal(tmp_path_factory):
    one = make(tmp_path_factory.mktemp("journal") / "b").journal
    for kind, subject, note in (
        ("part", "nozzle", "0.6 mm"),
        ("part", "belt", "100 % new"),
        ("trial", "trial", "clean_er"),
        ("part", "nozzle", "0.4 mm"),
    ):
        extra = {"changed": [], "outcome": "", "score": None, "photo": None}
        one.append(kind, subject, {"note": note, **(extra if kind == "trial" else {})})
    return one


@pytest.mark.parametrize(
    "asked, notes",
    [
        ({}, ["0.4 mm", "clean_er", "100 % new", "0.6 mm"]),
        ({"kind": "trial"}, ["clean_er"]),
        ({"grep": "mm"}, ["0.4 mm", "0.6 mm"]),
        ({"grep": "%"}, ["100 % new"]),
        ({"grep": "_"}, ["clean_er"]),
        ({"grep": "belt"}, ["100 % new"]),
        ({"since": "2999-01-01"}, []),
        ({"since": "2000-01-01", "most": 2}, ["0.4 mm", "clean_er"]),
    ],
)
def test_the_journal_answers(asked, notes, journal):
    assert [e.body["note"] for e in journal.entries(**asked)] == notes


def test_the_last_of_each_subject(journal):
    assert [(e.subject, e.body["note"]) for e in journal.latest("part")] == [
        ("belt", "100 % new"),
        ("nozzle", "0.4 mm"),
    ]
    assert journal.entry(99) is None and isinstance(journal, Journal)


@pytest.mark.parametrize(
    "one, other, alike",
    [
        ({"steps": 80.0}, {"steps": 80.0000001}, True),
        ({"steps": 80.0}, {"steps": 80.01}, False),
        ({"shaper": "zv", "f": 1.0}, {"shaper": "ei", "f": 1.0}, False),
        ({"steps": 80.0}, {"flow": 80.0}, False),
    ],
)
def test_two_values_are_one(one, other, alike):
    assert same(one, other) is alike


def test_only_findings_with_settings_become_settings():
    document = {"kind": "flow-fit", "settings": {"flow": 0.95}, "spread": {"flow": 0.02}}
    assert taken(document) == [Taken(key="flow", value={"flow": 0.95}, spread={"flow": 0.02})]
    for other in ({**document, "settings": {}}, {**document, "kind": "flow-check"}, {}):
        assert taken(other) == []


with open(Path(__file__).with_name("complaints.csv"), newline="") as _file:
    SENTENCES = tuple(csv.DictReader(_file))


def understood(sentence):
    """right, near (did you mean), none or wrong: by what somebody says, and what they mean."""
    meant = set(sentence["seen"].split("|")) - {"?"}
    try:
        found = {one.seen for one in complaint_of(sentence["said"]).complaints}
    except UsageError:
        found = set()
    if not found:
        return "none" if meant else "right"
    if not found & meant:
        return "wrong"
    return "right" if len(found) == 1 else "near"


def test_complaints_are_understood_as_people_say_them():
    """Sixty sentences with which the table was made, and forty that were written before it."""
    for part, least in (("known", 58), ("held", 38)):
        count = Counter(understood(s) for s in SENTENCES if s["set"] == part)
        assert count["wrong"] == 0 and count["right"] + count["near"] >= least
        assert count["right"] > 3 * count["near"]


@pytest.mark.parametrize(
    ("said", "command"),
    [
        ("x is too long", "axis plan --axis x"),
        ("Z height is wrong", "axis plan --axis z"),
        ("layer shift in Y", "motion plan --axis y"),
        ("ghosting on X", "shaper plan --axis x"),
    ],
)
def test_the_axis_that_is_named_is_the_one_that_is_proposed(said, command, run):
    run("bench", "new", "b")
    assert command in run("bench", "next", "--seen", said, "--bench", "b").stdout


def test_two_that_may_be_meant_are_both_named(run):
    run("bench", "new", "b")
    said = run("bench", "next", "--seen", "first layer looks bad", "--bench", "b").stdout
    for name in ("the first layer does not stick", "the first layer is squeezed flat"):
        line = f"bench next --seen '{name}' --bench b"
        assert line in said
        causes = run("bench", "next", "--seen", name, "--bench", "b", "--json").stdout
        assert json.loads(causes)["seen"] == name


def test_every_complaint_s_causes_are_settings_of_the_bench_or_something_to_look_at():
    for one in COMPLAINTS.values():
        assert complaint_of(one.seen).complaints == (one,)
        assert any(cause.key for cause in one.causes)
        assert all((cause.key in KINDS) != bool(cause.look) for cause in one.causes)


def test_an_unknown_complaint_is_one_line(run):
    run("bench", "new", "b")
    done = run("bench", "next", "--seen", "my cat", "--bench", "b")
    assert done.returncode == 2 and done.stderr.count("\n") == 1
    assert "no such complaint" in done.stderr


def test_a_table_with_a_torn_group_is_refused():
    with pytest.raises(ValueError, match="two places"):
        grouped("group", [KINDS["flow"], KINDS["advance"], KINDS["flow"]])
