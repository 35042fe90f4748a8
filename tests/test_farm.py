"""Many printers: a manifest's rows, resumed runs, workers that die, the scheduler, comparisons."""

import csv
import json
import math
import os
import shlex
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from scipy import stats

from conftest import SAMPLES
from omphalon.cli.farm.group import STUDIES, studies
from omphalon.farm.compare import compare_farms
from omphalon.farm.figures import FIGURES
from omphalon.farm.jobs import FarmJob
from omphalon.farm.manifest import ManifestRow
from omphalon.farm.store import JobAnswer
from omphalon.farm.workers import run_here
from omphalon.physics.comparison import changes, named, placed_among
from test_unmoved import COMMANDS

LOG = "hotend-oscillation.csv"
HEAD = "printer,study,log,axis,target,steps,asked,mark,left,column"
FED = "D,extruder,,,,412,100,120,20.5 20.6 20.4,"
SAME = ("results.csv", "answers")


def manifest(folder, *rows, head=HEAD, name="farm.csv"):
    (folder / name).write_text("\n".join([head, *rows]) + "\n")
    return name


def results(folder):
    with open(folder / "results.csv", newline="", encoding="utf-8") as file:
        return list(csv.DictReader(file))


def written(folder):
    """What a run wrote, apart from the page: names and contents."""
    paths = [folder / "results.csv", *sorted((folder / "answers").iterdir())]
    return {path.name: path.read_bytes() for path in paths}


@pytest.fixture
def here(tmp_path, sample):
    for name in (LOG, "sweep-x.csv.gz", "extruder-runs.csv", "tower-heights.csv", "farm.csv"):
        (tmp_path / name).write_bytes(sample(name).read_bytes())
    return tmp_path


BAD = {
    f"A,heater,none.csv{7 * ','}": "farm.csv: row 2: none.csv: cannot be read (no such file or "
    "directory); check the column log and the folder it is named from",
    f"A,heat,{LOG}{7 * ','}": "farm.csv: row 3: study 'heat'; did you mean heater?",
    f"A,brew,{LOG}{7 * ','}": "farm.csv: row 4: study 'brew'; use " + ", ".join(STUDIES),
    f",heater,{LOG}{7 * ','}": "farm.csv: row 5: no printer; name it",
    f"{'B' * 130},heater,{LOG}{7 * ','}": "farm.csv: row 6: a printer's name of 130 letters; 120 "
    "are enough",
    f"A,heater,{LOG},,9999{5 * ','}": "--target 9999: cannot be: a temperature here is 35 to 500 °C; "
    "°F? write °C: (°F − 32) ÷ 1.8",
    f"A,heater,{LOG},,nan{5 * ','}": "--target nan: is not a finite number; write a number in °C",
    "A,extruder,,,235,412,100,120,21,": "farm.csv: row 9: extruder fit has no option target; empty "
    "the cell",
    "A,extruder,,,,412,100": "farm.csv: row 10: 7 cells under 10 columns; fill the row, or write its "
    "commas",
    f"A,heater,{LOG}{8 * ','}x": "farm.csv: row 11: 11 cells under 10 columns; put a cell with a comma "
    "in quotes",
    f"A,shaper,sweep-x.csv.gz{7 * ','}": "farm.csv: row 12: a log without its axis; write x or y in "
    "the column axis, or the logs in the columns x and y",
    f"A,shaper,sweep-x.csv.gz,z{6 * ','}": "farm.csv: row 13: a log of axis 'z'; write x or y in the "
    "column axis, or the logs in the columns x and y",
    f"A,heater,tower-heights.csv{7 * ','}": "tower-heights.csv: row 2: no header and no report lines "
    "(T:… /… @:…) found; name the columns in a first row, for example time_s,temperature_c,power",
    f"A,heater,{7 * ','}": "no LOG; give the log of the test; or, where there is none, --cycle "
    "LOW:HIGH:S for each cycle",
    f"A,heater,.{7 * ','}": "farm.csv: row 16: here: cannot be read (is a directory); check the column "
    "log and the folder it is named from",
    "A,extruder,,,,412,100,120,,": "no readings: give a file of them, or --asked with --mark and "
    "--left, --before and --after, or --fed",
}  # fmt: skip


