"""Figures: which drawing belongs to which answer, and how it becomes a file."""

from __future__ import annotations

import importlib
from typing import IO, TYPE_CHECKING

from omphalon import __version__
from omphalon.answers.finding import Finding, Plan
from omphalon.base.errors import UsageError

if TYPE_CHECKING:
    from matplotlib.figure import Figure

# kind of answer → module of plots/ and its function
FIGURES = {
    "heater-fit": ("omphalon.plots.heater", "draw_heater_fit"),
    "extruder-fit": ("omphalon.plots.steps", "draw_steps"),
    "extruder-check": ("omphalon.plots.steps", "draw_steps"),
    "axis-fit": ("omphalon.plots.steps", "draw_steps"),
    "axis-check": ("omphalon.plots.steps", "draw_steps"),
    "flow-fit": ("omphalon.plots.steps", "draw_repeated"),
    "flow-check": ("omphalon.plots.steps", "draw_repeated"),
    "motion-fit": ("omphalon.plots.steps", "draw_motion"),
    "probe-fit": ("omphalon.plots.steps", "draw_repeated"),
    "probe-check": ("omphalon.plots.steps", "draw_repeated"),
    "advance-plan": ("omphalon.plots.advance", "draw_preview"),
    "advance-fit": ("omphalon.plots.advance", "draw_advance"),
    "advance-check": ("omphalon.plots.advance", "draw_corners"),
    "shaper-fit": ("omphalon.plots.shaper", "draw_shaper"),
    "shaper-check": ("omphalon.plots.shaper", "draw_before_after"),
    "flow-plan": ("omphalon.plots.advance", "draw_preview"),
    "trial-plan": ("omphalon.plots.advance", "draw_preview"),
    "axis-plan": ("omphalon.plots.advance", "draw_preview"),
    "shaper-plan": ("omphalon.plots.advance", "draw_preview"),
    "card-plan": ("omphalon.plots.advance", "draw_preview"),
    "card-fit": ("omphalon.plots.advance", "draw_card"),
    "card-check": ("omphalon.plots.advance", "draw_card"),
    "heater-check": ("omphalon.plots.heater", "draw_heater_check"),
    "farm-compare": ("omphalon.plots.farm", "draw_farm"),
}


def draws(answer: Finding | Plan) -> bool:
    """Whether this answer has something to draw."""
    return answer.kind in FIGURES and answer.picture is not None


def draw(answer: Finding | Plan, figure: Figure) -> None:
    """Draw the answer into a figure. Raises UsageError where it has nothing to draw."""
    if not draws(answer):
        raise UsageError(f"{answer.kind}: nothing to draw", "a retest has no figure")
    module, name = FIGURES[answer.kind]
    getattr(importlib.import_module(module), name)(figure, answer.picture)


def save_figure(answer: Finding | Plan, file: IO[bytes], suffix: str) -> None:
    """Draw the answer into a file object, as .png or .svg; the figure's metadata say who drew
    it.
    """
    import matplotlib
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    mine = f"omphalon {__version__}"
    metadata = {"Software": mine} if suffix == ".png" else {"Creator": mine, "Date": None}
    with matplotlib.rc_context({"text.parse_math": False, "svg.hashsalt": "omphalon"}):
        figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
        FigureCanvasAgg(figure)
        draw(answer, figure)
        figure.savefig(file, format=suffix[1:], metadata=metadata)
