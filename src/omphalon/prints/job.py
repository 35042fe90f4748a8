"""What a test print is made for: the bed, the line that is laid, speeds, temperatures."""

from __future__ import annotations

import math
from dataclasses import dataclass

from omphalon.base.errors import UsageError
from omphalon.tables.constants import FILAMENT_MM
from omphalon.tables.heaters import HEATERS

MOST_FLOW_MM3_S = 30.0
MOST_SPEED_MM_S = 1000.0


@dataclass(frozen=True)
class Bed:
    """The plate: `x_mm` by `y_mm`, or round with the diameter `x_mm`; where its zero lies; how high
    the printer is.
    """

    x_mm: float = 220.0
    y_mm: float = 220.0
    round: bool = False
    centred: bool = False
    height_mm: float = 220.0
    margin_mm: float = 5.0

    @property
    def centre(self) -> tuple[float, float]:
        return (0.0, 0.0) if self.centred else (self.x_mm / 2, self.y_mm / 2)

    def holds(self, x: float, y: float, reach: float = 0.0) -> bool:
        """Whether a place, with a reach around it, lies inside the margin."""
        dx, dy = x - self.centre[0], y - self.centre[1]
        free = self.margin_mm + reach - 1e-6
        if self.round:
            return math.hypot(dx, dy) <= self.x_mm / 2 - free
        return abs(dx) <= self.x_mm / 2 - free and abs(dy) <= self.y_mm / 2 - free

    @property
    def words(self) -> str:
        kind = (
            f"round bed of {self.x_mm:g} mm"
            if self.round
            else f"bed of {self.x_mm:g} x {self.y_mm:g} mm"
        )
        return (
            f"{kind}, zero {'in its middle' if self.centred else 'at its corner'}, "
            f"{self.height_mm:g} mm high"
        )


@dataclass(frozen=True, kw_only=True)
class Job:
    """How a test print is laid: line, speeds, acceleration, temperatures, retraction, fan; `at` is
    its middle on the bed.

    `width_mm` is the line's width, `slow` and `fast` the two speeds of the test, `fan` the share of
    its full speed, `printer` whose print it is, where a bench knows it.
    """

    bed: Bed = Bed()
    at: tuple[float, float] | None = None
    nozzle_mm: float = 0.4
    filament_mm: float = FILAMENT_MM
    flow: float = 1.0
    layer_mm: float = 0.2
    width_mm: float = 0.45
    slow_mm_s: float = 22.0
    fast_mm_s: float = 90.0
    faster_mm_s: tuple[float, ...] = ()  # further fast speeds, rising: of a ladder's lines
    first_mm_s: float = 20.0
    travel_mm_s: float = 150.0
    acceleration_mm_s2: float = 1800.0
    temp_c: float = 215.0
    bed_temp_c: float = 60.0
    retract_mm: float = 0.7
    retract_mm_s: float = 32.0
    fan: float = 1.0
    tool: int = 0
    printer: str = ""

    @property
    def fast_speeds_mm_s(self) -> tuple[float, ...]:
        """All fast speeds of the test, rising."""
        return (self.fast_mm_s, *self.faster_mm_s)

    @property
    def middle(self) -> tuple[float, float]:
        return self.bed.centre if self.at is None else self.at

    @property
    def tool_word(self) -> str:
        """What names the tool in a line that heats it; nothing of tool 0."""
        return f"T{self.tool} " if self.tool else ""

    @property
    def section_mm2(self) -> float:
        """Cross-section of the line: a rectangle with round ends."""
        return (self.width_mm - self.layer_mm) * self.layer_mm + math.pi * self.layer_mm**2 / 4

    @property
    def feed_mm_mm(self) -> float:
        """Filament that is fed a mm of path, at the job's flow."""
        return self.flow * self.section_mm2 / self.filament_mm2

    @property
    def filament_mm2(self) -> float:
        return math.pi * self.filament_mm**2 / 4

    def check(self) -> None:
        """Refuse what cannot be printed."""
        for low, value, high, what in (
            (0.1, self.nozzle_mm, 2.0, "--nozzle"),
            (1.0, self.filament_mm, 4.0, "--filament"),
            (0.03, self.layer_mm, 0.9 * self.nozzle_mm, "--layer"),
            (
                max(self.layer_mm, 0.6 * self.nozzle_mm),
                self.width_mm,
                2.5 * self.nozzle_mm,
                "--width",
            ),
            (1.0, self.slow_mm_s, MOST_SPEED_MM_S, "--slow"),
            *((1.0, fast, MOST_SPEED_MM_S, "--fast") for fast in self.fast_speeds_mm_s),
            (1.0, self.first_mm_s, MOST_SPEED_MM_S, "--first"),
            (1.0, self.travel_mm_s, MOST_SPEED_MM_S, "--travel-speed"),
            (50.0, self.acceleration_mm_s2, 50_000.0, "--acceleration"),
            (150.0, self.temp_c, HEATERS["hotend"].most_c, "--temp"),
            (0.0, self.bed_temp_c, HEATERS["bed"].most_c, "--bed-temp"),
            (0.0, self.retract_mm, 20.0, "--retract"),
            (1.0, self.retract_mm_s, 200.0, "--retract-speed"),
            (0.0, self.fan, 1.0, "--fan"),
            (20.0, self.bed.x_mm, 2000.0, "--bed"),
            (20.0, self.bed.y_mm, 2000.0, "--bed"),
            (5.0, self.bed.height_mm, 2000.0, "--height"),
            (0.0, self.bed.margin_mm, self.bed.x_mm / 3, "--margin"),
        ):
            if not low <= value <= high:
                raise UsageError(
                    f"{what} {value:g}: cannot be printed so",
                    f"choose between {low:g} and {high:g}",
                )
        fastest = self.fast_speeds_mm_s[-1]
        flow = self.section_mm2 * max(fastest, self.slow_mm_s)
        if flow > MOST_FLOW_MM3_S:
            raise UsageError(
                f"--fast {fastest:g}: {flow:.0f} mm³ of plastic a second, more than a nozzle melts",
                "choose a lower speed, a narrower line or a thinner layer",
            )


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
