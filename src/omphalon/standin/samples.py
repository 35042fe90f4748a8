"""The sample logs: Fulmar, the printer of a lighthouse museum's model shop. Made with fixed seeds,
no real printer.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from omphalon.standin.builds import Build
from omphalon.standin.frame import Sensor, Sweep, Swing, sensed, sweep_log
from omphalon.standin.frame import as_csv as motion_csv
from omphalon.standin.heater import SimulatedHeater
from omphalon.standin.kept import GAIN_SCALE, MachineSettings
from omphalon.standin.loop import Hold, hold_log
from omphalon.standin.oscillation import Test, as_console, as_csv, oscillation_log
from omphalon.tables.rows import rows_of

FULMAR_HOTEND, FULMAR_BED = rows_of("fulmar", SimulatedHeater)
HOTEND_TEST = Test(target_c=235.0, cycles=9, report_s=1.0, fan_on=True, seed=11)
BED_TEST = Test(target_c=75.0, cycles=8, report_s=1.0, rest_s=4.0, seed=12)


def hotend_csv() -> Iterator[str]:
    """The hotend's oscillation test as a CSV, power in counts up to 255."""
    head = "Fulmar, hotend, harbour-grey PETG, made up by the stand-in printer"
    return as_csv(oscillation_log(FULMAR_HOTEND, HOTEND_TEST), head, power_counts=255)


def bed_console() -> Iterator[str]:
    """The bed's oscillation test as a serial console shows it, with a clock before each line."""
    log = oscillation_log(FULMAR_BED, BED_TEST)
    rows = iter(log.time_s)
    time = 0.0
    for line in as_console(log, bed=True):
        if "T:" in line:
            time = next(rows)
        clock = 14 * 3600 + 7 * 60 + 12 + time
        yield (
            f"{int(clock // 3600):02d}:{int(clock // 60 % 60):02d}:{clock % 60:05.2f} "
            f"{line.strip()}"
        )


def hold_csv(gains: tuple[float, float, float], seed: int) -> Iterator[str]:
    """A heat-up and hold of the hotend under the given gains; the part fan comes on after two
    minutes.
    """
    head = (
        "Fulmar, hotend, heat-up and hold, the part fan comes on late, made up by the stand-in "
        "printer"
    )
    return as_csv(hold_log(FULMAR_HOTEND, Hold(target_c=235.0, gains=gains, seed=seed)), head)


FOUND_GAINS, FOUND_BED_GAINS = (0.31, 0.024, 0.1), (0.24, 0.0012, 0.55)
TRUE_STEPS = {"X": 80.4, "Y": 80.4, "Z": 400.0}
# as it might be built: out of square, its arms and radius off what it believes
FULMAR_BUILDS = {
    "moving-bed": Build(true_steps=TRUE_STEPS, square_deg=0.1),
    "moving-head": Build(kind="moving-head", true_steps=TRUE_STEPS, square_deg=0.1),
    "crossed-belts": Build(kind="crossed-belts", true_steps=TRUE_STEPS, square_deg=0.3),
    "delta": Build(
        kind="delta", true_steps=dict.fromkeys("XYZ", 400.0), arm_off_mm=0.8, radius_off_mm=0.5
    ),
}
FULMAR_FOUND = MachineSettings(
    steps={"X": 80.0, "Y": 80.0, "Z": 402.5, "E": 412.0},
    gains={
        "hotend": [GAIN_SCALE * v for v in FOUND_GAINS],
        "bed": [GAIN_SCALE * v for v in FOUND_BED_GAINS],
    },
    lead_s=0.35,
)


def found_as(build: str) -> MachineSettings:
    """What it is set to before anything is tuned; three towers have three motors of a kind."""
    if build != "delta":
        return FULMAR_FOUND
    towers = dict.fromkeys("XYZ", FULMAR_FOUND.steps["Z"])
    return replace(FULMAR_FOUND, steps={**FULMAR_FOUND.steps, **towers})


def found_settings() -> Iterator[str]:
    """Fulmar's settings listing before anything is tuned, amid its chatter."""
    yield "tell: Fulmar, made up by the stand-in printer; what is set:"
    yield from (f"tell: {line}" for line in FULMAR_FOUND.listed())
    yield "ok"


