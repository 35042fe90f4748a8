"""The same log in many wrappings must come out the same, with a note where something was worked out."""

import gzip

import numpy as np
import pytest

from omphalon.readers.temperature import Reading, read_temperature

TIME = np.arange(0, 40, 1.0)
TEMP = np.round(25 + 3.25 * TIME, 2)
POWER = np.where(TIME % 10 < 5, 1.0, 0.0)
GOAL = np.full(40, 150.0)


def table(
    head="time_s,temperature_c,target_c,power",
    fmt="{t:.1f},{c:.2f},{g:.0f},{p:g}",
    end="\n",
    scale=1.0,
):
    return (
        end.join(
            [
                head,
                *(
                    fmt.format(
                        t=t, c=c, g=g, p=p * scale, k=c + 273.15, f=c * 1.8 + 32, ms=t * 1000
                    )
                    for t, c, g, p in zip(TIME, TEMP, GOAL, POWER, strict=True)
                ),
            ]
        )
        + end
    )


def clock(t, start=23 * 3600 + 59 * 60 + 50):
    s = (start + t) % 86400
    return f"{int(s // 3600):02d}:{int(s // 60 % 60):02d}:{s % 60:05.2f}"


def console(stamp, bed=False):
    a, b = ("B", "T") if bed else ("T", "B")
    lines = ["start", "info: storage T:none"]
    for t, c, g, p in zip(TIME, TEMP, GOAL, POWER, strict=True):
        mine, other = f" {a}:{c:.2f} /{g:.2f}", f" {b}:22.10 /0.00"
        drive = f" B@:{p * 127:.0f} @:0" if bed else f" @:{p * 127:.0f} B@:0"
        lines += [stamp(t) + mine + other + drive, "ok"]
    return "\n".join(lines) + "\n"


PLAIN = table()
CASES = {
    "plain": (PLAIN, {}, set()),
    "no end": (PLAIN + "40.0,1", {}, {"cut-last-row"}),
    "crlf, mark": ("\ufeff" + table(end="\r\n"), {}, set()),
    "comments, blanks": ("# Fulmar\n\n" + PLAIN.replace("10.0,", "# here\n\n10.0,", 1), {}, set()),
    "semicolon, comma": (PLAIN.replace(",", ";").replace(".", ","), {}, set()),
    "tab": (PLAIN.replace(",", "\t"), {}, set()),
    "header again": (
        PLAIN.replace("20.0,", "time_s,temperature_c,target_c,power\n20.0,", 1),
        {},
        set(),
    ),
    "percent": (table("Time [s],Temp [°C],Set [°C],Power [%]", scale=100), {}, set()),
    "counts": (table(scale=255), {}, {"power-scale-guessed"}),
    "counts, said": (table(scale=255), {"full_power": 255.0}, set()),
    "fahrenheit, ms": (table("ms,temp_f,power", "{ms:.0f},{f:.4f},{p:g}"), {}, set()),
    "kelvin": (table("t,temperature (K),pwm", "{t:.1f},{k:.2f},{p:g}"), {}, set()),
    "clock at midnight": (table("clock,nozzle,duty", "X{t:.1f},{c:.2f},{p:g}"), {}, set()),
    "iso": (table("timestamp,actual,power", "Y{t:.1f},{c:.2f},{p:g}"), {}, set()),
    "own names": (
        table("a1,b1,c1,d1"),
        {"columns": {"time": "a1", "temperature": "b1", "target": "c1", "power": "d1"}},
        set(),
    ),
    "no time": (table("temperature,power", "{c:.2f},{p:g}"), {"every_s": 1.0}, set()),
    "two heaters": (
        table(
            "time,bed_temp,bed_power,nozzle_temp,nozzle_target,nozzle_power",
            "{t:.1f},22.5,0,{c:.2f},{g:.0f},{p:g}",
        ),
        {"heater": "hotend"},
        set(),
    ),
    "out of order, doubled": (
        "\n".join([PLAIN.split("\n")[0], *reversed(PLAIN.split("\n")[1:-1]), PLAIN.split("\n")[7]])
        + "\n",
        {},
        {"rows-reordered"},
    ),
    "a bad row": (
        PLAIN.replace("5.0,41.25", "5.0,4x.25") + "5.0,41.25,150,0\n",
        {},
        {"rows-passed-over", "rows-reordered"},
    ),
    "console, clock": (console(clock), {"full_power": 127.0}, {"heater-guessed"}),
    "console, brackets": (
        console(lambda t: f"[{clock(t)}] recv:"),
        {"heater": "hotend"},
        {"power-scale-guessed"},
    ),
    "console, seconds": (
        console(lambda t: f"{t + 1000:.2f}"),
        {"heater": "hotend", "full_power": 127.0},
        set(),
    ),
    "console, no time": (
        console(lambda t: ""),
        {"heater": "hotend", "every_s": 1.0},
        {"power-scale-guessed"},
    ),
    "console, bed": (console(clock, bed=True), {"heater": "bed", "full_power": 127.0}, set()),
    "console, bed found": (console(clock, bed=True), {"full_power": 127.0}, {"heater-guessed"}),
}


@pytest.mark.parametrize("name", CASES)
@pytest.mark.parametrize("packed", [False, True])
def test_the_same_log_comes_out(name, packed, tmp_path):
    text, how, notes = CASES[name]
    for t in reversed(TIME):
        text = text.replace(f"X{t:.1f}", clock(t)).replace(
            f"Y{t:.1f}", f"2026-11-23T10:00:{t:04.1f}+01:00"
        )
    path = tmp_path / "log.csv"
    path.write_bytes(gzip.compress(text.encode()) if packed else text.encode())
    log = read_temperature(str(path), Reading(**how))
    assert {n.code for n in log.notes} == notes
    np.testing.assert_allclose(log.time_s, TIME, atol=1e-6)
    np.testing.assert_allclose(log.temperature_c, TEMP, atol=0.006)
    np.testing.assert_allclose(log.power, POWER, atol=0.005)


def test_no_power_and_no_target(tmp_path):
    path = tmp_path / "log.csv"
    path.write_text(table("time_s,temperature_c", "{t:.1f},{c:.2f}"))
    log = read_temperature(str(path))
    assert log.power is None and log.target_c is None and log.power_scale is None


def test_the_row_of_a_bad_cell_is_named(tmp_path):
    path = tmp_path / "log.csv"
    path.write_text(PLAIN.replace("5.0,41.25", "5.0,4x.25"))
    assert (
        read_temperature(str(path)).notes[0].message
        == "1 unreadable row passed over, the first is row 7"
    )


@pytest.mark.parametrize(
    "text, scale, guessed",
    [
        (table(scale=90), 100.0, True),
        (table("t,temp,power %", "{t:.1f},{c:.2f},{p:g}", scale=90), 100.0, False),
        (table(scale=0.7), 1.0, False),
        (table(scale=178), 255.0, True),
        (table(scale=700), 1023.0, True),
        (console(clock).replace("@:127", "@:90"), 127.0, True),
    ],
)
def test_what_stands_for_full_power_is_said_where_it_is_guessed(text, scale, guessed, tmp_path):
    path = tmp_path / "log.csv"
    path.write_text(text)
    log = read_temperature(str(path), Reading(heater="hotend"))
    assert log.power_scale == scale
    assert ("power-scale-guessed" in {n.code for n in log.notes}) is guessed
