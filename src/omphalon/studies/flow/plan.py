"""How to print and measure the hollow cube."""

from __future__ import annotations

from omphalon.finding import Plan

CUBE_MM = 30


def plan_flow(expected_mm: float) -> Plan:
    """Say how to print and measure a hollow cube with walls of one line.

    Parameters
    ----------
    expected_mm : width of one line

    Returns
    -------
    Plan
    """
    return Plan(
        "flow-plan",
        f"Walls of a hollow cube, one line of {expected_mm:g} mm",
        (
            "Set the extruder's steps first: flow corrects what is left, for one filament.",
            f"Print a hollow cube of {CUBE_MM} mm: one wall, line width {expected_mm:g} mm, no "
            "top, flow as it is now, usual "
            "temperature and speed.",
            "Let it cool. Zero the caliper. Measure with the tips' flat part, lightly, away from "
            "corners, seam and first layers.",
            "All four sides, two heights or more: eight readings. Write down each, the odd ones "
            "too.",
        ),
        (),
        f"omphalon flow fit --flow F --expected {expected_mm:g} --wall MM --wall MM --wall MM",
        settings={"expected_mm": expected_mm},
    )
