"""Logs and readings that the stand-in makes, by name: what an answer must not move on."""

import numpy as np
from scipy.signal import lfilter

from families import Chain
from omphalon.standin.frame import FrameLog, Sensor, Sweep, Swing, sensed, sweep_log
from omphalon.standin.frame import as_csv as motion_csv
from omphalon.standin.loop import Hold, hold_log
from omphalon.standin.oscillation import Test, as_console, as_csv, oscillation_log
from omphalon.standin.samples import FULMAR_BED, FULMAR_HOTEND


def tap_log(
    swings: tuple[Swing, ...], sensor: Sensor, taps: int = 8, apart_s: float = 1.5
) -> FrameLog:
    """Taps with a soft hammer: pushes of some ms on the moving part, which is held by the frame;
    each decays freely.
    """
    random = np.random.default_rng(sensor.seed + 1)
    count = int((taps + 1) * apart_s * sensor.rate_hz)
    at = np.arange(count) / sensor.rate_hz
    force = np.zeros(count)
    for n in range(taps):
        middle = (n + 0.7 + random.uniform(-0.1, 0.1)) * apart_s
        force += random.uniform(20, 40) * np.exp(-0.5 * ((at - middle) / 0.0015) ** 2)
    # the frame's answer to a force: H less the rigid motion, so that it comes back to rest
    moved = np.zeros(count)
    for swing in swings:
        w, z = 2 * np.pi * swing.frequency_hz, swing.damping
        pole = np.exp((-z * w + 1j * w * np.sqrt(1 - z * z)) / sensor.rate_hz)
        shape = [1.0, -2 * pole.real, abs(pole) ** 2]
        place = lfilter([0, 1.0], shape, force) * swing.share / sensor.rate_hz
        moved += np.gradient(np.gradient(place, at), at)
    log = sensed(np.zeros(count), swings, sensor)
    log.acceleration[:, sensor.along] += np.round(moved * 60000.0 / np.abs(moved).max())
    return log


SLOW_CHAIN = Chain(
    power_w=48.0,
    capacity_j_c=(3.0, 3.5, 4.0, 3.0, 2.5),
    coupling_w_c=(5.0, 4.0, 4.0, 5.0),
    loss_w_c=(0.01, 0.02, 0.02, 0.02, 0.03),
    growth_per_c=0.001,
    radiation_w_k4=(0.0, 0.0, 0.0, 0.0, 2e-10),
    seen=3,
    lags_s=(1.2, 0.6),
    dead_time_s=0.8,
    ambient_c=21.0,
)
FRAMES = {
    "one": (Swing(44.0, 0.06, 1.0),),
    "two": (Swing(36.0, 0.05, 0.72), Swing(71.0, 0.05, 0.28)),
    "weak": (Swing(31.0, 0.07, 0.95), Swing(58.0, 0.04, 0.05)),
    "three": (Swing(28.0, 0.05, 0.4), Swing(45.0, 0.04, 0.35), Swing(77.0, 0.06, 0.25)),
}
QUICK = Sweep(low_hz=6, high_hz=115, rate_hz_s=2.5, drive_mm_s2=2500.0)


def _heater(heater, test):
    return lambda: as_csv(oscillation_log(heater, test))


def _console(heater, test, bed):
    return lambda: as_console(oscillation_log(heater, test), bed)


def _hold(heater, hold):
    return lambda: as_csv(hold_log(heater, hold))


def _sweep(frame, sweep=QUICK, **sensor):
    return lambda: motion_csv(sweep_log(FRAMES[frame], sweep, Sensor(**sensor)), "g")


def _rest(**sensor):
    made = Sensor(**sensor)
    return lambda: motion_csv(sensed(np.zeros(int(4 * made.rate_hz)), FRAMES["one"], made), "m/s²")


WALLS = {"front": (0.45, 0.46, 0.45), "back": (0.49, 0.50, 0.49), "left": (0.47, 0.47, 0.46)}
BULGES = (0.21, 0.14, 0.09, 0.31, -0.05, -0.1, -0.16)  # the fourth is a slip


def _table(header, rows):
    return lambda: [header, *(",".join(str(cell) for cell in row) for row in rows)]


def _changed(made, change):
    """A log whose rows, cells in lists, were changed by row number, time first."""

    def lines():
        header, *rows = made()
        cells = [row.split(",") for row in rows]
        changed = (change(n, row, len(rows)) for n, row in enumerate(cells))
        return [header, *(",".join(row) for row in changed if row)]

    return lines


def _warmer(row, by, times=1.0):
    """A row of a heater's log with another temperature."""
    return [row[0], f"{float(row[1]) * times + by:.2f}", *row[2:]]


