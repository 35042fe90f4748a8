"""The core as a library: its public names, each in an example that runs; notebooks; what importing
one loads.
"""

import importlib
import json
import re
import subprocess
import sys

import numpy as np
import pandas as pd
import pytest
from matplotlib.figure import Figure

from conftest import SAMPLES
from omphalon import advance, heater, shaper, steps
from omphalon.base.errors import UsageError
from omphalon.recordings import frames

ROOT = SAMPLES.parents[2]
MODULES = ("heater", "steps", "advance", "shaper", "card")


def flat(nested, path=""):
    """Nested objects as paths and values."""
    for name, value in nested.items():
        yield from (
            flat(value, f"{path}{name}.") if isinstance(value, dict) else [(path + name, value)]
        )


PAGE = (ROOT / "docs" / "library.md").read_text()
SECTIONS = dict(re.findall(r"^## omphalon\.(\w+)\n(.*?)(?=^## |\Z)", PAGE, re.M | re.S))


@pytest.mark.parametrize(
    "name", [pytest.param(m, marks=pytest.mark.slow if m == "card" else []) for m in MODULES]
)
def test_every_public_name_stands_in_a_table_and_in_an_example_that_runs(name, monkeypatch):
    monkeypatch.chdir(SAMPLES)
    table, code = SECTIONS[name].split("```python\n")
    code = code.split("```")[0]
    for public in importlib.import_module(f"omphalon.{name}").__all__:
        assert re.search(rf"`[^`]*\b{public}\b", table) and re.search(rf"\b{public}\b", code)
    exec(compile(code, f"docs/library.md, {name}", "exec"), {})


@pytest.mark.slow
@pytest.mark.parametrize("name", MODULES)
def test_each_notebook_runs_and_keeps_no_output(name, monkeypatch):
    monkeypatch.chdir(SAMPLES)
    book = json.loads((ROOT / "docs" / "notebooks" / f"{name}.ipynb").read_text())
    cells = [one for one in book["cells"] if one["cell_type"] == "code"]
    assert cells and all(one["outputs"] == [] and not one["execution_count"] for one in cells)
    exec(compile("\n".join("".join(one["source"]) for one in cells), name, "exec"), {})


@pytest.mark.parametrize("name", MODULES)
def test_importing_one_loads_no_command_line_and_no_drawing(name):
    code = f"import omphalon.{name}, sys; print(*sys.modules)"
    loaded = subprocess.run([sys.executable, "-c", code], text=True, capture_output=True).stdout
    assert not {"click", "matplotlib", "rich", "PIL", "pandas", "serial"} & set(loaded.split())
    assert not re.search(r"omphalon\.(cli|readers|plots|bench|printer|farm)\b", loaded)


def _heater():
    frame = pd.read_csv(SAMPLES / "hotend-oscillation.csv", comment="#")
    frame = frame.rename(columns={"power_counts": "power"})
    log = heater.temperature_log(frame, full_power=255)
    return heater.fit([log], heater.HeaterQuestion(heater="hotend", fan_on=False))


def _extruder():
    frame = pd.read_csv(SAMPLES / "extruder-runs.csv", comment="#")
    return steps.extruder(frame, steps.ExtruderQuestion(steps=412))


def _advance():
    frame = pd.read_csv(SAMPLES / "ladder-widths.csv", comment="#")
    return advance.fit(frame, advance.AdvanceQuestion(drive="bowden"))


def _shaper():
    frame = pd.read_csv(SAMPLES / "sweep-x.csv.gz", comment="#")
    frame = frame.set_axis(["time_s", "x", "y", "z"], axis=1)
    frame[["x", "y", "z"]] *= 9806.65
    return shaper.fit(shaper.ShaperQuestion(logs={"x": shaper.motion_log(frame)}))


AS_THE_COMMAND = {
    "heater fit hotend-oscillation.csv --heater hotend --fan off --full-power 255": _heater,
    "extruder fit extruder-runs.csv --steps 412": _extruder,
    "advance fit ladder-widths.csv --drive bowden": _advance,
    "shaper fit --x sweep-x.csv.gz": _shaper,
}


@pytest.mark.parametrize(("command", "called"), AS_THE_COMMAND.items(), ids=AS_THE_COMMAND)
def test_a_call_answers_what_the_command_does(command, called, run, tmp_path):
    for sample in SAMPLES.iterdir():
        (tmp_path / sample.name).write_bytes(sample.read_bytes())
    printed, found = json.loads(run(*command.split(), "--json").stdout), called()
    document = found.document()
    assert (document["verdict"], document["lines"]) == (printed["verdict"], printed["lines"])
    assert dict(flat(document["settings"])) == pytest.approx(dict(flat(printed["settings"])))
    assert found.verdict in repr(found) and found.settings[0].key in found._repr_html_()
    figure = Figure()
    found.draw(figure)
    assert figure.axes


@pytest.mark.parametrize(
    "frame, says",
    [
        ({"left_mm": [1.0]}, None),
        ({"length": [1.0]}, "no column length"),
        ({"asked_mm": ["eighty"]}, "no numbers"),
        ({"asked_mm": [80.0], "left_mm": [1.0, 2.0]}, "different lengths"),
        ({"asked_mm": [np.nan]}, "asked_mm"),
        ({"asked_mm": [[80.0]]}, "2 dimensions"),
        ({}, "different lengths, or none"),
    ],
)
def test_a_frame_that_cannot_be_is_one_sentence(frame, says):
    if says is None:
        assert frames.readings(frame, "extruder").rows[0].value("left_mm") == 1.0
        return
    with pytest.raises(UsageError, match=says):
        frames.readings(frame, "extruder")


def test_a_column_s_last_digit_is_that_of_all_its_numbers():
    read = frames.readings({"left_mm": [34.6, 34.95, 34.0]}, "extruder")
    assert [row.numbers["left_mm"].step for row in read.rows] == pytest.approx([0.01] * 3)