def test_each_bad_row_is_one_row_with_its_sentence(here, run):
    manifest(here, *BAD, FED)
    done = run("farm", "fit", "farm.csv", "--out", "out")
    rows = results(here / "out")
    assert (done.returncode, len(rows)) == (3, len(BAD) + 1)
    for row, told in zip(rows, BAD.values(), strict=False):
        if "cannot be read (is" not in told and "no readings" not in told:
            assert row["error"].lstrip("'") == told
        assert row["error"] and not row["verdict"]
    assert rows[-1]["verdict"] == "keep" and "Traceback" not in done.stdout + done.stderr


@pytest.mark.parametrize(
    "text, told",
    [
        ("", "farm.csv: the file is empty; check that the recording was saved"),
        ("1,2\n3,4\n", "farm.csv: row 1: no header; begin with printer,study,log; omphalon farm "),
        ("printer,study,targt\nA,heater,1\n", "column 'targt' is no option of any study; did you "),
        ("printer,study,qqq\nA,heater,1\n", "column 'qqq' is no option of any study; take it out"),
        ("printer,log\nA,x\n", "row 1: no column study; begin with printer,study,log"),
        ("printer,study,full-power,full_power\nA,x,,\n", "row 1: two columns mean full-power"),
        ("printer,study\n", "farm.csv: no rows below the header; add one row a log"),
    ],
)
def test_a_manifest_that_tells_no_job(text, told, tmp_path, run):
    (tmp_path / "farm.csv").write_text(text)
    done = run("farm", "fit", "farm.csv", "--out", "out")
    assert done.returncode == 1 and told in done.stderr and done.stderr.count("\n") == 1
    assert not (tmp_path / "out").exists()


@pytest.mark.slow
@pytest.mark.parametrize(
    "row, command",
    [
        (f"A,heater,{LOG}{7 * ','}", f"heater fit {LOG}"),
        (
            f"A,heater,{LOG}{7 * ','}power=power_counts; time=time_s",
            f"heater fit {LOG} --column power=power_counts --column time=time_s",
        ),
        (f"A,shaper,sweep-x.csv.gz,x{6 * ','}", "shaper fit --x sweep-x.csv.gz"),
        (
            f"A,extruder,extruder-runs.csv,,,412{4 * ','}",
            "extruder fit extruder-runs.csv --steps 412",
        ),
        (
            FED,
            "extruder fit --steps 412 --asked 100 --mark 120 --left 20.5 --left 20.6 --left 20.4",
        ),
    ],
)
def test_an_answer_is_the_command_s_own(row, command, here, run):
    manifest(here, row)
    assert run("farm", "fit", "farm.csv", "--out", "out").returncode == 0
    (answer,) = (here / "out" / "answers").iterdir()
    own = json.loads(run(*command.split(), "--json").stdout)
    kept = json.loads(answer.read_text())
    assert {**kept, "warnings": 0} == {**own, "warnings": 0}
    assert results(here / "out")[0]["verdict"] == own["verdict"]


@pytest.mark.slow
def test_a_second_run_does_what_is_missing_or_changed(here, run):
    def fit(*rows):
        manifest(here, *rows)
        return json.loads(run("farm", "fit", "farm.csv", "--out", "out", "--json").stdout)

    other = FED.replace("20.4", "20.9")
    first = fit(f"A,extruder,extruder-runs.csv,,,412{4 * ','}", FED)
    assert (first["kept"], first["found"]) == (0, 2)
    kept = written(here / "out")
    again = fit(f"A,extruder,extruder-runs.csv,,,412{4 * ','}", FED)
    assert (again["kept"], again["found"]) == (2, 0) and written(here / "out") == kept
    with open(here / "extruder-runs.csv", "a") as file:
        file.write("# a word\n")
    assert fit(f"A,extruder,extruder-runs.csv,,,412{4 * ','}", FED)["found"] == 1
    assert fit(other)["found"] == 1 and len(list((here / "out" / "earlier").iterdir())) == 3
    assert fit(FED)["found"] == 0


def test_every_option_of_a_fit_is_a_column_or_left_out_on_purpose():
    for name, study in studies().items():
        assert {"json", "bench", "ask", "plot"}.isdisjoint(study.options), name
    assert studies()["advance"].options["print"].takes == "file"
    assert studies()["axis"].options["diagonal"].takes == "pair"
    assert "readings" not in studies()["advance"].options


