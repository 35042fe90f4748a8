"""The same log in many wrappings must come out the same, with a note where something was worked out."""

import gzip

import numpy as np
import pytest

from omphalon.base.errors import OmphalonError
from omphalon.readers.acceleration import AxesWanted as Motion
from omphalon.readers.acceleration import read_motion
from omphalon.readers.temperature import Wanted, read_temperature
from omphalon.tables.heaters import HOTEND, Heater

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
                        t=t,
                        c=c,
                        g=g,
                        p=p * scale,
                        k=c + 273.15,
                        f=c * 1.8 + 32,
                        ms=t * 1000,
                        w=clock(t, LATE)[:8],
                        e=1_795_400_000 + t,
                        d=f"2{3 + (t >= 10)}",
                        h=f"{(int(LATE + t) // 3600 - 1) % 12 + 1}:{clock(t, LATE)[3:8]}",
                        m="AM" if t >= 10 else "PM",
                        o="on" if p else "off",
                        q=f"{c:.2f}".replace(".", ","),
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


LATE = 23 * 3600 + 59 * 60 + 50


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
        {"heater": HOTEND},
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
        {"heater": HOTEND},
        {"power-scale-guessed"},
    ),
    "console, seconds": (
        console(lambda t: f"{t + 1000:.2f}"),
        {"heater": HOTEND, "full_power": 127.0},
        set(),
    ),
    "console, no time": (
        console(lambda t: ""),
        {"heater": HOTEND, "every_s": 1.0},
        {"power-scale-guessed"},
    ),
    "console, bed": (
        console(clock, bed=True),
        {"heater": Heater("bed"), "full_power": 127.0},
        set(),
    ),
    "blanks": (table("time  temperature  power", "{t:.1f}   {c:.2f}  {p:g}"), {}, set()),
    "blanks, units apart": (
        table("time [s]  temp [°C]  power [%]", "{t:.1f}   {c:.2f}  {p:g}", scale=100),
        {},
        set(),
    ),
    "quoted": (table('"time","temp","power"', '"{t:.1f}","{c:.2f}","{p:g}"'), {}, set()),
    "quoted decimal comma": (table("time,temp,power", '{t:.0f},"{q}",{p:g}'), {}, set()),
    "json lines": (
        table("", '{{"time": {t}, "temp": {c:.2f}, "target": {g}, "power": {p}}}').lstrip(),
        {},
        set(),
    ),
    "json lines, percent": (
        table("", '{{"temp": "{c:.2f}", "power": "{p:g}%", "t_ms": {ms}}}', scale=100).lstrip(),
        {},
        set(),
    ),
    "percent in the cells": (table("t,temp,power", "{t},{c:.2f},{p:g}%", scale=100), {}, set()),
    "units in the cells": (table("t,temp,power", "{t},{c:.2f} °C,{p:g} %", scale=100), {}, set()),
    "on and off": (table("t,temp,heater", "{t},{c:.2f},{o}"), {}, set()),
    "µs": (table("time_us,temp,power", "{ms:.0f}000,{c:.2f},{p:g}"), {}, set()),
    "epoch": (table("timestamp,temp,power", "{e:.1f},{c:.2f},{p:g}"), {}, set()),
    "epoch in ms": (table("timestamp,temp,power", "{e:.0f}000,{c:.2f},{p:g}"), {}, set()),
    "local date, dots": (table("date;temp;power", "{d}.11.2026 {w};{q};{p:g}"), {}, set()),
    "local date, month first": (
        table("date,temp,power", "11/{d}/2026 {w},{c:.2f},{p:g}"),
        {},
        set(),
    ),
    "local date, 12 hours": (
        table("date,temp,power", "{d}/11/2026 {h} {m},{c:.2f},{p:g}"),
        {},
        set(),
    ),
    "local date, blanks": (
        table("date temp power", "{d}/11/2026 {w} {c:.2f} {p:g}"),
        {},
        set(),
    ),
    "clock of 12 hours": (table("clock,temp,power", "{h} {m},{c:.2f},{p:g}"), {}, set()),
    "old line ends": (table(end="\r"), {}, set()),
    "wide letters": (("\ufeff" + PLAIN).encode("utf-16-le"), {}, set()),
    "console, no slash": (
        console(clock).replace(" /150.00", ""),
        {"heater": HOTEND, "full_power": 127.0},
        set(),
    ),
    "console, target 0": (
        console(clock).replace("/150.00", "/0.00"),
        {"heater": HOTEND, "full_power": 127.0},
        set(),
    ),
    "console, decimal comma": (
        console(lambda t: f"{t:.2f}").replace("T:", "T:").replace(".", ","),
        {"heater": HOTEND, "full_power": 127.0},
        set(),
    ),
    "console, local date": (
        console(lambda t: f"{23 + (t >= 10)}.11.2026 {clock(t)[:8]} <"),
        {"heater": HOTEND, "full_power": 127.0},
        set(),
    ),
    "console, bed found": (console(clock, bed=True), {"full_power": 127.0}, {"heater-guessed"}),
}


