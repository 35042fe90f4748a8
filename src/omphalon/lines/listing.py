"""A printer's settings listing, understood through the templates that would set them,
turned round: literal words must stand there, fields become numbers.
"""

from __future__ import annotations

import math
import re
import string
from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from omphalon.base.errors import BadReading, UnknownFormat, echoed
from omphalon.base.files import small_file
from omphalon.lines.dialect import LINES_OF_TOOL, Dialect
from omphalon.lines.gain_forms import as_gains
from omphalon.lines.template import SECTION, Template
from omphalon.tables.tools import FIRST, Tool

NUMBER = r"[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?"
MOST_LISTING_BYTES = 4_000_000
MOST_LINE = 4096  # bytes; no controller lists more in one
# a field of a setting → the least and the most that a printer could be set to
POSSIBLE = {
    "steps": (1e-3, 1e6),
    "kp": (1e-6, 1e7),
    "ki": (0.0, 1e7),
    "kd": (0.0, 1e7),
    "flow": (0.05, 500.0),
    "advance": (0.0, 10.0),
    "frequency": (1.0, 1000.0),
    "damping": (0.0, 1.0),
    "acceleration": (1e-3, 1e7),
    "speed": (1e-3, 1e6),
    "corner": (0.0, 1e5),
    "offset": (-100.0, 100.0),
}
# settings that a controller keeps; what else a sheet sets need not be listed
STORED = (
    "steps",
    "hotend-gains",
    "bed-gains",
    "chamber-gains",
    "speed-limit",
    "acceleration-limit",
    "corner-limit",
    "acceleration",
)


@dataclass(frozen=True, kw_only=True)
class Listed:
    """One setting as it stands in a listing: the dialect's name for it, its axis, its values as
    they are written, the row, and the tool that it is of.
    """

    setting: str
    axis: str
    values: dict[str, str] = field(default_factory=dict)
    row: int
    tool: Tool = FIRST


def listed(text: str, dialect: Dialect) -> list[Listed]:
    """Every setting of a dialect that stands in a listing, in the listing's order.

    `text`: codes with their words amid chatter, or a file with sections.
    """
    templates = [
        (s, line) for s, t in dialect.templates.items() for line in t.lines if line.fields()
    ]
    found: list[Listed] = []
    section = ""
    for row, line in enumerate(text.splitlines(), 1):
        head = SECTION.fullmatch(line)
        if head:
            section = head[1].strip()
            continue
        here: list[tuple[set[str], Listed]] = []
        for setting, template in templates:
            if template.section is not None:
                matches = filed(template, section, line)
            else:
                matches = _words(template, line)
            own = {word for word in template.text.split() if "{" not in word}
            own |= {"tool"} & set(template.fields())
            for values in matches:
                if "tool" in own and "tool" not in values:
                    continue
                here.append((own, _listed(setting, values, row)))
        # a line that says more than another is not that other
        found += [one for own, one in here if not any(own < more for more, _ in here)]
    whole = _joined(found, {s for s, t in dialect.templates.items() if t.further})
    return [_in_gains(one, dialect) for one in whole if one.values]


def _joined(found: list[Listed], spread: set[str]) -> list[Listed]:
    """Settings that a file spreads over several lines, each put together again; what stands there
    twice holds as it stands last.
    """
    out: list[Listed] = []
    for one in found:
        same = [
            n
            for n, other in enumerate(out)
            if (other.setting, other.axis, other.tool) == (one.setting, one.axis, one.tool)
        ]
        if same and one.setting in spread:
            out[same[-1]] = replace(out[same[-1]], values=out[same[-1]].values | one.values)
        else:
            out.append(one)
    return out


def _in_gains(one: Listed, dialect: Dialect) -> Listed:
    """The same with gains as kp, ki and kd."""
    if "-gains" not in one.setting:
        return one
    return replace(one, values=as_gains(one.values, dialect.loop))


def _listed(setting: str, values: dict[str, str], row: int) -> Listed:
    """A match as a setting: of its axis and its tool."""
    axis = values.pop("axis", "") or values.pop("axis_lower", "")
    axis, tool = axis.upper(), Tool.numbered(float(values.pop("tool", 0)))
    plain = setting.removeprefix("tool-")
    if plain != setting and plain in LINES_OF_TOOL:
        setting, axis = (
            plain,
            "E" if plain == "steps" else axis,
        )  # a tool's steps are its extruder's
    return Listed(setting=setting, axis=axis, values=values, row=row, tool=tool)


def sound(found: list[Listed]) -> list[Listed]:
    """The settings of a listing, each one that a printer could be set to.

    Raises BadReading with the row of one that could not.
    """
    for one in found:
        for name, text in one.values.items():
            low, high = POSSIBLE.get(name, (-math.inf, math.inf))
            if name != "shaper" and not low <= float(text) <= high:
                what = f"{one.setting} {one.axis}".strip()
                raise BadReading(
                    f"the listing, row {one.row}: {what} with {name} {echoed(text)}: no printer "
                    "works with that",
                    "correct the row, or remove it where the printer does not use it",
                )
    return found


