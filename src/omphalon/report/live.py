"""What happens at the printer while it happens: temperature against target with the power below, in
a terminal; plain lines where there is none. It is drawn in a thread of its own: a terminal that
takes nothing holds up nothing but its picture.
"""

from __future__ import annotations

import contextlib
import math
import os
import sys
import threading
import time
from collections import deque
from types import TracebackType
from typing import IO, TYPE_CHECKING, Protocol

from omphalon.recordings.reports import full_power

if TYPE_CHECKING:
    from rich.console import RenderableType

    from omphalon.recordings.reports import Status

EVERY_S = 0.15  # of real time between two pictures
PLAIN_EVERY_S = 10.0  # of the printer's time between two plain lines
KEPT = 4000  # points that are drawn at the most; then every second one is dropped
ZOOM_WITHIN_C, SWINGS_S = 6.0, 25.0  # within that of the target for so long, the rest is left out
BARS = " ▁▂▃▄▅▆▇█"
DOTS = ((0x01, 0x08), (0x02, 0x10), (0x04, 0x20), (0x40, 0x80))
STEPS_C = (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000)  # between two labels
PLOT_ROWS = (6, 16)  # rows of the plot, by the height of the terminal
UNDRAWN = 2000  # moments that wait for a slow terminal at the most; the oldest are dropped
LAST_S = 1.0  # the last picture is waited for so long


def clock(seconds: float) -> str:
    """Minutes and seconds."""
    return f"{int(seconds) // 60}:{int(seconds) % 60:02d}"


def share(power: float, most: float) -> float:
    """Power as a share of what stands for full power, by the highest that was seen."""
    return power / full_power(most)


def headline(now: Status, most_power: float) -> str:
    """The moment in one line."""
    parts = [f"{now.heater}  {now.doing}", f"{now.seen.temperature_c:.1f} °C"]
    if now.seen.target_c > 0:
        parts[-1] += f" of {now.seen.target_c:g} °C"
    if not math.isnan(now.seen.power):
        parts.append(f"power {share(now.seen.power, most_power):.0%}")
    if now.cycles is not None:
        parts.append(f"cycle {now.cycles}")
    parts.append(clock(now.time_s) + (f", {clock(now.left_s)} left" if now.left_s else ""))
    return "   ".join(parts)


class View(Protocol):
    """Shows one moment after another."""

    def __enter__(self) -> View: ...

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None: ...

    def show(self, now: Status) -> None:
        """Show the moment."""


class Quiet:
    """Nothing."""

    def __enter__(self) -> Quiet:
        return self

    def __exit__(self, *_: object) -> None:
        return None

    def show(self, now: Status) -> None:
        """Nothing."""


class Plain(Quiet):
    """A line every ten seconds of the printer's time."""

    def __init__(self, file: IO[str]) -> None:
        self.file = file
        self.next_s, self.most = 0.0, 0.0
        self.said = ""

    def show(self, now: Status) -> None:
        """Print the moment, where it is time to."""
        self.most = max(self.most, 0.0 if math.isnan(now.seen.power) else now.seen.power)
        if now.time_s >= self.next_s or now.doing != self.said:
            self.next_s = now.time_s + PLAIN_EVERY_S
            self.said = now.doing
            print(headline(now, self.most), file=self.file, flush=True)


class Live(Quiet):
    """The picture in a terminal, drawn again a few times a second."""

    def __init__(self, file: IO[str], passing: bool) -> None:
        from rich.console import Console
        from rich.live import Live as RichLive

        self.past: Past = []
        self.drawn = -math.inf
        self.console = Console(file=file)
        self.live = RichLive(
            console=self.console,
            auto_refresh=False,
            transient=passing,
            redirect_stdout=False,
            redirect_stderr=False,
        )

    def __enter__(self) -> Live:
        self.live.__enter__()
        return self

    def __exit__(self, *_: object) -> None:
        self.live.__exit__(None, None, None)

    def show(self, now: Status) -> None:
        """Take a moment in, and draw where it is time to."""
        seen = now.seen
        self.past.append((now.time_s, seen.temperature_c, seen.target_c, seen.power))
        if len(self.past) > KEPT:
            self.past = self.past[::2]
        if time.monotonic() - self.drawn < EVERY_S:
            return
        self.drawn = time.monotonic()
        picture = drawn(self.past, now, self.console.width, self.console.height)
        self.live.update(picture, refresh=True)


class ThreadedView(Quiet):
    """Another view in a thread of its own, so that whoever shows something never waits for it."""

    def __init__(self, view: View) -> None:
        self.view = view
        self.undrawn: deque[Status] = deque(maxlen=UNDRAWN)
        self.came, self.over = threading.Event(), False
        self.thread = threading.Thread(target=self._draw, daemon=True)

    def __enter__(self) -> ThreadedView:
        self.thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.over = True
        self.came.set()
        self.thread.join(LAST_S)

    def show(self, now: Status) -> None:
        """Leave the moment to be drawn."""
        self.undrawn.append(now)
        self.came.set()

    def _draw(self) -> None:
        with contextlib.suppress(OSError, ValueError), self.view as view:
            while not self.over or self.undrawn:
                self.came.wait()
                self.came.clear()
                while self.undrawn:
                    view.show(self.undrawn.popleft())


