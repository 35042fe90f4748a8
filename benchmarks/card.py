"""What a test card tells of made-up printers: resonances, shapers, pressure advance, X against Y.

    python benchmarks/card.py [COUNT] [--only TEXT] [--spoiled] [--sensor] [--detail]

Each printer has one to three modes an axis (25 to 110 Hz, damping 0.02 to 0.12), a lead, X and Y up
to 1 % off and up to 0.5° out of square. Its card is laid by the stand-in's bead in one of six
kinds, and pictured by a scanner with an error of its own, or a camera. Beside it: what a sweep with
an accelerometer makes of the same frame.
"""

from __future__ import annotations

import json
import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import sys
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field, replace
from time import perf_counter

import numpy as np
from PIL import Image
from scipy import ndimage

from omphalon.answers.remarks import Refusal
from omphalon.lines.dialect import load_dialect
from omphalon.physics.resonance import Mode
from omphalon.physics.shaping import Limits, at_setting, candidates
from omphalon.prints.card import PARTS, Card, card_in
from omphalon.prints.job import Job
from omphalon.recordings.recording import GreyPicture, MotionLog
from omphalon.standin.bead import Nozzle
from omphalon.standin.frame import Sensor, Sweep, Swing, sweep_log
from omphalon.studies.advance.question import AdvanceQuestion
from omphalon.studies.card.plan import CardAsked, plan_card
from omphalon.studies.card.scale import fit_scale
from omphalon.studies.card.sight import look
from omphalon.studies.card.words import CardQuestion, card_answer
from omphalon.studies.shaper.fit import fit_shaper
from omphalon.studies.shaper.question import ShaperQuestion
from photo import Shot, photograph

KINDS = ("plain", "two lags", "slipping", "dragged", "slow to push", "relaxing")
PICTURES = ("scan 600", "scan 1200", "photo")
SAME = 0.06  # of a frequency: so near, a mode seen is a mode that is there


@dataclass(frozen=True)
class Printer:
    """A made-up printer: its modes by axis, lead, how long X and Y come out, how Y leans."""

    swings: dict[str, tuple[Swing, ...]]
    lead_s: float
    axes: tuple[float, float, float]


@dataclass
class Tried:
    """What came of one card."""

    kind: str
    picture: str
    seen: list[float] = field(default_factory=list)  # a mode's frequency over the true one
    false: int = 0
    missed: int = 0
    share: float = np.nan  # truly allowed acceleration over the best possible
    sensor: float = np.nan  # the same by an accelerometer
    advance: tuple[float, float] = (np.nan, np.nan)  # off the true value, half width
    ratio: float = np.nan
    square_deg: float = np.nan
    seconds: float = np.nan
    warned: int = 0
    why: str = ""


def printer(number: int, drive: str) -> Printer:
    random = np.random.default_rng([31, number])
    swings = {}
    for axis in "xy":
        count, found = int(random.integers(1, 4)), []
        while len(found) < count:
            one = float(np.exp(random.uniform(np.log(25), np.log(110))))
            if all(max(one, f) / min(one, f) > 1.2 for f in found):
                found.append(one)
        shares = random.dirichlet(np.full(count, 3.0))
        dampings = np.exp(random.uniform(np.log(0.02), np.log(0.12), count))
        swings[axis] = tuple(
            Swing(f, float(z), float(s)) for f, z, s in zip(found, dampings, shares, strict=True)
        )
    lead = random.uniform(0.02, 0.1) if drive == "direct" else random.uniform(0.2, 1.0)
    off = random.uniform(-0.01, 0.01, 2)
    lean = np.tan(np.radians(random.uniform(-0.5, 0.5)))
    return Printer(swings, float(lead), (1 + float(off[0]), 1 + float(off[1]), float(lean)))


def nozzle(one: Printer, kind: str) -> Nozzle:
    """A kind of bead."""
    plain = Nozzle(lead_s=one.lead_s, swings=one.swings)
    if kind == "two lags":
        return replace(plain, nozzle_lag_s=one.lead_s / 6)
    if kind == "slipping":
        return replace(plain, slips_s_mm=4e-4)
    if kind == "dragged":
        return replace(plain, drag_mm=0.2, footprint_mm=0.5)
    if kind == "slow to push":
        return replace(plain, builds_up_s=0.008)
    if kind == "relaxing":
        return replace(plain, evens_mm=0.3, spreads=0.85)
    return plain


