"""Numbered codes as controllers read them: in any case, with or without blanks, words repeated,
more than one to a line; what a line heats, which lines are known not to heat (tables/codes.csv:
codes that several controllers share, and do nothing else with), and what is asked for by name
before it is sent.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from omphalon.base.errors import CONTROL, UnknownFormat, echoed
from omphalon.lines.dialect import KEPT, Dialect
from omphalon.lines.listing import listed, matched_line
from omphalon.lines.template import fill
from omphalon.tables.heaters import Heater
from omphalon.tables.rows import rows_of, table_by
from omphalon.tables.tools import Tool

LONGEST_LINE = 200
PLAIN = re.compile(r"\s*([A-Za-z])\s*([-+]?(?:\d+\.?\d*|\.\d+))?(?![\d.])")
# a number that some controllers read and others do not: hex, with an exponent, no number at all
NOT_DECIMAL = re.compile(
    r"(?<![A-Za-z0-9.])(?![GMTgmt]\d)[A-Za-z]?[-+]?(?:0[xX][0-9A-Fa-f]+|(?:\d+(?:\.\d*)?|\.\d+)[eE][-+]?\d+|(?i:nan|inf))"
    r"(?![\w.])"
)
NUMBERED = re.compile(r"(?<![A-Za-z0-9_])[GMTgmt]\s*\d")
WORD = re.compile(r"([A-Za-z])\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)?")
COMMENT = re.compile(r";.*|\([^()]*\)")
FRAMED = re.compile(r"^\s*[Nn]\s*\d|\*\s*\d+\s*$")
MOVES = {("G", n) for n in (0, 1, 2, 3, 4, 28)}
# code → the heater whose target it sets; a tool's by its T
TARGETS: dict[tuple[str, float], str] = {
    ("M", 104): "hotend",
    ("M", 109): "hotend",
    ("M", 140): "bed",
    ("M", 190): "bed",
}
TARGETS |= {("M", 141): "chamber", ("M", 191): "chamber"}
TEST = ("M", 303)
# a dialect's own lines that set a target
HEATS = {
    **dict.fromkeys(("heat", "hotend-target", "hotend-oscillation"), "hotend"),
    **dict.fromkeys(("tool-heat", "tool-target", "tool-hotend-oscillation"), "hotend"),
    **dict.fromkeys(("bed-heat", "bed-target", "bed-oscillation"), "bed"),
    **dict.fromkeys(("chamber-target", "chamber-oscillation"), "chamber"),
}
OFF = ("cool", "hotend-target", "tool-target", "bed-target", "chamber-target")  # with a target of 0
ASKED_BY_NAME: dict[tuple[str, float], str] = {
    ("M", 502): "a factory reset",
    ("M", 997): "an update of the controller's program",
}
UNKNOWN = "a line that omphalon does not know, which may heat"
# words of a line that sets a target, and of one that starts a test
TARGET_WORDS, TEST_WORDS = "SRT", "SCEH"
NOT_A_TEMPERATURE_C = 35.0  # the highest number that an off line may hold: no heater is meant by it


@dataclass(frozen=True, kw_only=True)
class Harmless:
    """A code that heats nothing: the words that may stand behind it with a number and without."""

    code: str
    numbers: str = ""
    bare: str = ""
    what: str


HARMLESS = table_by("code", *rows_of("codes", Harmless))


@dataclass(frozen=True)
class Code:
    """A letter and a number, and the words behind it in their order; a word may have no number."""

    name: tuple[str, float]
    words: tuple[tuple[str, float | None], ...]

    def values(self, letters: str) -> list[float]:
        """The numbers of these words, every one of them."""
        return [value for letter, value in self.words if letter in letters and value is not None]


def codes_of(line: str) -> list[Code]:
    """The codes in a line; none where it does not begin with one."""
    bare = COMMENT.sub(" ", line).strip()
    codes: list[Code] = []
    for match in WORD.finditer(bare):
        letter = match[1].upper()
        value = None if match[2] is None else float(match[2])
        if value is not None and (letter in "GM" or (letter == "T" and not codes)):
            codes.append(Code((letter, value), ()))
        elif codes:
            last = codes[-1]
            codes[-1] = Code(last.name, (*last.words, (letter, value)))
        else:
            return []
    return codes


def targets_of(line: str, dialect: Dialect) -> dict[Heater, float]:
    """Which heaters a line gives which target, 0 switches one off.

    `dialect`: whose own words may set a target too.
    """
    found: dict[Heater, float] = {}
    for code in codes_of(line):
        kind, tools = TARGETS.get(code.name), code.values("T")
        if code.name == TEST:
            tools = code.values("EH") or [0.0]
            kind = "bed" if tools[0] < 0 else "hotend"
        goals = code.values("SR")
        if kind is not None and goals:
            tool = Tool.numbered(tools[-1] if kind == "hotend" and any(tools) else 0.0)
            found[Heater(kind, tool)] = max(goals)
    for one in listed(line, dialect):
        if one.setting in HEATS and "target" in one.values and not found:
            found[Heater(HEATS[one.setting], one.tool)] = float(one.values["target"])
    return found


def is_test(line: str, dialect: Dialect) -> bool:
    """Whether a line starts the controller's own test of a heater."""
    own = (one.setting for one in listed(line, dialect))
    return any(c.name == TEST for c in codes_of(line)) or any(
        s.endswith("-oscillation") for s in own
    )


def heats(line: str, dialect: Dialect) -> bool:
    """Whether a line may switch a heater on."""
    return any(target > 0 for target in targets_of(line, dialect).values())


def is_move(line: str) -> bool:
    """Whether a line only moves, or waits."""
    codes = codes_of(line)
    return bool(codes) and all(code.name in MOVES for code in codes)


