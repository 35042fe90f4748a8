"""A line with fields in it: checked once, filled by one function, and nothing but numbers and plain
words gets in.
"""

from __future__ import annotations

import math
import re
import string
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from omphalon.base.errors import CONTROL, UnknownFormat, echoed

LONGEST_TEMPLATE = 200
NUMBER_FORMAT = re.compile(
    r"(?:[+ ]?0?(?P<width>\d{0,2}))?(?:\.(?P<places>\d{1,2}))?(?P<kind>[dfeg]?)", re.I
)
MOST_WIDTH, MOST_PLACES = 20, 12
LOST = 0.005  # of a number without a spread may be lost in writing it
SECTION = re.compile(r"\s*\[([^\]]+)\]\s*")
WORD = re.compile(r"[A-Za-z0-9_+.-]{1,40}")


@dataclass(frozen=True)
class Entered:
    """A line to enter, and the section of the controller's file that it belongs to, where the
    controller is set by a file.
    """

    text: str
    section: str | None = None


@dataclass(frozen=True)
class Template:
    """A checked line: its text, and the section of the controller's file that it belongs to, where
    it is set by a file; `further` are the other lines of a setting that a file spreads.
    """

    text: str
    section: str | None = None
    further: tuple[Template, ...] = ()

    @property
    def lines(self) -> tuple[Template, ...]:
        """All its lines, one by one."""
        return (Template(self.text, self.section), *self.further)

    def fields(self) -> tuple[str, ...]:
        """The names of its fields, in their order."""
        parsed = (
            name
            for one in self.lines
            for text in (one.section or "", one.text)
            for _, name, _, _ in string.Formatter().parse(text)
        )
        return tuple(name for name in parsed if name)

    def places(self, field: str) -> int | None:
        """The decimals in which a field is written; None where its format names none."""
        for one in self.lines:
            for _, name, form, _ in string.Formatter().parse(one.text):
                found = NUMBER_FORMAT.fullmatch(form or "") if name == field else None
                if found is not None and found["places"]:
                    return int(found["places"])
        return None

    def filled(self, **known: object) -> Template:
        """The same lines with some numbers or words written in for good; None leaves a field
        open.
        """
        text, section = self.text, self.section
        for field, value in known.items():
            if value is not None:
                pattern = rf"\{{{field}(:[^}}]*)?\}}"
                text = re.sub(pattern, str(value), text)
                section = section and re.sub(pattern, str(value), section)
        return Template(text, section, tuple(one.filled(**known) for one in self.further))

    def with_places(self, field: str, places: int) -> Template:
        """The same line with so many decimals for a field."""
        text = re.sub(rf"\{{{field}(:[^}}]*)?\}}", f"{{{field}:.{places}f}}", self.text)
        return Template(text, self.section, self.further)


def block(lines: Iterable[Entered]) -> tuple[str, ...]:
    """Lines as they are entered: codes first, then those of a file under their sections."""
    groups: dict[str | None, list[str]] = {None: []}
    for one in lines:
        groups.setdefault(one.section, []).append(one.text)
    codes = groups.pop(None)
    return (*codes, *(text for name, own in groups.items() for text in (f"[{name}]", *own)))


def lines_in(block: Iterable[str]) -> list[Entered]:
    """The lines of one or more blocks again."""
    found, section = [], None
    for text in block:
        if head := SECTION.fullmatch(text):
            section = head[1]
        else:
            found.append(Entered(text, None if text.startswith(";") else section))
    return found


def checked(text: object, allowed: Iterable[str], where: str, section: object = None) -> Template:
    """A template that holds only the allowed fields with a plain numeric format; UnknownFormat
    names what is wrong.

    `allowed`: names that may stand in braces. `section`: a file's section, for controllers that are
    set by a file.
    """
    names = tuple(allowed)
    fields = (
        "its fields are " + ", ".join("{" + name + "}" for name in names)
        if names
        else "it has no fields"
    )
    if not isinstance(text, str) or not isinstance(section, str | None):
        raise UnknownFormat(f"{where}: a line must be text", fields)
    for part in (text, section or ""):
        if CONTROL.search(part):
            raise UnknownFormat(
                f"{where}: a control character or a line end in it", "write one plain line"
            )
        if len(part) > LONGEST_TEMPLATE:
            raise UnknownFormat(
                f"{where}: longer than {LONGEST_TEMPLATE} characters", "write a shorter line"
            )
    try:
        parts = [*string.Formatter().parse(text), *string.Formatter().parse(section or "")]
    except ValueError as error:
        raise UnknownFormat(
            f"{where}: '{echoed(text)}' cannot be filled ({error})", fields
        ) from error
    for _, name, form, conversion in parts:
        if name is None:
            continue
        if name not in names:
            raise UnknownFormat(f"{where}: a field '{echoed(name)}' in it", fields)
        found = NUMBER_FORMAT.fullmatch(form or "")
        if (
            conversion
            or found is None
            or int(found["width"] or 0) > MOST_WIDTH
            or int(found["places"] or 0) > MOST_PLACES
        ):
            raise UnknownFormat(
                f"{where}: the format '{echoed(form or conversion or '')}' of {{{name}}}",
                f"use a plain one such as {{{name}:.4f}}",
            )
    return Template(text, section)


def fill(
    template: Template,
    values: Mapping[str, object],
    where: str,
    room: Mapping[str, float] | None = None,
) -> tuple[Entered, ...]:
    """The lines with their fields filled. A number must be finite, a word plain; where `room` is
    given, what is written of a number may be off by no more than that, or by LOST of it.
    UnknownFormat otherwise.
    """
    return tuple(
        Entered(
            _filled(one.text, values, where, room),
            one.section and _filled(one.section, values, where, None),
        )
        for one in template.lines
    )


def _filled(
    text: str, values: Mapping[str, object], where: str, room: Mapping[str, float] | None
) -> str:
    out = []
    for literal, name, form, _ in string.Formatter().parse(text):
        out.append(literal)
        if name is None:
            continue
        value = values[name]
        if isinstance(value, str):
            if not WORD.fullmatch(value) or form:
                raise UnknownFormat(
                    f"{where}: {{{name}}} is the word '{echoed(value)}'",
                    f"write {{{name}}} without a format",
                )
            out.append(value)
            continue
        number = float(value)  # type: ignore[arg-type]
        if not math.isfinite(number):
            raise UnknownFormat(f"{where}: {{{name}}} is no finite number", "measure again")
        out.append(_written(number, form or ""))
        if room is not None:
            _refuse_rounding(name, number, out[-1], form or "", where, room.get(name))
    return "".join(out)


def _refuse_rounding(
    name: str, number: float, written: str, form: str, where: str, room: float | None
) -> None:
    """Refuse a format that rounds the answer away."""
    most = LOST * abs(number) if room is None else room
    if abs(float(written) - number) <= max(most, 1e-12):
        return
    places = min(max(math.ceil(-math.log10(max(most, 1e-12))), 1), MOST_PLACES)
    raise UnknownFormat(
        f"{where}: {{{name}:{form}}} writes {written} for {number:.6g}",
        f"give it the decimals it needs: {{{name}:.{places}f}}",
    )


def _written(number: float, form: str) -> str:
    """A number in a plain format; without one, with the decimals it needs and never an exponent."""
    if form.lower().endswith("d"):
        return format(round(number), form)
    return format(number, form) if form else f"{number:.10f}".rstrip("0").rstrip(".")