def test_names_that_no_file_can_have_and_readings_that_two_share(here, run):
    names = ("../../etc", "\u00dcber\x1b[31m/x", '"a;b"', "CON", "x" * 119)
    manifest(here, *(FED.replace("D,", f"{name},", 1) for name in names))
    assert run("farm", "fit", "farm.csv", "--out", "out").returncode == 0
    rows = results(here / "out")
    assert len({row["answer"] for row in rows}) == len(names)
    assert all((here / "out" / row["answer"]).is_file() for row in rows)
    assert "\x1b" not in (here / "out" / "farm.html").read_text() + str(rows)
    assert run("farm", "compare", "out").returncode == 0


def test_no_cell_becomes_an_option(here, run):
    manifest(here, "A,extruder,,,,--json,100,120,20.5 20.6 20.4,", f"A,heater,--json{7 * ','}")
    assert run("farm", "fit", "farm.csv", "--out", "out").returncode == 3
    told = [row["error"] for row in results(here / "out")]
    assert "--steps --json" in told[0] and "--json: cannot be read" in told[1]


def test_a_folder_of_somebody_else_s_is_left_alone(here, run):
    (here / "own").mkdir()
    (here / "own" / "letter.txt").write_text("dear")
    done = run("farm", "fit", "farm.csv", "--out", "own")
    assert done.returncode == 2 and "holds what no farm run wrote" in done.stderr
    assert [p.name for p in (here / "own").iterdir()] == ["letter.txt"]


@pytest.mark.slow
def test_parquet_holds_the_same_table(here, run):
    from pyarrow import parquet

    manifest(here, FED, f"A,heater,none.csv{7 * ','}")
    run("farm", "fit", "farm.csv", "--out", "out", "--parquet")
    rows = parquet.read_table(here / "out" / "results.parquet").to_pylist()
    table = results(here / "out")
    assert list(rows[0]) == list(table[0])
    assert rows[0]["steps_per_mm"] == float(table[0]["steps_per_mm"])
    assert rows[1]["steps_per_mm"] is None and rows[1]["error"] == table[1]["error"]


# --- workers


def behaving(words):
    """A job that does what its first word says; each is called in a worker."""
    what, mark = words[0], Path(words[-1])
    if what == "hang":
        time.sleep(60)
    elif what == "die" or (what == "die-once" and not mark.exists()):
        mark.write_text("died")
        os.kill(os.getpid(), signal.SIGKILL)
    elif what == "eat":
        raise MemoryError
    return {"verdict": "keep", "pid": os.getpid()}


def ready():
    pass


def job(what, key, mark="none"):
    row = ManifestRow(where="", printer="P", study="heater", log="", model="")
    return FarmJob(row=row, words=(what, str(mark)), inputs=(), key=key)


@pytest.mark.slow
def test_a_job_that_hangs_dies_or_eats_is_one_row(tmp_path):
    words = ["do", "hang", "do", "die", "eat", "do", "die-once", "do"]
    jobs = [job(what, str(n), tmp_path / str(n)) for n, what in enumerate(words)]
    came = {o.job.key: o for o in run_here(jobs, behaving, ready, 2, 4.0)}
    assert len(came) == len(jobs)
    told = [came[str(n)].document.get("error", "") for n in range(len(words))]
    assert [bool(t) for t in told] == [False, True, False, True, True, False, False, False]
    assert told[1].startswith("ended after 4 s; look at the file")
    assert told[3].startswith("its worker was killed more than once")
    assert told[4].startswith("not enough memory for this file")
    assert not any(came[str(n)].lasting for n in (1, 3, 4)) and came["6"].lasting


@pytest.mark.slow
def test_workers_stay_warm():
    came = list(run_here([job("do", str(n)) for n in range(12)], behaving, ready, 2, 9.0))
    assert len({o.document["pid"] for o in came}) <= 2


def started(folder, *more):
    return subprocess.Popen(
        [sys.executable, "-m", "omphalon", "farm", "fit", "farm.csv", "--out", "out", *more],
        cwd=folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )


def ended(process):
    """The exit code of a run, once it is over."""
    process.communicate(timeout=120)
    return process.returncode


def children(pid):
    found = subprocess.run(["pgrep", "-P", str(pid)], capture_output=True, text=True).stdout
    return [int(one) for one in found.split()]


