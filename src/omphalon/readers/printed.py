"""The test prints that `advance plan` wrote, read back: which line lies where, and with which
value.
"""

from __future__ import annotations

import re

import numpy as np

from omphalon.errors import UsageError
from omphalon.readers.text import MB, SizeLimit, read_text
from omphalon.recording import Place, PrintedLadder, PrintedStroke

PRINT = SizeLimit(30 * MB, 30 * MB, "give the print that `omphalon advance plan` wrote")
WORD = re.compile(r"([XYZEF])(-?\d+(?:\.\d+)?)")


def read_ladder(path: str) -> PrintedLadder:
    """Read the G-code of a ladder.

    Raises
    ------
    UsageError
        If the file is no ladder of ours, or cannot be read.
    """
    text = read_text(path, PRINT)
    name, lines = text.source, text.lines
    head = " ".join(line for line in lines[:12] if line.startswith(";"))
    if "written by omphalon" not in head:
        raise UsageError(
            f"{name}: not a print that omphalon wrote", "give the file that was printed"
        )
    if "ladder for pressure advance" not in head:
        what = re.search(r"omphalon [\d.]+ ; ([^:;]+):", head)
        raise UsageError(
            f"{name}: holds {what[1] if what else 'another print'}, no ladder",
            "only a ladder is read from a picture; read others by eye or caliper",
        )
    strokes = _strokes(lines)
    rungs = sorted(
        ((float(s.note.split()[1]), s) for s in strokes if re.fullmatch(r"line [\d.]+", s.note)),
        key=lambda rung: rung[0],
    )
    width = re.search(r"line ([\d.]+) x", head)
    push = re.search(r"acceleration ([\d.]+) mm/s2", head)
    if len(rungs) < 2 or width is None or push is None:
        raise UsageError(f"{name}: its lines cannot be found", "give the file as it was written")
    return PrintedLadder(
        name=name,
        lines=tuple(s for _, s in rungs),
        values_s=tuple(v for v, _ in rungs),
        others=tuple(s for s in strokes if not s.note.startswith("line ")),
        drive="bowden" if "bowden" in head else "direct",
        width_mm=float(width[1]),
        acceleration_mm_s2=float(push[1]),
    )


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
