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

LONGEST = 200
NUMBER_FORMAT = re.compile(
    r"(?:[+ ]?0?(?P<width>\d{0,2}))?(?:\.(?P<places>\d{1,2}))?(?P<kind>[dfeg]?)", re.I
)
MOST_WIDTH, MOST_PLACES = 20, 12
LOST = 0.005  # of a number without a spread may be lost in writing it
WORD = re.compile(r"[A-Za-z0-9_+.-]{1,40}")


@dataclass(frozen=True)
class Template:
    """A checked line: its text, and the section of the controller's file it belongs to, if it is
    set by a file.
    """

    text: str
    section: str | None = None

    def fields(self) -> tuple[str, ...]:
        """The names of its fields, in their order."""
        return tuple(name for _, name, _, _ in string.Formatter().parse(self.text) if name)

    def places(self, field: str) -> int | None:
        """The decimals in which a field is written; None where its format names none."""
        for _, name, form, _ in string.Formatter().parse(self.text):
            if (
                name == field
                and form
                and (found := NUMBER_FORMAT.fullmatch(form))
                and found["places"]
            ):
                return int(found["places"])
        return None

    def filled(self, **numbers: int | None) -> Template:
        """The same line with some whole numbers written in for good; None leaves a field open."""
        text = self.text
        for field, number in numbers.items():
            if number is not None:
                text = re.sub(rf"\{{{field}(:[^}}]*)?\}}", str(number), text)
        return Template(text, self.section)

    def with_places(self, field: str, places: int) -> Template:
        """The same line with so many decimals for a field."""
        text = re.sub(rf"\{{{field}(:[^}}]*)?\}}", f"{{{field}:.{places}f}}", self.text)
        return Template(text, self.section)


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
        if len(part) > LONGEST:
            raise UnknownFormat(
                f"{where}: longer than {LONGEST} characters", "write a shorter line"
            )
    try:
        parts = list(string.Formatter().parse(text))
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
) -> str:
    """The line with its fields filled. A number must be finite, a word plain; where `room` is
    given, what is written of a number may be off by no more than that, or by LOST of it.
    UnknownFormat otherwise.
    """
    out = []
    for literal, name, form, _ in string.Formatter().parse(template.text):
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
