"""The built program, run as a user runs it, in a temporary folder."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

SAMPLES = Path(__file__).parents[1] / "src" / "omphalon" / "samples"


@pytest.fixture
def run(tmp_path):
    """run("heater", "fit", …) → the finished process, started in tmp_path."""
    def go(*words, timeout=60):
        return subprocess.run([sys.executable, "-m", "omphalon", *map(str, words)], cwd=tmp_path, text=True,
                              capture_output=True, timeout=timeout,
                              env={**os.environ, "OPENBLAS_NUM_THREADS": "1"})
    return go


@pytest.fixture
def sample():
    return lambda name: SAMPLES / name
