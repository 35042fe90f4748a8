"""Many printers: odd ones found, cores kept busy, a cluster beside one machine, and kills.

python benchmarks/farm.py [others] [jobs [COUNT]] [kills [COUNT]]
"""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import defaultdict
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from omphalon import __version__
from omphalon.cli.farm.group import answered, studies, warm
from omphalon.farm.cluster import Scheduler, run_there
from omphalon.farm.compare import compare_farms
from omphalon.farm.jobs import jobs_of
from omphalon.farm.manifest import read_manifest
from omphalon.farm.store import JobAnswer, Store, run_farm
from omphalon.farm.workers import run_here
from omphalon.standin.frame import Sensor, Sweep, Swing, sweep_log
from omphalon.standin.frame import as_csv as motion_csv
from omphalon.standin.oscillation import Test, as_csv, oscillation_log
from omphalon.standin.samples import FULMAR_HOTEND

PRINTERS, FARMS = 40, 200
NORMAL_95 = 1.959964
HEAD = (
    *("printer", "model", "study", "log", "axis", "target", "steps", "asked", "mark", "left"),
    *("flow", "expected", "wall"),
)


# --- who is odd: farms of made-up answers with known odd ones

# study, its setting, what is usual, how much printers differ (share), how well each is known to
# that (drawn between)
NUMBERS = (
    ("extruder", "steps_per_mm", 412.0, 0.006, (0.5, 1.5)),
    ("flow", "flow", 0.96, 0.02, (0.3, 1.0)),
    ("probe", "offset_mm", -1.8, 0.05, (0.1, 0.5)),
)


def made_farm(draw: np.random.Generator, odd: int, size: float) -> tuple[list[JobAnswer], set[str]]:
    """Answers of PRINTERS printers; `odd` of them lie `size` of the other printers' 95 % half
    widths off, each in one number.
    """
    who = draw.choice(PRINTERS, odd, replace=False)
    in_which = draw.integers(0, len(NUMBERS), odd)
    out = []
    for number, (study, name, usual, share, known) in enumerate(NUMBERS):
        spread = abs(usual) * share
        own = spread * draw.uniform(*known, PRINTERS)
        value = usual + draw.normal(0, spread, PRINTERS)
        for printer in who[in_which == number]:
            away = size * NORMAL_95 * float(np.hypot(spread, own[printer]))
            value[printer] += away * draw.choice([-1, 1])
        seen = value + draw.normal(0, own)
        for n in range(PRINTERS):
            document = {
                "kind": f"{study}-fit",
                "verdict": "change",
                "settings": {name: seen[n]},
                "spread": {name: NORMAL_95 * own[n]},
                "evidence": {"best": {name: seen[n]}},
            }
            out.append(
                JobAnswer(
                    printer=f"P{n}", model="", study=study, log="", answer="", document=document
                )
            )
    return out, {f"P{n}" for n in who}


def others_table() -> None:
    print(f"{FARMS} farms of {PRINTERS} printers, {len(NUMBERS)} numbers each")
    print("odd   off by    found   false of named   mean share   farms with a false one")
    print("      (95 %)            (all together)   of false")
    everything = []
    for size in (1.5, 2.0, 3.0):
        for odd in (0, 1, 4):
            draw = np.random.default_rng([odd, round(10 * size)])
            rows = []
            for _ in range(FARMS):
                results, truly = made_farm(draw, odd, size)
                found = {p.measured.printer for _, p in compare_farms(results).odd}
                rows.append((len(found & truly), len(found - truly), len(found)))
            right, wrong, said = np.array(rows).T
            share = f"{right.sum() / (odd * FARMS):.1%}" if odd else "–"
            print(
                f"{odd:3}   {size:6.1f}   {share:>6}   {wrong.sum() / max(said.sum(), 1):14.1%}"
                f"   {np.mean(wrong / np.maximum(said, 1)):10.1%}   {np.mean(wrong > 0):.1%}",
                flush=True,
            )
            if size == 3.0:
                everything.append((right.sum(), wrong.sum(), odd * FARMS))
    right, wrong, there = np.sum(everything, axis=0)
    print(f"all of size 3: found {right / there:.1%}, false {wrong / (right + wrong):.1%} of named")


