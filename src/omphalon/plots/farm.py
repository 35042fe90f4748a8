"""Printers side by side: one dot and interval each, those that differ named."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from numpy.typing import NDArray

from omphalon.base.errors import shown
from omphalon.plots.style import FOG, INK, PALE, SAND, SEA, SIGNAL, dress

if TYPE_CHECKING:
    from omphalon.farm.compare import FarmComparison, Key, OthersPanel

MOST_PANELS = 6
NAMES_ALL = 12  # printers up to which each is named
LONGEST_NAME = 18


def draw_farm(figure: Figure, found: FarmComparison) -> None:
    """A panel for each number that says most."""
    some = found.pictured[:MOST_PANELS]
    panels, left = [found.panel(c) for c in some], len(found.pictured) - len(some)
    count = len(panels)
    columns = min(count, 3)
    axes = figure.subplots(math.ceil(count / columns), columns, squeeze=False).ravel()
    for ax, one, panel in zip(axes, some, panels, strict=False):
        _panel(ax, one.key, panel)
    for ax in axes[count:]:
        ax.set_visible(False)
    changed = any(panel.changed.any() for panel in panels)
    more = "; hollow: before" if changed else ""
    more += f"; {left} more numbers in the document" if left else ""
    figure.suptitle(
        f"Each printer: a dot and its 95 % interval; grey: the others{more}",
        x=0.01,
        ha="left",
        color=INK,
        fontsize=13,
        fontweight="bold",
    )


def _panel(ax: Axes, key: Key, panel: OthersPanel) -> None:
    what, _, model = key.title.rstrip(")").partition(" (")
    dress(ax, x=key.figure.unit, title=f"{what}\n{model}" if model else what)
    ax.locator_params(axis="x", nbins=5)
    rows = np.arange(len(panel.values))
    if panel.centre is not None:
        two = 2 * panel.spread
        ax.axvspan(panel.centre - two, panel.centre + two, color=PALE, lw=0, zorder=0)
        ax.axvline(panel.centre, color=FOG, lw=1.2, zorder=1)
    for row in rows[panel.changed]:
        ax.plot([panel.before[row], panel.values[row]], [row, row], color=SAND, lw=2, zorder=2)
    ax.plot(panel.before[panel.changed], rows[panel.changed], "o", mfc="white", mec=SAND, ms=6)
    named = panel.differs | panel.changed
    for some, colour, mark in (
        (~named, SEA, "o"),
        (panel.changed & ~panel.differs, SAND, "s"),
        (panel.differs, SIGNAL, "D"),
    ):
        if some.any():
            ax.errorbar(
                panel.values[some],
                rows[some],
                xerr=panel.half_width[some],
                fmt=mark,
                ms=4 if mark == "o" else 6,
                color=colour,
                lw=1.4,
                zorder=3,
            )
    _name(ax, panel, rows)


def _name(ax: Axes, panel: OthersPanel, rows: NDArray[np.int64]) -> None:
    """Names: of all at the axis where they are few; else of those that differ or have changed."""
    ax.set_ylim(-0.8, len(rows) - 0.2)
    if len(rows) <= NAMES_ALL:
        ax.set_yticks(rows, [_short(n) for n in panel.names])
        for label, differs, changed in zip(
            ax.get_yticklabels(), panel.differs, panel.changed, strict=True
        ):
            if differs or changed:
                label.set(color=SIGNAL if differs else SAND, fontweight="bold")
        return
    ax.set_yticks([])
    middle = (ax.get_xlim()[0] + ax.get_xlim()[1]) / 2
    for row in rows[panel.differs | panel.changed]:
        left = panel.values[row] > middle
        side = -1 if left else 1
        ends = [panel.values[row] + side * panel.half_width[row]]
        ends += [panel.before[row]] if panel.changed[row] else []
        edge = min(ends) if left else max(ends)
        ax.annotate(
            _short(panel.names[row]),
            (edge, row),
            xytext=(-6 if left else 6, 0),
            textcoords="offset points",
            ha="right" if left else "left",
            va="center",
            color=SIGNAL if panel.differs[row] else SAND,
            fontsize=10,
            fontweight="bold",
        )


def _short(name: str) -> str:
    safe = shown(name)
    return safe if len(safe) <= LONGEST_NAME else safe[: LONGEST_NAME - 1] + "…"
