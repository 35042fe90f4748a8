"""The built program, run as a user runs it, in a temporary folder."""

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
                              capture_output=True, timeout=timeout)
    return go


@pytest.fixture
def sample():
    return lambda name: SAMPLES / name