# --- jobs: cores, memory, a cluster


def made_manifest(folder: Path, count: int) -> Path:
    """A tenth heaters, a fifth shapers, the rest readings in the cells."""
    draw = np.random.default_rng(count)
    rows = [",".join(HEAD)]
    for n in range(count):
        row = dict.fromkeys(HEAD, "")
        row |= {"printer": f"P{n:04}", "model": "m"}
        if n % 10 == 0:
            test = Test(target_c=205.0 + n % 7 * 5, cycles=6, report_s=1.0, seed=n)
            lines = as_csv(oscillation_log(FULMAR_HOTEND, test))
            row |= {"study": "heater", "log": f"{n}.csv"}
        elif n % 10 in (3, 7):
            sweep = Sweep(low_hz=6, high_hz=115, rate_hz_s=2.5, drive_mm_s2=2500.0)
            swings = (Swing(float(draw.uniform(30, 60)), 0.06, 1.0),)
            lines = motion_csv(sweep_log(swings, sweep, Sensor(rate_hz=1000.0, seed=n)), "g")
            row |= {"study": "shaper", "log": f"{n}.csv", "axis": "x"}
        elif n % 2:
            left = " ".join(f"{x:.2f}" for x in draw.normal(21, 0.3, 4))
            row |= {"study": "extruder", "steps": "412", "asked": "100", "mark": "120"}
            row |= {"left": left}
        else:
            walls = " ".join(f"{x:.2f}" for x in draw.normal(0.46, 0.01, 8))
            row |= {"study": "flow", "flow": "1", "expected": "0.45", "wall": walls}
        if row["log"]:
            (folder / row["log"]).write_text("\n".join(lines) + "\n")
        rows.append(",".join(row.values()))
    (folder / "farm.csv").write_text("\n".join(rows) + "\n")
    return folder / "farm.csv"


