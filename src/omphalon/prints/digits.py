"""Digits that a nozzle can draw: few strokes, no line laid twice, on a grid two wide and four
high.
"""

from __future__ import annotations

from collections.abc import Iterator

from omphalon.prints.strokes import Place

WIDE, HIGH, PITCH = 2, 4, 3
# each glyph: its strokes, as places on the grid
GLYPHS: dict[str, tuple[tuple[tuple[float, float], ...], ...]] = {
    "0": (((0, 0), (2, 0), (2, 4), (0, 4), (0, 0)),),
    "1": (((0, 3), (1, 4), (1, 0)),),
    "2": (((0, 4), (2, 4), (2, 2), (0, 2), (0, 0), (2, 0)),),
    "3": (((0, 4), (2, 4), (2, 0), (0, 0)), ((0.6, 2), (1.6, 2))),
    "4": (((0, 4), (0, 2), (2, 2)), ((2, 4), (2, 0))),
    "5": (((2, 4), (0, 4), (0, 2), (2, 2), (2, 0), (0, 0)),),
    "6": (((2, 4), (0, 4), (0, 0), (2, 0), (2, 2), (0.4, 2)),),
    "7": (((0, 4), (2, 4), (0.8, 0)),),
    "8": (((0, 0), (2, 0), (2, 4), (0, 4), (0, 0)), ((0.4, 2), (1.6, 2))),
    "9": (((2, 2), (0, 2), (0, 4), (2, 4), (2, 0), (0, 0)),),
    ".": (((0.2, 0), (0.8, 0)),),
}


def width_of(text: str, high_mm: float) -> float:
    """Width in mm of a text drawn so high."""
    unit = high_mm / HIGH
    return unit * (sum(_pitch(c) for c in text) - (PITCH - WIDE))


def drawn(text: str, x: float, y: float, high_mm: float) -> Iterator[tuple[Place, ...]]:
    """Strokes of a text whose lower left corner lies at x, y; an unknown sign is left blank."""
    unit = high_mm / HIGH
    for sign in text:
        for stroke in GLYPHS.get(sign, ()):
            yield tuple((x + unit * gx, y + unit * gy) for gx, gy in stroke)
        x += unit * _pitch(sign)


def _pitch(sign: str) -> float:
    return 2.0 if sign == "." else PITCH
