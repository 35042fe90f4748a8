"""Stepped prints: what the file holds, block by block, and what a look at it tells."""

import itertools
import json
import math

import pytest

from gcode import Machine

BLOCK_MM = 8.0
LAYER, WIDTH = 0.2, 0.45
PER_MM = (LAYER * (WIDTH - LAYER) + math.pi * (LAYER / 2) ** 2) / (math.pi * 1.75**2 / 4)


def planned(run, tmp_path, vary, levels):
    done = run("trial", "plan", "--vary", vary, levels, "--out", "p.gcode")
    assert done.returncode == 0, done.stderr
    return (tmp_path / "p.gcode").read_text().splitlines()


def heights(lines):
    """Each line with the height at which the nozzle then stands."""
    z = 0.0
    for line in lines:
        words = line.split(";")[0].split()
        z = next((float(w[1:]) for w in words if words[0] in ("G0", "G1") and w[0] == "Z"), z)
        yield z, line


@pytest.mark.parametrize(
    "vary, levels, values",
    [
        ("temperature", "230:200:5", [230, 225, 220, 215, 210, 205, 200]),
        ("retraction", "0.2:1.4:0.4", [0.2, 0.6, 1.0, 1.4]),
        ("speed", "20:60:20", [20, 40, 60]),
        ("flow", "0.9:1.1:0.1", [0.9, 1.0, 1.1]),
    ],
)
def test_each_block_has_its_value_and_all_else_stays(run, tmp_path, vary, levels, values):
    lines = planned(run, tmp_path, vary, levels)
    machine = Machine("LEAD").run(lines)
    assert not machine.faults and machine.nozzle == machine.bed == machine.fan == 0
    assert max(m.z for m in machine.moves) == pytest.approx(BLOCK_MM * len(values))
    for number, value in enumerate(values):
        inside = [
            m for m in machine.moves if number * BLOCK_MM + 0.3 < m.z < (number + 1) * BLOCK_MM
        ]
        fed = {round(m.filament / m.length / PER_MM, 2) for m in inside if m.length > 5}
        assert fed == {value if vary == "flow" else 1.0}
        assert {m.speed for m in inside} == {value if vary == "speed" else 40.0}
    if vary == "temperature":
        targets = [
            float(x.split("S")[1]) for z, x in heights(lines) if x.startswith("M104 S") and z
        ]
        assert list(dict.fromkeys(targets[:-1])) == values
    if vary == "retraction":
        pulls = [-float(x.split()[1][1:]) for z, x in heights(lines) if x.startswith("G1 E-")]
        assert list(dict.fromkeys(pulls[:-1]))[1:] == values  # the first: of brim and digits
    digits = [m for m in machine.moves if m.note.startswith("digits")]
    assert {f"digits {v:g}" for v in values} == {m.note for m in digits}


def test_an_overhang_rests_on_the_layer_below(run, tmp_path):
    machine = Machine("LEAD").run(planned(run, tmp_path, "flow", "0.9:1.1:0.1"))
    fronts = {}
    for move in machine.moves:
        if move.z > LAYER:
            y = min(move.start[1], move.end[1])
            fronts[move.z] = min(fronts.get(move.z, math.inf), y)
    for (_, low), (_, high) in itertools.pairwise(sorted(fronts.items())):
        assert abs(low - high) < 0.6 * WIDTH


BLOCKS = ("--vary", "temperature", "--blocks", "200:230:5")


@pytest.mark.parametrize(
    "words, verdict, value, most",
    [
        (["--value", 210], "change", 210, 12),
        (["--value", 210, "--value", 210, "--value", 215], "change", 211.7, 6),
        (["--value", 210, "--present", 213], "keep", 210, 12),
        (["--clean", "205:220"], "change", 212.5, 6),
        (["--clean", "205:220", "--present", 190], "change", 212.5, 6),
        (["--value", 200], "change", 200, 24),  # an end of the print: it may lie beyond
    ],
)
def test_a_look_at_the_blocks_is_a_value(run, words, verdict, value, most):
    done = run("trial", "fit", *BLOCKS, *words, "--json")
    document = json.loads(done.stdout)
    assert document["verdict"] == verdict
    evidence = document["evidence"]
    assert evidence["value"] == pytest.approx(value, abs=0.1)
    assert 2.5 <= evidence["half_width"] <= most


@pytest.mark.parametrize(
    "scores, verdict, value",
    [
        ([2, 4, 6, 8, 6, 4, 2], "change", 215),
        ([1, 1, 3, 2, 1, 1, 1], "change", 210),
        ([1, 2, 3, 4, 5, 6, 7], "retest", "the best value lies beyond"),
        ([4, 4, 4, 4, 4, 4, 4], "retest", "do not distinguish the blocks"),
    ],
)
def test_scores_of_the_blocks_are_a_value_or_say_why_not(run, tmp_path, scores, verdict, value):
    rows = "".join(f"{200 + 5 * n},{score}\n" for n, score in enumerate(scores))
    (tmp_path / "s.csv").write_text("value,score\n" + rows)
    document = json.loads(run("trial", "fit", "s.csv", *BLOCKS, "--json").stdout)
    assert document["verdict"] == verdict
    if verdict == "retest":
        assert value in document["because"]
    else:
        assert abs(document["evidence"]["value"] - value) <= document["evidence"]["half_width"]


@pytest.mark.parametrize(
    "words, says",
    [
        (["plan", "--vary", "flow", "90:110:5", "--out", "p"], "flow multiplier is 0.5 to 1.5"),
        (["plan", "--vary", "speed", "20:60", "--out", "p"], "not 3 numbers"),
        (["plan", "--vary", "speed", "20:60:1", "--out", "p"], "3 to 25"),
        (["fit", *BLOCKS, "--value", 300], "not printed"),
        (["fit", "--value", 210], "not known what was printed"),
        (["fit", *BLOCKS], "neither or both"),
        (["fit", *BLOCKS, "--value", 210, "--clean", "205:210"], "neither or both"),
    ],
)
def test_what_cannot_be_is_said_in_one_line(run, words, says):
    done = run("trial", *words)
    assert done.returncode == 2 and says in done.stderr and done.stderr.count("\n") == 1


def test_a_bench_finds_the_last_print_and_ranks_what_came_of_it(run, tmp_path):
    env = {"OMPHALON_BENCH": "b"}
    for words in (
        ("bench", "new", "b"),
        ("trial", "plan", "--vary", "retraction", "0.2:1.4:0.2"),
        ("flow", "fit", "--flow", 1, "--expected", 0.45, *(["--wall", 0.48] * 8)),
        ("bench", "adopt"),
        ("bench", "trial", "--changed", "fan 60 %", "--outcome", "rough", "--score", 4),
        ("bench", "trial", "--changed", "retraction 0.7", "--outcome", "clean", "--score", 8),
        ("bench", "trial", "--changed", "fan 100 %", "--outcome", "curls", "--score", 5),
    ):
        done = run(*words, env=env)
        assert done.returncode == 0, done.stderr
    document = json.loads(run("trial", "fit", "--clean", "0.6:1", "--json", env=env).stdout)
    assert document["settings"]["vary"] == "retraction"
    ranked = run("bench", "trial", "--rank", env=env).stdout
    best = ranked.split("best")[1]
    assert "clean" in best and "after fan 60 %; retraction 0.7" in best
    assert "fan 100 %" not in best and "flow" in best and "0.9" in best