def planned(drive: str) -> tuple[Card, list[str]]:
    """A card and its G-code."""
    usual = {"direct": (90.0, 1800.0, 0.7, 0.12), "bowden": (60.0, 600.0, 4.4, 1.2)}[drive]
    asked = CardAsked(
        parts=PARTS,
        start_s=0.0,
        stop_s=usual[3],
        drive=drive,
        present_s=None,
        shake_mm_s2=3500.0,
        shapers={},
    )
    job = Job(fast_mm_s=usual[0], acceleration_mm_s2=usual[1], retract_mm=usual[2])
    _, printed = plan_card(asked, job, load_dialect("stand-in"))
    return card_in(json.loads(json.dumps(printed.plan)), "card"), list(printed.lines())


def shots(picture: str, number: int) -> list[Shot]:
    """How a card is pictured: two scans a quarter turn apart, or one photo."""
    random = np.random.default_rng([32, number])
    base = Shot(
        turn_deg=float(random.uniform(-4, 4)),
        plastic=float(random.uniform(0.6, 0.85)),
        plate=float(random.uniform(0.08, 0.25)),
        light_deg=float(random.uniform(0, 360)),
        grain=float(random.uniform(0.01, 0.05)),
        seed=number,
    )
    if picture == "photo":
        lens = float(random.uniform(-0.02, 0.02))
        tilt = float(random.uniform(0, 10))
        return [replace(base, dpi=None, lens=lens, tilt_deg=tilt, mirrored=False)]
    dpi = float(picture.split()[1])
    wide, high, lean = random.uniform(-0.003, 0.003, 3)
    own = replace(base, dpi=dpi, scanner=(1 + float(wide), 1 + float(high), float(lean)))
    return [own, replace(own, turn_deg=own.turn_deg + 90, seed=number + 500)]


def modes_of(swings: Sequence[Swing]) -> list[Mode]:
    return [Mode(s.frequency_hz, s.damping, s.share) for s in swings]


def allowed_share(answer: object, swings: dict[str, tuple[Swing, ...]]) -> float:
    """What the settings of an answer truly allow, over the best possible; the worse axis of both
    ways.
    """
    limits = Limits()
    picked, best = [], []
    for axis, own in swings.items():
        modes = modes_of(own)
        best.append(max(c.acceleration_mm_s2 for c in candidates(modes, limits, OFFERED)))
        set_to = answer.get(axis) if isinstance(answer, dict) else None
        if set_to is None:
            return np.nan
        one = at_setting(*set_to, modes, limits)
        picked.append(one.acceleration_mm_s2)
    return min(picked) / min(best)


OFFERED = ("zv", "zvd", "mzv", "ei", "two-hump", "three-hump")


def by_sensor(one: Printer) -> float:
    """The same by a sweep of each axis."""
    logs = {}
    for axis, swings in one.swings.items():
        log = sweep_log(swings, Sweep(), Sensor())
        logs[axis] = MotionLog("made up", log.time_s, log.acceleration, "mm/s²")
    fit = fit_shaper(ShaperQuestion(logs=logs))
    settings = {
        a.reading.axis: (a.in_force.shaper, a.in_force.frequency_hz, a.in_force.damping)
        for a in fit.axes
    }
    return allowed_share(settings, one.swings)


def judged(job: tuple[int, str, str, str]) -> Tried:
    """One printer's card, read."""
    number, kind, picture, drive = job
    one = printer(number, drive)
    card, lines = planned(drive)
    pictures = [
        GreyPicture("made up", photograph(lines, nozzle(one, kind), shot, one.axes), "grey")
        for shot in shots(picture, number)
    ]
    return read(one, card, pictures, Tried(kind, picture))


