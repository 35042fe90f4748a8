"""Record what the program answers to the tests' logs: python tools/record_answers.py [PYTHON …]

tests/test_unmoved.py holds later answers against these. Run it when an answer is meant to move, and
say in the commit what moved and why.

What the functions give on the way is recorded again in a process whose arithmetic rounds otherwise
(older instructions of the processor), and by each other Python that is named, with its own NumPy
and SciPy; only what all agree on is kept.
"""

import contextlib
import json
import os
import pathlib
import subprocess
import sys
import tempfile

sys.path.insert(0, str(pathlib.Path(__file__).parents[1] / "tests"))
from onway import agree, followed
from test_unmoved import COMMANDS, INNER, ON_THE_WAY, RECORD, answered, inner, written

ROOT = pathlib.Path(__file__).parents[1]
ROUNDED_OTHERWISE = {
    "OPENBLAS_CORETYPE": "Nehalem",
    "NPY_DISABLE_CPU_FEATURES": "FMA3 AVX2 AVX512F AVX512CD AVX512_SKX",
}
TIMES = 8  # a function's results are kept where they are new, this often


def recorded(place: str) -> tuple[dict[str, object], dict[str, dict[str, list[float]]]]:
    """The answers, and what the functions gave on the way to each."""
    answers: dict[str, object] = {}
    way = {}
    with contextlib.chdir(place):
        for name in INNER:
            with followed() as way[name]:
                answers[name] = inner(name)
    for command in COMMANDS:
        with followed() as way[command]:
            answers[command] = answered(command, place)
        print(answers[command]["exit"], command, file=sys.stderr)
    return {name: answers[name] for name in (*COMMANDS, *INNER)}, way


def recorded_by(python: str, **env: str) -> dict[str, dict[str, list[float]]]:
    """What the functions give on the way in another process."""
    env = {**os.environ, "PYTHONPATH": str(ROOT / "src"), **env}
    done = subprocess.run([python, __file__, "--way"], env=env, stdout=subprocess.PIPE, check=True)
    return json.loads(done.stdout)


def kept(first, others):
    """What all recordings say, each result once."""
    known: dict[str, list[list[float]]] = {}
    out = {}
    for case, functions in first.items():
        out[case] = {}
        for name, results in sorted(functions.items()):
            before = known.setdefault(name, [])
            new = results and results not in before and len(before) < TIMES
            if new and all(agree(results, other[case].get(name), 0.3) for other in others):
                before.append(results)
                out[case][name] = results
    return out


def main() -> None:
    with tempfile.TemporaryDirectory() as place:
        written(pathlib.Path(place))
        answers, way = recorded(place)
    if "--way" in sys.argv:
        json.dump(way, sys.stdout)
        return
    others = [recorded_by(sys.executable, **ROUNDED_OTHERWISE), *map(recorded_by, sys.argv[1:])]
    cases = kept(way, others).items()
    rows = ",\n".join(f"{json.dumps(case)}: {json.dumps(functions)}" for case, functions in cases)
    ON_THE_WAY.write_text(f"{{\n{rows}\n}}\n", encoding="utf-8")
    RECORD.write_text(json.dumps(answers, ensure_ascii=False, indent=0) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
