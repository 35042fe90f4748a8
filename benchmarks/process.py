"""Whole processes, side by side in one run: time against a bare import, and memory at the most.

python benchmarks/process.py [ROUNDS]
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from omphalon.standin.frame import Sensor, Sweep, Swing, sweep_log
from omphalon.standin.frame import as_csv as as_motion_csv
from omphalon.standin.oscillation import Test, as_csv, oscillation_log
from omphalon.standin.samples import FULMAR_HOTEND

PYTHON = sys.executable
FRAME = (Swing(42.0, 0.05, 0.8), Swing(70.0, 0.04, 0.2))
SMALL, FITTING = "import numpy, scipy.special", "import numpy, scipy.optimize"
READING = (
    "import numpy, scipy.optimize, scipy.signal; "
    "numpy.loadtxt('sweep.csv', delimiter=',', skiprows=1)"
)
CORNERS = "advance plan --style corners --to 0.53 --step 0.01 --bed 300:300 --layers 12"
# what, its command, what it is compared with, at most how many times that (None: no limit is set)
CASES: tuple[tuple[str, str, str, float | None], ...] = (
    ("omphalon --help", "--help", "import click", 1.6),
    ("extruder fit", "extruder fit --steps 412 --asked 80 --fed 75.4 --fed 75.6", SMALL, 1.8),
    (
        "axis fit",
        "axis fit --axis x --steps 80 --asked 50 --moved 50.1 --asked 150 --moved 150.3",
        SMALL,
        1.8,
    ),
    (
        "flow fit",
        "flow fit --flow 1 --expected 0.45 --wall 0.47 --wall 0.48 --wall 0.47",
        SMALL,
        1.8,
    ),
    ("motion fit", "motion fit --axis x --pass 100 --fail 200", SMALL, 1.8),
    ("probe fit", "probe fit --offset 0 --drag 0.2 --drag 0.21 --drag 0.2", SMALL, 1.8),
    ("advance plan, a full bed", f"{CORNERS} --dialect stand-in --out print.gcode", SMALL, None),
    ("advance fit", "advance fit --from 0 --per-mm 0.002 --height 20 --height 21", SMALL, None),
    ("shaper fit, 416 000 rows", "shaper fit --x sweep.csv", READING, 2.0),
    ("heater fit, 20 min at 1 s", "heater fit log.csv", FITTING, 2.5),
)


def twenty_minutes() -> str:
    """A log of 1200 rows, one a second."""
    log = oscillation_log(
        FULMAR_HOTEND, Test(target_c=235.0, cycles=200, report_s=1.0, seed=3, most_s=1203.0)
    )
    return "\n".join(as_csv(log)) + "\n"


# a small parent, so that a child's most memory is its own and not what it was forked from
LAUNCHER = """
import os, sys, time
start = time.perf_counter()
child = os.fork()
if child == 0:
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    os.execv(sys.argv[1], sys.argv[1:])
_, status, usage = os.wait4(child, 0)
print(time.perf_counter() - start, usage.ru_maxrss / 1024, os.waitstatus_to_exitcode(status))
"""


def spent(arguments: list[str], folder: str) -> tuple[float, float]:
    """Seconds and the most MB of one process."""
    launched = subprocess.run(
        [PYTHON, "-S", "-c", LAUNCHER, PYTHON, *arguments],
        cwd=folder,
        capture_output=True,
        text=True,
        check=True,
    )
    seconds, memory, code = launched.stdout.split()
    if code not in ("0", "3"):
        raise SystemExit(f"{arguments} failed: {launched.stderr}")
    return float(seconds), float(memory)


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
                (
                    spent(["-m", "omphalon", *command.split()], folder),
                    spent(["-c", against], folder),
                )
                for _ in range(rounds)
            ]
            ratio = statistics.median(mine[0] / other[0] for mine, other in pairs)
            mine, other = (statistics.median(p[n][0] for p in pairs) for n in (0, 1))
            memory = max(p[0][1] for p in pairs)
            print(
                f"{name:28}{mine:8.2f}s{against[:31]:>32}{other:8.2f}s{ratio:8.2f}{limit or '–':>7}"
                f"{memory:6.0f} MB"
            )


if __name__ == "__main__":
    main()
