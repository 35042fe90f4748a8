"""Constants of nature and of statistics, and names, that several packages need."""

from __future__ import annotations

NORMAL_95 = 1.96  # deviations within which 95 % of a normal distribution lie (GUM table G.1)
G_MM_S2 = 9806.65  # standard gravity, mm/s² (3rd CGPM, 1901)
BAND_C = 10.0  # how near its target the reference loop starts to act (docs/heater.md)
ASSUMED_DAMPING = 0.05  # of a frame whose damping nobody measured
MOTOR_STEPS = 200.0  # full steps a turn of the commoner motors
FILAMENT_MM = 1.75  # the commoner of the two widths that are sold
OVER_TARGET_C = 25.0  # past its target a heater is stopped, by hand or by us
STEP_C = 15.0  # of a step of the target that shows how a heater answers, and back
SILENCE_S = 10.0  # without a reading of a heater that is on (our rule; an option)
UNWATCHED_S = 600.0  # heaters stay on for a user who does not answer (our rule; an option)
SHAPER_NAMES = ("zv", "zvd", "mzv", "ei", "two-hump", "three-hump")  # physics.impulses has them
BUILDS = ("moving-bed", "moving-head", "crossed-belts", "delta")  # what moves; crossed: both motors
