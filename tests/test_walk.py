"""Options beside every command's example: none is taken that has no say, and no two of them make a fault."""

import shlex
import shutil

import numpy as np
import pytest

from conftest import SAMPLES
from walk import drawn_line, examples, idle

# groups whose answers take no second; the walk over all is benchmarks/fuzz.py idle
QUICK = ("extruder", "axis", "flow", "probe", "motion")


@pytest.fixture
def samples(tmp_path, run):
    for path in SAMPLES.iterdir():
        shutil.copy(path, tmp_path)
    assert run("bench", "new", "b", "--listing", "found-settings.txt").returncode == 0
    return tmp_path


@pytest.mark.slow
@pytest.mark.parametrize("group", QUICK)
def test_an_option_that_is_taken_has_a_say(group, samples, program, tmp_path_factory):
    aside = tmp_path_factory.mktemp("aside")
    own = [(line, command) for line, command in examples() if line[0] == group]
    found = {shlex.join(line): list(idle(program, line, c, samples, aside)) for line, c in own}
    assert len(found) == 3 and not any(found.values()), found


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(4))
def test_two_options_more_make_an_answer_or_one_line(seed, samples, run):
    random, every = np.random.default_rng(seed), list(examples())
    for _ in range(60):
        line = drawn_line(every, random)
        done = run(*line)
        assert done.returncode in (0, 1, 2, 3, 4), line
        assert "fault of omphalon" not in done.stderr and "Traceback" not in done.stderr, line
        assert done.returncode in (0, 3, 4) or done.stderr.count("\n") == 1, (line, done.stderr)
