"""What a piece of JSON from somebody else must look like before anything is taken from it."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any

# a type; float: any number; None: null; {key: shape}: an object with at least these; [shape]: a
# list of them; (shape, shape): one of them
Shape = Any
DOCUMENT: Shape = {
    "kind": str,
    "verdict": str,
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
    if shape is None:
        return value is None
    if shape is float:
        return isinstance(value, int | float) and not isinstance(value, bool)
    return isinstance(value, shape)


def parsed(text: str, shape: Shape) -> Any:
    """A piece of JSON with finite numbers that has a shape.

    Raises ValueError if it is none, or has another shape.
    """
    try:
        value = json.loads(text, parse_constant=_no_number)
    except RecursionError as error:
        raise ValueError("nested too deeply") from error
    if not fits(value, shape):
        raise ValueError("of another shape")
    return value


def _no_number(word: str) -> None:
    raise ValueError(f"{word} is no number")


def flat(table: Mapping[str, Any], before: str = "") -> Iterator[tuple[str, object]]:
    """Nested tables as keys with dots and their values."""
    for name, value in table.items():
        key = f"{before}{name}"
        if isinstance(value, Mapping):
            yield from flat(value, f"{key}.")
        else:
            yield key, value
