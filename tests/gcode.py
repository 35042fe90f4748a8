"""A plain G-code interpreter for checking what prints/ writes. It shares no code with it."""

import math
from dataclasses import dataclass, field


@dataclass
class Fed:
    """One move that lays plastic: from, to, height, filament, feed in mm/s, the value line in force, its comment."""

    start: tuple
    end: tuple
    z: float
    filament: float
    speed: float
    value: str | None
    note: str

    @property
    def length(self):
        return math.dist(self.start, self.end)


@dataclass
class Machine:
    """What a controller keeps in mind; `faults` are sentences."""

    value_word: str
    at: dict = field(default_factory=lambda: {"X": 0.0, "Y": 0.0, "Z": 0.0})
    relative: bool = False
    absolute: bool = False
    nozzle: float = 0.0
    bed: float = 0.0
    fan: float = 0.0
    value: str | None = None
    feed: float = 0.0
    homed: bool = False
    moves: list = field(default_factory=list)
    travels: list = field(default_factory=list)
    faults: list = field(default_factory=list)
    retracted: float = 0.0

    def run(self, lines):
        note = ""
        for number, line in enumerate(lines, 1):
            code, _, comment = line.partition(";")
            note = comment.strip() or note
            words = code.split()
            if words:
                self.step(words, number, note)
        return self

    def step(self, words, number, note):
        name = words[0]
        if name == self.value_word:
            self.value = words[1]
            return
        given = {w[0]: float(w[1:]) for w in words[1:]}
        if name in ("G0", "G1"):
            self.move(given, number, note)
        elif name == "G28":
            self.homed = True
            self.at = {"X": 0.0, "Y": 0.0, "Z": 0.0}
        elif name == "G90":
            self.absolute = True
        elif name == "M83":
            self.relative = True
        elif name == "M109":
            self.nozzle = given["S"]
        elif name == "M104":
            self.nozzle = min(self.nozzle, given["S"])
        elif name == "M190":
            self.bed = given["S"]
        elif name == "M140":
            self.bed = min(self.bed, given["S"])
        elif name == "M106":
            self.fan = given["S"] / 255
        elif name == "M107":
            self.fan = 0.0
        elif name not in ("G21", "M84", "PUSH", "M117", "M400", "G4"):
            self.faults.append(f"line {number}: {name} is unknown")

    def move(self, given, number, note):
        self.feed = given.get("F", self.feed)
        before = dict(self.at)
        self.at.update({axis: given[axis] for axis in "XYZ" if axis in given})
        fed = given.get("E", 0.0)
        if not (self.homed and self.absolute and (self.relative or not fed)):
            self.faults.append(f"line {number}: moves before home, G90 and M83")
        start, end = (before["X"], before["Y"]), (self.at["X"], self.at["Y"])
        if fed and start == end:
            self.retracted -= fed
        elif fed:
            if self.retracted > 1e-6:
                self.faults.append(f"line {number}: lays plastic while retracted")
            self.moves.append(Fed(start, end, self.at["Z"], fed, self.feed / 60, self.value, note))
            if self.nozzle < 150:
                self.faults.append(f"line {number}: feeds while cold")
        else:
            self.travels.append((start, end, self.at["Z"]))


def strokes(moves):
    """Moves that follow each other without a gap."""
    out = []
    for move in moves:
        if out and out[-1][-1].end == move.start and out[-1][-1].z == move.z:
            out[-1].append(move)
        else:
            out.append([move])
    return out