def rows_of_extruders(count):
    return [
        f"P{n},extruder,,,,412,100,120,{20 + n / 50:.2f} {20.3 + n / 50:.2f} 20.6,"
        for n in range(count)
    ]


def answered(folder, least, patience_s=60):
    until = time.monotonic() + patience_s
    while len(list(folder.glob("out/answers/*.json"))) < least and time.monotonic() < until:
        time.sleep(0.01)


@pytest.fixture(scope="module")
def whole(tmp_path_factory):
    """What a run gives that nobody ended; some of its rows are to be measured again."""
    folder = tmp_path_factory.mktemp("whole")
    manifest(folder, *rows_of_extruders(120))
    assert ended(started(folder)) == 3
    return written(folder / "out")


@pytest.mark.slow
@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGINT])
def test_a_run_that_is_ended_goes_on_where_it_was(how, tmp_path, whole):
    cut = tmp_path
    manifest(cut, *rows_of_extruders(120))
    process = started(cut)
    answered(cut, 5)
    workers = children(process.pid)
    process.send_signal(how)
    out, err = process.communicate(timeout=30)
    kept = written_answers(cut)
    assert 5 <= len(kept) < 120
    if how == signal.SIGINT:
        assert process.returncode == 1
        assert err.endswith("stopped; what was done is kept, and the same command goes on\n")
        assert sum(r["error"].startswith("not done yet") for r in results(cut / "out")) > 0
    until = time.monotonic() + 30
    while any(Path(f"/proc/{pid}").exists() for pid in workers) and time.monotonic() < until:
        time.sleep(0.05)
    assert not any(Path(f"/proc/{pid}").exists() for pid in workers)
    assert ended(started(cut)) == 3
    after = written_answers(cut)
    assert all(after[name] == text for name, text in kept.items())
    assert written(cut / "out") == whole


def written_answers(folder):
    return {p.name: p.read_bytes() for p in folder.glob("out/answers/*.json")}


@pytest.mark.slow
def test_a_scheduler_gives_the_same(here, run):
    from distributed import LocalCluster

    manifest(here, FED, f"A,heater,none.csv{7 * ','}", f"A,shaper,sweep-x.csv.gz,x{6 * ','}")
    assert run("farm", "fit", "farm.csv", "--out", "out").returncode == 3
    with LocalCluster(n_workers=1, threads_per_worker=1, dashboard_address=None) as cluster:
        words = ("--scheduler", cluster.scheduler_address)
        done = run("farm", "fit", "farm.csv", "--out", "there", *words)
    assert done.returncode == 3, done.stderr
    assert written(here / "out") == written(here / "there")


@pytest.mark.slow
def test_no_scheduler_is_a_sentence(here, run):
    manifest(here, FED)
    words = ("farm", "fit", "farm.csv", "--out", "out")
    done = run(*words, "--scheduler", "tcp://127.0.0.1:9")
    assert done.returncode == 1
    assert "no scheduler answers there; start one, or leave --scheduler out" in done.stderr
    assert run(*words, "--scheduler", "x", "--workers", "2").returncode == 2


# --- the others


def test_intervals_among_the_others_hold():
    draw = np.random.default_rng(3)
    held, false = [], []
    for _ in range(60):
        own = np.abs(draw.normal(1.0, 0.3, 40))
        found = placed_among(draw.normal(5, 1.0, 40) + draw.normal(0, own), own)
        held.append(np.abs(found.away) <= found.half_width)
        false.append(named(found.chance).any())
    assert 0.93 <= np.mean(held) <= 0.97 and np.mean(false) <= 0.1


def test_the_odd_ones_are_found():
    draw = np.random.default_rng(4)
    found = wrong = 0
    for _ in range(40):
        own = np.full(40, 0.5)
        value = draw.normal(0, 1.0, 40) + draw.normal(0, own)
        value[:4] += np.array([1, -1, 1, -1]) * 3 * 1.96 * math.hypot(1.0, 0.5)
        mark = named(placed_among(value, own).chance)
        found, wrong = found + mark[:4].sum(), wrong + mark[4:].sum()
    assert found >= 0.9 * 160 and wrong <= 0.05 * (found + wrong)


