"""The bead that a made-up nozzle lays: pressure builds up and falls with two lags, the head speeds
up and brakes.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

import numpy as np
from scipy.ndimage import gaussian_filter1d, uniform_filter1d
from scipy.signal import lfilter

from omphalon.base.arrays import Array
from omphalon.standin.frame import Move, Swing, left_behind

FILAMENT_MM2 = math.pi * 1.75**2 / 4
BIN_MM, FINE_MM = 0.25, 0.05  # of the widths, and of the middle's swing
STEP_S = 1e-4
THICK_MM_S = 60.0  # at which a plastic that thins has the lags of its nozzle


@dataclass(frozen=True, kw_only=True)
class Nozzle:
    """The true lead (s): a slow lag of the tube or drive and a fast one of the nozzle, which add up
    to it.

    `holds` is the share of pressure that a retraction keeps. `jump_mm_s` is the change of speed
    that the head makes in no time at a corner; `grain_mm` the bead's own unevenness. `swings` are
    the frame's modes by axis; the bead's middle is the nozzle's over `footprint_mm`, and follows it
    with a lag of `drag_mm` of the way. The drive slips by `slips_s_mm` of what it should feed for
    each mm/s of the path. Plastic that thins as it flows has shorter lags on a fast run, by the
    power `thins` of its speed over THICK_MM_S. Acceleration builds up over `builds_up_s`. While it
    is soft a bead evens out over `evens_mm` (deviation) along the path, and what is too much rises
    as well as it spreads: its width goes with the power `spreads` of what was laid.
    """

    lead_s: float
    nozzle_lag_s: float = 0.001
    holds: float = 0.3
    jump_mm_s: float = 8.0
    grain_mm: float = 0.008
    swings: Mapping[str, tuple[Swing, ...]] = field(default_factory=dict)
    footprint_mm: float = 0.3
    drag_mm: float = 0.0
    slips_s_mm: float = 0.0
    thins: float = 0.0
    builds_up_s: float = 0.0
    evens_mm: float = 0.0
    spreads: float = 1.0


@dataclass(frozen=True)
class Bead:
    """What lies on the plate along one run of moves: bins of BIN_MM along the path, with their
    width (mm).

    `ends_mm` is where along the path each move ends; shapes (n,), (moves,). `line_mm` is the width
    it should have. `side_mm` is how far to the left of the way its middle lies, in bins of
    FINE_MM; empty where the frame is stiff.
    """

    moves: tuple[Move, ...]
    ends_mm: Array
    width_mm: Array
    line_mm: float
    side_mm: Array

    def near(self, place_mm: float, before_mm: float, after_mm: float) -> Array:
        """Widths from so much before to so much after a place along the path."""
        low, high = (max(int(round((place_mm + d) / BIN_MM)), 0) for d in (-before_mm, after_mm))
        return self.width_mm[low:high]


def runs(moves: list[Move]) -> Iterator[list[Move]]:
    """Moves without a retraction between."""
    run: list[Move] = []
    for move in moves:
        if move.fed_mm > 0 and move.length_mm > 0:
            run.append(move)
        elif move.fed_mm != 0 and run:
            yield run
            run = []
    if run:
        yield run


def corner_speeds(run: list[Move], jump: float) -> list[float]:
    """Speed at each joint of a run, (moves + 1): at rest at its ends, elsewhere what a corner and
    the braking allow.
    """
    speeds = [0.0]
    for a, b in zip(run, run[1:], strict=False):
        turn = math.hypot(
            (a.x1 - a.x0) / a.length_mm - (b.x1 - b.x0) / b.length_mm,
            (a.y1 - a.y0) / a.length_mm - (b.y1 - b.y0) / b.length_mm,
        )
        most = min(a.speed_mm_s, b.speed_mm_s)
        joined = (a.x1, a.y1, a.z) == (b.x0, b.y0, b.z)
        speeds.append(0.0 if not joined else most if turn < 1e-3 else min(most, jump / turn))
    speeds.append(0.0)
    for n in range(len(run) - 1, -1, -1):
        speeds[n] = min(
            speeds[n],
            math.sqrt(speeds[n + 1] ** 2 + 2 * run[n].acceleration_mm_s2 * run[n].length_mm),
        )
    for n in range(len(run)):
        speeds[n + 1] = min(
            speeds[n + 1],
            math.sqrt(speeds[n] ** 2 + 2 * run[n].acceleration_mm_s2 * run[n].length_mm),
        )
    return speeds


def ridden(run: list[Move], nozzle: Nozzle, step_s: float) -> tuple[Array, Array, Array]:
    """Way along the path, speed and lead in force at even steps of time; each (n,)."""
    joints = corner_speeds(run, nozzle.jump_mm_s)
    times, way, pieces = [0.0], 0.0, []
    for n, move in enumerate(run):
        a, length, u, v = move.acceleration_mm_s2, move.length_mm, joints[n], joints[n + 1]
        top = min(move.speed_mm_s, math.sqrt((2 * a * length + u * u + v * v) / 2))
        up, down = (top - u) / a, (top - v) / a
        along = max(
            (length - (top * top - u * u) / (2 * a) - (top * top - v * v) / (2 * a))
            / max(top, 1e-9),
            0.0,
        )
        for span, speed, push in ((up, u, a), (along, top, 0.0), (down, top, -a)):
            if span > 0:
                pieces.append((way, speed, push, move.lead_s))
                times.append(times[-1] + span)
                way += speed * span + push * span**2 / 2
    at = np.arange(0.0, times[-1], step_s)
    which = np.searchsorted(times, at, side="right") - 1
    table = np.array(pieces)[which]
    into = at - np.array(times)[which]
    place = table[:, 0] + table[:, 1] * into + table[:, 2] * into**2 / 2
    speed = table[:, 1] + table[:, 2] * into
    lead = table[:, 3]
    if wide := round(nozzle.builds_up_s / step_s):
        around = (wide, wide)
        place = uniform_filter1d(np.pad(place, around, "edge"), wide, mode="nearest")
        speed = uniform_filter1d(np.pad(speed, around), wide, mode="constant")
        lead = np.pad(lead, around, "edge")
    return place, speed, lead


def beads(moves: list[Move], nozzle: Nozzle, random: np.random.Generator) -> Iterator[Bead]:
    """The beads of all runs; a retraction holds part of the pressure until the next run."""
    layer = min(m.z for m in moves if m.fed_mm > 0 and m.length_mm > 0)
    held = [np.zeros(1), np.zeros(1)]
    for run in runs(moves):
        yield _laid(run, nozzle, layer, held, random)
        for state in held:
            state *= nozzle.holds


def _laid(
    run: list[Move], nozzle: Nozzle, layer_mm: float, held: list[Array], random: np.random.Generator
) -> Bead:
    """The bead along a run. The controller feeds speed + lead · acceleration; the nozzle gives what
    two lags let through.

    `held` is both lags' state, which is carried on.
    """
    ends = np.cumsum([m.length_mm for m in run])
    way, speed, lead = ridden(run, nozzle, STEP_S)
    way = np.append(way, ends[-1])
    area = run[-1].fed_mm * FILAMENT_MM2 / run[-1].length_mm
    # speed and its change in each step, whole: sampled, a short push would be felt by chance
    flow = (np.diff(way) + lead * np.diff(speed, append=0.0)) / STEP_S
    flow *= 1 - nozzle.slips_s_mm * speed
    thinner = (float(speed.max()) / THICK_MM_S) ** -nozzle.thins
    for n, lag in enumerate((nozzle.lead_s - nozzle.nozzle_lag_s, nozzle.nozzle_lag_s)):
        blend = STEP_S / (
            STEP_S + max(thinner * lag, 0.0)
        )  # whose mean delay is the lag, to the last digit
        flow, held[n] = lfilter([blend], [1, blend - 1], flow, zi=held[n])
    bins = int(math.ceil(ends[-1] / BIN_MM))
    given = np.concatenate([[0.0], np.cumsum(np.maximum(flow, 0.0)) * STEP_S])
    volume = np.diff(np.interp(np.arange(bins + 1) * BIN_MM, way, given))
    line = (area + (1 - math.pi / 4) * layer_mm**2) / layer_mm
    width = line * (_evened(volume, BIN_MM, nozzle) / BIN_MM) ** nozzle.spreads
    width += random.normal(0, nozzle.grain_mm, bins)
    side = _swung_aside(run, ends, way, nozzle) if nozzle.swings else np.zeros(0)
    return Bead(tuple(run), ends, width, line, side)


def _swung_aside(run: list[Move], ends: Array, way: Array, nozzle: Nozzle) -> Array:
    """How far to the left of its way the frame's modes leave the bead; bins of FINE_MM."""
    joints = np.concatenate([[0.0], ends])
    corners = np.array([(run[0].x0, run[0].y0), *((m.x1, m.y1) for m in run)])
    behind = []
    for k, axis in enumerate("xy"):
        place = np.interp(way, joints, corners[:, k])
        push = np.diff(place, 2, prepend=[place[0], place[0]]) / STEP_S**2
        behind.append(left_behind(push, 1 / STEP_S, nozzle.swings.get(axis, ())))
    bins = np.arange(0.0, ends[-1], FINE_MM)
    way = np.maximum.accumulate(way) + 1e-9 * np.arange(len(way))
    across = [np.interp(bins, way, b) for b in behind]
    if nozzle.drag_mm > 0:
        blend = 1 - math.exp(-FINE_MM / nozzle.drag_mm)
        across = [lfilter([blend], [1, blend - 1], a) for a in across]
    along = np.diff(corners, axis=0) / np.array([[m.length_mm] for m in run])
    which = np.minimum(np.searchsorted(ends, bins, side="right"), len(run) - 1)
    side = along[which, 0] * across[1] - along[which, 1] * across[0]
    wide = max(round(nozzle.footprint_mm / FINE_MM), 1)
    return np.asarray(uniform_filter1d(_evened(side, FINE_MM, nozzle), wide, mode="nearest"))


def _evened(values: Array, bin_mm: float, nozzle: Nozzle) -> Array:
    if nozzle.evens_mm == 0:
        return values
    return np.asarray(gaussian_filter1d(values, nozzle.evens_mm / bin_mm, mode="nearest"))