def read(one: Printer, card: Card, pictures: list[GreyPicture], tried: Tried) -> Tried:
    """What the pictures of a card tell, held against its printer."""
    question = CardQuestion(
        length_mm=None,
        steps={},
        build="",
        advance=AdvanceQuestion(),
        shaper=lambda read: ShaperQuestion(logs={}, read=read),
    )
    start = perf_counter()
    found = card_answer("card-fit", pictures, [card], "card", question, load_dialect())
    tried.seconds = perf_counter() - start
    if not found.parts:
        tried.why = found.because
        return tried
    tried.warned = len(found.warnings) + sum(len(p.warnings) for p in found.parts)
    answers = found.evidence["answers"]
    shaper = answers["shaper"]
    settings = {}
    for axis, true in one.swings.items():
        modes = shaper["evidence"].get(axis, {}).get("modes", [])
        there = [t.frequency_hz for t in true]
        for mode in modes:
            ratios = [mode["frequency_hz"] / f for f in there]
            near = min(ratios, key=lambda r: abs(r - 1))
            if abs(near - 1) < SAME:
                tried.seen.append(near)
            else:
                tried.false += 1
        tried.missed += max(len(there) - len(modes), 0)
        if axis in shaper["settings"]:
            own = shaper["settings"][axis]
            settings[axis] = own["shaper"], own["frequency_hz"], own["damping"]
    tried.share = allowed_share(settings, one.swings)
    advance = answers["advance"]
    if advance["verdict"] != "retest":
        value, half = advance["settings"]["advance_s"], advance["spread"]["advance_s"]
        tried.advance = value - one.lead_s, half
    if len(pictures) > 1:
        scale = fit_scale([found.picture.sight, look(pictures[1], [card], "card")], None, {})
        tried.ratio = scale.ratio - one.axes[0] / np.hypot(one.axes[1], one.axes[2])
        tried.square_deg = scale.square_deg + np.degrees(np.arctan(one.axes[2] / one.axes[1]))
    return tried


Picture = np.ndarray