HOTEND = _heater(FULMAR_HOTEND, Test(target_c=215.0, cycles=6, report_s=0.5, seed=21))

LOGS = {
    "walls.csv": _table("side,wall_mm", [(s, w) for s, walls in WALLS.items() for w in walls]),
    "bulges.csv": _table(
        "advance_s,bulge_mm", [(round(0.02 + 0.01 * n, 2), b) for n, b in enumerate(BULGES)]
    ),
    "heights.csv": _table("height_mm,bulge_mm", [(4 * n, -b) for n, b in enumerate(BULGES)]),
    "warm.csv": _heater(
        FULMAR_HOTEND, Test(target_c=210.0, cycles=6, report_s=0.5, start_c=120.0, seed=3)
    ),
    "chain.csv": _heater(SLOW_CHAIN, Test(target_c=220.0, cycles=6, report_s=1.0, seed=4)),
    "limited.csv": _heater(
        FULMAR_HOTEND, Test(target_c=200.0, cycles=5, report_s=1.0, power_limit=0.7, seed=5)
    ),
    "fan.csv": _heater(
        FULMAR_HOTEND, Test(target_c=235.0, cycles=7, report_s=1.0, fan_on_at_cycle=3, seed=6)
    ),
    "even.csv": _heater(
        FULMAR_HOTEND, Test(target_c=230.0, cycles=6, report_s=2.0, symmetric=True, seed=7)
    ),
    "bed.txt": _console(
        FULMAR_BED, Test(target_c=60.0, cycles=5, report_s=2.0, rest_s=5.0, seed=8), True
    ),
    "spikes.csv": _changed(HOTEND, lambda n, row, _: _warmer(row, 40.0 * (n % 97 == 60))),
    "stuck.csv": _changed(
        HOTEND, lambda n, row, _: [row[0], "215.00", *row[2:]] if n > 200 else row
    ),
    "rounded.csv": _changed(
        HOTEND, lambda n, row, _: [row[0], str(round(float(row[1]))), *row[2:]]
    ),
    "twice.csv": _changed(HOTEND, lambda n, row, count: None if count / 3 < n < count / 2 else row),
    "fahrenheit.csv": _changed(HOTEND, lambda n, row, _: _warmer(row, 32.0, 1.8)),
    "moved.csv": _changed(HOTEND, lambda n, row, _: _warmer(row, 4.0 * (n > 300))),
    "short.csv": _changed(
        _hold(FULMAR_HOTEND, Hold(target_c=220.0, gains=(0.1, 0.005, 0.2), seed=9)),
        lambda n, row, count: row if n < count / 2 else None,
    ),
    "few.csv": _changed(
        lambda: motion_csv(tap_log(FRAMES["one"], Sensor(rate_hz=1600.0, seed=18)), "g"),
        lambda n, row, count: row if n < count / 3 else None,
    ),
    "gaps.csv": _changed(
        _sweep("two", rate_hz=1000.0, seed=19), lambda n, row, _: row if n % 4000 > 300 else None
    ),
    "hold-poor.csv": _hold(FULMAR_HOTEND, Hold(target_c=220.0, gains=(0.4, 0.03, 0.1), seed=1)),
    "hold-slow.csv": _hold(FULMAR_HOTEND, Hold(target_c=220.0, gains=(0.05, 0.0006, 0.2), seed=2)),
    "hold-wound.csv": _hold(
        FULMAR_HOTEND, Hold(target_c=220.0, gains=(0.13, 0.009, 0.24), windup=True, seed=3)
    ),
    "hold-bed.csv": _hold(
        FULMAR_BED, Hold(target_c=70.0, gains=(0.3, 0.003, 0.9), hold_s=900.0, seed=4)
    ),
    "one.csv": _sweep("one", rate_hz=800.0, seed=11),
    "two.csv": _sweep("two", rate_hz=1600.0, seed=12, noise_mm_s2=400.0),
    "weak.csv": _sweep("weak", rate_hz=1000.0, seed=13, jitter=0.02),
    "three.csv": _sweep("three", rate_hz=1000.0, seed=14, lost=0.03, along=1),
    "hum.csv": _sweep("two", rate_hz=1000.0, seed=15, hum=((50.0, 300.0),)),
    "taps.csv": lambda: motion_csv(tap_log(FRAMES["two"], Sensor(rate_hz=1600.0, seed=16)), "g"),
    "rest.csv": _rest(rate_hz=1000.0, seed=17, hum=((60.0, 350.0),), down=1, along=0),
}
