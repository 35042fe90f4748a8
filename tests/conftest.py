"""The program as a user runs it, in a temporary folder.

`run` forks the test process, so that a hundred commands need not each import NumPy anew; in the child the program's own
entry point parses, answers and exits. test_house.py and the demo's test start real processes.
"""

import os

os.environ["OPENBLAS_NUM_THREADS"] = "1"

import subprocess
import sys
from pathlib import Path

import numpy  # noqa: F401
import pytest
import scipy.optimize  # noqa: F401

from omphalon.cli import main

SAMPLES = Path(__file__).parents[1] / "src" / "omphalon" / "samples"


def forked(words, folder, out, err):
    """In a child process: the program with these words in this folder; its exit code."""
    child = os.fork()
    if child == 0:
        code = 70
        try:
            os.chdir(folder)
            for path, number in ((out, 1), (err, 2)):
                os.dup2(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC), number)
            sys.stdout = os.fdopen(1, "w", encoding="utf-8", closefd=False)
            sys.stderr = os.fdopen(2, "w", encoding="utf-8", closefd=False)
            sys.argv = ["omphalon", *words]
            main()
        except SystemExit as leave:
            code = leave.code or 0
        finally:
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(code)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])


@pytest.fixture
def run(tmp_path, tmp_path_factory):
    """run("heater", "fit", …) → exit code and output of the program, started in tmp_path."""
    aside = tmp_path_factory.mktemp("output")

    def go(*words):
        words = [str(w) for w in words]
        out, err = aside / "out", aside / "err"
        code = forked(words, tmp_path, out, err)
        return subprocess.CompletedProcess(
            words, code, out.read_text("utf-8"), err.read_text("utf-8")
        )

    return go


@pytest.fixture
def sample():
    return lambda name: SAMPLES / name
