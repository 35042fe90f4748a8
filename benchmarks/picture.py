"""Pressure advance read from pictures of a ladder: scans of 300, 600 and 1200 dots per inch, photos
of 12 MP, of made-up prints with known true values; beside them what a caliper and an eye read off
the same prints.

    python benchmarks/picture.py [COUNT] [--only WORDS] [--detail] [--spoiled]

Each picture has its own turn, tilt, tones, light, gloss, grain, lens, blur and noise. `--spoiled`
takes ten kinds of bad picture instead, eight of each.
"""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from tempfile import TemporaryDirectory

import numpy as np

from omphalon.answers.remarks import Refusal
from omphalon.lines.dialect import load_dialect
from omphalon.prints.card import Card, card_in
from omphalon.prints.job import Job
from omphalon.readers.readings import read_readings
from omphalon.recordings.columns import ADVANCE
from omphalon.recordings.recording import GreyPicture, Readings
from omphalon.standin.bead import Nozzle
from omphalon.standin.reader import Reader, ladder_csv
from omphalon.studies.advance.drives import DRIVES, LINES
from omphalon.studies.advance.fit import AdvanceFit, fit_advance
from omphalon.studies.advance.plan import AdvanceAsked, plan_advance
from omphalon.studies.advance.question import AdvanceQuestion
from omphalon.studies.card.rungs import noise_mm, rung_readings
from omphalon.studies.card.sight import look
from photo import Shot, photograph

RANGES = {"direct": (0.02, 0.095), "bowden": (0.25, 0.95)}
KINDS = ("scan 300", "scan 600", "scan 1200", "photo 12 MP", "caliper", "eye")


@dataclass(frozen=True)
class Tried:
    """What came of one picture: the true value, the answer, or why there is none."""

    true_s: float
    value_s: float
    half_s: float
    why: str = ""
    seconds: float = 0.0
    left_out: int = 0
    verdict: str = ""
    warned: tuple[str, ...] = ()


def usual_job(drive: str) -> Job:
    """What prints for a drive are laid with."""
    usual = DRIVES[drive]
    return replace(
        Job(),
        fast_mm_s=usual.fast_mm_s,
        acceleration_mm_s2=usual.acceleration_mm_s2,
        retract_mm=usual.retract_mm,
    )


def ladder(drive: str, start_s: float = 0.0, stop_s: float | None = None) -> tuple[list[str], Card]:
    """The usual ladder of a drive, as lines of G-code, and what they say of it."""
    usual, job = DRIVES[drive], usual_job(drive)
    asked = AdvanceAsked(
        style="ladder",
        start_s=start_s,
        stop_s=stop_s or usual.to_s,
        step_s=((stop_s or usual.to_s) - start_s) / LINES[0],
        drive=drive,
        leg_mm=usual.leg_mm,
        foot_mm=usual.foot_mm,
    )
    _, printed = plan_advance(asked, job, load_dialect("stand-in"))
    return list(printed.lines()), card_in(json.loads(json.dumps(printed.plan)), drive)


def shot(kind: str, random: np.random.Generator, drive: str) -> Shot:
    """How one picture is taken."""
    u = random.uniform
    light = bool(random.uniform() < 0.6)
    tones = (u(0.55, 0.85), u(0.08, 0.25)) if light else (u(0.08, 0.2), u(0.5, 0.75))
    how = Shot(
        plastic=tones[0],
        plate=tones[1],
        turn_deg=u(0, 360),
        mirrored=bool(u() < 0.2),
        light_deg=u(0, 360),
        height_deg=u(35, 65),
        ambient=u(0.4, 0.7),
        gloss=u(0.0, 0.5),
        falloff=u(0.0, 0.3),
        grain=u(0.01, 0.06),
        glue=int(random.integers(0, 10)),
        hairs=int(random.integers(0, 12)),
        blur_px=u(0.6, 1.2),
        noise=u(0.004, 0.015),
        quality=int(random.integers(82, 97)),
        seed=int(random.integers(1 << 30)),
    )
    brightest = max(tones) * (1 + how.falloff / 2) * (1 + 0.5 * how.gloss)
    how = replace(how, exposure=min(0.95 / brightest, 1.3))  # as an automatic exposure sets it
    if kind.startswith("scan"):
        return replace(how, dpi=float(kind.split()[1]))
    upright = 90.0 if drive == "direct" else 0.0  # a person fills the picture
    return replace(
        how,
        dpi=None,
        turn_deg=upright + 180.0 * int(random.integers(2)) + u(-12, 12),
        tilt_deg=u(0, 28),
        tilt_to_deg=u(0, 360),
        lens=u(-0.012, 0.012),
        blur_px=u(0.9, 1.8),
        noise=u(0.008, 0.02),
        mirrored=False,
    )