def is_target(line: str) -> bool:
    """Whether a numbered code in a line sets a heater's target, or tests it."""
    return any(code.name in TARGETS or code.name == TEST for code in codes_of(line))


def plain_codes(line: str) -> list[Code] | None:
    """The codes in a line that holds nothing but letters with plain decimals; else None."""
    bare, at = line.partition(";")[0].strip(), 0
    while at < len(bare):
        match = PLAIN.match(bare, at)
        if match is None:
            return None
        at = match.end()
    return codes_of(bare) or None if "(" not in bare else None


def harmless(line: str, dialect: Dialect) -> bool:
    """Whether a line is known to heat nothing: every code in it is in the table, with words that
    the table knows; or the dialect names the line for a setting.
    """
    codes = plain_codes(line)
    if codes is not None and all(map(_known_harmless, codes)):
        return True
    return any(
        matched_line(template, line)
        for setting, template in dialect.templates.items()
        if setting not in HEATS and dialect.has_code(setting)
    )


def _known_harmless(code: Code) -> bool:
    letter, number = code.name
    row = HARMLESS.get(f"{letter}{number:g}") or HARMLESS.get(letter)
    return row is not None and all(
        word in (row.bare if value is None else row.numbers) for word, value in code.words
    )


def understood(line: str, dialect: Dialect) -> bool:
    """Whether it is known what a line heats: nothing, or what `targets_of` says."""
    if harmless(line, dialect):
        return True
    own = (t for name, t in dialect.templates.items() if name in HEATS)
    if any(matched_line(template, line) for template in own):
        return True
    codes = plain_codes(line)
    return codes is not None and all(_known_harmless(c) or _sets_target(c) for c in codes)


def _sets_target(code: Code) -> bool:
    words = TARGET_WORDS if code.name in TARGETS else TEST_WORDS if code.name == TEST else ""
    return bool(code.values("SR")) and all(
        word in words and value is not None for word, value in code.words
    )


def unfit(line: str) -> str | None:
    """Why a line cannot be sent as it stands; None where it can."""
    if CONTROL.search(line) or not line.isascii():
        return "holds signs that are no plain letters, digits or marks"
    if len(line) > LONGEST_LINE:
        return f"is longer than {LONGEST_LINE} characters"
    if FRAMED.search(line) or any(code.name == ("M", 110) for code in codes_of(line)):
        return "has a number or a check sum of its own, which would put the count out of step"
    if NOT_DECIMAL.search(line.partition(";")[0]):
        return "holds a number that is no plain decimal (put blanks between words)"
    return None


def asked_by_name(line: str, dialect: Dialect) -> list[str]:
    """What in a line a user must agree to by name: what is not known to be harmless, heat beyond
    the usual, and what cannot be taken back.
    """
    text = [ASKED_BY_NAME[code.name] for code in codes_of(line) if code.name in ASKED_BY_NAME]
    for heater, target in targets_of(line, dialect).items():
        if not target <= heater.kind.asked_above_c:
            text.append(f"the {heater} at {target:g} °C")
    if not text and not understood(line, dialect):
        text = [UNKNOWN]
    return [f"{words} ({echoed(line)})" for words in text]


def off_lines(dialect: Dialect, heaters: Iterable[Heater]) -> list[str]:
    """The lines that end a wait, switch these heaters off, and then the fan."""
    settings: list[tuple[str, dict[str, object]]] = [("break", {})]
    for heater in heaters:
        if heater.tool:
            settings.append(("tool-target", {"tool": heater.tool.number, "target": 0}))
        else:
            settings.append((f"{heater.name}-target", {"target": 0}))
    lines = (dialect.line(setting, **values) for setting, values in [*settings, ("fan-off", {})])
    return [line for line in lines if line is not None]


def refuse_heating(dialect: Dialect) -> None:
    """Refuse a dialect in which a line heats that should not: one that switches off sets targets to
    0 and nothing else, one of the frame or of a setting sets none. A numbered code of the frame
    must be one that is known; words of a controller's own may hold no number that could be a
    temperature.

    Raises UnknownFormat with the line.
    """
    for setting, template in dialect.templates.items():
        switches_off = setting in OFF
        if (setting in HEATS and not switches_off) or not dialect.has_code(setting):
            continue
        words = {"axis": "X", "axis_lower": "x", "shaper": "zv", "target": 0}
        sample = {**dict.fromkeys(template.fields(), 1), **words}
        line = fill(template, sample, f"dialect {dialect.name}: '{setting}'")[0].text
        if _heats_in_frame(line, setting, dialect):
            where = " where it switches off" if switches_off else ""
            raise UnknownFormat(
                f"dialect {dialect.name}: '{setting}' is {echoed(line)}{where}: it could heat",
                "write it with a code that docs/printer.md names as harmless, or with {target} and "
                "no other number",
            )


def _heats_in_frame(line: str, setting: str, dialect: Dialect) -> bool:
    """Whether a line that should heat nothing could."""
    bare = line.partition(";")[0]
    if NOT_DECIMAL.search(bare) or any(t > 0 for t in targets_of(line, dialect).values()):
        return True
    if setting in KEPT:  # a controller's own code for a setting is the dialect's affair
        return is_target(line)
    codes = plain_codes(bare)
    if NUMBERED.search(bare):
        off = setting in OFF
        framing = setting == "number"
        return codes is None or not all(
            _known_harmless(code)
            or (off and _sets_target(code) and code.name != TEST)
            or (framing and code.name == ("M", 110))
            for code in codes
        )
    numbers = re.findall(r"\d+(?:\.\d+)?", bare)
    return any(float(number) > NOT_A_TEMPERATURE_C for number in numbers)
