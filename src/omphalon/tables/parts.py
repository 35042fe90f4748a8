"""Parts of a printer, and the settings that a change of each makes stale: tables/parts.csv."""

from __future__ import annotations

from dataclasses import dataclass

from omphalon.tables.rows import rows_of

AXES_SHAKEN = ("shaper-x", "shaper-y", "acceleration")
LIMITS = (
    *(f"{what}-limit-{a}" for what in ("speed", "acceleration") for a in "xyz"),
    *("corner-limit-x", "corner-limit-y"),
)
FEEDING = ("speed-limit-e", "acceleration-limit-e")
GROUPS = {"shaken": AXES_SHAKEN, "limits": LIMITS, "feeding": FEEDING}
GROUPS["limits and feeding"] = (*LIMITS, *FEEDING)


@dataclass(frozen=True, kw_only=True)
class Stale:
    """Settings that no longer hold once a part was changed, and why."""

    part: str
    settings: tuple[str, ...]
    why: str


# part → setting → why it no longer holds
PARTS: dict[str, dict[str, str]] = {}
for _row in rows_of("parts", Stale, settings=GROUPS):
    PARTS.setdefault(_row.part, {}).update(dict.fromkeys(_row.settings, _row.why))
ASSEMBLIES = ("hotend",)  # several parts at once; an answer names those
# parts that each tool has for itself; what is changed on one makes nothing of another stale
PARTS_OF_TOOL = frozenset(
    (
        "hotend",
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
    names = [part for part, rows in PARTS.items() if setting in rows and part not in ASSEMBLIES]
    *most, last = [name.replace("-", " ") for name in names]
    return f"{', '.join(most)} or {last}" if most else last
