"""Heaters off on a wire that loses one line in ten: runs at the stand-in, each ended at a random
moment.

    python benchmarks/wire.py [RUNS] [AT ONCE]

A run heats up and holds, or lets the controller test, or sends a line that waits; it is ended by
Ctrl-C, SIGTERM, SIGKILL or a stop. What counts is the stand-in's own front: is the heater off, and
how long after. A stand-in loses other lines in each run.
"""

from __future__ import annotations

import concurrent.futures
import contextlib
import os
import random
import re
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

PACE = 20.0
WAYS = {"Ctrl-C": signal.SIGINT, "SIGTERM": signal.SIGTERM, "SIGKILL": signal.SIGKILL}
WAYS |= {"stopped": signal.SIGSTOP}
HEATS = (
    ("capture", "--run", "hold", "--target", "235", "--yes", "--quiet", "--warm"),
    ("capture", "--run", "oscillation", "--target", "235", "--yes", "--quiet", "--warm"),
    ("send", "--line", "M140 S60", "--line", "M109 S235", "--line", "G4 S600"),
)
GIVEN_UP_S = 150.0


def stand_in(seed: int) -> None:
    """A stand-in that loses lines, until it is ended; its front is standard output."""
    from omphalon.standin.kept import copied
    from omphalon.standin.machine import Machine
    from omphalon.standin.samples import FULMAR_FOUND
    from omphalon.standin.serve import Faulty, Tcp, serve

    machine = Machine(copied(FULMAR_FOUND), lambda kept: None, lambda line, kept: None)
    wire = Tcp(0)
    print(wire.name, flush=True)
    faulty = Faulty(machine, ["lost-lines"], 0.0, seed)
    for _ in serve(wire, faulty, PACE, lambda time_s, words: print(words, flush=True)):
        pass


def hot(front: Path) -> set[str]:
    """The heaters that are on, by the stand-in's front."""
    last = dict(re.findall(r"^(hotend|bed) (off|[\d.]+)$", front.read_text(), re.M))
    return {name for name, target in last.items() if target != "off"}


def one_run(seed: int) -> tuple[str, bool, float, int | None]:
    """How it was ended, whether all heaters went off, after how long, and the exit code."""
    chance = random.Random(seed)
    way, heats = chance.choice(list(WAYS)), chance.choice(HEATS)
    with tempfile.TemporaryDirectory() as folder:
        front = Path(folder) / "front.txt"
        with (
            open(front, "wb") as out,
            subprocess.Popen(
                [sys.executable, __file__, "stand-in", str(seed)], stdout=out
            ) as fulmar,
        ):
            while not front.read_text().count("\n"):
                time.sleep(0.02)
            port = front.read_text().split()[0]
            words = [*heats, *(["--out", "log.csv"] if heats[0] == "capture" else [])]
            command = subprocess.Popen(
                [sys.executable, "-m", "omphalon", "printer", *words, "--port", port],
                cwd=folder,
                env={**os.environ, "OMPHALON_STATE": folder, "OPENBLAS_NUM_THREADS": "1"},
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                stdin=subprocess.DEVNULL,
            )
            begun = time.monotonic()
            while not hot(front) and command.poll() is None and time.monotonic() < begun + 60:
                time.sleep(0.02)
            time.sleep(chance.uniform(0, 10))
            ended = time.monotonic()
            command.send_signal(WAYS[way])
            while hot(front) and time.monotonic() < ended + GIVEN_UP_S:
                time.sleep(0.02)
            took = time.monotonic() - ended
            with contextlib.suppress(subprocess.TimeoutExpired):
                command.wait(0.1 if way == "stopped" else GIVEN_UP_S)
            time.sleep(1.0)
            off = not hot(front)
            for process in (command, fulmar):
                process.kill()
            command.wait()
    return way, off, took, command.returncode


def main() -> None:
    if sys.argv[1:2] == ["stand-in"]:
        stand_in(int(sys.argv[2]))
        return
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    at_once = int(sys.argv[2]) if len(sys.argv) > 2 else 6
    with concurrent.futures.ThreadPoolExecutor(at_once) as pool:
        found = list(pool.map(one_run, range(runs)))
    print("| ended by | runs | off | seconds until off: median, 95th, longest | exit codes |")
    print("| --- | --- | --- | --- | --- |")
    for way in (*WAYS, "all"):
        rows = [row for row in found if way in (row[0], "all")]
        times = sorted(row[2] for row in rows)
        if not rows:
            continue
        codes = Counter(row[3] for row in rows)
        told = ", ".join(f"{code}: {n}" for code, n in codes.most_common()) if way != "all" else ""
        print(
            f"| {way} | {len(rows)} | {sum(row[1] for row in rows)} | "
            f"{statistics.median(times):.1f}, {times[int(0.95 * (len(times) - 1))]:.1f}, "
            f"{times[-1]:.1f} | {told} |",
            flush=True,
        )


if __name__ == "__main__":
    main()
