"""How to find the zero."""

from __future__ import annotations

from omphalon.finding import Plan


def plan_probe(paper_mm: float) -> Plan:
    """Say how to find the zero with paper and probe."""
    return Plan(
        "probe-plan",
        "Nozzle-to-bed zero with paper and probe",
        (
            "Heat bed and nozzle as for printing, wait five minutes, wipe the nozzle clean.",
            "Probe the same point ten times and write down the heights: that shows how well the "
            "probe repeats.",
            f"At that point lower the nozzle by 0.02 mm at a time onto paper of {paper_mm:g} mm "
            "(measure it) until it just drags; "
            "write the height down; lift; do it five times.",
        ),
        (),
        f"omphalon probe fit --offset MM --paper {paper_mm:g} --drag MM --drag MM --drag MM "
        "--trigger MM --trigger MM",
    )
