"""The built program on mutated samples, and on options drawn in pairs, for a long while: an answer
or one line, never a fault of its own.

    python benchmarks/fuzz.py [COPIES]                  copies of each sample, 300 where not given
    python benchmarks/fuzz.py options MINUTES SEED      every command's example with one or two
                                                        options more: choices, repeats, --tool
    python benchmarks/fuzz.py idle [GROUP…]             options that change no answer and no print
"""

from __future__ import annotations

import collections
import re
import shlex
import shutil
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

TESTS = Path(__file__).parents[1] / "tests"
sys.path.insert(0, str(TESTS))

import click  # noqa: E402
import numpy as np  # noqa: E402

from omphalon.cli import omphalon  # noqa: E402
from program import Program  # noqa: E402
from test_slips import MUTATED, mutated  # noqa: E402

SAMPLES = TESTS.parent / "src" / "omphalon" / "samples"
ENDS = {0: "answer", 1: "file", 2: "usage", 3: "retest", 4: "check: change"}


# what is no number, hardly one, or one of another kind
VALUES = (
    "0",
    "1",
    "-1",
    "2",
    "0.5",
    "60",
    "95",
    "255",
    "1e9",
    "nan",
    "inf",
    "x",
    "",
    "40 %",
    "1,5",
)
NUMBERS = ("0.03", "0.7", "1", "3", "12", "60", "210", "1000", "9600")
# how an answer leaves, and what it is recorded with
LEAVING = ("as_json", "quiet", "force", "bench", "no_record", "plot", "template", "dialect", "out")
APART = ("demo", "start", "printer", "farm")  # they wait, or take long


def commands(
    group: click.Group, ctx: click.Context, words: tuple[str, ...] = ()
) -> Iterator[tuple[tuple[str, ...], click.Command]]:
    """Every command, by its words."""
    for name in group.list_commands(ctx):
        one = group.get_command(ctx, name)
        if one is None or (not words and name in APART):
            continue
        if isinstance(one, click.Group):
            yield from commands(one, ctx, (*words, name))
        else:
            yield (*words, name), one


def drawn(option: click.Option, random: np.random.Generator) -> list[str]:
    """An option with a value that it may or may not take, perhaps twice."""
    if option.is_flag:
        return [str(random.choice(option.opts))]
    choices = getattr(option.type, "choices", None)
    pool = [*choices, "x"] if choices else VALUES
    times = 1 + int(random.uniform() < 0.15)
    return [w for _ in range(times) for w in (option.opts[0], str(random.choice(list(pool))))]


def fuzz_options(minutes: float, seed: int) -> None:
    """Examples of every command, with one or two options more."""
    random, program = np.random.default_rng(seed), Program()
    every = list(commands(omphalon, click.Context(omphalon)))
    ends: collections.Counter[int] = collections.Counter()
    faults: dict[str, str] = {}
    until = time.monotonic() + 60 * minutes
    with tempfile.TemporaryDirectory() as folder, tempfile.TemporaryDirectory() as aside:
        for path in SAMPLES.iterdir():
            shutil.copy(path, folder)
        program.run(["bench", "new", "b", "--listing", "found-settings.txt"], folder, aside)
        while time.monotonic() < until:
            words, command = every[int(random.integers(len(every)))]
            found = re.search(r"^ *omphalon (.*)$", command.help or "", re.M)
            line = shlex.split(found[1]) if found else list(words)
            options = [p for p in command.params if isinstance(p, click.Option)]
            for one in random.choice(options, int(random.integers(1, 3))) if options else ():
                for name in set(one.opts) & set(line) if not one.is_flag else ():
                    at = line.index(name)  # another value in its place
                    del line[at : at + 2]
                line += drawn(one, random)
            bench = ["--bench", "b"] if random.uniform() < 0.5 else []
            if any("--bench" in p.opts for p in options) and "--bench" not in line:
                line += bench
            done = program.run(line, folder, aside)
            ends[done.returncode] += 1
            if "fault of omphalon" in done.stderr or "Traceback" in done.stderr:
                faults.setdefault(done.stderr.strip()[-160:], shlex.join(line))
    program.close()
    print(f"{sum(ends.values())} commands, exit codes {dict(ends)}, {len(faults)} faults")
    for error, line in faults.items():
        print(f"  {line}\n    {error}")


def answered(program: Program, words: list[str], folder: str, aside: str) -> object:
    """What a command answers and prints; None where it is refused, or no fit, check or plan."""
    done = program.run([*words, "--json"], folder, aside)
    if done.returncode not in (0, 3, 4):
        return None
    printed = [Path(folder, w).read_bytes() for w in words if w.endswith(".gcode")]
    return done.stdout, printed


def walk_idle(groups: list[str]) -> None:
    """Every example with every option that it has not, one at a time: which have no say in it?

    A number is tried at several values, and idle only where none of those that are taken changes
    anything.
    """
    program = Program()
    with tempfile.TemporaryDirectory() as folder, tempfile.TemporaryDirectory() as aside:
        for path in SAMPLES.iterdir():
            shutil.copy(path, folder)
        for words, command in commands(omphalon, click.Context(omphalon)):
            found = re.search(r"^ *omphalon (.*)$", command.help or "", re.M)
            if words[0] == "bench" or not found or (groups and words[0] not in groups):
                continue
            line = shlex.split(found[1])
            usual = answered(program, line, folder, aside)
            for one in command.params:
                if not isinstance(one, click.Option) or one.name in LEAVING or one.opts[0] in line:
                    continue
                choices = getattr(one.type, "choices", None) or NUMBERS
                more = [[one.opts[0], *[str(c)] * one.nargs] for c in choices]
                more = [[one.opts[0]]] if one.is_flag else more
                seen = [answered(program, [*line, *m], folder, aside) for m in more]
                taken = [s for s in seen if s is not None]
                if taken and all(s == usual for s in taken):
                    print(f"{one.opts[0]:18}{shlex.join(line)}", flush=True)
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
