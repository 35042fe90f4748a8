"""Parts of a printer, and the settings that a change of each makes stale."""

from __future__ import annotations

AXES_SHAKEN = ("shaper-x", "shaper-y", "acceleration")
LIMITS = (
    *(f"{what}-limit-{a}" for what in ("speed", "acceleration") for a in "xyz"),
    *("corner-limit-x", "corner-limit-y"),
)
FEEDING = ("speed-limit-e", "acceleration-limit-e")
# part → setting → why it no longer holds
PARTS: dict[str, dict[str, str]] = {
    "nozzle": {
        "probe-offset": "the tip is somewhere else",
        "flow": "another bore feeds and lays differently",
        "advance": "another bore builds up another pressure",
    },
    "block": {
        "hotend-gains": "another mass heats at another pace",
        "probe-offset": "the tip is somewhere else",
        "advance": "melt and pressure are others",
    },
    "sock": {"hotend-gains": "the block loses another share of its heat"},
    "sensor": {
        "hotend-gains": "another sensor reads later or sooner, and elsewhere",
        **dict.fromkeys(
            ("bed-gains", "chamber-gains"), "another sensor reads later or sooner, and elsewhere"
        ),
        "flow": "the same number may be another temperature",
    },
    "cartridge": {"hotend-gains": "full power is another power"},
    "part-fan": {"hotend-gains": "the fan takes another share of the heat"},
    "bed-plate": {
        "bed-gains": "another mass heats at another pace",
        "probe-offset": "the surface is somewhere else",
        "shaper-y": "where the bed moves, another mass swings",
        "acceleration": "where the bed moves, another mass swings",
    },
    "belt": {
        **dict.fromkeys(AXES_SHAKEN, "its tension is part of what swings"),
        **dict.fromkeys(("steps-x", "steps-y"), "another belt has another pitch, within its error"),
    },
    "pulley": {
        **dict.fromkeys(("steps-x", "steps-y"), "another diameter moves another way"),
        **dict.fromkeys(LIMITS, "another lever pulls with another force"),
    },
    "drive-wheel": {
        **dict.fromkeys(FEEDING, "other teeth grip otherwise"),
        "steps-e": "another diameter feeds another length",
        "flow": "it stands on the extruder's steps",
        "advance": "it stands on the extruder's steps",
    },
    "motor": {
        **dict.fromkeys((*LIMITS, *FEEDING), "another torque"),
        "steps-e": "another step angle feeds another length, if it is the extruder's",
        **dict.fromkeys(AXES_SHAKEN, "another inertia swings with it"),
    },
    "filament": {
        "flow": "each filament flows in its own way",
        "advance": "each filament is pressed in its own way",
    },
    "place": dict.fromkeys(AXES_SHAKEN, "what the printer stands on is part of what swings"),
    "controller": dict.fromkeys(
        ("hotend-gains", "bed-gains", "chamber-gains"),
        "another loop runs at another pace with another filter",
    ),
}
# parts that each tool has for itself; what is changed on one makes nothing of another stale
PARTS_OF_TOOL = frozenset(
    (
        "nozzle",
        "block",
        "sock",
        "sensor",
        "cartridge",
        "part-fan",
        "drive-wheel",
        "motor",
        "filament",
    )
)


def parts_of(setting: str) -> str:
    """The parts whose change makes a setting stale, as an answer names them."""
    *most, last = [part.replace("-", " ") for part, rows in PARTS.items() if setting in rows]
    return f"{', '.join(most)} or {last}" if most else last