def answered(lines: list[str], printed: Card, kind: str, true_s: float, number: int) -> Tried:
    """One print, read once in one way."""
    random = np.random.default_rng([KINDS.index(kind), number, printed.drive == "bowden"])
    question = AdvanceQuestion(drive=printed.drive)
    nozzle = Nozzle(lead_s=true_s)
    if kind in ("caliper", "eye"):
        reader = Reader(seed=number)
        with TemporaryDirectory() as folder:
            path = f"{folder}/readings.csv"
            with open(path, "w") as file:
                file.write("\n".join(ladder_csv(lines, nozzle, reader, kind == "eye")) + "\n")
            found = _fitted(read_readings(path, ADVANCE), question)
        return _tried(found, true_s, 0.0, 0)
    grey = photograph(lines, nozzle, shot(kind, random, printed.drive))
    return seen(grey, printed, true_s)


def seen(grey: np.ndarray, printed: Card, true_s: float) -> Tried:
    """The answer from a picture."""
    started = time.perf_counter()
    try:
        sight = look(GreyPicture("picture", grey, "grey"), [printed], printed.drive)
        read = rung_readings("picture", printed, sight.rungs)
    except Refusal as refusal:
        return Tried(true_s, np.nan, np.nan, refusal.code)
    found = _fitted(read, AdvanceQuestion(drive=printed.drive, read_mm=noise_mm(sight.rungs)))
    spent = time.perf_counter() - started
    return _tried(found, true_s, spent, sum(r.why is not None for r in sight.rungs))


def _fitted(readings: Readings, question: AdvanceQuestion) -> AdvanceFit | Refusal:
    try:
        return fit_advance(readings, question)
    except Refusal as refusal:
        return refusal


def _tried(found: AdvanceFit | Refusal, true_s: float, seconds: float, left_out: int) -> Tried:
    if isinstance(found, Refusal):
        return Tried(true_s, np.nan, np.nan, found.code, seconds, left_out)
    warned = tuple(o.code for o in found.remarks)
    return Tried(
        true_s, found.value_s, found.half_width_s, "", seconds, left_out, found.verdict, warned
    )


def rows(count: int, only: str) -> Iterator[tuple[str, list[Tried]]]:
    """Each row's name and what came of it."""
    with ProcessPoolExecutor(2) as pool:
        for drive, (low, high) in RANGES.items():
            lines, printed = ladder(drive)
            true = np.random.default_rng(3).uniform(low, high, count)
            for kind in KINDS:
                if only in f"{drive}, {kind}":
                    jobs = [
                        pool.submit(answered, lines, printed, kind, float(v), n)
                        for n, v in enumerate(true)
                    ]
                    yield f"{drive}, {kind}", [job.result() for job in jobs]


def _cut(grey: np.ndarray) -> np.ndarray:
    return np.ascontiguousarray(grey[:, : int(0.55 * grey.shape[1])])


def _fingers(grey: np.ndarray) -> np.ndarray:
    """A hand over a corner of the print."""
    out = grey.copy()
    rows, columns = np.mgrid[: grey.shape[0], : grey.shape[1]]
    near = np.hypot(rows - 0.3 * grey.shape[0], columns - 0.35 * grey.shape[1])
    out[near < 0.22 * min(grey.shape)] = 120
    return out


