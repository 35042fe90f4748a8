"""The built program on mutated samples for a long while: an answer or one line, never a fault of
its own.

    python benchmarks/fuzz.py [COPIES]          copies of each sample, 300 where not given
"""

from __future__ import annotations

import collections
import sys
import tempfile
from pathlib import Path

TESTS = Path(__file__).parents[1] / "tests"
sys.path.insert(0, str(TESTS))

import numpy as np  # noqa: E402

from program import Program  # noqa: E402
from test_slips import MUTATED, mutated  # noqa: E402

SAMPLES = TESTS.parent / "src" / "omphalon" / "samples"
ENDS = {0: "answer", 1: "file", 2: "usage", 3: "retest", 4: "check: change"}


def main() -> None:
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
