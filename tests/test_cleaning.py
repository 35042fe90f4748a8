"""What is passed over in a log before it is read, and the small doors of the readers."""

import math

import numpy as np
import pytest

from omphalon.base.errors import OmphalonError
from omphalon.physics.oscillation import noise_level, power_sides, quantum, switching
from omphalon.readers.clock import past_midnight, seconds
from omphalon.readers.columns import number, words
from omphalon.readers.readings import option_readings, read_readings
from omphalon.recordings.columns import EXTRUDER
from omphalon.recordings.recording import TemperatureLog
from omphalon.studies.heater.doubts import log_doubts
from omphalon.studies.heater.excerpt import cleaned
from omphalon.tables.quantities import QUANTITIES
from omphalon.tables.units import number_in


def log_of(y, power=None, target=None, every=1.0):
    t = np.arange(len(y)) * every
    return TemperatureLog(
        source="made up",
        time_s=t,
        temperature_c=np.array(y, float),
        power=None if power is None else np.array(power, float),
        target_c=None if target is None else np.array(target, float),
        power_scale=1.0,
        read_as="CSV",
    )


WAVE = 200 + 3 * np.sin(np.arange(120) / 2.5)
SOUND = WAVE + np.random.default_rng(2).normal(0, 0.05, 120)


def codes(warned):
    return [w.code for w in warned]


@pytest.mark.parametrize("height, seen", [(40.0, True), (-40.0, True), (12.0, True), (2.0, False)])
def test_single_spikes_are_taken_out(height, seen):
    y = SOUND.copy()
    y[50] += height
    log, warned = cleaned(log_of(y))
    assert codes(warned) == (["spikes"] if seen else [])
    assert len(log.time_s) == (119 if seen else 120)


@pytest.mark.parametrize("every", [0.5, 1.0, 2.0])
def test_a_sound_wave_is_left_alone(every):
    log, warned = cleaned(log_of(SOUND, every=every))
    assert not warned and len(log.time_s) == 120


@pytest.mark.parametrize("length, seen", [(20, True), (12, True), (4, False)])
def test_a_reading_that_stands_still_is_taken_out(length, seen):
    y = SOUND.copy()
    y[60 : 60 + length] = y[60]
    log, warned = cleaned(log_of(y))
    assert codes(warned) == (["stuck-reading"] if seen else [])
    assert len(log.time_s) == (120 - length + 1 if seen else 120)


@pytest.mark.parametrize(
    "target, kept, seen",
    [
        ([200.0] * 120, 120, []),
        ([0.0] * 10 + [200.0] * 110, 120, []),
        ([200.0] * 80 + [210.0] * 40, 80, ["target-changed"]),
        ([200.0] * 30 + [0.0] * 10 + [200.0] * 80, 80, ["target-changed"]),
        ([0.0] * 120, 120, []),
    ],
)
def test_one_target_is_kept(target, kept, seen):
    log, warned = cleaned(log_of(SOUND, target=target))
    assert (len(log.time_s), codes(warned)) == (kept, seen)


@pytest.mark.parametrize(
    "make, limit, seen",
    [
        (lambda y, p: None, None, []),
        (lambda y, p: None, 201.0, ["too-hot"]),
        (lambda y, p: y.__setitem__(40, 260.0), None, ["sensor-jump"]),
        (
            lambda y, p: (
                p.__setitem__(slice(40, 120), 0.0),
                y.__setitem__(slice(40, 120), np.linspace(200, 260, 80)),
            ),
            None,
            ["heats-alone"],
        ),
        (
            lambda y, p: (
                p.__setitem__(slice(40, 120), 0.0),
                y.__setitem__(slice(40, 120), np.linspace(200, 120, 80)),
            ),
            None,
            [],
        ),
    ],
)
def test_safety_warnings(make, limit, seen):
    y, power = SOUND.copy(), np.where(np.arange(120) % 16 < 8, 1.0, 0.0)
    make(y, power)
    assert codes(log_doubts(log_of(y, power), limit)) == seen


@pytest.mark.parametrize(
    "power, sides",
    [
        ([1, 1, 0, 0, 1], [1, 1, -1, -1, 1]),
        ([0, 0, 1, 1, 0], [-1, -1, 1, 1, -1]),
        ([1.0, 0.2, 0.9, 0.25, 0.8], [1, -1, 1, -1, 1]),
        ([0.5, 0.52, 0.5, 1.0, 0.0], [-1, -1, -1, 1, -1]),
    ],
)
def test_power_sides(power, sides):
    assert power_sides(np.array(power, float)).tolist() == sides


@pytest.mark.parametrize("step", [0.01, 0.05, 0.0625, 0.25])
def test_display_step_is_found(step):
    assert quantum(np.round(SOUND / step) * step) == pytest.approx(step, rel=1e-3)


def test_a_constant_log_has_no_noise_and_no_step():
    assert (
        quantum(np.full(50, 20.0)) == 0.0 and noise_level(np.arange(50.0), np.full(50, 20.0)) == 0.0
    )