# kind → what is changed of the shot, of the picture, and which print is told
SPOILED: dict[str, tuple[dict[str, object], object, str]] = {
    "blurred": ({"blur_px": 9.0}, None, ""),
    "100 dots per inch": ({"dpi": 100.0}, None, ""),
    "four times the light": ({"exposure": 4.0}, None, ""),
    "glare on five lines": ({"glare": (3, 9, 10, 14, 20)}, None, ""),
    "half of it cut off": ({}, _cut, ""),
    "a hand over it": ({}, _fingers, ""),
    "another ladder's file": ({}, None, "other"),
    "plastic like the plate": ({"plastic": 0.42, "plate": 0.36, "grain": 0.06}, None, ""),
    "noise and hairs": ({"noise": 0.12, "hairs": 80, "glue": 60}, None, ""),
    "50° off square, bent": ({"tilt_deg": 50.0, "lens": 0.06, "dpi": None}, None, ""),
}


def spoiled_one(lines: list[str], told: Card, kind: str, true_s: float, n: int) -> Tried:
    """One spoiled picture."""
    changes, after, _ = SPOILED[kind]
    base = shot("photo 12 MP" if n % 2 else "scan 600", np.random.default_rng([9, n]), "direct")
    grey = photograph(lines, Nozzle(lead_s=true_s), replace(base, **changes))
    return seen(after(grey) if callable(after) else grey, told, true_s)


def spoiled(count: int) -> None:
    """The table of spoiled pictures. Wrong is further off than twice the half width told."""
    heads = ("right", "warned", "refused", "wrong, warned", "wrong")
    widths = (7, 8, 9, 15, 7)
    print(f"{'picture':26}" + "".join(f"{h:>{w}}" for h, w in zip(heads, widths, strict=True)))
    with ProcessPoolExecutor(2) as pool:
        lines, printed = ladder("direct")
        values = tuple(round(0.03 + 0.0025 * n, 4) for n in range(len(printed.values_s)))
        _, other = ladder("direct", values[0], values[-1])
        true = np.random.default_rng(4).uniform(*RANGES["direct"], count)
        for kind, (_, _, which) in SPOILED.items():
            told = other if which else printed
            jobs = [
                pool.submit(spoiled_one, lines, told, kind, float(v), n) for n, v in enumerate(true)
            ]
            tally = dict.fromkeys(heads, 0)
            why = set()
            for tried in (job.result() for job in jobs):
                if tried.why:
                    why.add(tried.why)
                    tally["refused"] += 1
                    continue
                warned = bool(tried.left_out or tried.warned)
                right = abs(tried.value_s - tried.true_s) <= 2 * tried.half_s
                tally[
                    ("" if right else "wrong")
                    + (", " if warned and not right else "")
                    + ("warned" if warned else "right" if right else "")
                ] += 1
            cells = "".join(
                f"{v:>{w}}" for v, w in zip(tally.values(), (7, 8, 9, 15, 7), strict=True)
            )
            print(f"{kind:26}{cells}   {', '.join(sorted(why))}", flush=True)


def shown(name: str, tried: list[Tried]) -> str:
    """A line of the table."""
    good = [t for t in tried if not t.why]
    if not good:
        return f"{name:22} retest on all: {tried[0].why}"
    miss = np.array([t.value_s - t.true_s for t in good])
    half = np.array([t.half_s for t in good])
    spent = float(np.median([t.seconds for t in good]))
    return (
        f"{name:22}{len(good):>4}/{len(tried):<4}{int((np.abs(miss) <= half).sum()):>6}"
        f"{np.median(half):>10.4f}{half.max():>10.4f}{np.median(np.abs(miss)):>10.4f}"
        f"{np.abs(miss).max():>10.4f}{miss.mean():>+10.4f}{spent:>8.1f}"
    )


def main() -> None:
    if "--spoiled" in sys.argv:
        return spoiled(8)
    words = [w for w in sys.argv[1:] if w.isdigit()]
    only = sys.argv[sys.argv.index("--only") + 1] if "--only" in sys.argv else ""
    print(
        f"{'print, picture':22}{'answered':>9}{'held':>6}{'half':>10}{'widest':>10}{'miss':>10}"
        f"{'worst':>10}{'mean':>10}{'time, s':>8}"
    )
    for name, tried in rows(int(words[0]) if words else 40, only):
        print(shown(name, tried), flush=True)
        if "--detail" in sys.argv:
            for t in tried:
                print(f"   {t.true_s:.4f} {t.value_s - t.true_s:+.5f} ± {t.half_s:.5f} {t.why}")


if __name__ == "__main__":
    main()