def test_alike_values_are_no_news_and_one_exact_outlier_is():
    same = placed_among(np.full(8, 2.5), np.zeros(8))
    assert not named(same.chance).any()
    one = placed_among(np.array([2.5] * 12 + [2.6]), np.zeros(13))
    assert named(one.chance).tolist() == [False] * 12 + [True]
    with pytest.raises(ValueError, match="5 are needed"):
        placed_among(np.ones(4), np.ones(4))


def test_a_change_is_held_against_its_own_interval():
    half, chance = changes(np.array([0.0, 1.0, -3.0]), np.array([0.5, 0.5, 1.0]))
    assert half == pytest.approx(1.959964 * np.array([0.5, 0.5, 1.0]), rel=1e-5)
    assert chance == pytest.approx([1.0, 0.0455003, 0.0026998], rel=1e-4)  # normal tails, tables
    half, _ = changes(np.array([1.0]), np.array([1.0]), 7)
    assert half[0] == pytest.approx(2.364624, rel=1e-5)  # Student's t, 7 degrees, 0.975


def test_false_ones_stay_few_as_benjamini_and_hochberg_say():
    # the fifteen of their paper (1995), p. 294: four are named at 0.05
    paper = [0.0001, 0.0004, 0.0019, 0.0095, 0.0201, 0.0278, 0.0298, 0.0344, 0.0459, 0.3240]
    paper += [0.4262, 0.5719, 0.6528, 0.7590, 1.0]
    assert named(np.array(paper), 0.05).tolist() == [True] * 4 + [False] * 11
    assert named(np.array([])).tolist() == []


def answers(values, model="m", half=2.0):
    return [
        JobAnswer(
            printer=f"P{n}",
            model=model,
            study="extruder",
            log="",
            answer="",
            document={
                "verdict": "keep",
                "kind": "extruder-fit",
                "settings": {"steps_per_mm": 412.0},
                "spread": {"steps_per_mm": half},
                "evidence": {"best": {"steps_per_mm": value}},
            },
        )
        for n, value in enumerate(values)
    ]


VALUES = (411.0, 413.5, 412.2, 410.9, 412.8, 413.0, 411.7, 412.4)


def test_who_differs_and_who_has_changed():
    now = answers((*VALUES[:7], 440.0))
    found = compare_farms(now, answers((400.0, *VALUES[1:7], 440.5)))
    assert [p.measured.printer for _, p in found.odd] == ["P7"]
    assert [c.after.printer for c in found.moved] == ["P0"]
    (moved,) = found.moved
    assert moved.change == pytest.approx(math.log(411 / 400))
    own = [2 / 1.959964 / v for v in (411, 400)]
    assert moved.half_width == pytest.approx(1.959964 * math.hypot(*own), rel=1e-4)
    assert moved.chance == pytest.approx(
        2 * stats.norm.sf(moved.change / math.hypot(*own)), rel=1e-3
    )


def test_printers_of_another_model_are_not_compared():
    mixed = [*answers(VALUES[:4], "a"), *answers(VALUES[4:], "b")]
    found = compare_farms(mixed)
    assert all(c.centre is None for c in found.numbers) and not found.odd
    doubled = compare_farms([*answers(VALUES), *answers(VALUES[:1])])
    assert doubled.again == 1


@pytest.mark.slow
def test_compare_says_who_and_draws(here, run):
    done = run("farm", "fit", "farm.csv", "--out", "out")
    assert done.returncode == 0, done.stderr
    told = run("farm", "compare", "out", "--plot", "others.png")
    assert told.returncode == 4 and "Skua" in told.stdout and "drive wheel" in told.stdout
    assert (here / "others.png").stat().st_size > 10_000
    document = json.loads(run("farm", "compare", "out", "--json").stdout)
    assert document["evidence"]["odd"] == ["Plover", "Skua"] and document["verdict"] == "change"
    page = (here / "out" / "farm.html").read_text()
    assert "Skua" in page and "http" not in page.replace("http-equiv", "")
    for words in (("none",), ("out", "out")):
        assert run("farm", "compare", *words).returncode in (1, 2)


@pytest.mark.slow
def test_what_a_killed_run_has_half_written_is_swept_by_the_next(here, run):
    manifest(here, FED)
    assert run("farm", "fit", "farm.csv", "--out", "out").returncode == 0
    halves = [here / "out" / folder / ".omphalon-half" for folder in (".", "answers", "earlier")]
    for half in halves:
        half.write_text('{"half')
    assert run("farm", "fit", "farm.csv", "--out", "out").returncode == 0
    assert not any(half.exists() for half in halves)