@pytest.mark.parametrize("offset", [0.1, 0.35, 0.6, 0.85])
def test_switching_is_found_between_reports(offset):
    """A triangle about 200 °C, switched where it crosses: reports lie `offset` s after the crossings."""
    t = np.arange(0, 80, 1.0) + offset
    phase = (t % 20) / 20
    y = np.where(
        phase < 0.5, 195 + 20 * phase, 215 - 20 * phase
    )  # crosses 200 at 5 and 15 s of each cycle
    power = np.where((t % 20 >= 15) | (t % 20 < 5), 1.0, 0.0)
    found = switching(t, y, power, 0.01)
    late = (found.time_s - 5.0 + 0.5) % 10 - 0.5
    assert np.abs(late - np.median(late)).max() < 0.2
    assert np.all(found.doubt_s < 0.3)


@pytest.mark.parametrize(
    "text, value",
    [
        ("12.5", 12.5),
        ("00:01:02.5", 62.5),
        ("23:59:59,25", 86399.25),
        ("2000-01-01T00:01:00", 60.0),
        ("2000-01-01 00:01:00.5", 60.5),
        ("2000-01-01T01:01:00+01:00", 60.0),
        ("2000-01-01T00:01:00Z", 60.0),
    ],
)
def test_times_are_understood(text, value):
    assert seconds(text) == pytest.approx(value)


@pytest.mark.parametrize("text", ["", "soon", "2000-13-01T00:00:00", "12:3", "--"])
def test_what_is_no_time_is_nan(text):
    assert math.isnan(seconds(text))


@pytest.mark.parametrize(
    "times, out",
    [
        ([86390, 86399, 5, 10], [86390, 86399, 86405, 86410]),
        ([100, 90, 200], [100, 90, 200]),
        ([86399, 1, 86399, 1], [86399, 86401, 172799, 172801]),
    ],
)
def test_midnight_is_passed(times, out):
    assert past_midnight([float(t) for t in times]) == out


@pytest.mark.parametrize(
    "cell, value", [("1.5", 1.5), ("1,5", 1.5), ("-.5", -0.5), ("1e3", 1000.0), ("+7", 7.0)]
)
def test_cells_are_numbers(cell, value):
    assert number(cell) == value


@pytest.mark.parametrize("cell", ["", "x", "1.5.2", "nan", "inf", "1 2"])
def test_cells_that_are_none(cell):
    assert math.isnan(number(cell))


@pytest.mark.parametrize(
    "header, found",
    [
        ("time_s", {"time", "s"}),
        ("Hotend Temp [°C]", {"hotend", "temp", "°c"}),
        ("BedTarget", {"bed", "target"}),
        ("power (%)", {"power", "%"}),
    ],
)
def test_header_words(header, found):
    assert words(header) == found


@pytest.mark.parametrize(
    "text",
    [
        "asked_mm,fed_mm\n80,75.4\n80,75.6\n",
        "asked mm;fed mm\n80;75,4\n80;75,6",
        'asked,fed\n"80","75,4"\n80,75.6\n',
        "Asked (cm),Fed [mm],note\n8,75.4,first\n8,75.6,\n",
        "asked  fed\n80   75.4\n80   75.6\n",
        '{"asked": 80, "fed": 75.4}\n{"fed": "75,6", "asked": 80.0}\n',
        "fed_in\tlength_mm\n2.968504\t80\n2.976378\t80\n",
        "# run of today\nASKED_MM\tFED_MM\n80 mm\t75.4\n\n8 cm\t7.56 cm\n",
    ],
)
def test_readings_from_a_file(text, tmp_path):
    path = tmp_path / "runs.csv"
    path.write_text(text)
    readings = read_readings(str(path), EXTRUDER)
    assert [r.value("asked_mm") for r in readings.rows] == [80, 80]
    assert [r.value("fed_mm") for r in readings.rows] == pytest.approx([75.4, 75.6])
    assert readings.has("asked_mm", "fed_mm") and not readings.has("left_mm")


def test_readings_from_options_pair_up():
    asked, *left = (number_in(t, QUANTITIES["size"]) for t in ("80", "34.6", "34.75"))
    readings = option_readings({"asked_mm": [asked], "left_mm": left, "mark_mm": []}, EXTRUDER)
    values = [(r.value("asked_mm"), r.value("left_mm")) for r in readings.rows]
    assert values == [(80, 34.6), (80, 34.75)]
    assert readings.rows[1].where == "--left 34.75"
    assert readings.step("left_mm") == pytest.approx(0.01)


@pytest.mark.parametrize(
    "text, says",
    [
        ("1,2\n3,4\n", "row 1: no header"),
        ("weight,width\n1,2\n", "row 1: none of its columns is known (weight, width)"),
        ("asked_mm,fed_mm\n80,34,6\n", "row 2: 3 cells under 2 columns"),
        ("asked_mm,asked_mm\n80,80\n", "row 1: two columns are named 'asked_mm'"),
        ("asked_mm,length\n80,80\n", "row 1: two columns mean asked_mm"),
        ("asked_mm,fed_mm\n80\n", "row 2: fewer cells than the header"),
        ("asked_mm,fed_mm\n80,1\n80,ten\n", "row 3: fed_mm 'ten' is not a length"),
    ],
)
def test_readings_that_cannot_be_read(text, says, tmp_path):
    path = tmp_path / "runs.csv"
    path.write_text(text)
    with pytest.raises(OmphalonError) as error:
        read_readings(str(path), EXTRUDER)
    assert f"runs.csv: {says}" in str(error.value)