@pytest.mark.parametrize("name", CASES)
@pytest.mark.parametrize("packed", [False, True])
def test_the_same_log_comes_out(name, packed, tmp_path):
    text, how, notes = CASES[name]
    for t in reversed(TIME) if isinstance(text, str) else ():
        text = text.replace(f"X{t:.1f}", clock(t)).replace(
            f"Y{t:.1f}", f"2026-11-23T10:00:{t:04.1f}+01:00"
        )
    path = tmp_path / "log.csv"
    raw = text if isinstance(text, bytes) else text.encode()
    path.write_bytes(gzip.compress(raw) if packed else raw)
    log = read_temperature(str(path), Wanted(**how))
    assert {n.code for n in log.notes} == notes
    np.testing.assert_allclose(log.time_s, TIME, atol=1e-6)
    np.testing.assert_allclose(log.temperature_c, TEMP, atol=0.006)
    np.testing.assert_allclose(log.power, POWER, atol=0.005)


@pytest.mark.parametrize("bed, apart", [(22.0, False), (40.0, True), (60.0, False)])
def test_cold_sensors_that_differ_are_named(bed, apart, tmp_path):
    path = tmp_path / "log.txt"
    path.write_text(console(clock).replace("B:22.10", f"B:{bed:.2f}"))
    log = read_temperature(str(path), Wanted(heater=HOTEND, full_power=127.0))
    assert ("cold-apart" in {note.code for note in log.notes}) is apart


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
        == "1 unreadable row skipped, the first is row 7"
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
    log = read_temperature(str(path), Wanted(heater=HOTEND))
    assert log.power_scale == scale
    assert ("power-scale-guessed" in {n.code for n in log.notes}) is guessed


REFUSED = {
    "time,temp,power\n05-March-26 at noon,200,1\nx,201,0\ny,202,1\n": "row 2: time: '05-March-26 at "
    "noon' is no time that is understood; ",
    "time,temp,power\n1,hot,1\n2,cold,0\n": "row 2: temp: 'hot' is no temperature that is understood; ",
    "time,temp,power\n1,200,full\n2,201,none\n": "row 2: power: 'full' is no power that is understood; ",
    "time,temp,power\n1,200,1\n2,201,0,5\n": "row 3: 4 cells under 3 columns; ",
    "time,temp,temp\n1,200,1\n": "row 1: two columns are named 'temp'; ",
    "time,temp,power\n0,200,1\n500,201,0\n1000,202,1\n": "a report every 500 s, 0.278 h in all, tells "
    "nothing of a heater; if the times are in ms, name the column time_ms; ",
    "time,temp,power\n1,200,-1\n2,201,0\n": "a power of -1; no heater cools; ",
    "time,temp,power %\n1,200,255\n2,201,0\n": "a power of 255 %; rename the column; ",
    "zeit,grad\n1,2\n": "row 1: no temperature among the columns (zeit, grad); ",
    "time,temp\n١,٢٠٠\n٢,٢٠١\n": "row 2: time: '١' is no time that is understood; ",
}


@pytest.mark.parametrize("text", REFUSED)
def test_a_file_that_cannot_be_read_names_row_and_cell(text, tmp_path):
    path = tmp_path / "log.csv"
    path.write_text(text)
    with pytest.raises(OmphalonError) as error:
        read_temperature(str(path))
    assert str(error.value).startswith(f"log.csv: {REFUSED[text]}")


SCALES = [
    (
        table(scale=255),
        127.0,
        "--full-power 127: the power in log.csv goes up to 255; --full-power 255",
    ),
    (table(), 255.0, "--full-power 255: the power in log.csv never passes 1, so 1 is full in it; "),
    (
        table("t,temp,power %", "{t},{c:.2f},{p:g}", scale=100),
        255.0,
        "the power in log.csv is in %",
    ),
]


