"""A bench with a long journal: what it costs to show it, to ask what is next, to add to it, and to
make its page; ratios in one run.

    python benchmarks/bench.py [ENTRIES]
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from omphalon.bench.bench import make
from omphalon.bench.settings import KINDS, Taken
from omphalon.report.page import page_of

ROUNDS = 7
FIGURE = b"<svg xmlns='http://www.w3.org/2000/svg'>" + b"<!-- as large as one of ours -->" * 3000


def seconds(words: list[str]) -> float:
    start = time.perf_counter()
    subprocess.run([sys.executable, *words], check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - start


def appended(bench, count: int) -> float:
    """Median seconds of one more entry."""
    spent = []
    for n in range(count):
        start = time.perf_counter()
        bench.journal.append("part", "belt", {"note": str(n)})
        spent.append(time.perf_counter() - start)
    return statistics.median(spent)


def main() -> None:
    entries = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    with tempfile.TemporaryDirectory() as folder:
        bench = make(Path(folder) / "b")
        empty = appended(bench, 20)
        settings = [
            (Taken(key=k, value=dict.fromkeys(KINDS[k].fields, 1.0), spread={}), None)
            for k in ("steps-e", "steps-x", "hotend-gains", "acceleration")
        ]
        document = {
            "kind": "flow-fit",
            "verdict": "keep",
            "because": "made up " * 20,
            "settings": {},
            "evidence": {"numbers": [0.5] * 150},
            "lines": [],
            "warnings": [],
        }
        body = {"document": document, "command": [], "inputs": [], "figure": None}
        bench.journal.append_all([("finding", "flow-fit", body, None)] * (entries // 2))
        for _ in range(entries // 8):
            bench.journal.append_all(
                [
                    ("setting", t.key, {"value": t.value, "spread": {}, "how": "adopted"}, None)
                    for t, _ in settings
                ]
            )
        full = appended(bench, 20)
        print(f"{'process':34}{'ratio to import click':>24}{'limit':>8}")
        for verb in ("show", "next"):
            words = ["-m", "omphalon", "bench", verb, "--bench", str(bench.place)]
            ratios = [seconds(words) / seconds(["-c", "import click"]) for _ in range(ROUNDS)]
            told = f"bench {verb}, {entries} entries"
            print(f"{told:34}{statistics.median(ratios):24.2f}{3.0:8.1f}")
        print(
            f"one more entry: {1000 * empty:.1f} ms in an empty journal, {1000 * full:.1f} ms now"
        )
        (bench.place / "figures" / "f.svg").write_bytes(FIGURE)
        for _ in range(50):
            bench.journal.append("finding", "flow-fit", {**body, "figure": "f.svg"})
        start = time.perf_counter()
        page = page_of(bench)
        spent = time.perf_counter() - start
        print(f"page with 50 findings: {spent:.2f} s, {len(page) / 1e6:.1f} MB")


if __name__ == "__main__":
    main()
