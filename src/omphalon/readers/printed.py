"""The test prints that `advance plan` wrote, read back: which line lies where, and with which
value.
"""

from __future__ import annotations

import re
from typing import Any

import numpy as np

from omphalon.errors import UsageError, echoed
from omphalon.readers.text import MB, SizeLimit, read_text
from omphalon.recording import Place, PrintedLadder, PrintedStroke
from omphalon.shapes import Shape, fits, parsed

PRINT = SizeLimit(30 * MB, 30 * MB, "give the print that `omphalon advance plan` wrote")
HEAD, MARK = 12, "; plan "  # the line in which a print says what it is
PLAN = {
    "print": str,
    "drive": str,
    "values_s": [float],
    "width_mm": float,
    "layer_mm": float,
    "acceleration_mm_s2": float,
}
WORD = re.compile(r"([XYZEF])(-?\d+(?:\.\d+)?)")


def read_ladder(path: str) -> PrintedLadder:
    """Read the G-code of a ladder.

    Raises
    ------
    UsageError
        If the file is no ladder of ours, or cannot be read.
    """
    name, lines, words = _read(path, (PLAN, {"print": str}))
    if words["print"] != "ladder":
        raise UsageError(
            f"{name}: holds {echoed(words['print'])}, no ladder",
            "only a ladder is read from a picture; read others by eye or caliper",
        )
    strokes = _strokes(lines)
    rungs = [s for s in strokes if s.note.startswith("line ")]
    if not fits(words, PLAN) or len(rungs) < 2 or len(rungs) != len(words["values_s"]):
        raise UsageError(f"{name}: its lines cannot be found", "give the file as it was written")
    return PrintedLadder(
        name=name,
        lines=tuple(rungs),
        values_s=tuple(words["values_s"]),
        others=tuple(s for s in strokes if not s.note.startswith("line ")),
        drive=words["drive"],
        width_mm=words["width_mm"],
        layer_mm=words["layer_mm"],
        acceleration_mm_s2=words["acceleration_mm_s2"],
    )


def read_plan(path: str) -> dict[str, Any]:
    """What a print of ours says of itself.

    Raises
    ------
    UsageError
        If the file is none of ours, or cannot be read.
    """
    return _read(path, {"print": str})[2]


def _read(path: str, shape: Shape) -> tuple[str, list[str], dict[str, Any]]:
    """A print's name and lines, and the plan in its header."""
    text = read_text(path, PRINT)
    plan = next((line[len(MARK) :] for line in text.lines[:HEAD] if line.startswith(MARK)), "")
    try:
        return text.source, text.lines, parsed(plan, shape)
    except ValueError as error:
        raise UsageError(
            f"{text.source}: not a print that omphalon wrote, or one of an earlier version",
            "give the file that was printed, or plan it again",
        ) from error


def _strokes(lines: list[str]) -> list[PrintedStroke]:
    """Runs of moves that feed, under the last comment before each."""
    found: list[PrintedStroke] = []
    note, at = "", (np.nan, np.nan)
    places: list[Place] = []
    speeds: list[float] = []

    def end() -> None:
        if len(places) > 1:
            found.append(PrintedStroke(note, tuple(places), tuple(speeds)))
        places.clear()
        speeds.clear()

    for line in lines:
        if line.startswith(";"):
            end()
            if "gives back" not in line:
                note = line[1:].strip().split(":")[0]
            continue
        if not line.startswith(("G0", "G1")):
            continue
        words = dict(WORD.findall(line.split(";")[0]))
        to = (float(words.get("X", at[0])), float(words.get("Y", at[1])))
        fed = float(words.get("E", 0)) > 0 and to != at
        if fed:
            if not places:
                places.append(at)
            places.append(to)
            speeds.append(float(words.get("F", 0)) / 60)
        else:
            end()
        at = to
    end()
    return found
