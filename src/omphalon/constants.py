"""Constants of nature and of statistics, and names, that several rooms need."""

from __future__ import annotations

NORMAL_95 = 1.96  # deviations within which 95 % of a normal distribution lie (GUM table G.1)
G_MM_S2 = 9806.65  # standard gravity, mm/s² (3rd CGPM, 1901)
OVER_TARGET_C = 25.0  # past its target a heater is stopped, by hand or by us
SHAPER_NAMES = ("zv", "zvd", "mzv", "ei", "two-hump", "three-hump")  # physics.impulses has them
