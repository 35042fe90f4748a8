"""Pressure advance over a range of speeds: ladders whose lines have two or three fast speeds, read
from scans of 600 dots per inch.

    python benchmarks/speeds.py [COUNT]

Made-up printers of four kinds: a bead with one lag, with two, with a drive that slips when it is
fast, and plastic that thins as it flows, whose lag falls with the power 0.25 of the speed, so that
no single value serves. The value must hold the true lag (of the slowest lines, for plastic that
thins); what is said of the other speeds is compared with beads that are laid without noise.
"""

from __future__ import annotations

import json
import math
import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from omphalon.answers.remarks import Refusal
from omphalon.lines.dialect import load_dialect
from omphalon.prints.card import Card, Rung, card_in
from omphalon.recordings.recording import GreyPicture
from omphalon.standin.bead import BIN_MM, THICK_MM_S, Nozzle, beads
from omphalon.standin.frame import Move
from omphalon.studies.advance.drives import DRIVES
from omphalon.studies.advance.fit import fit_advance
from omphalon.studies.advance.plan import AdvanceAsked, plan_advance
from omphalon.studies.advance.question import AdvanceQuestion
from omphalon.studies.card.plan import most_values
from omphalon.studies.card.rungs import noise_mm, rung_readings, windows_of
from omphalon.studies.card.sight import look
from photo import photograph
from picture import RANGES, shot, usual_job

FASTS = {"direct": (60.0, 120.0, 180.0), "bowden": (45.0, 90.0)}
KINDS = ("one lag", "two lags", "a slip", "thins")
THINS = 0.25


@dataclass(frozen=True)
class Tried:
    held: bool | None
    off_mm: tuple[float, ...] = ()
    apart: bool = False
    half: float = math.nan
    why: str = ""


def ladder(drive: str) -> tuple[list[str], Card]:
    """The ladder of several speeds, as lines of G-code, and what they say of it."""
    usual, (fast, *faster) = DRIVES[drive], FASTS[drive]
    job = replace(usual_job(drive), fast_mm_s=fast, faster_mm_s=tuple(faster))
    count = most_values(job) - 1
    asked = AdvanceAsked(
        style="ladder",
        start_s=0.0,
        stop_s=usual.to_s,
        step_s=usual.to_s / count,
        drive=drive,
        leg_mm=usual.leg_mm,
        foot_mm=usual.foot_mm,
        of_speeds=True,
    )
    _, printed = plan_advance(asked, job, load_dialect("stand-in"))
    return list(printed.lines()), card_in(json.loads(json.dumps(printed.plan)), drive)


def nozzle_of(kind: str, lead: float) -> Nozzle:
    plain = Nozzle(lead_s=lead)
    if kind == "two lags":
        return replace(plain, nozzle_lag_s=lead / 6)
    if kind == "a slip":
        return replace(plain, slips_s_mm=4e-4)
    return replace(plain, thins=THINS) if kind == "thins" else plain


def difference(card: Card, rung: Rung, nozzle: Nozzle, value: float) -> float:
    """Mean width behind changes to slow less that behind those to fast, of a line laid clean."""
    places, count = rung.places, len(rung.stretches_mm)
    speeds = ([card.slow_mm_s, rung.fast_mm_s] * count)[:count]
    moves = [
        Move(
            x0=a[0],
            y0=a[1],
            x1=b[0],
            y1=b[1],
            z=card.layer_mm,
            fed_mm=0.033 * math.dist(a, b),
            speed_mm_s=speed,
            acceleration_mm_s2=card.acceleration_mm_s2,
            lead_s=value,
        )
        for a, b, speed in zip(places, places[1:], speeds, strict=False)
    ]
    bead = next(iter(beads(moves, replace(nozzle, grain_mm=0.0), np.random.default_rng(0))))
    slow, fast = card.slow_mm_s, rung.fast_mm_s
    windows = windows_of(rung.stretches_mm, slow, fast, card.acceleration_mm_s2)
    middles = (np.arange(len(bead.width_mm)) + 0.5) * BIN_MM
    means = [
        np.mean([bead.width_mm[(middles >= a) & (middles < b)].mean() for a, b in some])
        for some in windows
    ]
    return float(means[1] - means[0])


def tried(drive: str, kind: str, lead: float, number: int) -> Tried:
    lines, card = ladder(drive)
    nozzle = nozzle_of(kind, lead)
    random = np.random.default_rng([51, KINDS.index(kind), number, drive == "bowden"])
    grey = photograph(lines, nozzle, shot("scan 600", random, drive))
    try:
        sight = look(GreyPicture("picture", grey, "grey"), [card], drive)
        read = rung_readings("picture", card, sight.rungs)
        fit = fit_advance(read, AdvanceQuestion(drive=drive, read_mm=noise_mm(sight.rungs)))
    except Refusal as refusal:
        return Tried(None, why=refusal.code)
    apart = any(remark.code == "speeds-apart" for remark in fit.remarks)
    slowest = FASTS[drive][0] if kind == "thins" else THICK_MM_S
    true = lead * (slowest / THICK_MM_S) ** -nozzle.thins
    off = []
    for one in fit.speeds:
        rung = next(r for r in card.rungs if r.fast_mm_s == one.fast_mm_s)
        own = lead * (one.fast_mm_s / THICK_MM_S) ** -nozzle.thins
        clean = difference(card, rung, nozzle, fit.setting_s) - difference(card, rung, nozzle, own)
        off.append(one.off_mm - clean)
    held = abs(fit.value_s - true) <= fit.half_width_s
    return Tried(held, tuple(off), apart, fit.half_width_s)


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    print(f"{'printers':20}{'fitted':>9}{'holds':>8}{'±, s':>9}{'apart':>7}{'other speeds':>22}")
    print(f"{'':53}{'95th %':>11}{'worst':>11}")
    with ProcessPoolExecutor(2) as pool:
        for drive, (low, high) in RANGES.items():
            for kind in KINDS:
                leads = np.random.default_rng(5).uniform(low, high, count)
                jobs = [pool.submit(tried, drive, kind, float(v), n) for n, v in enumerate(leads)]
                found = [job.result() for job in jobs]
                some = [one for one in found if one.held is not None]
                offs = np.abs([off for one in some for off in one.off_mm])
                print(
                    f"{drive + ', ' + kind:20}{len(some):>6}/{count}"
                    f"{sum(bool(one.held) for one in some):>6}"
                    f"{np.median([one.half for one in some]):11.4f}"
                    f"{sum(one.apart for one in some):>6}"
                    f"{np.quantile(offs, 0.95):12.3f}{offs.max():11.3f}"
                    + "".join(f"  {one.why}" for one in found if one.why),
                    flush=True,
                )


if __name__ == "__main__":
    main()
