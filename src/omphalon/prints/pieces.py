"""Prints to be measured, all as strokes: a hollow cube with walls of one line; a flat gauge of
nested frames with outside and inside lengths; and a ringing print, walls with sharp steps at a
known speed, whose ripples tell the frequency where there is no sensor.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from omphalon.base.errors import UsageError
from omphalon.prints.advance import Label, number, prime
from omphalon.prints.job import Job, levels
from omphalon.prints.strokes import Place, Stroke, even, layers, square, width_of

BRIM_LOOPS = 5
BAND_MM = 4.0  # of a gauge's frame: stiff, and wide enough for digits
AWAY_MM = 6.0  # from a print to the line that fills the nozzle
DIGIT_MM = 3.2
FEWEST_BANDS, MOST_BANDS = 4, 40
SAME = 1e-6  # a share by which two accelerations are one
RIB_MM = 0.6  # how far a rib stands out, and how high it is


@dataclass(frozen=True)
class Cube:
    """A hollow cube of one wall, `side_mm` outside; no floor, no top. The seam lies at the rear
    left corner; a bar on the plate shows the front. The brim touches the wall: its first layers are
    not to be measured.
    """

    side_mm: float = 30.0

    def strokes(self, job: Job) -> Iterator[Stroke]:
        x, y = job.middle
        half = (self.side_mm - job.width_mm) / 2
        out = half + BRIM_LOOPS * job.width_mm
        yield prime(job, x - out - AWAY_MM, y - half, self.side_mm)
        for loop in range(BRIM_LOOPS, 0, -1):
            around = square(x, y, half + loop * job.width_mm)
            yield even(job.first_mm_s, around, job.layer_mm, None, "brim")
        front = y - out - 3
        yield even(
            job.first_mm_s,
            ((x - 5, front), (x + 5, front)),
            job.layer_mm,
            None,
            "bar: this is the front",
        )
        for layer in range(1, layers(self.side_mm, job) + 1):
            yield even(
                job.first_mm_s if layer == 1 else job.fast_mm_s,
                square(x, y, half),
                layer * job.layer_mm,
                None,
                "wall" if layer == 1 else "",
            )

    def labels(self, job: Job) -> tuple[Label, ...]:
        x, y = job.middle
        inside = self.side_mm / 2 - 4
        return (
            Label(x, y - inside, "front"),
            Label(x, y + inside - 2, "back"),
            Label(x - inside, y, "left", True),
            Label(x + inside - 4, y, "right", True),
        )


@dataclass(frozen=True)
class Gauge:
    """Square frames, one in another, `outside_mm` wide each, about BAND_MM thick and `height_mm`
    high: outside and inside lengths in X and in Y. On top of each frame's front side stand its
    outside and its inside length: where they read the right way up, X runs from left to right.
    """

    outside_mm: tuple[float, ...]
    height_mm: float = 3.0
    digit_mm: float = 2.6

    def loops(self, job: Job) -> int:
        """Lines beside each other in a frame."""
        return max(round(BAND_MM / job.width_mm), 2)

    def band_mm(self, job: Job) -> float:
        """A frame's thickness: its lines lie side by side, and it is whole in tenths."""
        return round(self.loops(job) * job.width_mm, 1)

    def inside_mm(self, job: Job) -> tuple[float, ...]:
        """Between the inner faces of each frame."""
        return tuple(round(o - 2 * self.band_mm(job), 1) for o in self.outside_mm)

    def texts(self, job: Job) -> tuple[str, ...]:
        """What stands on each frame: outside, inside."""
        pairs = zip(self.outside_mm, self.inside_mm(job), strict=True)
        return tuple(f"{outside:g} {inside:g}" for outside, inside in pairs)

    def strokes(self, job: Job) -> Iterator[Stroke]:
        x, y = job.middle
        half = max(self.outside_mm) / 2
        yield prime(job, x - half - AWAY_MM, y - half, 2 * half)
        count, band = layers(self.height_mm, job), self.band_mm(job)
        for layer in range(1, count + 1):
            speed = job.first_mm_s if layer == 1 else job.fast_mm_s
            for outside in self.outside_mm:
                for n, reach in enumerate(self._reaches(outside, job)):
                    note = f"frame {outside:g}" if layer == 1 and n == 0 else ""
                    yield even(speed, square(x, y, reach), layer * job.layer_mm, None, note)
        for outside, text in zip(self.outside_mm, self.texts(job), strict=True):
            left = x - width_of(text, self.digit_mm) / 2
            low = y - outside / 2 + (band - self.digit_mm) / 2
            for stroke in number(job, text, left, low, self.digit_mm, None):
                yield replace(stroke, z_mm=(count + 1) * job.layer_mm)

    def _reaches(self, outside_mm: float, job: Job) -> Iterator[float]:
        """Half widths of a frame's loops, from the outer face inwards, evenly: both faces lie where
        they should.
        """
        apart = (self.band_mm(job) - job.width_mm) / (self.loops(job) - 1)
        for n in range(self.loops(job)):
            yield (outside_mm - job.width_mm) / 2 - n * apart

    def labels(self, job: Job) -> tuple[Label, ...]:
        x, y = job.middle
        pairs = zip(self.outside_mm, self.inside_mm(job), strict=True)
        return tuple(
            Label(x, y + outside / 2 - BAND_MM - 4, f"{outside:g} outside, {inside:g} inside")
            for outside, inside in pairs
        )


