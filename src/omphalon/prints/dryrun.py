"""A dry run of one axis: nothing heated, nothing fed, level by level faster, back to a reference
after each.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from omphalon.prints.levels import feed


@dataclass(frozen=True, kw_only=True)
class DryRun:
    """One axis over its allowed travel; `levels` are speeds in mm/s, or accelerations in mm/s²
    where set_lines are given.

    `set_lines` has each level's line that sets the acceleration; `first_lines` and `last_lines`
    lift limits and put back what was in force. `strokes` go there and back at each level.
    """

    axis: str
    low_mm: float
    high_mm: float
    levels: tuple[float, ...]
    set_lines: tuple[str, ...] = ()
    first_lines: tuple[str, ...] = ()
    last_lines: tuple[str, ...] = ()
    run_speed_mm_s: float = 100.0
    slow_mm_s: float = 20.0
    strokes: int = 5
    rest_s: float = 3.0
    lift_mm: float = 10.0

    @property
    def reference_mm_s(self) -> float:
        """Speed of the return to the reference: slow, and slower than the slowest level of
        speed.
        """
        return self.slow_mm_s if self.set_lines else min(self.slow_mm_s, 0.5 * self.levels[0])

    @property
    def unit(self) -> str:
        """Of the levels."""
        return "mm/s2" if self.set_lines else "mm/s"


def dry_run_lines(run: DryRun, printer: str) -> Iterator[str]:
    """The G-code, with a header that says what it is and how to read it."""
    name = run.axis.upper()
    yield (
        f"; dry run of axis {name}: {run.levels[0]:g} to {run.levels[-1]:g} {run.unit}, "
        f"{len(run.levels)} levels"
    )
    yield (
        f"; for {printer}: travel {run.low_mm:g} to {run.high_mm:g} mm; nothing is heated, "
        "nothing is fed"
    )
    yield (
        f"; after each level the axis comes back slowly to the reference at {run.low_mm:g} mm "
        f"and rests {run.rest_s:g} s:"
    )
    yield "; look whether it stands where it stood before; a level at which it does not has failed"
    yield from ("G21", "G90", "G28")
    yield from run.first_lines
    if run.axis != "z":
        yield f"G1 Z{run.lift_mm:.3f} F300"
    yield from _reference(run, name)
    for number, level in enumerate(run.levels, 1):
        yield f"; level {number} of {len(run.levels)}: {level:g} {run.unit}"
        yield f"M117 {number}/{len(run.levels)} {level:g}"
        if run.set_lines:
            yield run.set_lines[number - 1]
        speed = feed(run.run_speed_mm_s if run.set_lines else level)
        for _ in range(run.strokes):
            yield f"G1 {name}{run.high_mm:.3f} {speed}"
            yield f"G1 {name}{run.low_mm:.3f} {speed}"
        yield from _reference(run, name)
    yield from run.last_lines
    yield "M117 done"
    yield "M84"


def _reference(run: DryRun, name: str) -> Iterator[str]:
    yield "M400"
    yield f"G1 {name}{run.low_mm + 1:.3f} {feed(run.reference_mm_s)}"
    yield f"G1 {name}{run.low_mm:.3f} {feed(run.reference_mm_s)}"
    yield f"G4 S{run.rest_s:.0f}"
