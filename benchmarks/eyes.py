"""What caliper and eye read off a tower and off a row of corners: ways of reading that the
stand-in's own desk does not have.
"""

from collections.abc import Iterator

import numpy as np

from omphalon.standin.bead import Nozzle, beads
from omphalon.standin.frame import heard
from omphalon.standin.reader import Reader, corner_bulge, scores_csv, tower_bulges


def tower_bulges_csv(
    lines: list[str], nozzle: Nozzle, reader: Reader, every_mm: float = 2.5
) -> Iterator[str]:
    """The clean corner's bulge by caliper, every so many mm of height."""
    random = np.random.default_rng(reader.seed)
    height, bulge, slow = tower_bulges(lines, nozzle, random)
    yield "height_mm,bulge_mm"
    for goal in np.arange(every_mm, height[-1], every_mm):
        around = np.abs(height - goal) < 0.5
        if slow[around].any():
            continue
        yield (
            f"{goal:.1f}"
            f",{bulge[around].mean() + random.normal(0, reader.caliper_mm * reader.careless):.2f}"
        )


def corners_csv(
    lines: list[str], nozzle: Nozzle, reader: Reader, score: bool = False
) -> Iterator[str]:
    """Each value's corner: its bulge by caliper (mean of the layers above the first), or a
    score.
    """
    random = np.random.default_rng(reader.seed)
    found: dict[float, list[float]] = {}
    layer = 0.0
    for bead in beads(heard(lines), nozzle, random):
        run, layer = bead.moves, layer or bead.moves[0].z
        if len(run) == 2 and run[0].z > 1.5 * layer and min(run[0].length_mm, run[1].length_mm) > 5:
            found.setdefault(run[0].lead_s, []).append(corner_bulge(bead, bead.ends_mm[0]))
    values = np.array(sorted(found))
    bulges = np.array([np.mean(found[v]) for v in values])
    if score:
        yield from scores_csv(values, np.abs(bulges), reader, random)
        return
    yield "advance_s,bulge_mm"
    for value, bulge in zip(
        values,
        bulges + random.normal(0, reader.caliper_mm * reader.careless, len(values)),
        strict=True,
    ):
        yield f"{value:g},{bulge:.2f}"
