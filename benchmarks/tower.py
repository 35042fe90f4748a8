"""Pressure advance read from a tower in silhouette: photos along its diagonal of made-up towers
with known true values, each with its own roll, tilt, tones, light, blur and noise.

    python benchmarks/tower.py [COUNT] [--detail] [--spoiled]
"""

from __future__ import annotations

import math
import sys
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from scipy import ndimage

from omphalon.answers.remarks import Refusal
from omphalon.base.arrays import Array
from omphalon.lines.dialect import load_dialect
from omphalon.recordings.recording import GreyPicture
from omphalon.standin.bead import Nozzle
from omphalon.standin.reader import tower_bulges
from omphalon.studies.advance.drives import DRIVES, TOWER_MM
from omphalon.studies.advance.fit import fit_advance
from omphalon.studies.advance.plan import AdvanceAsked, plan_advance
from omphalon.studies.advance.question import AdvanceQuestion
from omphalon.studies.advance.silhouette import silhouette
from picture import usual_job

RANGES = {"direct": (0.02, 0.1), "bowden": (0.2, 1.0)}


@dataclass(frozen=True)
class Look:
    """How a tower is photographed: camera turned and looking down (degrees), distance (mm), tones
    as shares of white, how much darker one side is, blur (px), noise.
    """

    size_px: tuple[int, int] = (3000, 4000)
    roll_deg: float = 0.0
    down_deg: float = 2.0
    aside_deg: float = 0.0
    distance_mm: float = 350.0
    fills: float = 0.75
    plastic: float = 0.3
    behind: float = 0.8
    table: float = 0.5
    falloff: float = 0.1
    seam_mm: float = 0.14
    rough_mm: float = 0.012
    blur_px: float = 1.5
    noise: float = 0.012
    seed: int = 0


def drawn(any_: np.random.Generator) -> Look:
    """A photo as somebody takes it."""
    dark = any_.uniform() < 0.6
    tones = (any_.uniform(0.1, 0.35), any_.uniform(0.6, 0.9))
    return Look(
        roll_deg=any_.uniform(-4, 4),
        down_deg=any_.uniform(0, 6),
        aside_deg=any_.uniform(-4, 4),
        distance_mm=any_.uniform(200, 500),
        fills=any_.uniform(0.6, 0.85),
        plastic=tones[0] if dark else tones[1],
        behind=tones[1] if dark else tones[0],
        table=any_.uniform(0.2, 0.8),
        falloff=any_.uniform(0, 0.2),
        seam_mm=any_.uniform(0.05, 0.25),
        rough_mm=any_.uniform(0.005, 0.02),
        blur_px=any_.uniform(1.0, 2.5),
        noise=any_.uniform(0.006, 0.02),
        seed=int(any_.integers(1 << 30)),
    )


def tower_photo(lines: list[str], nozzle: Nozzle, look: Look, side_mm: float = 36.0) -> Array:
    """A tower seen along its diagonal, the clean corner to the right; (rows, columns), bytes. Half
    of what lies too much at a corner stands out of it.
    """
    random = np.random.default_rng([look.seed, 8])
    heights, bulge, _ = tower_bulges(lines, nozzle, random)
    layer = float(np.median(np.diff(heights)))
    top = float(heights[-1] + layer / 2)
    # a side of the square that is turned by `aside` is not quite the diagonal
    half = side_mm / math.sqrt(2) * math.cos(math.radians(look.aside_deg)) + 0.22
    clean = half + bulge / 2 + random.normal(0, look.rough_mm, len(bulge))
    seam = half + np.abs(look.seam_mm + random.normal(0, 0.4 * look.seam_mm, len(bulge)))
    columns, rows = look.size_px
    scale = look.fills * min(rows / top, columns / (2 * half))
    u, v = np.meshgrid(np.arange(columns) - columns / 2, rows * 0.52 - np.arange(rows))
    roll = math.radians(look.roll_deg)
    x = (u * math.cos(roll) + v * math.sin(roll)) / scale
    z = (-u * math.sin(roll) + v * math.cos(roll)) / scale
    down = math.radians(look.down_deg)
    nearer = 1 + z * math.sin(down) / look.distance_mm  # what is higher is nearer
    x, z = x / nearer, z / math.cos(down) / nearer + top / 2
    at = np.clip(np.rint((z - heights[0]) / layer).astype(int), 0, len(heights) - 1)
    off = np.clip(np.abs(z - heights[at]), 0, layer / 2)
    sag = layer / 2 - np.sqrt((layer / 2) ** 2 - off**2)
    behind = np.clip(half - np.abs(x), 0, None) * math.sin(down)  # the far walls' rim
    inside = np.minimum.reduce([clean[at] - sag - x, x + seam[at] - sag, top + behind - z]) * scale
    cover = np.clip(inside + 0.5, 0, 1)
    light = 1 + look.falloff * u / columns
    tower = look.plastic * light * (1 + 0.05 * np.sin(2 * np.pi * z / layer))
    picture = look.behind * light * (1 - cover) + tower * cover
    brim = (z < layer) & (np.abs(x) < half + 1.8)
    picture = np.where(z < 0, look.table, np.where(brim, tower, picture))
    picture = ndimage.gaussian_filter(picture, look.blur_px)
    picture += random.normal(0, look.noise, picture.shape)
    return np.clip(np.rint(255 * picture), 0, 255).astype(np.uint8)


