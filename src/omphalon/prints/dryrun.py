"""A dry run of one axis: nothing heated, nothing fed, level by level faster, back to a reference after each."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass


@dataclass(frozen=True)
class DryRun:
    """One axis over its allowed travel; `levels` are speeds in mm/s, or accelerations in mm/s² where set_line is given.

    `set_line` has each level's line that sets the acceleration. `strokes` go there and back at each level.
    """

    axis: str
    low_mm: float
    high_mm: float
    levels: tuple[float, ...]
    set_lines: tuple[str, ...] = ()
    run_speed_mm_s: float = 100.0
    slow_mm_s: float = 20.0
    strokes: int = 5
    rest_s: float = 3.0
    lift_mm: float = 10.0

    @property
    def reference_mm_s(self) -> float:
        """Speed of the return to the reference: slow, and slower than the slowest level of speed."""
        return self.slow_mm_s if self.set_lines else min(self.slow_mm_s, 0.5 * self.levels[0])

    @property
    def unit(self) -> str:
        return "mm/s²" if self.set_lines else "mm/s"


def dry_run_lines(run: DryRun, printer: str) -> Iterator[str]:
    """The G-code, with a header that says what it is and how to read it."""
    name = run.axis.upper()
    yield f"; dry run of axis {name}: {run.levels[0]:g} to {run.levels[-1]:g} {run.unit}, {len(run.levels)} levels"
    yield f"; for {printer}: travel {run.low_mm:g} to {run.high_mm:g} mm; nothing is heated, nothing is fed"
    yield f"; after each level the axis comes back slowly to the reference at {run.low_mm:g} mm and rests {run.rest_s:g} s:"
    yield "; look whether it stands where it stood before; a level at which it does not has failed"
    yield "G21"
    yield "G90"
    yield "G28"
    if run.axis != "z":
        yield f"G1 Z{run.lift_mm:.3f} F300"
    yield from _reference(run, name)
    for number, level in enumerate(run.levels, 1):
        yield f"; level {number} of {len(run.levels)}: {level:g} {run.unit}"
        yield f"M117 {number}/{len(run.levels)} {level:g}"
        if run.set_lines:
            yield run.set_lines[number - 1]
        feed = 60 * (run.run_speed_mm_s if run.set_lines else level)
        for _ in range(run.strokes):
            yield f"G1 {name}{run.high_mm:.3f} F{feed:.0f}"
            yield f"G1 {name}{run.low_mm:.3f} F{feed:.0f}"
        yield from _reference(run, name)
    yield "M117 done"
    yield "M84"


def _reference(run: DryRun, name: str) -> Iterator[str]:
    yield "M400"
    yield f"G1 {name}{run.low_mm + 1:.3f} F{60 * run.reference_mm_s:.0f}"
    yield f"G1 {name}{run.low_mm:.3f} F{60 * run.reference_mm_s:.0f}"
    yield f"G4 S{run.rest_s:.0f}"
