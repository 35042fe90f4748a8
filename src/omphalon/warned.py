"""The table of warnings, and a warning of a Finding."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from omphalon.tables import table_by


@dataclass(frozen=True)
class WarningKind:
    """A row of the table of warnings: its code, what it means, what to do."""

    code: str
    meaning: str
    remedy: str


WARNINGS: Mapping[str, WarningKind] = table_by(
    "code",
    WarningKind(
        "too-hot",
        "the log runs past the temperature allowed (--max-temp)",
        "check the sensor and its seat before heating again",
    ),
    WarningKind(
        "sensor-jump",
        "the reading jumps by more than a heater can do",
        "check the sensor's plug and wires before heating again",
    ),
    WarningKind(
        "heats-alone",
        "the temperature rises while the power is 0",
        "check the heater's switch (it may be stuck on) before heating again; or the log has "
        "the wrong power",
    ),
    WarningKind(
        "logs-disagree",
        "several logs do not show the same heater",
        "find out what differed (fan, sock, place), and fit them apart",
    ),
    WarningKind(
        "reading-left-out",
        "a reading disagrees with its fellows beyond chance and was left out",
        "measure that one again",
    ),
    WarningKind(
        "line-left-out",
        "a line of the ladder could not be read in the picture",
        "look at it; clean the plate or change the light, and take another picture if many are "
        "left out",
    ),
    WarningKind(
        "slip-of-the-pen",
        "a reading would fit if two digits were swapped, or one digit were one off",
        "look at your notes; measure that one again",
    ),
    WarningKind(
        "slip",
        "the fed length falls as the speed rises: the drive slips, or the nozzle is too cold",
        "feed slower or hotter; only the slowest readings were used",
    ),
    WarningKind("one-reading", "a single reading was taken on trust", "measure twice more"),
    WarningKind(
        "theory-differs",
        "the new value lies far from what the parts make it by construction",
        "check the numbers of motor, microsteps, gear, wheel, belt or screw",
    ),
    WarningKind(
        "backlash",
        "moves of one direction come out longer than those of the other",
        "tighten the belt or the nut; backlash is no matter of steps",
    ),
    WarningKind(
        "walls-differ",
        "walls of one side are thicker than those of another",
        "level the bed and check the frame's squareness; then print again",
    ),
    WarningKind(
        "filament-oval",
        "the filament is out of round",
        "measure more places; a drive wheel grips it unevenly, so let flow wait for walls",
    ),
    WarningKind(
        "filament-uneven",
        "the filament's section changes along the roll",
        "no flow is right for all of it: measure again where the print will be, or change the roll",
    ),
    WarningKind(
        "width-only",
        "the flow comes from the filament's width alone",
        "print a cube and measure its walls: they tell the whole",
    ),
    WarningKind(
        "large-correction",
        "the correction is larger than a setting should make up for",
        "look for the mechanical cause first",
    ),
    WarningKind(
        "unusual-value", "a number can be, but is not usual", "check the number and its unit"
    ),
    WarningKind(
        "column-passed-over",
        "a column of a readings file is none that is known",
        "rename it if it was meant to count",
    ),
    WarningKind(
        "probe-unsteady",
        "the probe repeats badly: no zero is better than that",
        "look for play in its mount, a bent pin, or a dirty nozzle",
    ),
    WarningKind(
        "passes-after-fail",
        "a level passed above one that failed",
        "repeat the levels around the first failure",
    ),
    WarningKind(
        "edge-of-range",
        "the best value lies at the end of what was printed",
        "print again over a range that reaches further",
    ),
    WarningKind(
        "outside-tower",
        "a height lies outside the tower",
        "measure it again, from the plate upwards",
    ),
    WarningKind(
        "two-optima",
        "two values look equally good; the smaller one, the safe one, was taken",
        "print again around it; look for a worn or loose drive gear",
    ),
    WarningKind(
        "unusual-advance",
        "the value is unusual for this kind of drive",
        "check --drive, the unit of the values, and the nozzle for a partial clog",
    ),
    WarningKind(
        "readings-disagree",
        "the readings scatter more than eyes and caliper should",
        "let another person read the same print, in better light",
    ),
    WarningKind(
        "sensor-axis-doubtful",
        "the sensor's axis may not be the one that the printer moved",
        "leave --sensor-x and --sensor-y out, or check how the sensor is mounted",
    ),
    WarningKind(
        "sensor-skewed",
        "two axes of the sensor move: it is mounted askew, or the frame rocks",
        "mount it square to the printer's axes, firmly, and log again",
    ),
    WarningKind(
        "gravity-differs",
        "gravity does not read as 9.81 m/s²",
        "check --unit and the sensor's range: frequencies do not suffer, but it may clip",
    ),
    WarningKind(
        "axis-still",
        "an axis of the sensor never changes",
        "tap the sensor while it logs: an axis that stays still is dead",
    ),
    WarningKind(
        "hum",
        "something hums while nobody moves",
        "switch fans and pumps off for the sweep; a hum far from the resonances does no harm",
    ),
    WarningKind(
        "files-swapped",
        "the two logs show each other's axis",
        "check which log is which before entering anything",
    ),
    WarningKind(
        "several-peaks",
        "the motion is spread over several resonances",
        "look for something loose: belts, rails, feet, the sensor's mount; log again",
    ),
    WarningKind(
        "broad-peak",
        "a resonance is broad: friction, a soft belt, or a soft mount of the sensor",
        "mount the sensor rigidly, check the belt, log again",
    ),
    WarningKind(
        "peak-unexplained",
        "the response holds what no mode explains",
        "look at the figure; mount the sensor rigidly, stop fans, log again",
    ),
    WarningKind(
        "unit-from-gravity",
        "the header names no unit; it was worked out from gravity",
        "name it with --unit if this is wrong",
    ),
    WarningKind(
        "unit-differs",
        "the unit that was named does not fit gravity",
        "check the header, or --unit",
    ),
    WarningKind(
        "ripples-only",
        "the frequency comes from ripples on a print; the damping is assumed",
        "log a sweep with an accelerometer if you can",
    ),
    WarningKind(
        "target-differs",
        "the log's own target is not the one that was given",
        "give the one that was in force: --target",
    ),
    WarningKind(
        "target-guessed",
        "the log names no target; it was worked out from where the heater switches",
        "give it with --target",
    ),
    WarningKind(
        "heater-doubtful",
        "the log does not look like one of this heater",
        "check --heater, and which columns were read",
    ),
    WarningKind(
        "unusual-temperature",
        "the log runs hotter than is usual",
        "°F? name the column temp_f; if it is °C, mind the parts",
    ),
    WarningKind(
        "date-order",
        "day and month could not be told apart, and it matters",
        "write dates as 2026-11-23",
    ),
    WarningKind(
        "times-spread",
        "the clock stamps several reports alike",
        "log with a finer clock, or give --every",
    ),
    WarningKind(
        "sweep-below-microstep",
        "the sweep's last strokes are smaller than a microstep",
        "end the sweep lower, sweep with more acceleration, or set finer microsteps",
    ),
    WarningKind(
        "rows-passed-over",
        "some rows of the file could not be read",
        "look at the named row; a few such rows do no harm",
    ),
    WarningKind(
        "cut-last-row",
        "the file ends in the middle of a row",
        "let the recording end before copying the file",
    ),
    WarningKind(
        "clock-restarted",
        "the log's clock starts anew in the middle",
        "only the stretches between are used; log the test in one piece",
    ),
    WarningKind(
        "spikes",
        "single reports lie far off their neighbours; they were passed over",
        "check the sensor's plug and the link",
    ),
    WarningKind(
        "stuck-reading",
        "the reading stands still for a while; that stretch was passed over",
        "check the sensor and the link before heating again",
    ),
    WarningKind(
        "target-changed",
        "the target was changed, or dropped, during the test; only the longest part was used",
        "repeat the test at one target",
    ),
    WarningKind(
        "drift",
        "the cycles change from first to last",
        "repeat the test with fan, room and plate left alone",
    ),
    WarningKind(
        "rows-reordered",
        "rows were out of order in time",
        "check the clock that stamped the log",
    ),
    WarningKind(
        "power-scale-guessed",
        "the number that means full power was worked out from the log",
        "give it with --full-power if this is wrong",
    ),
    WarningKind(
        "power-missing",
        "the log has no power; it was worked out from the turns of the curve",
        "log the power too: the gains hang on it",
    ),
    WarningKind(
        "summary-only",
        "the gains come from summaries of cycles, not from a log",
        "log the test if you can: a log carries a model, and better gains",
    ),
    WarningKind(
        "heater-guessed",
        "which heater this is was worked out from the log",
        "say it with --heater",
    ),
    WarningKind(
        "dropout",
        "reports are missing for a while",
        "only the stretches between are used; a better link gives a better log",
    ),
    WarningKind(
        "methods-disagree",
        "cycles and thermal model do not tell the same ultimate gain",
        "repeat the test with nothing else changing; look for a loose sensor",
    ),
    WarningKind(
        "loose-fit",
        "the model follows the log less closely than the sensor would allow",
        "look at the figure; keep fan and room steady during the test",
    ),
    WarningKind(
        "low-sensitivity-margin",
        "the loop with these gains has a thin margin",
        "prefer --aim gentle, or log with more reports a second",
    ),
    WarningKind(
        "slow-reports",
        "reports are far apart against the delay of the heater",
        "report more often: every 0.5 s or faster",
    ),
    WarningKind(
        "little-power-left",
        "holding the target with the fan on takes nearly all the power",
        "insulate the block, or print cooler",
    ),
    WarningKind(
        "power-limited",
        "the log never shows more than part of the power",
        "give the controller's limit with --power-limit, or --full-power if the scale is another",
    ),
    WarningKind(
        "few-fellows",
        "a number has an interval at fewer printers of one model than make fellows",
        "fit more of them; check the column model: printers of one model are fellows",
    ),
    WarningKind(
        "twice-measured",
        "a printer has two answers to one question; the later row of the manifest counts",
        "leave the older log out of the manifest",
    ),
)


@dataclass(frozen=True)
class Warned:
    """A warning of a Finding."""

    code: str
    message: str

    @property
    def remedy(self) -> str:
        return WARNINGS[self.code].remedy