@pytest.mark.parametrize("text, full, says", SCALES)
def test_full_power_is_obeyed_or_refused(text, full, says, tmp_path):
    path = tmp_path / "log.csv"
    path.write_text(text)
    with pytest.raises(OmphalonError) as error:
        read_temperature(str(path), Wanted(full_power=full))
    assert says in str(error.value)


def test_reports_under_one_coarse_stamp_are_spread(tmp_path):
    """Four reports a second, a clock that shows whole seconds."""
    time = np.arange(0, 30, 0.25)
    rows = "".join(f"{int(t)},{25 + 3 * t:.2f},1\n" for t in time)
    path = tmp_path / "log.csv"
    path.write_text("time,temp,power\n" + rows)
    log = read_temperature(str(path))
    assert {n.code for n in log.notes} == {"times-spread"}
    np.testing.assert_allclose(log.time_s, time, atol=1e-6)


@pytest.mark.parametrize("day_first", [True, False])
def test_an_order_of_day_and_month_that_matters_is_said(day_first, tmp_path):
    days = ("05/06/2026", "06/06/2026") if day_first else ("06/05/2026", "06/06/2026")
    rows = "".join(f"{days[t >= 10]} {clock(t, LATE)[:8]},{25 + t},1\n" for t in range(30))
    path = tmp_path / "log.csv"
    path.write_text("date,temp,power\n" + rows)
    log = read_temperature(str(path))
    assert [n.code for n in log.notes] == ["date-order"] and log.duration_s == 29


def test_packed_too_large_or_packed_otherwise_is_refused(tmp_path):
    bomb = tmp_path / "bomb.csv.gz"
    with gzip.open(bomb, "wb") as file:
        for _ in range(40):
            file.write(b"time,temp,power\n" + b"1,200,1\n" * 125_000)
    assert bomb.stat().st_size < 200_000
    zipped = tmp_path / "log.zip"
    zipped.write_bytes(b"PK\x03\x04" + bytes(40))
    for path, says in ((bomb, "larger than 30 MB; cut out"), (zipped, "a zip archive, not a text")):
        with pytest.raises(OmphalonError, match=says):
            read_temperature(str(path))


G = 9806.65
STAMPS = np.arange(200) / 100.0
AXES = np.stack([np.sin(STAMPS * 60), np.cos(STAMPS * 50), np.ones(200)], axis=1)


def motion(head, row, end="\n"):
    return (
        head
        + end
        + end.join(
            row.format(
                t=t,
                x=x,
                y=y,
                z=z,
                n=n,
                ms=t * 1000,
                e=1_795_400_000 + t,
                sx=x * G,
                sy=y * G,
                sz=z * G,
                c=clock(t, LATE)[:8] + f".{round(t % 1 * 100):02d}",
                cx=f"{x:.5f}".replace(".", ","),
                cy=f"{y:.5f}".replace(".", ","),
                cz=f"{z:.5f}".replace(".", ","),
                ct=f"{t:.2f}".replace(".", ","),
            )
            for n, (t, (x, y, z)) in enumerate(zip(STAMPS.tolist(), AXES.tolist(), strict=True))
        )
        + end
    )


