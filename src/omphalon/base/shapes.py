"""What a piece of JSON from somebody else must look like before anything is taken from it."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

# a type; float: any number; None: null; {key: shape}: an object with at least these; [shape]: a
# list of them; (shape, shape): one of them; and those below
Shape = Any
MOST_DEEP = 40  # tables in tables
LONGEST_INTEGER = 18  # digits


@dataclass(frozen=True)
class Within:
    """A finite number in a range."""

    low: float
    high: float


@dataclass(frozen=True)
class OneOf:
    """One of some words."""

    words: tuple[str, ...]

    def __init__(self, *words: str) -> None:
        object.__setattr__(self, "words", words)


@dataclass(frozen=True)
class Some:
    """A list of a shape, of a length in a range."""

    shape: Any
    fewest: int
    most: int


VERDICT = OneOf("change", "keep", "retest")
DOCUMENT: Shape = {
    "kind": str,
    "verdict": VERDICT,
    "because": str,
    "settings": dict,
    "spread": dict,
    "evidence": dict,
    "warnings": [{"code": str, "message": str, "remedy": str}],
    "lines": [str],
}


def fits(value: object, shape: Shape) -> bool:
    """Whether a value has a shape."""
    if isinstance(shape, dict):
        return isinstance(value, dict) and all(
            key in value and fits(value[key], inner) for key, inner in shape.items()
        )
    if isinstance(shape, list):
        return isinstance(value, list) and all(fits(one, shape[0]) for one in value)
    if isinstance(shape, tuple):
        return any(fits(value, one) for one in shape)
    if isinstance(shape, Within):
        return fits(value, float) and shape.low <= value <= shape.high  # type: ignore[operator]
    if isinstance(shape, OneOf):
        return isinstance(value, str) and value in shape.words
    if isinstance(shape, Some):
        few = isinstance(value, list) and shape.fewest <= len(value) <= shape.most
        return few and fits(value, [shape.shape])
    if shape is None:
        return value is None
    if shape is float:
        return isinstance(value, int | float) and not isinstance(value, bool)
    return isinstance(value, shape)


def parsed(text: str, shape: Shape) -> Any:
    """A piece of JSON with finite numbers and whole letters, not deep, that has a shape.

    Raises ValueError if it is none, or has another shape.
    """
    try:
        value = json.loads(
            text, parse_constant=_no_number, parse_float=_finite, parse_int=_short_integer
        )
    except RecursionError as error:
        raise ValueError("nested too deeply") from error
    inner, depth = [value], 0
    while inner:
        depth += 1
        if depth > MOST_DEEP:
            raise ValueError("nested too deeply")
        inner = [
            one
            for some in inner
            if isinstance(some, dict | list)
            for one in (some.values() if isinstance(some, dict) else some)
        ]
    json.dumps(value, ensure_ascii=False).encode()  # halves of letters are a ValueError
    if not fits(value, shape):
        raise ValueError("of another shape")
    return value


def _finite(word: str) -> float:
    value = float(word)
    if not math.isfinite(value):
        _no_number(word)
    return value


def _short_integer(word: str) -> int:
    if len(word) > LONGEST_INTEGER:
        _no_number(word[:LONGEST_INTEGER])
    return int(word)


def _no_number(word: str) -> None:
    raise ValueError(f"{word} is no number")


def flat(table: Mapping[str, Any], before: str = "") -> Iterator[tuple[str, object]]:
    """Nested tables as keys with dots and their values; what lies too deep stays a table."""
    for name, value in table.items():
        key = f"{before}{name}"
        if isinstance(value, Mapping) and key.count(".") < MOST_DEEP:
            yield from flat(value, f"{key}.")
        else:
            yield key, value
