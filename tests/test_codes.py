"""Lines that the table calls harmless, at a made-up controller that obeys forty codes in any spelling:
none sets a target. And every pattern that meets foreign text takes long text in its stride.
"""

import importlib
import pkgutil
import re
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import omphalon
from omphalon.lines.codes import HARMLESS, asked_by_name, harmless, understood, unfit
from omphalon.lines.dialect import load_dialect

DIALECTS = [load_dialect(name) for name in ("default", "stand-in")]
HEAT = {
    *("M104", "M109", "M140", "M190", "M141", "M191", "M303", "M568", "G10", "M98", "M143", "M570"),
    *("M306", "M309", "M116", "M106.5", "M800", "M28", "M32", "M999"),
}
OTHERS = [
    *("G0", "G1", "G2", "G4", "G28", "G29", "G90", "G92", "M82", "M84", "M92", "M105", "M107"),
    *("M115", "M117", "M155", "M201", "M204", "M220", "M500"),
]
VALUE = re.compile(r"0[xX][0-9A-Fa-f]+|[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")


def obeyed(line):
    """Whether a controller that obeys generously heats by a line: a heating code anywhere in it,
    behind comments in brackets too, with any number above 0, a name of a macro, or an expression.
    """
    text = line.upper()
    codes = re.findall(r"([GM])\s*0*(\d+(?:\.\d+)?)", text)
    if not {letter + number for letter, number in codes} & HEAT:
        return False
    behind = re.split(r"[GM]\s*0*\d+(?:\.\d+)?", text)[1:]
    return any(
        any(float.fromhex(v) if "X" in v else float(v) for v in VALUE.findall(part)) or '"' in part
        for part in behind
    )


number = st.sampled_from(
    ["0", "1", "60", "-5", "290", "300.5", "0x190", "3e2", ".5", "{300}", '"x.g"']
)
word = st.tuples(st.sampled_from("SRPTEXYZFHCDIN"), number)


@st.composite
def lines(draw):
    """Codes with words, spelt in four ways."""
    parts = []
    for _ in range(draw(st.integers(1, 2))):
        code = draw(st.sampled_from([*sorted(HEAT), *OTHERS, *HARMLESS]))
        parts += [code, *("".join(w) for w in draw(st.lists(word, max_size=4)))]
    way = draw(st.sampled_from(["plain", "lower", "compact", "brackets"]))
    line = ("" if way == "compact" else " ").join(parts)
    if way == "lower":
        return line.lower()
    return line.replace(" S", " (S", 1) + ")" if way == "brackets" else line


@settings(max_examples=1500, deadline=None)
@given(lines())
def test_no_line_that_is_called_harmless_heats(line):
    if unfit(line) is None:
        for dialect in DIALECTS:
            assert not (harmless(line, dialect) and obeyed(line)), line


@pytest.mark.parametrize(
    "line, words",
    [
        ("M104 S0x190", "no plain decimal"),
        ("M104 S3e2", "no plain decimal"),
        ("M104 Sinf", "no plain decimal"),
        ("M568 P0 S390 R390", "does not know"),
        ("G10 P0 S400", "does not know"),
        ('M98 P"x.g"', "does not know"),
        ("M104 (S0) S290", "does not know"),
        ("M104 S290 X{1}", "does not know"),
        ("M92 E400 Q5", "does not know"),
        ("HEAT 300", "does not know"),
        ("M104 S205", None),
        ("M92 E400.5", None),
        ("M92E400", None),
        ("LEAD 0.05", None),
        ("T1 M104 S205", None),
        ("G28 X Y", None),
    ],
)
def test_what_is_not_known_is_refused_or_asked_for_by_name(line, words):
    told = unfit(line) or " ".join(asked_by_name(line, DIALECTS[1]))
    assert (words in told) if words else not told and understood(line, DIALECTS[1])


def test_the_page_names_every_code_of_the_table():
    page = (Path(__file__).parents[1] / "docs" / "printer.md").read_text()
    assert not [code for code in HARMLESS if f"`{code}`" not in page]


WORST = (
    "",
    " ",
    "1",
    "a",
    "T:",
    "T: ",
    "T1 ",
    "1 ",
    "1.",
    "-",
    "M1",
    "M106 P",
    "\t:",
    "[",
    "(",
    "ok ",
    "e1",
    "error",
)
HOLDS_UP = """
import sys
from tests_patterns import patterns
for name, pattern, searched in patterns():
    for piece in {worst!r}:
        for text in (piece * (100_000 // max(len(piece), 1)), "12" + piece * (50_000 // max(len(piece), 1)) + "T"):
            pattern.match(text); pattern.fullmatch(text)
            if searched:
                pattern.search(text)
    print(name, flush=True)
"""


def patterns():
    """Every compiled pattern of the package, by its name, and whether it is looked for anywhere in
    a text (it is tried at each letter then), or where the text begins.
    """
    source = "".join(path.read_text() for path in Path(omphalon.__path__[0]).rglob("*.py"))
    for module in pkgutil.walk_packages(omphalon.__path__, "omphalon."):
        if module.name.endswith("__main__"):
            continue
        for name, value in vars(importlib.import_module(module.name)).items():
            if isinstance(value, re.Pattern):
                ways = rf"\b{name}\.(?:search|sub|finditer|findall|split)\("
                yield f"{module.name}.{name}", value, bool(re.search(ways, source))


@pytest.mark.slow
def test_every_pattern_is_linear_in_foreign_text(tmp_path):
    """A hundred kilobytes of the worst: a quadratic pattern takes minutes for it, all of them
    together take seconds.
    """
    source = HOLDS_UP.format(worst=WORST).replace("tests_patterns", "test_codes")
    done = subprocess.run(
        [sys.executable, "-c", source],
        cwd=tmp_path,
        env={"PYTHONPATH": str(__file__).rpartition("/")[0], "PATH": ""},
        capture_output=True,
        text=True,
        timeout=120,
    )
    assert done.returncode == 0, done.stderr
    assert len(done.stdout.split()) == len(list(patterns()))
