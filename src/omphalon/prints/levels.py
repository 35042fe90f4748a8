"""FROM, TO, STEP as levels: the last one is never dropped."""

from __future__ import annotations

import math


def levels(start: float, stop: float, step: float) -> tuple[float, ...]:
    """Values from start by step, and stop itself at the end, whether or not the step meets it."""
    count = math.floor((stop - start) / step + 1e-6) + 1
    values = [start + n * step for n in range(count)]
    if stop - values[-1] > 1e-6 * step:
        values.append(stop)
    else:
        values[-1] = stop
    return tuple(values)


def feed(speed_mm_s: float) -> str:
    """A speed as the F word of a line, in whole mm a minute and never 0."""
    return f"F{max(60 * speed_mm_s, 1.0):.0f}"
