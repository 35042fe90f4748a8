"""The built program on mutated samples, and on options drawn in pairs, for a long while: an answer
or one line, never a fault of its own.

    python benchmarks/fuzz.py [COPIES]                  copies of each sample, 300 where not given
    python benchmarks/fuzz.py options MINUTES SEED      every command's example with one or two
                                                        options more: choices, repeats, --tool
    python benchmarks/fuzz.py idle [GROUP…]             options that change no answer and no print
"""

from __future__ import annotations

import collections
import shlex
import shutil
import sys
import tempfile
import time
from pathlib import Path

TESTS = Path(__file__).parents[1] / "tests"
sys.path.insert(0, str(TESTS))

import numpy as np  # noqa: E402

from program import Program  # noqa: E402
from test_slips import MUTATED, mutated  # noqa: E402
from walk import drawn_line, examples, idle  # noqa: E402

SAMPLES = TESTS.parent / "src" / "omphalon" / "samples"
ENDS = {0: "answer", 1: "file", 2: "usage", 3: "retest", 4: "check: change"}


def fuzz_options(minutes: float, seed: int) -> None:
    """Examples of every command, with one or two options more."""
    random, program = np.random.default_rng(seed), Program()
    every = list(examples())
    ends: collections.Counter[int] = collections.Counter()
    faults: dict[str, str] = {}
    until = time.monotonic() + 60 * minutes
    with tempfile.TemporaryDirectory() as folder, tempfile.TemporaryDirectory() as aside:
        for path in SAMPLES.iterdir():
            shutil.copy(path, folder)
        program.run(["bench", "new", "b", "--listing", "found-settings.txt"], folder, aside)
        while time.monotonic() < until:
            line = drawn_line(every, random)
            done = program.run(line, folder, aside)
            ends[done.returncode] += 1
            if "fault of omphalon" in done.stderr or "Traceback" in done.stderr:
                faults.setdefault(done.stderr.strip()[-160:], shlex.join(line))
    program.close()
    print(f"{sum(ends.values())} commands, exit codes {dict(ends)}, {len(faults)} faults")
    for error, line in faults.items():
        print(f"  {line}\n    {error}")


def walk_idle(groups: list[str]) -> None:
    """Every example with every option that it has not, one at a time: which have no say in it?"""
    program = Program()
    with tempfile.TemporaryDirectory() as folder, tempfile.TemporaryDirectory() as aside:
        for path in SAMPLES.iterdir():
            shutil.copy(path, folder)
        for line, command in examples():
            if line[0] != "bench" and (not groups or line[0] in groups):
                for option in idle(program, line, command, folder, aside):
                    print(f"{option:18}{shlex.join(line)}", flush=True)
    program.close()


def main() -> None:
    if sys.argv[1:2] == ["idle"]:
        walk_idle(sys.argv[2:])
        return
    if sys.argv[1:2] == ["options"]:
        fuzz_options(float(sys.argv[2]), int(sys.argv[3]))
        return
    copies = int(sys.argv[1]) if len(sys.argv) > 1 else 300
    program = Program()
    print(f"{'sample':28}{'copies':>8}" + "".join(f"{e:>15}" for e in ENDS.values()) + "   faults")
    with tempfile.TemporaryDirectory() as folder, tempfile.TemporaryDirectory() as aside:
        for name, (group, verb, *options) in MUTATED.items():
            ends: collections.Counter[int] = collections.Counter()
            faults = []
            text = (SAMPLES / name).read_bytes()
            for seed in range(10_000, 10_000 + copies):
                bad = mutated(text, np.random.default_rng(seed))
                Path(folder, name).write_bytes(bad)
                done = program.run([group, verb, name, *options, "--json"], folder, aside)
                ends[done.returncode] += 1
                if "fault of omphalon" in done.stderr or done.returncode not in ENDS:
                    faults.append((seed, done.stderr.strip()))
            row = "".join(f"{ends[code]:>15}" for code in ENDS)
            print(f"{name:28}{copies:>8}{row}{len(faults):>9}")
            for seed, line in faults[:3]:
                print(f"    seed {seed}: {line}")
    program.close()


if __name__ == "__main__":
    main()
