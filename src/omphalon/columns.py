"""The columns of every READINGS.csv, and the options of the same meaning: one table for readers,
commands, docs and tests.
"""

from __future__ import annotations

from omphalon.recording import Column

AXES = ("x", "y", "z")
MOVED = (*AXES, "e")
PASSED, FAILED = ("pass", "passed", "ok", "yes", "1"), ("fail", "failed", "no", "0")
PRINTS = ("before", "after")
KINDS = ("move", "outside", "inside")

EXTRUDER = (
    Column(
        name="asked_mm",
        option="--asked",
        quantity="size",
        help="Length commanded; once for all, or once a reading.",
        also=("length", "commanded"),
        shared=True,
    ),
    Column(
        name="mark_mm",
        option="--mark",
        quantity="size",
        help="Where the mark was, from a fixed edge,",
        shared=True,
    ),
    Column(
        name="left_mm",
        option="--left",
        quantity="length",
        help="and what was left of it; negative when it went in.",
        also=("remaining",),
    ),
    Column(
        name="before_mm",
        option="--before",
        quantity="length",
        help="Distance of a flag from a fixed edge before,",
    ),
    Column(name="after_mm", option="--after", quantity="length", help="and after."),
    Column(
        name="fed_mm",
        option="--fed",
        quantity="size",
        help="Length of the piece that came, measured itself.",
    ),
    Column(
        name="back_mm",
        option="--back",
        quantity="distance",
        help="Fed too much and pulled back by this before measuring.",
        shared=True,
    ),
    Column(
        name="speed_mm_s",
        option="--speed",
        quantity="speed",
        help="Speed of each reading.",
        shared=True,
    ),
    Column(
        name="temp_c",
        option="--temp",
        quantity="hotend temperature",
        help="Nozzle's temperature.",
        also=("temperature",),
        shared=True,
    ),
)
AXIS = (
    Column(name="axis", option="--axis", choices=AXES, help="Which axis."),
    Column(
        name="asked_mm",
        option="--asked",
        quantity="length",
        help="Length commanded or drawn; negative when moving back.",
        also=("length", "commanded", "drawn"),
        shared=True,
    ),
    Column(
        name="moved_mm",
        option="--moved",
        quantity="length",
        help="Length measured.",
        also=("measured", "got"),
    ),
    Column(
        name="kind",
        option="--kind",
        choices=KINDS,
        help="A move, or a printed part measured outside or inside.",
    ),
)
FLOW = (
    Column(
        name="wall_mm",
        option="--wall",
        quantity="wall",
        help="A wall's thickness; once for each reading.",
        also=("thickness", "wall_thickness"),
    ),
    Column(name="side", option="--side", help="Which side of the cube, in any words."),
)
FILAMENT = (
    Column(
        name="diameter_mm",
        option="--diameter",
        quantity="filament width",
        help="The filament's width; at each place twice, across and across that.",
        also=("filament_width", "filament_diameter"),
    ),
)
ADVANCE = (
    Column(
        name="height_mm",
        option="--height",
        quantity="distance",
        help="Height where the corner is best; once for each reading.",
    ),
    Column(
        name="advance_s",
        option="--value",
        quantity="advance",
        help="Value of a line or corner,",
        also=("value", "pressure_advance"),
    ),
    Column(
        name="score", option="--score", quantity="score", help="and its score (higher is better),"
    ),
    Column(
        name="bulge_mm",
        option="--bulge",
        quantity="bulge",
        help="or its corner's bulge (positive), also with --height.",
    ),
    Column(
        name="speedup_mm",
        option="--speedup",
        quantity="distance",
        help="Or a line's width just after it sped up,",
    ),
    Column(
        name="slowdown_mm",
        option="--slowdown",
        quantity="distance",
        help="and just after it slowed down.",
    ),
    Column(name="reader", option="--reader", help="Who read it, in any words."),
)
CORNERS = (
    Column(name="print", option="--before", choices=PRINTS, help="Which print."),
    Column(name="corner", option="--seam", help="Which corner, in any words."),
    Column(
        name="bulge_mm",
        option="--after",
        quantity="bulge",
        help="How far the corner stands out (positive) or falls short.",
    ),
    Column(
        name="diagonal_mm",
        option="--diagonal",
        quantity="size",
        help="Or the diagonal across the cube,",
    ),
    Column(name="x_mm", option="--x", quantity="size", help="its side along X"),
    Column(name="y_mm", option="--y", quantity="size", help="and along Y."),
)
MOTION = (
    Column(name="axis", option="--axis", choices=MOVED, help="Which axis; e is the extruder."),
    Column(
        name="speed_mm_s", option="--pass", quantity="speed", help="Level of speed that was run,"
    ),
    Column(
        name="acceleration_mm_s2",
        option="--pass",
        quantity="acceleration",
        help="or level of acceleration,",
    ),
    Column(
        name="corner_mm_s",
        option="--pass",
        quantity="corner",
        help="or of the speed kept through right-angled corners.",
    ),
    Column(
        name="result",
        option="--fail",
        choices=(*PASSED, *FAILED),
        help="Whether the axis came back to its mark.",
    ),
)
PROBE = (
    Column(
        name="drag_mm",
        option="--drag",
        quantity="offset",
        help="Height at which the paper just drags; once for each.",
    ),
    Column(
        name="trigger_mm",
        option="--trigger",
        quantity="offset",
        help="Height at which the probe triggered; once for each.",
    ),
)
TABLES = {
    "extruder": EXTRUDER,
    "axis": AXIS,
    "flow": FLOW,
    "advance": ADVANCE,
    "advance check": CORNERS,
    "motion": MOTION,
    "probe": PROBE,
}