@dataclass(frozen=True, kw_only=True)
class Bands:
    """Accelerations (mm/s²) from the foot of a print to its top."""

    start_mm_s2: float
    stop_mm_s2: float
    step_mm_s2: float

    def __post_init__(self) -> None:
        span = self.stop_mm_s2 - self.start_mm_s2
        if span <= 0 or self.step_mm_s2 <= 0:
            raise UsageError(
                f"--bands {self.words}: the range is upside down, or the step not above 0",
                "for example 500:4000:500",
            )
        if not FEWEST_BANDS - 1 - SAME <= span / self.step_mm_s2 <= MOST_BANDS - 1 + SAME:
            raise UsageError(
                f"--bands {self.words}: {span / self.step_mm_s2 + 1:.0f} bands",
                f"choose a step that makes {FEWEST_BANDS} to {MOST_BANDS}",
            )

    @property
    def words(self) -> str:
        """As they were asked for."""
        return f"{self.start_mm_s2:g}:{self.stop_mm_s2:g}:{self.step_mm_s2:g}"

    @property
    def values(self) -> tuple[float, ...]:
        """The acceleration of each band, from the foot upwards."""
        return levels(self.start_mm_s2, self.stop_mm_s2, self.step_mm_s2)


@dataclass(frozen=True)
class Ringing:
    """A hollow square of one wall with a sharp step outwards in each side, `step_mm` deep a third
    along.

    The step in a side along X shakes Y, and ripples stand in that side after it: read Y there, and
    X on the sides along Y. The seam lies at the rear left corner; a bar on the plate shows the
    front. With `bands` (mm/s²) the acceleration rises by height, `band_mm` a band: the numbers on
    the plate inside, front to rear, are the bands from the foot upwards, and a rib at the right end
    of the front wall and at the rear end of the right wall tops each band.
    """

    side_mm: float = 80.0
    height_mm: float = 12.0
    step_mm: float = 1.6
    bands: tuple[float, ...] = ()
    band_mm: float = 5.0

    @property
    def whole_mm(self) -> float:
        """Height of the walls."""
        return self.band_mm * len(self.bands) if self.bands else self.height_mm

    def strokes(self, job: Job) -> Iterator[Stroke]:
        x, y = job.middle
        h, s = self.side_mm / 2, self.step_mm
        yield prime(job, x - h - 8, y - h, self.side_mm)
        for loop in range(3, 0, -1):
            around = square(x, y, h + s + loop * job.width_mm)
            yield even(job.first_mm_s, around, job.layer_mm, None, "ring around the print")
        yield even(
            job.first_mm_s,
            ((x - 5, y - h - s - 5), (x + 5, y - h - s - 5)),
            job.layer_mm,
            None,
            "bar: this is the front",
        )
        for row, value in enumerate(self.bands):
            at = y - h + 8 + row * self._pitch_mm
            yield from number(job, f"{value:.0f}", x - 8, at, DIGIT_MM, None)
        for layer in range(1, layers(self.whole_mm, job) + 1):
            top = layer * job.layer_mm
            yield even(
                job.first_mm_s if layer == 1 else job.fast_mm_s,
                self._loop(x, y, self._tops_a_band(top, job.layer_mm)),
                top,
                self._value_at(top - job.layer_mm / 2),
                "walls" if layer == 1 else "",
            )

    @property
    def _pitch_mm(self) -> float:
        """From one number on the plate to the next."""
        return min(2 * DIGIT_MM, (self.side_mm - 18) / max(len(self.bands), 1))

    def _value_at(self, height: float) -> float | None:
        """The band's acceleration at a height."""
        if not self.bands:
            return None
        return self.bands[min(int(height / self.band_mm), len(self.bands) - 1)]

    def _tops_a_band(self, top: float, layer: float) -> bool:
        """Whether a layer belongs to the rib that tops a band: the last RIB_MM of it."""
        return bool(self.bands) and (top - layer / 2) % self.band_mm > self.band_mm - RIB_MM

    def _loop(self, x: float, y: float, rib: bool) -> tuple[Place, ...]:
        """One round of the walls, with ribs near the front right and the rear right corner."""
        h, s = self.side_mm / 2, self.step_mm
        third, front, right = self.side_mm / 6, y - h - s, x + h + s
        out = ((10, 0.0), (9, RIB_MM), (3, RIB_MM), (2, 0.0)) if rib else ()  # before the corner
        return (
            (x - h, y + h),
            (x - h, y + third),
            (x - h - s, y + third),
            (x - h - s, y - h),
            (x - third, y - h),
            (x - third, front),
            *((x + h - ahead, front - far) for ahead, far in out),
            (x + h, front),
            (x + h, y - third),
            (right, y - third),
            *((right + far, y + h - ahead) for ahead, far in out),
            (right, y + h),
            (x + third, y + h),
            (x + third, y + h + s),
            (x - h, y + h + s),
            (x - h, y + h),
        )

    def labels(self, job: Job) -> tuple[Label, ...]:
        x, y = job.middle
        return (
            Label(x, y - self.side_mm / 2 + 3, "ripples after the step tell Y"),
            Label(x - self.side_mm / 2 + 3, y, "ripples after the step tell X", True),
            *(
                Label(
                    x + 4,
                    y - self.side_mm / 2 + 9 + row * self._pitch_mm,
                    f"{value:.0f} mm/s²",
                    True,
                )
                for row, value in enumerate(self.bands)
            ),
        )
