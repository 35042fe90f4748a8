"""Record what the program answers to the tests' logs: python tools/record_answers.py [PATTERN]

tests/test_unmoved.py holds later answers against these. Run it when an answer is meant to move,
with a pattern (`heater`) for those that are, and say in the commit what moved and why.
"""

import contextlib
import json
import pathlib
import re
import sys
import tempfile

sys.path.insert(0, str(pathlib.Path(__file__).parents[1] / "tests"))
sys.path.insert(0, str(pathlib.Path(__file__).parents[1] / "benchmarks"))
from test_unmoved import COMMANDS, INNER, RECORD, answered, inner, written


def main() -> None:
    wanted = re.compile(sys.argv[1] if len(sys.argv) > 1 else "")
    known = json.loads(RECORD.read_text("utf-8")) if RECORD.exists() else {}
    answers = {}
    with tempfile.TemporaryDirectory() as place:
        written(pathlib.Path(place))
        for name in (*COMMANDS, *INNER):
            if name in known and not wanted.search(name):
                answers[name] = known[name]
                continue
            with contextlib.chdir(place):
                answers[name] = inner(name) if name in INNER else answered(name, place)
            if answers[name] != known.get(name):
                print("recorded", name, file=sys.stderr)
    rows = (f"{json.dumps(name)}: {json.dumps(answers[name])}" for name in answers)
    RECORD.write_text("{\n" + ",\n".join(rows) + "\n}\n", encoding="utf-8")


if __name__ == "__main__":
    main()
