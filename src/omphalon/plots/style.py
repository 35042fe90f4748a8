"""The small set of colours and habits that all figures share; distinct also in grey and by
colour-blind eyes.
"""

from __future__ import annotations

from typing import Any

from matplotlib.axes import Axes

INK = "#22313f"
SEA = "#0b6e8f"
SIGNAL = "#c8442d"
SAND = "#b58a3c"
FOG = "#9aa7b0"
PALE = "#dfe6ea"


def dress(ax: Axes, x: str = "", y: str = "", title: str = "") -> None:
    """Quiet axes: two spines, a faint grid, labels with units."""
    for side in ("top", "right"):
        ax.spines[side].set_visible(False)
    for side in ("left", "bottom"):
        ax.spines[side].set_color(FOG)
    ax.tick_params(colors=INK, labelsize=10)
    ax.grid(True, color=PALE, linewidth=0.8)
    ax.set_axisbelow(True)
    if x:
        ax.set_xlabel(x, color=INK, fontsize=11)
    if y:
        ax.set_ylabel(y, color=INK, fontsize=11)
    if title:
        ax.set_title(title, loc="left", color=INK, fontsize=12, fontweight="bold")


def say(ax: Axes, text: str, at: tuple[float, float], size: float = 11, **more: Any) -> None:
    """Words in a figure, their top at a place in shares of the axes, or as `xycoords` says."""
    ax.annotate(
        text, at, **{"xycoords": "axes fraction", "va": "top", **more}, color=INK, fontsize=size
    )
