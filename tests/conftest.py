"""The program as a user runs it, in a temporary folder."""

import os
import signal

os.environ["OPENBLAS_NUM_THREADS"] = "1"

from pathlib import Path

import hypothesis
import pytest

from program import Program

# the same examples each time; OMPHALON_LAWS=search looks for new ones
hypothesis.settings.register_profile("fixed", derandomize=True)
hypothesis.settings.register_profile("search")
hypothesis.settings.load_profile(os.environ.get("OMPHALON_LAWS", "fixed"))

# a shell's background job ignores these, and so would every program that a test ends by them
signal.signal(signal.SIGINT, signal.default_int_handler)
signal.signal(signal.SIGQUIT, signal.SIG_DFL)

SLOW = frozenset((Path(__file__).parent / "slow.txt").read_text("utf-8").splitlines())
SAMPLES = Path(__file__).parents[1] / "src" / "omphalon" / "samples"


def pytest_collection_modifyitems(items):
    for item in items:
        if SLOW & {item.nodeid, item.nodeid.split("[")[0]}:
            item.add_marker(pytest.mark.slow)


@pytest.fixture(scope="session")
def program():
    one = Program()
    yield one
    one.close()


@pytest.fixture
def run(program, tmp_path, tmp_path_factory):
    """run("heater", "fit", …) → exit code and output of the program, started in tmp_path."""
    aside = tmp_path_factory.mktemp("output")
    return lambda *words, env=None: program.run(words, tmp_path, aside, env)


@pytest.fixture
def sample():
    return lambda name: SAMPLES / name
