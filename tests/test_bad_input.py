"""Bad input through the built program: one line, the right exit code, nothing written."""

import gzip
import os
import tempfile
from pathlib import Path

import numpy as np
import pytest

from omphalon.lines.dialect import SETTINGS

HEAD = "time_s,temperature_c,target_c,power\n"


def rows(temperature, power, target=200.0, every=1.0):
    return HEAD + "".join(
        f"{n * every:.1f},{c:.2f},{target:g},{p:g}\n"
        for n, (c, p) in enumerate(zip(temperature, power, strict=True))
    )


def cycling(count, top=200.0):
    """A plain heat-up and `count` cycles of 20 s."""
    ramp = np.arange(25, top, 2.0)
    wave = top + 3 * np.sin(2 * np.pi * np.arange(count * 20 + 8) / 20)
    on = np.where(np.diff(wave, append=wave[-1]) > 0, 1, 0)
    return rows([*ramp, *wave], [*np.ones(len(ramp)), *on])


def wild():
    """Switched cycles whose temperature has nothing to do with them."""
    random = np.random.default_rng(3)
    on = (np.arange(400) // 10) % 2
    return rows(200 + np.cumsum(random.normal(0, 1.5, 400)), on)


NOISE = np.random.default_rng(1)
FILES = {
    # name: (content, exit code, exact words on standard error, or of the answer)
    "empty.csv": (
        "",
        1,
        "omphalon: empty.csv: the file is empty; check that the recording was saved",
    ),
    "blank.csv": (
        "\n\n  \n",
        1,
        "omphalon: blank.csv: the file is empty; check that the recording was saved",
    ),
    "binary.csv": (
        bytes(NOISE.integers(0, 256, 5000, dtype=np.uint8)),
        1,
        "omphalon: binary.csv: a binary file, not a text log; give a CSV or the text of a serial console",
    ),
    "no-header.csv": (
        "1,200,1\n2,201,1\n3,202,0\n",
        1,
        "omphalon: no-header.csv: row 1: no header and no report lines (T:… /… @:…) found; "
        "name the columns in a first row, for example time_s,temperature_c,power",
    ),
    "no-temperature.csv": (
        "time_s,power\n1,1\n2,0\n",
        1,
        "omphalon: no-temperature.csv: row 1: no temperature among the columns (time_s, power); "
        "say which it is with --column temperature=HEADER",
    ),
    "no-time.csv": (
        "temperature,power\n1,1\n2,0\n",
        1,
        "omphalon: no-time.csv: row 1: no time among the columns (temperature, power); "
        "say which it is with --column time=HEADER, or the seconds a report with --every S",
    ),
    "no-clock.txt": (
        "ok T:20.0 /200.0 @:127\n" * 9,
        1,
        "omphalon: no-clock.txt: the report lines carry no time; "
        "give the seconds between two with --every S",
    ),
    "words.csv": (
        HEAD + "a,b,c,d\ne,f,g,h\n",
        1,
        "omphalon: words.csv: row 2: time_s: 'a' is no time that is understood; understood are "
        "seconds, ms, µs, min, ISO 8601 (2026-11-23T10:00:05), seconds since 1970, a clock "
        "(23:59:50, 11:59:50 PM), a date and clock (23.11.2026 10:00:05)",
    ),
    "damaged.csv.gz": (
        gzip.compress(cycling(8).encode())[:300],
        1,
        "omphalon: damaged.csv.gz: the gzip packing is damaged; unpack it by hand or save it again",
    ),
    "two-cycles.csv": (cycling(3), 3, "RETEST  2 full cycles in the log, at least 3 are needed"),
    "too-cold.csv": (
        rows(np.linspace(25, 180, 300), np.ones(300)),
        3,
        "RETEST  the target of 200 °C was never reached: the highest reading is 180.0 °C",
    ),
    "never-switches.csv": (
        rows(np.linspace(25, 210, 300), np.ones(300)),
        3,
        "RETEST  the power never changes in this log: the heater was not switched",
    ),
    "wild.csv": (
        wild(),
        3,
        "RETEST  the temperature does not follow the switching: its phase against the power",
    ),
}


@pytest.mark.parametrize("name", FILES)
def test_a_bad_file_gets_one_clear_sentence(name, run, tmp_path):
    content, code, words = FILES[name]
    (tmp_path / name).write_bytes(content if isinstance(content, bytes) else content.encode())
    done = run("heater", "fit", name, "--plot", "figure.png")
    assert done.returncode == code
    if code == 3:
        assert done.stdout.startswith(words) and not done.stderr and "enter " not in done.stdout
    else:
        assert done.stderr == words + "\n" and not done.stdout
    assert os.listdir(tmp_path) == [name]


@pytest.mark.parametrize(
    "words, code, line",
    [
        (["nowhere.csv"], 1, "nowhere.csv: no such file; check the path"),
        (["."], 1, ".: is a folder; give the log file inside it"),
        (
            [],
            2,
            "no LOG; give the log of the test; or, where there is none, --cycle LOW:HIGH:S for each cycle",
        ),
        (
            ["x.csv", "--aim", "best"],
            2,
            "Invalid value for '--aim': 'best' is not one of 'quick', 'even', 'gentle'; "
            "see 'omphalon heater fit --help'",
        ),
        (
            ["x.csv", "--plot", "x.pdf"],
            2,
            "--plot x.pdf: not a kind of figure; end the name in .png or .svg",
        ),
        (
            ["x.csv", "--plot", "no/x.png"],
            2,
            "--plot no/x.png: the folder is not there; make it first, or choose another",
        ),
        (
            ["x.csv", "--kp", "3"],
            2,
            "present gains: --kp is neither form; give --kp --ki --kd, or --kp --ti --td",
        ),
        (
            ["x.csv", "--column", "T1"],
            2,
            "--column T1: not of the form NAME=HEADER; for example --column temperature=T1",
        ),
        (
            ["good.csv", "--column", "warmth=T1"],
            2,
            "--column warmth=…: no such quantity; use one of time, temperature, target, power, fan, flow",
        ),
        (
            ["good.csv", "--column", "power=T1"],
            2,
            "good.csv: no column 'T1'; the header has: time_s, temperature_c, target_c, power",
        ),
        (
            ["x.csv", "--dialect", "none.toml"],
            1,
            "none.toml: No such file or directory; give a TOML text file of templates",
        ),
        (
            ["x.csv", "--dialect", "bad.toml"],
            1,
            "bad.toml: unknown setting 'gains'; it may have " + ", ".join(SETTINGS),
        ),
        (
            ["x.csv", "--full-power", "0"],
            2,
            "--full-power 0: cannot be: a number for full power here is more than 0 to 1e+06 (1, 100 "
            "and 255 are usual); check the number and its unit",
        ),
    ],
)
def test_a_wrong_command_gets_one_clear_sentence(words, code, line, run, tmp_path):
    (tmp_path / "good.csv").write_text(cycling(8))
    (tmp_path / "bad.toml").write_text("[lines]\ngains = 'x'\n")
    done = run("heater", "fit", *words)
    assert (done.returncode, done.stderr, done.stdout) == (code, f"omphalon: {line}\n", "")


@pytest.mark.parametrize(
    "words, line",
    [
        (
            ["--target", "900"],
            "--target 900: not a hotend's temperature; give one from 35 to 500 °C, the one you print at "
            "(°F? write °C: (°F − 32) ÷ 1.8)",
        ),
        (
            ["--cycles", "1"],
            "--cycles 1: cannot be: a count here is 3 to 30; check the number and its unit",
        ),
    ],
)
def test_a_plan_that_makes_no_sense(words, line, run):
    done = run("heater", "plan", *words)
    assert (done.returncode, done.stderr, done.stdout) == (2, f"omphalon: {line}\n", "")


def test_no_permission(program, sample, tmp_path_factory):
    """Also as root: the program gives its rights away before it opens the file."""
    with tempfile.TemporaryDirectory(dir="/tmp") as folder:
        os.chmod(folder, 0o755)
        log = Path(folder) / "secret.csv"
        log.write_text(cycling(8))
        log.chmod(0)
        aside = tmp_path_factory.mktemp("output")
        drop = str(sample("hotend-oscillation.csv"))
        done = program.run(["heater", "fit", "secret.csv"], folder, aside, drop=drop)
    words = "secret.csv: no permission to read it; allow reading, or copy the file"
    assert (done.returncode, done.stderr) == (1, f"omphalon: {words}\n")


@pytest.mark.parametrize("kind", ["bytes", "text", "below a header"])
def test_two_hundred_megabytes_of_noise(kind, run, tmp_path):
    chunk = np.random.default_rng(2).integers(
        0 if kind == "bytes" else 33, 256 if kind == "bytes" else 126, 10**6, dtype=np.uint8
    )
    if kind != "bytes":
        chunk[np.isin(chunk, [ord(","), ord(";")])] = ord(".")
        chunk[99::100] = 10
    with open(tmp_path / "noise.csv", "wb") as file:
        file.write(HEAD.encode() if kind == "below a header" else b"")
        for _ in range(200):
            file.write(chunk.tobytes())
    done = run("heater", "fit", "noise.csv")
    says = {
        "bytes": "a binary file, not a text log",
        "text": "row 1: no header and no report lines",
        "below a header": "larger than 30 MB; cut out the part that holds the test and give that",
    }[kind]
    assert done.returncode == 1 and done.stderr.count("\n") == 1
    assert done.stderr.startswith(f"omphalon: noise.csv: {says}")
    os.remove(tmp_path / "noise.csv")
