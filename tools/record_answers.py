"""Record what the program answers to the tests' logs: python tools/record_answers.py

tests/test_unmoved.py holds later answers against these. Run it when an answer is meant to move, and
say in the commit what moved and why.
"""

import contextlib
import json
import pathlib
import sys
import tempfile

sys.path.insert(0, str(pathlib.Path(__file__).parents[1] / "tests"))
from test_unmoved import COMMANDS, INNER, RECORD, answered, inner, written

if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as place:
        written(pathlib.Path(place))
        answers = {}
        for command in COMMANDS:
            answers[command] = answered(command, place)
            print(answers[command]["exit"], command)
        with contextlib.chdir(place):
            answers |= {name: inner(name) for name in INNER}
    RECORD.write_text(json.dumps(answers, ensure_ascii=False, indent=0) + "\n", encoding="utf-8")
