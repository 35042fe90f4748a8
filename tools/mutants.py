"""Would the tests notice? Small random faults in physics/ and studies/, each against the tests.

    python tools/mutants.py [COUNT] [SEED] [--near]

A fault is one operator, one comparison or one number changed in one place, in a copy of the
project. The recorded answers and the tests of that room run first and stop at the first failure;
what they let pass runs against all tests but the live sessions (not with --near: the share is then
a lower bound). Three faults that once went unnoticed are always tried. The unnoticed ones are
listed, to be judged by a reader: some change nothing that anybody could see.
"""

from __future__ import annotations

import ast
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parents[1]
CODE = Path("src/omphalon")
SWAPS = {
    ast.Add: ("+", "-"),
    ast.Sub: ("-", "+"),
    ast.Mult: ("*", "/"),
    ast.Div: ("/", "*"),
    ast.Lt: ("<", ">"),
    ast.Gt: (">", "<"),
    ast.LtE: ("<=", ">"),
    ast.GtE: (">=", "<"),
    ast.Eq: ("==", "!="),
    ast.NotEq: ("!=", "=="),
}
REST = ["tests", "--ignore=tests/test_live.py"]
# rooms, the recorded answers that they make, and the tests that look at them first
NEAR = (
    (r"pose|edges|sight|silhouette|rungs", "scan", "test_picture test_card"),
    (r"swing|physics/flow|studies/card", "scan", "test_card"),
    (r"physics/(moved|record)|stretches|heater/(moved|health)", "warm or hold", "test_ordinary"),
    (
        r"sweep|modes|resonance|rest|impulses|shaping|studies/shaper",
        "shaper or still or knocked",
        "test_frame test_sensor test_shaper test_prints",
    ),
    (r"lead|studies/advance", "advance or led", "test_advance test_prints"),
    (r"fellows|changes", "among", "test_farm test_changes"),
    (
        r"scale|studies/(measured|motion)",
        "axis or extruder or flow or motion or probe or measured",
        "test_measured test_filament test_dryrun test_prints test_slips",
    ),
    (r"arrival|signs|heater/check", "check or held", "test_heater_check"),
    (r"", "heater or loop", "test_physics test_heater test_heater_damage"),
)


@dataclass(frozen=True)
class Fault:
    """One place in one file, and what stands there instead."""

    path: Path
    start: int
    end: int
    new: str

    def told(self, text: str) -> str:
        """File, line, and the line as it becomes."""
        number = text.count("\n", 0, self.start) + 1
        changed = text[: self.start] + self.new + text[self.end :]
        return f"{self.path}:{number}: {changed.splitlines()[number - 1].strip()}"


def faults(path: Path) -> Iterator[Fault]:
    """Every small fault that a file can have."""
    text = (ROOT / path).read_text()
    starts = [0]
    for line in text.splitlines(keepends=True):
        starts.append(starts[-1] + len(line))

    def at(line: int, column: int) -> int:
        row = text[starts[line - 1] :].encode()[:column].decode()
        return starts[line - 1] + len(row)

    def between(left: ast.expr, right: ast.expr, operator: ast.AST) -> Iterator[Fault]:
        if type(operator) in SWAPS:
            old, new = SWAPS[type(operator)]
            first = at(left.end_lineno or 0, left.end_col_offset or 0)
            place = text.find(old, first, at(right.lineno, right.col_offset))
            if place >= 0:
                yield Fault(path, place, place + len(old), new)

    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.BinOp):
            yield from between(node.left, node.right, node.op)
        elif isinstance(node, ast.Compare) and len(node.ops) == 1:
            yield from between(node.left, node.comparators[0], node.ops[0])
        elif isinstance(node, ast.Constant) and type(node.value) in (int, float):
            first = at(node.lineno, node.col_offset)
            last = at(node.end_lineno or 0, node.end_col_offset or 0)
            if text[first:last].replace(".", "").replace("e-", "").isdigit():
                yield Fault(path, first, last, repr(node.value + 1))


def named() -> list[Fault]:
    """The faults that once went unnoticed."""
    rows = (
        ("studies/heater/fit.py", r"doubt_s=common", "doubt_s=0.0 * common"),
        ("physics/sweep.py", r"energy - background \* count", "energy - 0.0 * count"),
        ("physics/impulses.py", r"-damping \* 2 \* math.pi", "-damping * 2.06 * math.pi"),
    )
    found = []
    for name, old, new in rows:
        match = re.search(old, (ROOT / CODE / name).read_text())
        if match is None:
            raise SystemExit(f"{name}: no {old} any more")
        found.append(Fault(CODE / name, match.start(), match.end(), new))
    return found


def failing(copy: Path, tests: list[str]) -> str:
    """What pytest says where a test fails in a copy of the project, or nothing; the stand-in's logs
    are made once.
    """
    done = subprocess.run(
        [
            sys.executable,
            "-m",
            "pytest",
            "-x",
            "-q",
            "-m",
            "not slow",
            "-p",
            "no:cacheprovider",
            *tests,
        ],
        cwd=copy,
        env={
            **os.environ,
            "PYTHONPATH": str(copy / "src"),
            "OMPHALON_TEST_LOGS": str(copy / "logs"),
        },
        capture_output=True,
        text=True,
    )
    return done.stdout[-2000:] if done.returncode else ""


def near_tests(room: str) -> tuple[list[str], list[str]]:
    """The recorded answers that a room makes, and then all tests that look at it first."""
    _, answers, near = next(row for row in NEAR if re.search(row[0], room))
    wire = "tests/test_unmoved.py"
    names = (*near.split(), "test_curves")
    return [wire, "-k", answers], [wire, *(f"tests/{name}.py" for name in names)]


def noticed(fault: Fault, copy: Path) -> bool:
    """Whether any test fails with the fault in place."""
    target = copy / fault.path
    sound = target.read_text()
    target.write_text(sound[: fault.start] + fault.new + sound[fault.end :])
    try:
        if any(failing(copy, tests) for tests in near_tests(str(fault.path))):
            return True
        return "--near" not in sys.argv and bool(failing(copy, REST))
    finally:
        target.write_text(sound)


def main() -> None:
    given = [int(word) for word in sys.argv[1:] if word.isdigit()]
    count, seed = (*given, *(60, 1)[len(given) :])
    paths = [
        p.relative_to(ROOT)
        for room in ("physics", "studies")
        for p in sorted((ROOT / CODE / room).rglob("*.py"))
    ]
    every = [fault for path in paths for fault in faults(path)]
    chosen = [*named(), *random.Random(seed).sample(every, count)]
    seen = 0
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder)
        for name in ("src", "tests", "benchmarks", "docs", "tools", "README.md", "pyproject.toml"):
            place = ROOT / name
            (shutil.copytree if place.is_dir() else shutil.copy)(place, copy / name)
        all_near = sorted({name for *_, names in NEAR for name in names.split()})
        all_near += ["test_unmoved", "test_curves"]
        whole = [f"tests/{name}.py" for name in all_near] if "--near" in sys.argv else REST
        if told := failing(copy, whole):
            raise SystemExit(f"{told}\nwithout any fault a test fails: nothing can be told")
        for number, fault in enumerate(chosen, 1):
            found = noticed(fault, copy)
            seen += found
            told = fault.told((ROOT / fault.path).read_text())
            print(f"{number:3} {'noticed  ' if found else 'UNNOTICED'} {told}", flush=True)
    print(f"noticed {seen} of {len(chosen)} ({seen / len(chosen):.0%}) of {len(every)} possible")


if __name__ == "__main__":
    main()