XYZ = "{x:.5f},{y:.5f},{z:.5f}"
MOTIONS = {
    "plain": (motion("time_s,x_g,y_g,z_g", "{t:.2f}," + XYZ), {}),
    "mm/s²": (
        motion("time (s),x (mm/s²),y (mm/s²),z (mm/s²)", "{t:.2f},{sx:.3f},{sy:.3f},{sz:.3f}"),
        {},
    ),
    "ms": (motion("t_ms,ax_g,ay_g,az_g", "{ms:.0f}," + XYZ), {}),
    "µs": (motion("time_us,acc_x g,acc_y g,acc_z g", "{ms:.0f}000," + XYZ), {}),
    "epoch": (motion("timestamp,x_g,y_g,z_g", "{e:.2f}," + XYZ), {}),
    "clock": (motion("time,x_g,y_g,z_g", "{c}," + XYZ), {}),
    "iso": (motion("time,x_g,y_g,z_g", "2026-11-23T{c}," + XYZ).replace("23T00:", "24T00:"), {}),
    "semicolon, comma": (motion("time_s;x_g;y_g;z_g", "{ct};{cx};{cy};{cz}"), {}),
    "quoted commas": (motion("time_s,x_g,y_g,z_g", '"{ct}","{cx}","{cy}","{cz}"'), {}),
    "quoted": (motion('"time_s","x_g","y_g","z_g"', '"{t:.2f}",{x:.5f},"{y:.5f}",{z:.5f}'), {}),
    "tab": (motion("time_s\tx_g\ty_g\tz_g", "{t:.2f}," + XYZ).replace(",", "\t"), {}),
    "blanks": (motion("time_s x_g y_g z_g", "{t:.2f}  {x:.5f}  {y:.5f} {z:.5f}"), {}),
    "json lines": (
        motion("", '{{"t": {t:.2f}, "x_g": {x:.5f}, "y_g": {y:.5f}, "z_g": {z:.5f}}}').lstrip(),
        {},
    ),
    "header in a comment": (motion("# time_s,x_g,y_g,z_g", "{t:.2f}," + XYZ), {}),
    "comments, crlf": (motion("# Fulmar\r\n\r\ntime_s,x_g,y_g,z_g", "{t:.2f}," + XYZ, "\r\n"), {}),
    "gyro first": (
        motion("time_s,gyro_x,gyro_y,gyro_z,accel_x_g,accel_y_g,accel_z_g", "{t:.2f},9,8,7," + XYZ),
        {},
    ),
    "numbered": (motion("sample,x_g,y_g,z_g", "{n}," + XYZ), {"every_s": 0.01}),
    "no number either": (motion("x_g,y_g,z_g", XYZ), {"every_s": 0.01}),
    "own names": (
        motion("when,a,b,c", "{t:.2f}," + XYZ),
        {"columns": {"time": "when", "x": "a", "y": "b", "z": "c"}, "unit": "g"},
    ),
    "other columns": (
        motion("n,z_g,label,time_s,y_g,x_g", "{n},{z:.5f},run,{t:.2f},{y:.5f},{x:.5f}"),
        {},
    ),
    "doubled, shuffled, cut": (
        (lambda rows: "\n".join([rows[0], *rows[90:], *rows[1:91], rows[5], rows[9][:7]]))(
            motion("time_s,x_g,y_g,z_g", "{t:.2f}," + XYZ).splitlines()
        ),
        {},
    ),
}


@pytest.mark.parametrize("name", MOTIONS)
@pytest.mark.parametrize("packed", [False, True])
def test_the_same_motion_comes_out(name, packed, tmp_path):
    text, how = MOTIONS[name]
    path = tmp_path / "log.csv"
    path.write_bytes(gzip.compress(text.encode()) if packed else text.encode())
    log = read_motion(str(path), Motion(**how))
    np.testing.assert_allclose(log.time_s - log.time_s[0], STAMPS, atol=1e-5)
    np.testing.assert_allclose(log.acceleration_mm_s2 / G, AXES, atol=2e-5)


MOTIONLESS = {
    "time,x_1,x_2,y,z\n0,1,2,3,4\n": "row 1: 'x_1' and 'x_2' could both be axis x; say which with "
    "--column x=HEADER",
    "x_g,y_g,z_g\n1,2,3\n": "row 1: no time among the columns (x_g, y_g, z_g); say how far apart",
    "time,x_g,y_g,z_g\n0,1,2,3\n0.1,1,2,3,4\n": "row 3: 5 cells under 4 columns; ",
}


@pytest.mark.parametrize("text", MOTIONLESS)
def test_a_motion_that_cannot_be_read(text, tmp_path):
    path = tmp_path / "log.csv"
    path.write_text(text)
    with pytest.raises(OmphalonError) as error:
        read_motion(str(path))
    assert str(error.value).startswith(f"log.csv: {MOTIONLESS[text]}")


def test_seconds_a_sample_for_a_timed_log_are_refused(tmp_path):
    path = tmp_path / "log.csv"
    path.write_text(MOTIONS["plain"][0])
    with pytest.raises(OmphalonError, match="has times of its own"):
        read_motion(str(path), Motion(every_s=0.01))
    path.write_text(PLAIN)
    with pytest.raises(OmphalonError, match="has times of its own"):
        read_temperature(str(path), Wanted(every_s=1.0))
