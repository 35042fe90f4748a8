"""Plan, print on the stand-in, read, fit, and once more finer: does the interval hold the truth,
does the search end close?

    python benchmarks/advance.py [VALUES]

Through the built program's own entry point. For each drive and each way of reading, so many true
values (direct 0.02 to 0.085 s, bowden 0.25 to 0.85 s), and present values 40 % off, give or take.
The reader's error is then doubled. "Noise heeded" counts `change` away from a present value that
was closer to the truth; "ends close" is within 0.005 s (direct) or 0.03 s (bowden) after two
rounds.
"""

from __future__ import annotations

import json
import os
import sys
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from eyes import corners_csv, tower_bulges_csv
from omphalon.cli import main as program
from omphalon.standin.bead import Nozzle
from omphalon.standin.reader import Reader, ladder_csv, tower_csv

RANGES = {"direct": (0.02, 0.085, 0.1), "bowden": (0.25, 0.85, 1.0)}
CLOSE_S = {"direct": 0.005, "bowden": 0.03}
# way of reading: style of the print, what the reader writes
WAYS: dict[str, tuple[str, Callable[[list[str], Nozzle, Reader], Iterator[str]]]] = {
    "tower, heights": ("tower", tower_csv),
    "tower, bulges": ("tower", tower_bulges_csv),
    "ladder, widths": ("ladder", ladder_csv),
    "ladder, scores": (
        "ladder",
        lambda lines, nozzle, reader: ladder_csv(lines, nozzle, reader, score=True),
    ),
    "corners, bulges": ("corners", corners_csv),
    "corners, scores": (
        "corners",
        lambda lines, nozzle, reader: corners_csv(lines, nozzle, reader, score=True),
    ),
}


@dataclass(frozen=True)
class Round:
    """One print and its answer: the document, the present value before it."""

    answer: dict
    present_s: float

    def best(self) -> float:
        return self.answer["evidence"]["best_s"]


def run(*words: str) -> dict:
    """The program with --json, in a child process."""
    with tempfile.TemporaryFile() as out:
        child = os.fork()
        if child == 0:
            os.dup2(out.fileno(), 1)
            sys.argv = ["omphalon", *words, "--json"]
            try:
                program()
            finally:
                sys.stdout.flush()
                os._exit(0)
        os.waitpid(child, 0)
        out.seek(0)
        return json.loads(out.read())


def searched(
    way: str, drive: str, truth: float, present: float, careless: float, seed: int
) -> list[Round]:
    """Two rounds at most: coarse, then what the first answer advised."""
    style, read = WAYS[way]
    span = {
        "from": 0.0,
        "to": RANGES[drive][2],
        "step": RANGES[drive][2] / (50 if style == "tower" else 20),
    }
    rounds: list[Round] = []
    with tempfile.TemporaryDirectory() as folder:
        print_file, readings = Path(folder) / "print.gcode", Path(folder) / "readings.csv"
        for n in range(2):
            limits = [w for name, value in span.items() for w in (f"--{name}", repr(value))]
            run(
                "advance",
                "plan",
                "--style",
                style,
                "--drive",
                drive,
                "--dialect",
                "stand-in",
                "--out",
                str(print_file),
                *limits,
            )
            lines = print_file.read_text(encoding="utf-8").splitlines()
            rows = read(lines, Nozzle(lead_s=truth), Reader(careless=careless, seed=2 * seed + n))
            readings.write_text("\n".join(rows) + "\n", encoding="utf-8")
            tower = [
                "--from",
                repr(span["from"]),
                "--per-mm",
                repr(span["step"]),
                "--to",
                repr(span["to"]),
            ]
            answer = run(
                "advance",
                "fit",
                str(readings),
                "--drive",
                drive,
                "--advance",
                repr(present),
                *(tower if style == "tower" else []),
            )
            rounds.append(Round(answer, present))
            if answer["verdict"] == "retest" or answer["evidence"]["refine"] is None:
                break
            present, span = answer["settings"]["advance_s"], answer["evidence"]["refine"]
    return rounds


def tally(way: str, drive: str, values: int, careless: float) -> tuple[int, int, int, int, float]:
    """How often the first interval held, how often a worse value was advised, ends close, retests;
    the median half width.
    """
    random = np.random.default_rng(5)
    held = worse = close = retest = 0
    halves = []
    for seed in range(values):
        truth = float(random.uniform(*RANGES[drive][:2]))
        rounds = searched(
            way, drive, truth, max(float(random.normal(truth, 0.4 * truth)), 0.0), careless, seed
        )
        first = rounds[0].answer
        retest += any(r.answer["verdict"] == "retest" for r in rounds)
        if first["verdict"] == "retest":
            continue
        halves.append(first["spread"]["advance_s"])
        held += abs(rounds[0].best() - truth) <= halves[-1]
        worse += any(
            r.answer["verdict"] == "change" and abs(r.best() - truth) > abs(r.present_s - truth)
            for r in rounds
        )
        last = [r for r in rounds if r.answer["verdict"] != "retest"][-1]
        close += abs(last.answer["settings"]["advance_s"] - truth) <= CLOSE_S[drive]
    return held, worse, close, retest, float(np.median(halves)) if halves else float("nan")


def main() -> None:
    values = int(sys.argv[1]) if len(sys.argv) > 1 else 40
    for careless, title in ((1.0, "a careful reader"), (2.0, "a reader with twice the error")):
        print(f"\n{title}: {values} true values each")
        print(
            f"{'':18}{'drive':8}{'95 % holds':>11}{'half width':>12}{'noise heeded':>14}"
            f"{'ends close':>12}{'retest':>8}"
        )
        for way in WAYS:
            for drive in RANGES:
                held, worse, close, retest, half = tally(way, drive, values, careless)
                print(
                    f"{way:18}{drive:8}{held:>8}/{values}{half:>10.4f} "
                    f"s{worse:>14}{close:>9}/{values}{retest:>8}",
                    flush=True,
                )


if __name__ == "__main__":
    main()
