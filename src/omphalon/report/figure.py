"""Figures: which drawing belongs to which answer, and how it becomes a file."""

from __future__ import annotations

import importlib
from pathlib import Path

from omphalon.errors import UnwritableFile, UsageError
from omphalon.finding import Finding, Plan

# kind of answer → module of plots/ and its function
FIGURES = {
    "heater-fit": ("omphalon.plots.heater", "draw_heater_fit"),
    "extruder-fit": ("omphalon.plots.steps", "draw_steps"),
    "extruder-check": ("omphalon.plots.steps", "draw_steps"),
    "axis-fit": ("omphalon.plots.steps", "draw_steps"),
    "axis-check": ("omphalon.plots.steps", "draw_steps"),
    "flow-fit": ("omphalon.plots.steps", "draw_flow"),
    "flow-check": ("omphalon.plots.steps", "draw_flow"),
    "motion-fit": ("omphalon.plots.steps", "draw_motion"),
    "probe-fit": ("omphalon.plots.steps", "draw_probe"),
    "probe-check": ("omphalon.plots.steps", "draw_probe"),
    "advance-plan": ("omphalon.plots.advance", "draw_preview"),
    "advance-fit": ("omphalon.plots.advance", "draw_advance"),
    "advance-check": ("omphalon.plots.advance", "draw_corners"),
    "shaper-fit": ("omphalon.plots.shaper", "draw_shaper"),
    "shaper-check": ("omphalon.plots.shaper", "draw_before_after"),
    "shaper-plan": ("omphalon.plots.advance", "draw_preview"),
    "heater-check": ("omphalon.plots.heater", "draw_heater_check"),
}
SUFFIXES = (".png", ".svg")


def check_target(path: str) -> None:
    """Refuse a figure's file name before any work is done."""
    if Path(path).suffix.lower() not in SUFFIXES:
        raise UsageError(f"--plot {path}: not a kind of figure", "end the name in " + " or ".join(SUFFIXES))
    if not Path(path).resolve().parent.is_dir():
        raise UsageError(f"--plot {path}: the folder is not there", "make it first, or choose another")


def save_figure(finding: Finding | Plan, path: str) -> bool:
    """Draw the answer into a file; False where this answer has nothing to draw."""
    if finding.kind not in FIGURES or finding.picture is None:
        return False
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    module, name = FIGURES[finding.kind]
    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    getattr(importlib.import_module(module), name)(figure, finding.picture)
    try:
        figure.savefig(path)
    except OSError as error:
        raise UnwritableFile(f"{path}: cannot be written ({error.strerror})", "choose another place") from error
    return True
