"""The table of quantities: what each is called, its unit, what it can be, what is usual, and
why.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from omphalon.constants import G_MM_S2
from omphalon.tables import table_by

INCH_MM, MICRON_MM = 25.4, 0.001
INCHES = dict.fromkeys(("in", "inch", '"'), INCH_MM)
MM = {"mm": 1.0, "cm": 10.0, "m": 1000.0, **INCHES, "µm": MICRON_MM, "um": MICRON_MM}
SECONDS = {"s": 1.0, "sec": 1.0, "ms": 1e-3, "µs": 1e-6, "us": 1e-6, "min": 60.0, "h": 3600.0}
SHARE = {"%": 0.01}
STEPS = {"steps/mm": 1.0, "per mm": 1.0, "/mm": 1.0}


@dataclass(frozen=True, kw_only=True)
class Quantity:
    """A row of the table: what it is called, its unit, what it can be, what is usual, and why.

    `units` turns a spelling into ours by a factor. `usual` only warns. `whole` takes no fraction;
    `above` leaves the lowest value itself out.
    """

    name: str
    words: str
    unit: str
    lowest: float
    highest: float
    usual: tuple[float, float] | None = None
    reason: str
    units: Mapping[str, float] = field(default_factory=dict)
    whole: bool = False
    above: bool = False
    slip: str = ""


HOTEND_USUAL_C, HOTEND_MOST_C = 320.0, 500.0
BED_USUAL_C, BED_MOST_C = 130.0, 200.0
CHAMBER_USUAL_C, CHAMBER_MOST_C = 80.0, 150.0
CELSIUS = {"°c": 1.0, "c": 1.0, "degc": 1.0}
FAHRENHEIT = "°F? write °C: (°F − 32) ÷ 1.8"

QUANTITIES: Mapping[str, Quantity] = table_by(
    "name",
    Quantity(
        name="hotend temperature",
        words="a hotend's temperature",
        unit="°C",
        lowest=15,
        highest=HOTEND_MOST_C,
        usual=(15, HOTEND_USUAL_C),
        reason="above it no printing hotend lives",
        units=CELSIUS,
        slip=FAHRENHEIT,
    ),
    Quantity(
        name="bed temperature",
        words="a bed's temperature",
        unit="°C",
        lowest=0,
        highest=BED_MOST_C,
        usual=(0, BED_USUAL_C),
        reason="above it no printing bed lives; 0 is off",
        units=CELSIUS,
        slip=FAHRENHEIT,
    ),
    Quantity(
        name="chamber temperature",
        words="a chamber's temperature",
        unit="°C",
        lowest=0,
        highest=CHAMBER_MOST_C,
        usual=(0, CHAMBER_USUAL_C),
        reason="above it no motor and no belt lives; 0 is off",
        units=CELSIUS,
        slip=FAHRENHEIT,
    ),
    Quantity(
        name="temperature",
        words="a temperature",
        unit="°C",
        lowest=15,
        highest=HOTEND_MOST_C,
        usual=(15, HOTEND_USUAL_C),
        reason="from room to the hottest hotend",
        units=CELSIUS,
        slip=FAHRENHEIT,
    ),
    Quantity(
        name="steps",
        words="steps per mm",
        unit="per mm",
        lowest=1,
        highest=100_000,
        usual=(4, 30_000),
        reason="a coarse belt makes some ten, a fine screw some ten thousand",
        units=STEPS,
    ),
    Quantity(
        name="flow",
        words="a flow multiplier",
        unit="",
        lowest=0.2,
        highest=5,
        usual=(0.6, 1.6),
        reason="1 is 100 %; more than a few tens of percent is a wrong filament or wrong steps",
        units=SHARE,
        slip="a percentage needs its sign: 97 % is 0.97",
    ),
    Quantity(
        name="length",
        words="a length",
        unit="mm",
        lowest=-5000,
        highest=5000,
        reason="no printer moves further",
        units=MM,
        slip="write the unit behind the number if it is not mm",
    ),
    Quantity(
        name="size",
        words="a length",
        unit="mm",
        lowest=0,
        highest=5000,
        above=True,
        reason="no printer is larger, and nothing is shorter than 0",
        units=MM,
        slip="write the unit behind the number if it is not mm",
    ),
    Quantity(
        name="distance",
        words="a distance",
        unit="mm",
        lowest=0,
        highest=5000,
        reason="0 means none",
        units=MM,
        slip="write the unit behind the number if it is not mm",
    ),
    Quantity(
        name="wall",
        words="a wall's thickness",
        unit="mm",
        lowest=0.02,
        highest=20,
        reason="thinner than a caliper holds, thicker than any line",
        units=MM,
        slip="write the unit behind the number if it is not mm",
    ),
    Quantity(
        name="filament width",
        words="a filament's width",
        unit="mm",
        lowest=0.5,
        highest=5,
        usual=(1.5, 3.1),
        reason="no extruder takes thinner or thicker ones",
        units=MM,
        slip="write the unit behind the number if it is not mm",
    ),
    Quantity(
        name="offset",
        words="a height",
        unit="mm",
        lowest=-20,
        highest=20,
        reason="from the present zero; a probe sits within some mm of the nozzle",
        units=MM,
        slip="write the unit behind the number if it is not mm",
    ),
    Quantity(
        name="bulge",
        words="a bulge",
        unit="mm",
        lowest=-3,
        highest=3,
        reason="a corner stands out by less than a line's width",
        units=MM,
        slip="write the unit behind the number if it is not mm",
    ),
    Quantity(
        name="fine length",
        words="a length",
        unit="mm",
        lowest=0,
        highest=10,
        above=True,
        reason="what a rule or a caliper reads to, a ripple, a limit of what is seen",
        units=MM,
        slip="write the unit behind the number if it is not mm",
    ),
    Quantity(
        name="speed",
        words="a speed",
        unit="mm/s",
        lowest=0.01,
        highest=2000,
        usual=(0.02, 1000),
        reason="no printer is faster",
        units={"mm/s": 1.0, "m/s": 1000.0, "mm/min": 1 / 60},
        slip="if it is mm/min, write the unit behind it",
    ),
    Quantity(
        name="corner",
        words="a speed through corners",
        unit="mm/s",
        lowest=0.1,
        highest=200,
        usual=(1, 60),
        reason="a sharp corner is a jump of speed, and no motor jumps further",
        units={"mm/s": 1.0, "m/s": 1000.0, "mm/min": 1 / 60},
        slip="if it is mm/min, write the unit behind it",
    ),
    Quantity(
        name="acceleration",
        words="an acceleration",
        unit="mm/s²",
        lowest=1,
        highest=200_000,
        usual=(20, 100_000),
        reason="twenty times gravity is past every printer",
        units={
            "mm/s²": 1.0,
            "mm/s2": 1.0,
            "mm/s^2": 1.0,
            "m/s²": 1000.0,
            "m/s2": 1000.0,
            "m/s^2": 1000.0,
            "g": G_MM_S2,
        },
    ),
    Quantity(
        name="frequency",
        words="a frequency",
        unit="Hz",
        lowest=1,
        highest=500,
        usual=(10, 200),
        reason="frames swing at 10 to 200 Hz",
        units={"hz": 1.0, "khz": 1000.0},
    ),
    Quantity(
        name="rate",
        words="a rate",
        unit="Hz",
        lowest=1,
        highest=100_000,
        reason="samples a second of a sensor",
        units={"hz": 1.0, "khz": 1000.0},
    ),
    Quantity(
        name="sweep rate",
        words="a sweep's rate",
        unit="Hz/s",
        lowest=0.1,
        highest=10,
        reason="faster is no slow sweep",
        units={"hz/s": 1.0},
    ),
    Quantity(
        name="damping",
        words="a damping ratio",
        unit="",
        lowest=0,
        highest=0.9,
        usual=(0, 0.3),
        reason="a share of the critical one; frames have some hundredths",
        units=SHARE,
    ),
    Quantity(
        name="gain",
        words="a gain",
        unit="",
        lowest=0,
        highest=1e6,
        reason="a controller's gain is not negative",
    ),
    Quantity(
        name="scale",
        words="a number for full power",
        unit="",
        lowest=0,
        highest=1e6,
        above=True,
        reason="1, 100 and 255 are usual",
        units=SHARE,
    ),
    Quantity(
        name="bits",
        words="bits a second",
        unit="",
        lowest=300,
        highest=12_000_000,
        usual=(9600, 2_000_000),
        whole=True,
        reason="115200 and 250000 are usual",
    ),
    Quantity(
        name="pace", words="a pace", unit="", lowest=0.1, highest=2000, reason="1 is real time"
    ),
    Quantity(
        name="time",
        words="a time",
        unit="s",
        lowest=0,
        highest=1e6,
        reason="from 0 on",
        units=SECONDS,
        slip="write the unit behind the number if it is not s",
    ),
    Quantity(
        name="interval",
        words="a time between two reports",
        unit="s",
        lowest=1e-6,
        highest=60,
        reason="a report a minute is no log",
        units=SECONDS,
        slip="write the unit behind the number if it is not s (500 ms)",
    ),
    Quantity(
        name="band",
        words="a band around the target",
        unit="°C",
        lowest=0,
        highest=100,
        usual=(2, 60),
        reason="0 or none where the controller always acts",
        units={"°c": 1.0, "c": 1.0, "k": 1.0},
    ),
    Quantity(
        name="advance",
        words="a pressure advance",
        unit="s",
        lowest=0,
        highest=5,
        usual=(0, 2),
        reason="some hundredths for a direct drive, some tenths for a bowden tube",
        units=SECONDS,
        slip="write the unit behind the number if it is not s (40 ms)",
    ),
    Quantity(
        name="advance per mm",
        words="a growth of the advance per mm",
        unit="s/mm",
        lowest=0,
        highest=1,
        above=True,
        reason="a tower is some tens of mm high",
        units={"s/mm": 1.0},
    ),
    Quantity(
        name="share",
        words="a share",
        unit="",
        lowest=0,
        highest=1,
        reason="1 is all of it",
        units=SHARE,
        slip="a percentage needs its sign: 80 % is 0.8",
    ),
    Quantity(
        name="times",
        words="a share",
        unit="",
        lowest=0,
        highest=3,
        reason="1 is as much again",
        units=SHARE,
        slip="a percentage needs its sign: 40 % is 0.4",
    ),
    Quantity(
        name="score", words="a score", unit="", lowest=-1e6, highest=1e6, reason="higher is better"
    ),
    Quantity(
        name="ratio", words="a ratio", unit="", lowest=0.01, highest=1000, reason="turns to turns"
    ),
    Quantity(
        name="count",
        words="a count",
        unit="",
        lowest=1,
        highest=100_000,
        whole=True,
        reason="whole, from 1 on",
    ),
)