def differing(sheet: str, listing: str, dialect: Dialect) -> tuple[int, list[str]]:
    """A printer's settings listing, against the lines that it was sent.

    `sheet`: the lines that were sent; of two that set the same the last one holds. Gives how many
    values are the same within their digits, and a sentence for each that is not.
    """
    there = {(one.setting, one.axis, one.tool): one for one in listed(listing, dialect)}
    same, words = 0, []
    sent = {(s.setting, s.axis, s.tool): s for s in listed(sheet, dialect)}
    for (setting, axis, tool), one in sent.items():
        found = there.get((setting, axis, tool))
        if found is None:
            if setting in STORED:
                words.append(f"{setting} {axis}".strip() + ": not listed")
            continue
        for name, text in one.values.items():
            if alike(text, found.values.get(name, "")):
                same += 1
            else:
                listed_as = found.values.get(name, "nothing")
                words.append(
                    f"{f'{setting} {axis}'.strip()}: {name} {text} sent, {listed_as} listed"
                )
    return same, words


def alike(given: str, text: str) -> bool:
    """Whether a listed text says what was given, within half of its last digit."""
    try:
        return abs(float(text) - float(given)) <= 0.5000001 * 10.0 ** -decimals(given)
    except ValueError:
        return text.lower() == given.lower()


def decimals(text: str) -> int:
    """How many decimals a number is written with."""
    return len(text.lower().split("e")[0].partition(".")[2])


def read_listing(path: str) -> str:
    """A listing's text.

    Raises UnreadableFile if it cannot be read, or is too large to be one.
    """
    remedy = "give the file of what the printer lists"
    text = small_file(path, MOST_LISTING_BYTES, "listing", remedy).decode("utf-8-sig", "replace")
    for row, line in enumerate(text.splitlines(), 1):
        if len(line) > MOST_LINE:
            raise UnknownFormat(
                f"{path}: row {row}: longer than 4 kB, no line of a printer", remedy
            )
    return text


def _pattern(token: str) -> str:
    """A piece of a template as a pattern: fields become groups."""
    out = ""
    for literal, name, _, _ in string.Formatter().parse(token):
        out += re.escape(literal)
        if name == "axis":
            out += "(?P<axis>[A-Za-z])"
        elif name == "axis_lower":
            out += "(?P<axis_lower>[a-z])"
        elif name == "shaper":
            out += r"(?P<shaper>[A-Za-z0-9_+.-]+)"
        elif name:
            out += f"(?P<{name}>{NUMBER})"
    return out


def filed(template: Template, section: str, line: str) -> Iterator[dict[str, str]]:
    """A line of a file, under its section: the whole of it, blanks aside, a comment behind it."""
    if line.lstrip().startswith((";", "#")):
        return
    head = re.fullmatch(_pattern(template.section or ""), section)
    match = matched_line(template, line) if head else None
    if head and match:
        yield head.groupdict() | {k: v for k, v in match.groupdict().items() if v is not None}


def matched_line(template: Template, line: str) -> re.Match[str] | None:
    """A line that is what a template writes, with any values; blanks aside, a comment behind it."""
    pattern = r"\s*".join(_pattern(token) for token in template.text.split())
    return re.fullmatch(rf"\s*{pattern}\s*(?:[;#].*)?", line)


def _words(template: Template, line: str) -> Iterator[dict[str, str]]:
    """A code anywhere in a line, and its words behind it; several axes may share one line."""
    tokens = template.text.split()
    first = next(i for i, token in enumerate(tokens) if "{" in token)
    code, words = " ".join(tokens[:first]), tokens[first:]
    if not code:
        return
    begun = re.search(rf"(?<![A-Za-z0-9]){re.escape(code)}(?![A-Za-z0-9.])", line)
    if begun is None:
        return
    rest = re.split(r"[;#(]", line[begun.end() :], maxsplit=1)[0]
    if len(words) == 1 and "{axis}" in words[0]:
        for match in re.finditer(rf"(?<!\S){_pattern(words[0])}(?!\S)", rest):
            yield match.groupdict()
        return
    if all(not word.startswith("{") for word in words):
        found: dict[str, str] = {}
        for word in words:
            seen = re.search(rf"(?<!\S){_pattern(word)}(?!\S)", rest)
            if seen:
                found.update(seen.groupdict())
        if found:
            yield found
        return
    whole = re.match(r"\s*" + r"\s+".join(_pattern(word) for word in words) + r"\s*$", rest)
    if whole:
        yield whole.groupdict()
