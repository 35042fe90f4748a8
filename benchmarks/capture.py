"""A day of capturing, 10 reports a second: memory, reports lost, CPU; and CPU at real pace.

    python benchmarks/capture.py [HOURS] [SECONDS]

The day is handed to the capture as bytes, its clock with them; what it writes goes to a file. The
real pace is the program against the stand-in printer, asked for a report every 0.1 s.
"""

from __future__ import annotations

import os
import re
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from omphalon.lines.dialect import load_dialect
from omphalon.printer.capture import capture, new_log
from omphalon.printer.course import Watching
from omphalon.printer.link import Link
from omphalon.tables.heaters import HOTEND

EVERY_S = 0.1


class Day:
    """A wire on which reports come by themselves, one every 0.1 s of its own clock, cut anyhow."""

    def __init__(self) -> None:
        self.count, self.rest = 0, b""

    @property
    def now(self) -> float:
        return self.count * EVERY_S

    def read(self) -> bytes:
        self.count += 1
        line = (
            f"T:{210 + self.count % 7 * 0.05:.2f} /210.00 B:60.00 /60.00 @:{self.count % 64} B@:9\n"
        )
        data = self.rest + line.encode()
        cut = len(data) - self.count % 11
        self.rest = data[cut:]
        return data[:cut]

    def write(self, data: bytes) -> None:
        return None

    def close(self) -> None:
        return None


def rows_in(path: str) -> int:
    """Reports in a log."""
    return sum(1 for line in Path(path).read_text().splitlines() if line[0].isdigit())


def rss_mb() -> float:
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 1e6


def a_day(hours: float) -> None:
    """One simulated stretch; prints its row."""
    day = Day()
    link = Link(day, load_dialect("default"), lambda: day.now)
    link.reporting = True
    memory: list[float] = []
    first_hour = 3600 / EVERY_S

    def look(status: object) -> None:
        if day.count in (int(first_hour), int(hours * first_hour) - 100):
            memory.append(rss_mb())

    begun = time.process_time()
    with tempfile.TemporaryDirectory() as folder:
        path = str(Path(folder) / "log.csv")
        with new_log(path, []) as log:
            done = capture(link, Watching([], hours * 3600 - 1, HOTEND), HOTEND, log, look)
        rows = rows_in(path)
    spent = time.process_time() - begun
    share = spent / (hours * 3600)
    print(
        f"| {hours:g} simulated hours | {done.reports} | {day.count - done.reports - 1} | "
        f"{done.reports - rows} | {memory[0]:.1f} → {memory[-1]:.1f} | {share:.2%} |"
    )


def real_pace(seconds: float) -> None:
    """The program at real pace; prints its row."""
    with tempfile.TemporaryDirectory() as folder:
        env = {**os.environ, "XDG_STATE_HOME": folder, "PYTHONUNBUFFERED": "1"}
        program = [sys.executable, "-m", "omphalon", "printer"]
        with subprocess.Popen(
            [*program, "stand-in", "--tcp", "0"], stdout=subprocess.PIPE, text=True, env=env
        ) as fulmar:
            assert fulmar.stdout is not None
            port = re.search(r"socket\S+", fulmar.stdout.readline())
            assert port is not None
            words = ["capture", "--port", port[0], "--out", "log.csv", "--every", "0.1", "--quiet"]

            def spent(length: float) -> tuple[float, int]:
                before = resource.getrusage(resource.RUSAGE_CHILDREN)
                subprocess.run(
                    [*program, *words, "--for", str(length)],
                    cwd=folder,
                    env=env,
                    check=True,
                    stdout=subprocess.DEVNULL,
                )
                after = resource.getrusage(resource.RUSAGE_CHILDREN)
                rows = rows_in(f"{folder}/log.csv")
                return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime, rows

            start, _ = spent(1)
            whole, rows = spent(seconds)
            fulmar.terminate()
    share = (whole - start) / (seconds - 1)
    print(f"| {seconds:g} s at real pace | {rows} | – | – | – | {share:.2%} |")


def main() -> None:
    hours = float(sys.argv[1]) if len(sys.argv) > 1 else 24.0
    seconds = float(sys.argv[2]) if len(sys.argv) > 2 else 30.0
    print(
        "| what | reports | lost on the way | not in the file "
        "| memory after 1 h → end, MB | CPU of one core |"
    )
    print("| --- | --- | --- | --- | --- | --- |")
    a_day(hours)
    real_pace(seconds)


if __name__ == "__main__":
    main()