def test_many_benches_in_one_table(tmp_path, run, sample):
    for name in ("fulmar", "skua"):
        run("bench", "new", f"shop/{name}", "--listing", sample("found-settings.txt"))
    run("bench", "changed", "nozzle", "--bench", "shop/skua")
    lines = run("farm", "show", "shop").stdout.splitlines()
    assert [line.split()[0] for line in lines] == ["printer", "fulmar", "skua"]
    for name in ("fulmar", "skua"):  # two of one name are told by their folders
        run("bench", "set", "printer.name=Fulmar", "--bench", f"shop/{name}")
    assert "Fulmar (shop/skua)" in run("farm", "show", "shop").stdout
    rows = json.loads(run("farm", "show", "shop/skua", "--json").stdout)["benches"]
    assert rows[0]["due"] > 0 and rows[0]["command"].startswith("omphalon ")
    (tmp_path / "shop" / "skua" / "bench.toml").write_text("= broken")
    done = run("farm", "show", "shop")
    assert done.returncode == 1 and "bench.toml" in done.stdout
    assert run("farm", "show", "nowhere").returncode == 1


# what each figure is in the recorded answers: command's beginning, of what, value, half width
PICKED = [
    ("heater", "ultimate_gain", "heater fit hotend-osc", "hotend", 0.2955, 0.00884),
    ("heater", "gain_c", "heater fit hotend-osc", "hotend", 508.9, 73.0),
    ("heater", "dead_time_s", "heater fit hotend-osc", "hotend", 1.08, 0.254),
    ("heater", "limit_gain", "heater fit hotend-osc", "hotend", 0.287, 0.0533),
    ("heater", "limit_period_s", "heater fit hotend-osc", "hotend", 12.4, 2.98),
    ("extruder", "steps_per_mm", "extruder fit extruder-runs", "", 437.3, 3.69),
    ("axis", "steps_per_mm", "axis fit axis-parts", "y", 79.58, 0.0462),
    ("axis", "offset_mm", "axis fit axis-parts", "x", 0.1495, 0.0426),
    ("flow", "flow", "flow fit flow-walls", "", 0.940, 0.0222),
    ("advance", "advance_s", "advance fit ladder-widths.csv --drive bowden", "", 0.511, 0.0166),
    ("shaper", "frequency_hz", "shaper fit --x sweep-x.csv.gz --y", "y", 27.52, 0.0391),
    ("shaper", "damping", "shaper fit --x sweep-x.csv.gz --y", "x", 0.0515, 0.00141),
    ("shaper", "acceleration_mm_s2", "shaper fit --x sweep-x.csv.gz --y", "", 2290, 10.0),
    ("motion", "speed_mm_s", "motion fit --axis y --pass 150", "y", 212.5, 12.5),
    ("probe", "offset_mm", "probe fit --offset -1.85 --drag 0.12 --drag 0.13 --drag 0.12 --drag 0.13 --trigger", "", -1.825, 0.0334),
]  # fmt: skip


@pytest.fixture(scope="module")
def documents(program, tmp_path_factory):
    """What the program answers to a command of the trip wire's, on the samples; each asked once."""
    place, aside, known = tmp_path_factory.mktemp("samples"), tmp_path_factory.mktemp("aside"), {}
    for one in SAMPLES.iterdir():
        (place / one.name).write_bytes(one.read_bytes())

    def answer(begins):
        if begins not in known:
            command = next(c for c in COMMANDS if c.startswith(begins))
            done = program.run([*shlex.split(command), "--json"], place, aside)
            known[begins] = json.loads(done.stdout)
        return known[begins]

    return answer


@pytest.mark.parametrize("study, name, begins, of, value, half_width", PICKED)
def test_each_number_is_found_in_the_answers(study, name, begins, of, value, half_width, documents):
    (figure,) = [f for f in FIGURES if (f.study, f.name) == (study, name)]
    found = {what: numbers for what, *numbers in figure.pick(documents(begins))}
    assert found[of] == pytest.approx([value, half_width], rel=0.05)


def test_every_number_but_one_alike_is_among_them():
    known = {(study, name) for study, name, *_ in PICKED}
    assert {(f.study, f.name) for f in FIGURES} - known == {("motion", "acceleration_mm_s2")}
