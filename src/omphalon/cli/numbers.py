"""The kinds of value that an option takes: numbers of a quantity, several with colons between,
words out of a few.
"""

from __future__ import annotations

from typing import Any

import click

from omphalon.base.errors import UsageError, echoed
from omphalon.tables.quantities import QUANTITIES
from omphalon.tables.units import NoSuchNumber, Number, is_usual, number_in, plural

UNUSUAL = "omphalon.unusual"


class Measure(click.ParamType):  # type: ignore[type-arg]
    """A number: a row of the table of quantities, perhaps in a narrower range. `reading`: as it
    was written, with its digits.
    """

    name = "number"

    def __init__(
        self,
        quantity: str,
        lowest: float | None = None,
        highest: float | None = None,
        reading: bool = False,
    ) -> None:
        self.quantity = QUANTITIES[quantity]
        self.lowest, self.highest, self.reading = lowest, highest, reading

    @property
    def metavar(self) -> str:
        """What stands for it in help."""
        return self.quantity.metavar

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if not isinstance(value, str):
            return value
        option = param.opts[0] if param is not None and param.opts else "the number"
        number = parsed(value, self, option)
        if ctx is not None and not is_usual(number.value, self.quantity) and not self.reading:
            ctx.meta.setdefault(UNUSUAL, []).append(f"{option} {echoed(value)}")
        if self.reading:
            return number
        return int(number.value) if self.quantity.whole else number.value


class Numbers(click.ParamType):  # type: ignore[type-arg]
    """Numbers of one quantity with colons between: FROM:TO:STEP, X:Y."""

    def __init__(self, names: str, measure: Measure, example: str) -> None:
        self.name, self.measure, self.example = names, measure, example

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if not isinstance(value, str):
            return value
        option = param.opts[0] if param is not None and param.opts else "the numbers"
        count = self.name.count(":") + 1
        return tuple(numbers_of(value, self.measure, count, option, self.example))


class Span(click.ParamType):  # type: ignore[type-arg]
    """A number of a quantity, or a range LOW:HIGH: both its ends, which a number alone shares."""

    name = "C|LOW:HIGH"

    def __init__(self, measure: Measure, example: str) -> None:
        self.measure, self.example = measure, example

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if not isinstance(value, str):
            return value
        if ":" not in value:
            return (self.measure.convert(value, param, ctx),) * 2
        option = param.opts[0] if param is not None and param.opts else "the range"
        low, high = numbers_of(value, self.measure, 2, option, self.example)
        if low >= high:
            problem = "upside down" if low > high else "no range"
            raise UsageError(
                f"{option} {echoed(value)}: {problem}", f"lower end first: {self.example}"
            )
        return low, high


def parsed(text: str, measure: Measure, option: str) -> Number:
    """A text as a number, or a UsageError that names the option."""
    try:
        return number_in(text, measure.quantity, measure.lowest, measure.highest)
    except NoSuchNumber as error:
        raise UsageError(f"{option} {echoed(text)}: {error.problem}", error.remedy) from error


def numbers_of(text: str, measure: Measure, count: int, option: str, example: str) -> list[float]:
    """Numbers between colons, as many as asked for."""
    parts = text.split(":")
    if len(parts) != count or not all(p.strip() for p in parts):
        raise UsageError(
            f"{option} {echoed(text)}: not {plural(count, 'number')}"
            f"{' with colons between' if count > 1 else ''}",
            f"for example {example}",
        )
    return [parsed(part, measure, option).value for part in parts]


def choice(*words: str) -> click.Choice[str]:
    """One of some words, whatever their case."""
    return click.Choice(list(words), case_sensitive=False)
