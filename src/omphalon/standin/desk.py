"""Beside the stand-in printer: a rule, a caliper and a sensor, and somebody who uses them. What is
read off what it did is put into a folder.
"""

from __future__ import annotations

import gzip
import math
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from omphalon.standin.bead import Nozzle
from omphalon.standin.builds import CALIPER_MM, Build
from omphalon.standin.frame import Move, Sensor, moves_in, shaken
from omphalon.standin.frame import as_csv as motion_csv
from omphalon.standin.kept import MachineSettings
from omphalon.standin.reader import Reader, ladder_csv, tower_csv
from omphalon.standin.samples import FULMAR_X, FULMAR_Y

TRUE_STEPS_E = 437.4
TRUE_LEAD_S = 0.52
MARK_BEYOND_MM = 30.0
RULE_MM, PLACED_MM = 0.1, 0.15
TRUE_WALL = 1.063  # of the width that the filament as it is sold would make
FILAMENT_MM, WALLS_FROM_MM, WALL_READ_MM = 1.75, 3.0, 0.01
FEWEST_LAYERS = 10  # of a tower; a ladder lies on the plate
LEAST_FEED_MM = 20.0  # a move that only feeds so much is a feeding test
MOST_MOVES = 60  # that somebody measures; more of them are no measurement
LEAST_STROKES = 100  # moves to and fro of one axis that make a sweep


class Desk:
    """Watches what the printer carries out, and writes fed.csv, moved.csv, ladder-widths.csv,
    tower-heights.csv, walls.csv, sweep-x.csv.gz, sweep-y.csv.gz.
    """

    def __init__(self, folder: Path | None, build: Build, seed: int = 9) -> None:
        self.folder, self.build = folder, build
        self.moved: list[str] = []
        self.lines: list[str] = []
        self.random = np.random.default_rng(seed)
        self.fed: list[str] = []

    def made(self, line: str, kept: MachineSettings) -> None:
        """One line that the printer carried out, under these settings."""
        if self.folder is None:
            return
        words = line.split()
        if (
            words[0] == "G1"
            and any(w[0] == "E" for w in words)
            and not any(w[0] in "XYZ" for w in words[1:])
        ):
            self._feed(float(next(w[1:] for w in words if w[0] == "E")), kept)
        if words[0] == "G1" and len(self.moved) < MOST_MOVES:
            self._caliper(words, kept)
        if words[0] == "G28":
            self.lines = [f"LEAD {kept.lead_s}", f"PUSH {kept.push_mm_s2}"]
        self.lines.append(line)
        if words[0] == "M84":
            self._read(kept)
            self.lines = []

    def _feed(self, asked_mm: float, kept: MachineSettings) -> None:
        """Somebody marks the filament, lets it be fed, and lays a rule to what is left."""
        if asked_mm < LEAST_FEED_MM:
            return
        mark = asked_mm + MARK_BEYOND_MM
        fed = asked_mm * kept.steps["E"] / TRUE_STEPS_E
        left = mark - fed + self.random.normal(0, PLACED_MM)
        self.fed.append(f"{asked_mm:g},{mark:g},{round(left / RULE_MM) * RULE_MM:.1f}")
        self._put("fed.csv", ["asked_mm,mark_mm,left_mm", *self.fed])

    def _caliper(self, words: list[str], kept: MachineSettings) -> None:
        """Somebody lays a caliper between an axis's zero and where a move of it alone ended."""
        given = {w[0]: float(w[1:]) for w in words[1:]}
        if len(given.keys() & set("XYZ")) != 1 or "E" in given:
            return
        axis = next(a for a in "XYZ" if a in given)
        asked = np.where(np.array(list("XYZ")) == axis, given[axis], 0.0)
        there = self.build.place(asked, kept.steps) - self.build.place(0 * asked, kept.steps)
        read = np.sign(given[axis]) * np.linalg.norm(there) + self.random.normal(0, CALIPER_MM)
        if given[axis]:
            self.moved.append(f"{axis.lower()},{given[axis]:g},{read:.2f}")
            self._put("moved.csv", ["axis,asked_mm,moved_mm", *self.moved])

    def _read(self, kept: MachineSettings) -> None:
        """What there is to be read off a print, or a sweep, that is over."""
        nozzle, reader = Nozzle(lead_s=TRUE_LEAD_S), Reader(seed=21)
        if not any(" E" in line for line in self.lines):
            for axis, swings in (("x", FULMAR_X), ("y", FULMAR_Y)):
                strokes = [x for x in self.lines if x.startswith(f"G1 {axis.upper()}")]
                if len(strokes) >= LEAST_STROKES:
                    sensor = Sensor(
                        rate_hz=1000.0, noise_mm_s2=120.0, along="xy".index(axis), seed=33
                    )
                    log = shaken(self.lines, axis, swings, sensor)
                    self._put(f"sweep-{axis}.csv.gz", motion_csv(log, "g"))
            return
        fed = [move for move in moves_in(self.lines) if move.fed_mm > 0]
        if not any(line.startswith("LEAD") for line in self.lines[2:]):
            walls = [move for move in fed if move.z > WALLS_FROM_MM]
            if len({move.z for move in walls}) > 1:
                self._put("walls.csv", walls_csv(walls, kept, self.random))
        elif len({move.z for move in fed}) < FEWEST_LAYERS:
            self._put("ladder-widths.csv", list(ladder_csv(self.lines, nozzle, reader)))
        else:
            self._put("tower-heights.csv", tower_csv(self.lines, nozzle, reader))

    def _put(self, name: str, lines: Iterator[str] | list[str]) -> None:
        assert self.folder is not None
        data = ("\n".join(lines) + "\n").encode()
        target = self.folder / name
        part = target.with_name(f".{name}.part")
        part.write_bytes(gzip.compress(data, mtime=0) if name.endswith(".gz") else data)
        part.replace(target)


def walls_csv(
    walls: list[Move], kept: MachineSettings, random: np.random.Generator
) -> Iterator[str]:
    """Walls of a hollow print of one line, by caliper: as wide as what is fed makes them."""
    layer = float(np.min(np.diff(np.unique([m.z for m in walls]))))
    fed = sum(m.fed_mm for m in walls) / sum(m.length_mm for m in walls)
    area = fed * math.pi / 4 * FILAMENT_MM**2 * kept.stream * kept.steps["E"] / TRUE_STEPS_E
    yield "wall_mm"
    for _ in range(8):
        yield f"{TRUE_WALL * area / layer + random.normal(0, WALL_READ_MM):.2f}"
