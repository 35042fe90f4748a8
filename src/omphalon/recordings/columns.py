"""The columns of every READINGS.csv, and the options of the same meaning: one table for readers,
commands, docs and tests; its rows stand in tables/columns.csv.
"""

from __future__ import annotations

from omphalon.recordings.recording import Column
from omphalon.tables.rows import grouped, rows_of

AXES = ("x", "y", "z")
MOVED = (*AXES, "e")
PASSED, FAILED = ("pass", "passed", "ok", "yes", "1"), ("fail", "failed", "no", "0")
PRINTS = ("before", "after")
MEASURED_AS = ("move", "outside", "inside")
WORDS = {"axes": AXES, "moved": MOVED, "passed or failed": (*PASSED, *FAILED)}
WORDS |= {"prints": PRINTS, "kinds": MEASURED_AS}

TABLES = grouped("table", rows_of("columns", Column, choices=WORDS))
FILAMENT = TABLES.pop("filament")  # measured at the filament, not read from a table
EXTRUDER, AXIS, FLOW, ADVANCE = (TABLES[t] for t in ("extruder", "axis", "flow", "advance"))
CORNERS, MOTION, PROBE, TRIAL = (TABLES[t] for t in ("advance check", "motion", "probe", "trial"))