class Memory:
    """The most memory of this process's children, looked at now and then."""

    def __enter__(self):
        self.seen: list[tuple[float, float]] = []
        self.going = True
        self.thread = threading.Thread(target=self.look, daemon=True)
        self.thread.start()
        return self

    def look(self):
        while self.going:
            sizes = [resident(pid) for pid in children(os.getpid())]
            self.seen.append((time.monotonic(), max(sizes, default=0.0)))
            time.sleep(1.0)

    def __exit__(self, *_):
        self.going = False
        self.thread.join()

    def third(self, which: int) -> float:
        """The most in the first (0), second or last (2) third of the time."""
        size = max(len(self.seen) // 3, 1)
        part = self.seen[which * size : (which + 1) * size] or self.seen[-1:]
        return max(mb for _, mb in part)


def children(pid: int) -> list[int]:
    found = subprocess.run(["pgrep", "-P", str(pid)], capture_output=True, text=True).stdout
    return [int(one) for one in found.split()]


def resident(pid: int) -> float:
    try:
        return int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * 4096 / 1e6
    except (OSError, IndexError):
        return 0.0


def planned_of(manifest: Path):
    known = studies()
    return list(jobs_of(read_manifest(str(manifest), known), known, __version__))


def timed(planned, place: Path, running):
    """A run into a fresh folder."""
    shutil.rmtree(place, ignore_errors=True)
    store = Store(str(place))
    store.open(__version__)
    return run_farm(store, planned, running, lambda done, whole: None)


def here(workers: int):
    return lambda jobs: run_here(jobs, answered, warm, workers, 600.0)


def loop_time(planned) -> tuple[float, dict[str, float]]:
    """What a shell loop over the single commands would take: some of each study, timed."""
    of = defaultdict(list)
    for job in planned:
        of[job.row.study].append(job)
    each = {}
    for study, jobs in of.items():
        some = random.Random(1).sample(jobs, min(4, len(jobs)))
        began = time.monotonic()
        for job in some:
            words = job.command_here()
            subprocess.run(
                [sys.executable, "-m", "omphalon", *words[:2], "--json", *words[2:]],
                capture_output=True,
            )
        each[study] = (time.monotonic() - began) / len(some)
    return sum(each[job.row.study] for job in planned), each


@contextmanager
def cluster(workers: int):
    """A scheduler and workers in processes of their own; the scheduler's address."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "scheduler.json"
        parts = [started_scheduler(file)]
        address = json.loads(file.read_text())["address"]
        parts += [started_worker(address) for _ in range(workers)]
        try:
            yield address, parts
        finally:
            for part in parts:
                part.kill()
                part.wait()


def started_scheduler(file: Path) -> subprocess.Popen:
    words = ["scheduler", "--port", "0", "--no-dashboard", "--scheduler-file", str(file)]
    part = dask(*words)
    while not file.exists() or not file.read_text().strip():
        time.sleep(0.1)
    return part


def started_worker(address: str) -> subprocess.Popen:
    return dask("worker", address, "--nthreads", "1", "--no-dashboard", "--no-nanny")


def dask(*words: str) -> subprocess.Popen:
    """With one thread for linear algebra, as our own workers have."""
    return subprocess.Popen(
        [sys.executable, "-m", "dask", *words],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env={**os.environ, "OPENBLAS_NUM_THREADS": "1"},
    )


def nothing(words: list[str]) -> dict[str, object]:
    """A job that does nothing: what is left is the cost of handing it over."""
    return {"kind": words[0]}


def jobs_table(count: int) -> None:
    os.environ["OPENBLAS_NUM_THREADS"] = "1"
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        planned = planned_of(made_manifest(folder, count))
        moved = sum(path.stat().st_size for job in planned for path in job.inputs)
        with Memory() as memory:
            two = timed(planned, folder / "two", here(2))
        print(
            f"{count} jobs, 2 workers: {two.wall_s:.0f} s, busy {two.busy_s / two.wall_s / 2:.2f}"
        )
        told = [f"{memory.third(n):.0f}" for n in range(3)]
        print(f"memory of the largest worker, first, second, last third: {', '.join(told)} MB")
        loop, each = loop_time(planned)
        costs = ", ".join(f"{study} {cost:.2f} s" for study, cost in each.items())
        print(f"a shell loop: {loop:.0f} s, {loop / two.wall_s:.1f} times as long ({costs} each)")
        some = planned[: min(count, 300)]
        walls = {}
        for label, running in (("1 worker", here(1)), ("2 workers", here(2))):
            walls[label] = timed(some, folder / "some", running).wall_s
        with cluster(2) as (address, _):
            place = Scheduler(address=address)
            there = lambda jobs: run_there(jobs, answered, place, 600.0)  # noqa: E731
            timed(some[:20], folder / "warm", there)  # as ours are warm before they are counted
            walls["cluster of 2"] = timed(some, folder / "there", there).wall_s
            free = timed(some, folder / "free", lambda j: run_there(j, nothing, place, 600.0))
        same = {p.name: p.read_bytes() for p in (folder / "some" / "answers").iterdir()}
        other = {p.name: p.read_bytes() for p in (folder / "there" / "answers").iterdir()}
        print(f"{len(some)} jobs: " + ", ".join(f"{k} {v:.1f} s" for k, v in walls.items()))
        print(
            f"  speed-up 1 to 2: {walls['1 worker'] / walls['2 workers']:.2f}; cluster to here: "
            f"{walls['cluster of 2'] / walls['2 workers']:.2f}; answers alike: {same == other}"
        )
        per_job, over = walls["1 worker"] / len(some), free.wall_s / len(some)
        print(
            f"  a job costs {1000 * per_job:.0f} ms of a worker; handing over one, its files "
            f"({moved / count / 1e3:.0f} kB) and its answer {1000 * over:.1f} ms of this machine: "
            f"{per_job / over:.0f} workers keep it busy, more would wait"
        )


# --- kills


def kills_table(count: int) -> None:
    """Runs that lose themselves, a worker or the scheduler at random; each is run again after."""
    rng, rows = random.Random(7), defaultdict(lambda: [0, 0, 0, 0])
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        manifest = made_manifest(folder, 60)
        jobs = len(planned_of(manifest))
        run_to_its_end(manifest, folder / "sound")
        sound = contents(folder / "sound")
        for number in range(count):
            what = ("the run", "a worker", "the scheduler")[number % 3]
            place = folder / "cut"
            shutil.rmtree(place, ignore_errors=True)
            kept, done = killed(what, manifest, place, rng)
            after = contents(place)
            row = rows[what]
            row[0] += 1
            row[1] += all(after.get(path) == text for path, text in kept.items())
            row[2] += after == sound
            row[3] += len(kept)
            print(f"  {what}: {len(kept)} of {jobs} kept; {done}", flush=True)
    print("killed          times   kept answers   same results   kept on")
    print("                        untouched      in the end     average")
    for what, (times, untouched, same, kept) in rows.items():
        print(f"{what:15} {times:5}   {untouched:9}   {same:12}   {kept / times:10.1f}")


def killed(what: str, manifest: Path, place: Path, rng: random.Random):
    """One run that is hit after some answers, then run again: the answers it had, how it went."""
    least = rng.randint(1, 40)
    if what == "the scheduler":
        with cluster(2) as (address, parts):
            process = started(manifest, place, "--scheduler", address)
            wait_for(place, least, process)
            parts[0].kill()
            code, told = ended(process)
            kept = contents(place, "answers/*.json")
    else:
        process = started(manifest, place)
        wait_for(place, least, process)
        victims = children(process.pid)
        if what == "a worker" and victims:
            victim(victims).kill()
            kept = contents(place, "answers/*.json")
        else:
            process.kill()
        code, told = ended(process)
        if what == "the run":
            kept = contents(place, "answers/*.json")
    run_to_its_end(manifest, place)
    return kept, f"exit {code} {told}"


class Victim:
    def __init__(self, pid: int) -> None:
        self.pid = pid

    def kill(self) -> None:
        os.kill(self.pid, signal.SIGKILL)


def victim(pids: list[int]) -> Victim:
    """The largest child: a worker, not the helper that keeps count of resources."""
    return Victim(max(pids, key=resident))


def started(manifest: Path, place: Path, *more: str) -> subprocess.Popen:
    return subprocess.Popen(
        [
            sys.executable,
            "-m",
            "omphalon",
            "farm",
            "fit",
            str(manifest),
            "--out",
            str(place),
            *more,
        ],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
    )


def ended(process: subprocess.Popen) -> tuple[int, str]:
    _, err = process.communicate(timeout=300)
    return process.returncode, (err.strip().splitlines() or [""])[-1]


def wait_for(place: Path, least: int, process: subprocess.Popen) -> None:
    while len(list(place.glob("answers/*.json"))) < least and process.poll() is None:
        time.sleep(0.02)


def run_to_its_end(manifest: Path, place: Path) -> None:
    ended(started(manifest, place))


def contents(place: Path, pattern: str = "*") -> dict[str, bytes]:
    """Results and answers, by their names."""
    paths = [place / "results.csv", *place.glob("answers/*.json")] if pattern == "*" else None
    found = paths if paths is not None else list(place.glob(pattern))
    return {str(p.relative_to(place)): p.read_bytes() for p in found if p.exists()}


def main() -> None:
    words = sys.argv[1:]
    numbers = [int(w) for w in words if w.isdigit()]
    if not words or "others" in words:
        others_table()
    if not words or "jobs" in words:
        jobs_table(numbers[0] if numbers else 1000)
    if not words or "kills" in words:
        kills_table(numbers[-1] if numbers else 30)


if __name__ == "__main__":
    main()