Past = list[tuple[float, float, float, float]]


def drawn(past: Past, now: Status, width: int, height: int) -> RenderableType:
    """The picture as text with colours; once the target is reached, what is around it.

    `past`: time in s, reading and target in °C, power in counts; NaN where nothing is said.
    """
    from rich.text import Text

    most = max((p[3] for p in past if not math.isnan(p[3])), default=0.0)
    past = near_target(past)
    cols, rows = max(20, width - 12), min(max(height - 9, PLOT_ROWS[0]), PLOT_ROWS[1])
    readings = [p[1] for p in past]
    goals = [p[2] for p in past if p[2] > 0]
    low, high = min(readings + goals), max(readings + goals)
    low, high = low - 0.05 * max(high - low, 4), high + 0.05 * max(high - low, 4)
    begin, end = past[0][0], max(past[-1][0], past[0][0] + 30.0)
    past = [(time_s - begin, *rest) for time_s, *rest in past]  # type: ignore[misc]
    goal = goals[-1] if goals else math.nan
    labels = _labels(rows, low, high)
    text = Text()
    text.append("\n" + headline(now, most)[: width - 1] + "\n\n", style="bold")
    for row, line in enumerate(_dots(past, cols, rows, low, high, end - begin)):
        text.append(f"{labels.get(row, ''):>7} ")
        at_goal = _row_of(goal, rows, low, high) == row
        for sign in line:
            dashed = at_goal and sign == "⠀"
            text.append("╌" if dashed else sign, style="dim" if dashed else "cyan")
        text.append(f" {goal:g}\n" if at_goal else "\n", style="dim")
    for row, line in enumerate(_bars(past, cols, most, end - begin)):
        text.append(f"{('100 %', '  power')[row]:>7} ")
        text.append(line + "\n", style="yellow")
    text.append(f"{'':8}{clock(begin)}{clock(end):>{cols - len(clock(begin))}}\n\n", style="dim")
    text.append("Ctrl-C ends it, heaters off", style="dim")
    return text


def near_target(past: Past) -> Past:
    """The part since the target was nearly reached, once there is enough of it; else all."""
    goal = next((p[2] for p in reversed(past) if p[2] > 0), math.inf)
    near = next((n for n, p in enumerate(past) if p[1] > goal - ZOOM_WITHIN_C), None)
    if near is None or past[-1][0] - past[near][0] < SWINGS_S:
        return past
    return past[near:]


def _row_of(value: float, rows: int, low: float, high: float) -> int:
    if math.isnan(value):
        return -1
    return int((high - value) / (high - low) * rows)


def _labels(rows: int, low: float, high: float) -> dict[int, str]:
    """Round temperatures by the row that they lie in."""
    step = next(s for s in STEPS_C if (high - low) / s <= rows / 2)
    marks = range(math.ceil(low / step), math.floor(high / step) + 1)
    return {_row_of(n * step, rows, low, high): f"{n * step:g} °C" for n in marks}


def _dots(past: Past, cols: int, rows: int, low: float, high: float, span: float) -> list[str]:
    """The readings as a line of dots, eight to a sign."""
    cells = [[0] * cols for _ in range(rows)]
    before: int | None = None
    for time_s, reading, _, _ in past:
        x = min(int(time_s / span * (2 * cols - 1)), 2 * cols - 1)
        y = min(max(int((high - reading) / (high - low) * 4 * rows), 0), 4 * rows - 1)
        before = y if before is None else before
        for between in range(min(y, before), max(y, before) + 1):
            cells[between // 4][x // 2] |= DOTS[between % 4][x % 2]
        before = y
    return ["".join(chr(0x2800 + cell) for cell in line) for line in cells]


def _bars(past: Past, cols: int, most: float, span: float) -> list[str]:
    """The power as two rows of bars."""
    heights, last = [0.0] * cols, 0
    for time_s, _, _, power in past:
        if math.isnan(power) or most <= 0:
            continue
        x = min(int(time_s / span * (cols - 1)), cols - 1)
        heights[last + 1 : x] = [heights[last]] * max(0, x - last - 1)
        heights[x] = share(power, most) if x > last else max(heights[x], share(power, most))
        last = x
    levels = [round(16 * h) for h in heights]
    upper = "".join(BARS[max(0, level - 8)] for level in levels)
    return [upper, "".join(BARS[min(8, level)] for level in levels)]


def view_for(quiet: bool, passing: bool = False) -> View:
    """The view that fits: a picture in a terminal, plain lines elsewhere, nothing when quiet. One
    that is `passing` leaves nothing behind.
    """
    if quiet:
        return Quiet()
    # a file of its own: a terminal that blocks it blocks no other writer
    file = os.fdopen(os.dup(2), "w", encoding=sys.stderr.encoding, errors=sys.stderr.errors)
    return ThreadedView(Live(file, passing) if sys.stderr.isatty() else Plain(file))