FULMAR_SWEEP = Sweep(low_hz=5.0, high_hz=120.0, rate_hz_s=1.25, drive_mm_s2=2500.0, power=0.3)
FULMAR_X = (Swing(47.2, 0.052, 0.86), Swing(81.0, 0.04, 0.14))
FULMAR_Y = (Swing(27.5, 0.06, 0.62), Swing(41.0, 0.045, 0.25), Swing(63.0, 0.05, 0.13))
FULMAR_Y_LATER = (Swing(36.4, 0.055, 0.78), Swing(58.0, 0.05, 0.22))


def sweep_csv(axis: str, swings: tuple[Swing, ...], seed: int) -> Iterator[str]:
    """A sweep of one axis under an accelerometer at 500 samples a second."""
    sensor = Sensor(
        rate_hz=500.0,
        noise_mm_s2=120.0,
        along="xy".index(axis),
        jitter=0.02,
        hum=((50.0, 60.0),),
        seed=seed,
    )
    return motion_csv(
        sweep_log(swings, FULMAR_SWEEP, sensor),
        "g",
        f"Fulmar, sweep of axis {axis}, made up by the stand-in printer",
    )


def rest_csv() -> Iterator[str]:
    """Four seconds of the sensor on Fulmar's head, with nobody near."""
    sensor = Sensor(rate_hz=1000.0, noise_mm_s2=120.0, hum=((50.0, 60.0),), seed=34)
    return motion_csv(
        sensed(np.zeros(4000), FULMAR_X, sensor),
        "g",
        "Fulmar, the sensor on the print head, at rest, made up by the stand-in printer",
    )


BIRDS = (
    *("Fulmar", "Gannet", "Petrel", "Skua", "Dunlin", "Avocet"),
    *("Plover", "Knot", "Eider", "Merlin", "Kittiwake", "Razorbill"),
)
FARM_COLUMNS = (
    *("printer", "model", "study", "log", "heater", "axis", "steps", "asked", "mark", "left"),
    *("flow", "expected", "wall", "offset", "drag"),
)


def farm_csv() -> Iterator[str]:
    """The shop's printers, measured on one morning: Skua's drive wheel is worn (5 % less is fed),
    Plover's spool is thick (8 % more).
    """
    yield "# the museum's workshop, twelve printers of one make; made up by the stand-in printer"
    yield ",".join(FARM_COLUMNS)

    def row(**cells: str) -> str:
        return ",".join(cells.get(name, "") for name in FARM_COLUMNS)

    one = {"model": "moving-bed", "printer": BIRDS[0]}
    yield row(**one, study="heater", log="hotend-oscillation.csv", heater="hotend")
    yield row(**one, study="shaper", log="sweep-x.csv.gz", axis="x")
    draw = np.random.default_rng(35)
    for bird in BIRDS:
        one = {"model": "moving-bed", "printer": bird}
        fed = 100 * (1 + draw.normal(-0.01, 0.004)) * (0.95 if bird == "Skua" else 1.0)
        left = " ".join(f"{120 - x:.1f}" for x in fed + draw.normal(0, 0.3, 4))
        yield row(**one, study="extruder", steps="412", asked="100", mark="120", left=left)
        wall = 0.45 * (1 + draw.normal(0.02, 0.01)) * (1.08 if bird == "Plover" else 1.0)
        walls = " ".join(f"{x:.2f}" for x in wall + draw.normal(0, 0.008, 8))
        yield row(**one, study="flow", flow="1", expected="0.45", wall=walls)
        drags = " ".join(f"{x:.2f}" for x in draw.normal(0.1, 0.02) + draw.normal(0, 0.008, 4))
        yield row(**one, study="probe", offset="-1.85", drag=drags)


SAMPLES = {
    "farm.csv": farm_csv,
    "found-settings.txt": found_settings,
    "sensor-rest.csv.gz": rest_csv,
    "sweep-x.csv.gz": lambda: sweep_csv("x", FULMAR_X, 31),
    "sweep-y.csv.gz": lambda: sweep_csv("y", FULMAR_Y, 32),
    "sweep-y-later.csv.gz": lambda: sweep_csv("y", FULMAR_Y_LATER, 33),
    "hotend-oscillation.csv": hotend_csv,
    "bed-console.txt": bed_console,
    "hold-before.csv": lambda: hold_csv(FOUND_GAINS, 13),
    "hold-after.csv": lambda: hold_csv((0.130, 0.0088, 0.23), 14),
}
