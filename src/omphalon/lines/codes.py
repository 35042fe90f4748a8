"""Numbered codes as controllers read them: in any case, with or without blanks, words repeated,
more than one to a line; what a line heats, and what is asked for once more before it is sent.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from omphalon.errors import CONTROL, UnknownFormat, echoed
from omphalon.heaters import kind_of, of_tool
from omphalon.lines.dialect import Dialect
from omphalon.lines.listing import listed

LONGEST = 200
WORD = re.compile(r"([A-Za-z])\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)?")
COMMENT = re.compile(r"\s*(?:;.*|\([^)]*\))")
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
    **dict.fromkeys(("heat", "hotend-target", "hotend-oscillation", "tool-target"), "hotend"),
    **dict.fromkeys(("bed-heat", "bed-target", "bed-oscillation"), "bed"),
    **dict.fromkeys(("chamber-target", "chamber-oscillation"), "chamber"),
}
ASKED_BY_NAME: dict[tuple[str, float], str] = {
    ("M", 502): "a factory reset",
    ("M", 997): "an update of the controller's program",
}
NOT_A_TEMPERATURE_C = 35.0  # the highest number that an off line may hold: no heater is meant by it


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


def targets_of(line: str, dialect: Dialect) -> dict[str, float]:
    """Which heaters a line gives which target, 0 switches one off.

    `dialect`: whose own words may set a target too.
    """
    found: dict[str, float] = {}
    for code in codes_of(line):
        kind, tools = TARGETS.get(code.name), code.values("T")
        if code.name == TEST:
            tools = code.values("EH") or [0.0]
            kind = "bed" if tools[0] < 0 else "hotend"
        goals = code.values("SR")
        if kind is not None and goals:
            name = f"hotend {tools[-1]:g}" if kind == "hotend" and any(tools) else kind
            found[name] = max(goals)
    for one in listed(line, dialect):
        if one.setting in HEATS and "target" in one.values and not found:
            found[of_tool(HEATS[one.setting], one.tool)] = float(one.values["target"])
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


def unfit(line: str) -> str | None:
    """Why a line cannot be sent as it stands; None where it can."""
    if CONTROL.search(line) or not line.isascii():
        return "holds signs that are no plain letters, digits or marks"
    if len(line) > LONGEST:
        return f"is longer than {LONGEST} characters"
    if FRAMED.search(line) or any(code.name == ("M", 110) for code in codes_of(line)):
        return "has a number or a check sum of its own, which would put the count out of step"
    return None


def asked_by_name(line: str, dialect: Dialect) -> list[str]:
    """What in a line a user must agree to by name: heat beyond the usual, and what cannot be taken
    back.
    """
    text = [ASKED_BY_NAME[code.name] for code in codes_of(line) if code.name in ASKED_BY_NAME]
    for heater, target in targets_of(line, dialect).items():
        if target > kind_of(heater).asked_above_c:
            text.append(f"the {heater} at {target:g} °C")
    return [f"{words} ({echoed(line)})" for words in text]


def heats_when_off(line: str) -> bool:
    """Whether a line that should switch off could heat: any number in it, its code aside, that
    could be a temperature.
    """
    numbers = re.findall(r"\d+(?:\.\d+)?", re.sub(r"^\s*[A-Za-z]+\d+(?:\.\d+)?", "", line))
    return any(float(number) > NOT_A_TEMPERATURE_C for number in numbers)


def off_lines(dialect: Dialect, heaters: Iterable[str]) -> list[str]:
    """The lines that end a wait, switch these heaters off, and then the fan.

    Raises UnknownFormat if one of them could heat.
    """
    settings: list[tuple[str, dict[str, object]]] = [("break", {})]
    for heater in heaters:
        kind, _, tool = heater.partition(" ")
        if tool:
            settings.append(("tool-target", {"tool": int(tool), "target": 0}))
        else:
            settings.append((f"{kind}-target", {"target": 0}))
    lines = []
    for setting, values in [*settings, ("fan-off", {})]:
        line = dialect.line(setting, **values)
        if line is not None and (heats_when_off(line) or heats(line, dialect)):
            raise UnknownFormat(
                f"dialect {dialect.name}: '{setting}' is {echoed(line)} where it switches off: it "
                "could heat",
                "write the line with {target}, and with no other number",
            )
        lines += [line] if line is not None else []
    return lines
