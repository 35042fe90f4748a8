"""Whole processes, side by side in one run: time against a bare import, and memory at the most.

python benchmarks/process.py [ROUNDS]
"""

from __future__ import annotations

import os
import statistics
import sys
import tempfile
import time
from pathlib import Path

from omphalon.standin.frame import Sensor, Sweep, Swing, sweep_log
from omphalon.standin.frame import as_csv as as_motion_csv
from omphalon.standin.oscillation import Test, as_csv, oscillation_log
from omphalon.standin.samples import FULMAR_HOTEND

PYTHON = sys.executable
FRAME = (Swing(42.0, 0.05, 0.8), Swing(70.0, 0.04, 0.2))
# what, its command, what it is compared with, at most how many times that
CASES = (
    ("omphalon --help", ["-m", "omphalon", "--help"], "import click", 2.0),
    (
        "extruder fit",
        ["-m", "omphalon", "extruder", "fit", "--steps", "412", "--asked", "80", "--fed", "75.4"],
        "import numpy",
        2.5,
    ),
    (
        "axis fit",
        [
            "-m",
            "omphalon",
            "axis",
            "fit",
            "--axis",
            "x",
            "--steps",
            "80",
            "--asked",
            "50",
            "--moved",
            "50.1",
            "--asked",
            "150",
            "--moved",
            "150.3",
        ],
        "import numpy",
        2.5,
    ),
    (
        "flow fit",
        [
            "-m",
            "omphalon",
            "flow",
            "fit",
            "--flow",
            "1",
            "--expected",
            "0.45",
            "--wall",
            "0.47",
            "--wall",
            "0.48",
            "--wall",
            "0.47",
        ],
        "import numpy",
        2.5,
    ),
    (
        "motion fit",
        ["-m", "omphalon", "motion", "fit", "--axis", "x", "--pass", "100", "--fail", "200"],
        "import numpy",
        2.5,
    ),
    (
        "probe fit",
        ["-m", "omphalon", "probe", "fit", "--offset", "0", "--drag", "0.2", "--drag", "0.21"],
        "import numpy",
        2.5,
    ),
    (
        "advance plan, a full bed",
        [
            "-m",
            "omphalon",
            "advance",
            "plan",
            "--style",
            "corners",
            "--to",
            "0.53",
            "--step",
            "0.01",
            "--bed",
            "300:300",
            "--layers",
            "12",
            "--dialect",
            "stand-in",
            "--out",
            "print.gcode",
        ],
        "import numpy",
        3.0,
    ),
    (
        "advance fit",
        [
            "-m",
            "omphalon",
            "advance",
            "fit",
            "--from",
            "0",
            "--per-mm",
            "0.002",
            "--height",
            "20",
            "--height",
            "21",
        ],
        "import numpy",
        2.5,
    ),
    (
        "shaper fit, 416 000 rows",
        ["-m", "omphalon", "shaper", "fit", "--x", "sweep.csv"],
        "import numpy; numpy.loadtxt('sweep.csv', delimiter=',', skiprows=1)",
        3.0,
    ),
    (
        "heater fit, 20 min at 1 s",
        ["-m", "omphalon", "heater", "fit", "log.csv"],
        "import numpy, scipy.optimize",
        2.5,
    ),
)


def twenty_minutes() -> str:
    """A log of 1200 rows, one a second."""
    log = oscillation_log(
        FULMAR_HOTEND, Test(target_c=235.0, cycles=200, report_s=1.0, seed=3, most_s=1203.0)
    )
    return "\n".join(as_csv(log)) + "\n"


def spent(arguments: list[str], folder: str) -> tuple[float, float]:
    """Seconds and the most MB of one process."""
    start = time.perf_counter()
    child = os.fork()
    if child == 0:
        os.chdir(folder)
        hole = os.open(os.devnull, os.O_WRONLY)
        os.dup2(hole, 1)
        os.execv(PYTHON, [PYTHON, *arguments])
    _, status, usage = os.wait4(child, 0)
    if status:
        raise SystemExit(f"{arguments} failed")
    return time.perf_counter() - start, usage.ru_maxrss / 1024


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 9
    with tempfile.TemporaryDirectory() as folder:
        Path(folder, "log.csv").write_text(twenty_minutes())
        Path(folder, "sweep.csv").write_text(
            "\n".join(as_motion_csv(sweep_log(FRAME, Sweep(), Sensor()), "g")) + "\n"
        )
        print(
            f"{'process':28}{'time':>9}{'against':>32}{'time':>9}{'ratio':>8}{'limit':>7}"
            f"{'memory':>9}"
        )
        for name, command, against, limit in CASES:
            pairs = [
                (spent(command, folder), spent(["-c", against], folder)) for _ in range(rounds)
            ]
            ratio = statistics.median(mine[0] / other[0] for mine, other in pairs)
            mine, other = (statistics.median(p[n][0] for p in pairs) for n in (0, 1))
            memory = max(p[0][1] for p in pairs)
            print(
                f"{name:28}{mine:8.2f}s{against[:31]:>32}{other:8.2f}s{ratio:8.2f}{limit:7.1f}"
                f"{memory:6.0f} MB"
            )


if __name__ == "__main__":
    main()