def _smeared(grey: Picture, random: np.random.Generator) -> Picture:
    """A hand over a part of it while it was warm."""
    out = grey.copy()
    row, column = (int(random.uniform(0.3, 0.6) * n) for n in grey.shape)
    part = np.s_[row : row + grey.shape[0] // 6, column : column + grey.shape[1] // 6]
    out[part] = ndimage.gaussian_filter(grey[part], (2, 60))
    return out


def _half_stuck(grey: Picture, random: np.random.Generator) -> Picture:
    """The plate's own grey where a part came off."""
    out = grey.copy()
    out[int(random.uniform(0.4, 0.7) * len(grey)) :] = int(np.median(grey))
    return out


def _off_a_screen(grey: Picture, _: np.random.Generator) -> Picture:
    rows, columns = np.indices(grey.shape, sparse=True)
    grid = 0.6 + 0.2 * np.sin(2 * np.pi * rows / 3.7) + 0.2 * np.sin(2 * np.pi * columns / 3.3)
    return np.asarray(grey * grid, dtype=np.uint8)


def _scaled(grey: Picture, _: np.random.Generator) -> Picture:
    size = round(grey.shape[1] * 0.83), grey.shape[0]
    return np.asarray(Image.fromarray(grey).resize(size))


Change = Callable[[Picture, np.random.Generator], Picture]
# kind → what is changed of the shot, of the printer's nozzle, and of the picture
SPOILED: dict[str, tuple[dict[str, object], dict[str, object], Change | None]] = {
    "cut off": ({}, {}, lambda g, r: np.ascontiguousarray(g[:, : int(0.85 * g.shape[1])])),
    "smeared": ({}, {}, _smeared),
    "half stuck": ({}, {}, _half_stuck),
    "too dark": ({"exposure": 0.1}, {}, None),
    "four times the light": ({"exposure": 4.0}, {}, None),
    "out of focus": ({"blur_px": 11.0}, {}, None),
    "another plan": ({}, {}, None),
    "two cards": ({}, {}, lambda g, r: np.hstack([g, g])),
    "off a screen": ({}, {}, _off_a_screen),
    "scaled by a program": ({}, {}, _scaled),
    "the shaper left on": ({}, {"swings": {}}, None),
    "noise, glue and hairs": ({"noise": 0.1, "glue": 60, "hairs": 80}, {}, None),
}


def spoiled_one(job: tuple[str, int]) -> Tried:
    kind, number = job
    shot_changes, nozzle_changes, change = SPOILED[kind]
    one, (card, lines) = printer(number, "direct"), planned("direct")
    if kind == "another plan":
        lines = planned("bowden")[1]
    laid = replace(nozzle(one, "plain"), **nozzle_changes)
    grey = photograph(lines, laid, replace(shots("scan 300", number)[0], **shot_changes), one.axes)
    if change is not None:
        grey = change(grey, np.random.default_rng([33, number]))
    return read(one, card, [GreyPicture("made up", grey, "grey")], Tried(kind, "scan 300"))


def spoiled(each: int) -> None:
    """What becomes of spoiled pictures; wrong in silence: a value off by twice its half width, or a
    mode that is not there, and no warning.
    """
    print(f"{'picture':24}{'refused':>9}{'answered':>10}{'warned':>8}{'wrong':>7}")
    with ProcessPoolExecutor(2) as pool:
        found = list(pool.map(spoiled_one, [(k, n) for k in SPOILED for n in range(each)]))
    for kind in SPOILED:
        own = [t for t in found if t.kind == kind]
        kept = [t for t in own if not t.why]
        off = [t for t in kept if t.false or abs(t.advance[0]) > 2 * t.advance[1]]
        wrong = sum(not t.warned for t in off)
        why = "; ".join(sorted({t.why[:50] for t in own if t.why}))
        warned = sum(t.warned > 0 for t in kept)
        print(f"{kind:24}{len(own) - len(kept):9}{len(kept):10}{warned:8}{wrong:7}  {why}")


def rows(count: int, only: str) -> Iterator[tuple[str, list[Tried]]]:
    with ProcessPoolExecutor(2) as pool:
        for drive in ("direct", "bowden"):
            for picture in PICTURES:
                for kind in KINDS:
                    name = f"{drive}, {picture}, {kind}"
                    if only in name and (kind == "plain" or picture == "scan 600"):
                        jobs = [(n, kind, picture, drive) for n in range(count)]
                        yield name, list(pool.map(judged, jobs))


def shown(name: str, tried: list[Tried]) -> str:
    off = 100 * np.abs(np.array([s - 1 for t in tried for s in t.seen]))
    share = np.array([t.share for t in tried])
    share = share[np.isfinite(share)]
    advance = np.array([t.advance for t in tried])
    advance = advance[np.isfinite(advance[:, 0])]
    held = float(np.mean(np.abs(advance[:, 0]) <= advance[:, 1])) if len(advance) else np.nan
    scale = np.array([(100 * abs(t.ratio), abs(t.square_deg)) for t in tried])
    worst = np.nanmax(scale, axis=0) if np.isfinite(scale).any() else (np.nan, np.nan)
    false = sum(t.false for t in tried)
    return (
        f"{name:28}{len(off):5}{np.median(off):7.2f}{np.quantile(off, 0.95):7.2f}{false:6}"
        f"{sum(t.missed for t in tried):7}{np.median(share):8.3f}{np.quantile(share, 0.1):7.3f}"
        f"{len(advance):5}/{len(tried):<3}{held:6.0%}"
        f"{np.median(advance[:, 1]) if len(advance) else np.nan:8.4f}"
        f"{worst[0]:8.3f}{worst[1]:7.3f}{np.nanmedian([t.seconds for t in tried]):6.1f}"
    )


def main() -> None:
    words = [w for w in sys.argv[1:] if w.isdigit()]
    count = int(words[0]) if words else 40
    only = sys.argv[sys.argv.index("--only") + 1] if "--only" in sys.argv else ""
    if "--spoiled" in sys.argv:
        return spoiled(int(words[0]) if words else 8)
    print(
        f"{'printer, picture, bead':28}{'modes':>5}{'off %':>7}{'95th':>7}{'false':>6}{'missed':>7}"
        f"{'allowed':>8}{'10th':>7}{'advance':>9}{'held':>6}{'half':>8}{'X/Y %':>8}{'sq °':>7}"
        f"{'s':>6}"
    )
    if "--sensor" in sys.argv:
        with ProcessPoolExecutor(2) as pool:
            share = np.array(
                list(pool.map(by_sensor, [printer(n, "direct") for n in range(count)]))
            )
        print(f"accelerometer: allowed {np.median(share):.3f}, 10th {np.quantile(share, 0.1):.3f}")
    for name, tried in rows(count, only):
        print(shown(name, tried), flush=True)
        if "--detail" in sys.argv:
            for n, t in enumerate(tried):
                print("  ", n, t)


if __name__ == "__main__":
    try:
        main()
    except Refusal as refusal:
        raise SystemExit(refusal.because) from refusal