def tower(drive: str) -> tuple[list[str], dict[str, object]]:
    """The usual tower of a drive: its lines, and what they say of it."""
    usual, job = DRIVES[drive], usual_job(drive)
    asked = AdvanceAsked(
        style="tower", start_s=0.0, stop_s=usual.to_s, step_s=usual.to_s / TOWER_MM, drive=drive
    )
    _, printed = plan_advance(asked, job, load_dialect("stand-in"))
    return list(printed.lines()), dict(printed.plan)


@dataclass(frozen=True)
class Tried:
    """What came of one photo."""

    true_s: float
    value_s: float = np.nan
    half_s: float = np.nan
    why: str = ""


def answered(plan: dict[str, object], grey: Array, true_s: float) -> Tried:
    """The answer from a photo."""
    try:
        seen = silhouette(GreyPicture("photo", grey, "grey"), plan)
        found = fit_advance(seen.readings, seen.asked(AdvanceQuestion()))
    except Refusal as refusal:
        return Tried(true_s, why=refusal.code)
    return Tried(true_s, found.value_s, found.half_width_s)


def one(drive: str, lines: list[str], plan: dict[str, object], true_s: float, n: int) -> Tried:
    """One tower, photographed once."""
    look = drawn(np.random.default_rng([5, n, drive == "bowden"]))
    return answered(plan, tower_photo(lines, Nozzle(lead_s=true_s), look), true_s)


SPOILED: dict[str, tuple[dict[str, float], Callable[[Array], Array] | None]] = {
    "out of focus": ({"blur_px": 30.0}, None),
    "mirrored": ({}, lambda g: np.ascontiguousarray(g[:, ::-1])),
    "upside down": ({}, lambda g: np.ascontiguousarray(g[::-1, ::-1])),
    "the top cut off": ({}, lambda g: np.ascontiguousarray(g[len(g) // 3 :])),
    "cut at a side": ({}, lambda g: np.ascontiguousarray(g[:, : int(0.7 * g.shape[1])])),
    "like what is behind it": ({"plastic": 0.5, "behind": 0.53}, None),
    "from 30° aside": ({"aside_deg": 30.0}, None),
    "small in the picture": ({"fills": 0.12}, None),
}


def spoiled(count: int = 8) -> None:
    """What becomes of spoiled photos. Wrong is further off than twice the half width told."""
    lines, plan = tower("direct")
    true = np.random.default_rng(4).uniform(*RANGES["direct"], count)
    print(f"{'photo':26}{'right':>7}{'refused':>9}{'wrong':>7}")
    for kind, (changes, after) in SPOILED.items():
        tried = []
        for n, value in enumerate(true):
            look = replace(drawn(np.random.default_rng([6, n])), **changes)
            grey = tower_photo(lines, Nozzle(lead_s=float(value)), look)
            tried.append(answered(plan, after(grey) if after else grey, float(value)))
        good = [t for t in tried if not t.why]
        wrong = sum(abs(t.value_s - t.true_s) > 2 * t.half_s for t in good)
        why = ", ".join(sorted({t.why for t in tried if t.why}))
        print(f"{kind:26}{len(good) - wrong:7}{count - len(good):9}{wrong:7}   {why}", flush=True)


def main() -> None:
    if "--spoiled" in sys.argv:
        return spoiled()
    count = next((int(w) for w in sys.argv[1:] if w.isdigit()), 20)
    heads = ("answered", "held", "near", "half", "median", "worst")
    print(f"{'towers':10}" + "".join(f"{h:>9}" for h in heads))
    with ProcessPoolExecutor(2) as pool:
        for drive, (low, high) in RANGES.items():
            lines, plan = tower(drive)
            true = np.random.default_rng(3).uniform(low, high, count)
            jobs = [pool.submit(one, drive, lines, plan, float(v), n) for n, v in enumerate(true)]
            tried = [job.result() for job in jobs]
            good = [t for t in tried if not t.why]
            miss = np.array([t.value_s - t.true_s for t in good])
            half = np.array([t.half_s for t in good])
            near = int((np.abs(miss) <= (0.003 if drive == "direct" else 0.03)).sum())
            print(
                f"{drive:10}{len(good):>5}/{count:<3}{int((np.abs(miss) <= half).sum()):>9}"
                f"{near:>9}"
                f"{np.median(half):9.4f}{np.median(np.abs(miss)):9.4f}"
                f"{np.abs(miss).max():9.4f}",
                flush=True,
            )
            if "--detail" in sys.argv:
                for t in tried:
                    print(f"   {t.true_s:.4f} {t.value_s - t.true_s:+.5f} ± {t.half_s:.5f} {t.why}")


if __name__ == "__main__":
    main()
