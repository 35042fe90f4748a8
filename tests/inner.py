"""Laws of physics/ on the stand-in's logs and on numbers that are drawn once, which an answer rounds
off.
"""

import dataclasses

import numpy as np

from omphalon.answers.remarks import Refusal
from omphalon.physics import arrival, comparison, lead, linear, modes, rest, scale
from omphalon.physics.aims import AIMS
from omphalon.physics.choice import choose_gains, ensemble_of
from omphalon.physics.loop import Loop, run_loop, step_for
from omphalon.physics.thermal import ThermalModel
from omphalon.readers.acceleration import read_motion
from omphalon.readers.temperature import read_temperature

HOTEND = ThermalModel(
    gain_c=620.0,
    time_constant_s=240.0,
    lag_s=3.1,
    dead_time_s=1.4,
    ambient_c=22.0,
    loss_growth=0.35,
    reference_c=190.0,
)
BED = dataclasses.replace(
    HOTEND, gain_c=160.0, time_constant_s=520.0, lag_s=9.0, dead_time_s=2.6, reference_c=48.0
)
BLOCK = dataclasses.replace(HOTEND, second_s=9.0, zero_s=12.0, lag_s=1.9)
LOOPS = {
    "hotend": (HOTEND, Loop(212.0, unit_s=60.0)),
    "block": (BLOCK, Loop(212.0, limit=0.8, noise_c=0.08, quantum_c=0.1, unit_s=60.0)),
    "wound": (BLOCK, Loop(212.0, band_c=40.0, saturated=True, unit_s=60.0)),
    "bed": (BED, Loop(70.0, period_s=0.5, filter_s=3.0, fan_extra=0.15, unit_s=300.0)),
}


def plain(value):
    """Numbers, texts, lists and dicts; an array as what sums it up."""
    if dataclasses.is_dataclass(value):
        return {f.name: plain(getattr(value, f.name)) for f in dataclasses.fields(value)}
    if isinstance(value, dict):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, np.ndarray):
        flat = np.asarray(value).ravel()
        if np.iscomplexobj(flat):
            flat = np.concatenate([flat.real, flat.imag])
        flat = flat.astype(float)
        if len(flat) <= 12:
            return [plain(float(v)) for v in flat]
        some = flat[np.isfinite(flat)]
        if not len(some):
            return {"count": len(flat)}
        return plain({"count": len(flat), "mean": float(some.mean()), "sd": float(some.std())})
    if isinstance(value, (list, tuple)):
        return [plain(v) for v in value]
    if isinstance(value, (bool, np.bool_)):
        return bool(value)
    if isinstance(value, (int, float, np.number)):
        return float(f"{float(value):.6g}") if np.isfinite(value) else None
    return str(value) if value is not None else None


def judged(doubt):
    """What a doubt says, or what it refuses with."""
    try:
        return doubt()
    except Refusal as refusal:
        return {"code": refusal.code, "facts": dict(refusal.facts)}


def looped(name):
    """A loop on a given model: what becomes of three sets of gains, and the best of a search."""
    model, loop = LOOPS[name]
    gain, period = linear.ultimate_of(model, loop)
    table = np.vstack([linear.textbook(gain * f, period).row() for f in (0.5, 1.0, 1.6)])
    ensemble = ensemble_of(model, [dataclasses.replace(model, gain_c=1.1 * model.gain_c)])
    run = run_loop(ensemble, table, loop)
    best = choose_gains(model, ensemble, loop, AIMS["even"], size=40, rounds=3)
    return {
        "ultimate": (gain, period),
        "step": step_for(ensemble, loop),
        "run": {**plain(run), "trace_c": None, "trace_s": None},
        "costs": {aim.name: run.cost(aim, loop) for aim in AIMS.values()},
        "sensitivity": linear.sensitivity(model, table, loop),
        "cost": best.cost,  # the gains themselves lie in a flat valley: a newer library moves them
        "holds": model.holding_power,
        "shares": model.shares,
    }


def held(name):
    """A hold looked at whole, with the fan told, without power, late, thinned, with a dent in it."""
    log = read_temperature(name)
    goal, unit = (70.0, 300.0) if "bed" in name else (235.0 if "before" in name else 220.0, 60.0)
    t, y, power = log.time_s, log.temperature_c, log.power
    since = t - t[0]
    dent = np.where(since > 0.8 * since[-1], 2.5 * np.exp(-(since - 0.8 * since[-1]) / unit), 0.0)
    ways = {
        "whole": (t, y, power, None),
        "fan told": (t, y, power, float(0.7 * since[-1])),
        "no power": (t, y, None, None),
        "thin": (t[::5], y[::5], None if power is None else power[::5], None),
        "late": (t[len(t) // 3 :], y[len(t) // 3 :], None, None),
        "dent": (t, y - dent, power, None),
        "shallow dent": (t, y - 0.2 * dent, power, None),
    }
    return {way: arrival.look(*given[:3], goal, unit, given[3]) for way, given in ways.items()} | {
        "few": arrival.look(t[:7], y[:7] - y[0] + goal, None, goal, unit, float(since[3]))
    }


def measured():
    """Scales, means, outliers, transcription errors and slip, over readings drawn once."""
    draw = np.random.default_rng(20)
    asked = np.array([50.0, 100.0, 150.0, -50.0, -100.0, -150.0, 100.0, 50.0])
    sides = np.sign(asked)[:, None]
    got = 1.004 * asked + 0.12 * sides[:, 0] + draw.normal(0, 0.03, 8)
    odd = got.copy()
    odd[2] += 2.0
    spread = scale.reading_spread(0.01, 0.02, ends=2, placings=2)
    return {
        "spread": spread,
        "student": [scale.student_95(f) for f in (1.0, 2.5, 9.0)],
        "pooled": [scale.pooled(q, f, 0.03) for q in (0.0, 0.01, 0.4) for f in (1.0, 5.0, 30.0)],
        "mean": [scale.mean_of(got[:n] - asked[:n], spread) for n in (1, 2, 5, 8)],
        "scale": [scale.scale_of(asked[:n], got[:n], spread) for n in (1, 3, 8)],
        "line": scale.line_of(asked, got, sides, spread),
        "strangers": [
            scale.outliers(np.column_stack([asked, sides]), values, 0.03)
            for values in (got, odd, got + np.where(np.arange(8) % 3, 0, 0.2))
        ],
        "slips": [
            scale.slip_of_pen(*case, 0.03, 2)
            for case in (
                (15.06, 150.6),
                (105.6, 150.6),
                (150.5, 150.6),
                (51.20, 50.12),
                (50.32, 50.2),
            )
        ],
        "median": scale.robust_deviation(got - asked),
        "falls": [
            scale.falls_with(
                np.array([2.0, 4, 8, 12, 16]), 1 - s * np.arange(5.0) ** 2, np.full(5, d)
            )
            for s in (0.0, 0.002, 0.02)
            for d in (0.002, 0.01)
        ],
    }


def led():
    """Best advances out of choices, bulges and scores drawn once: plain, crooked, and with slips."""
    draw = np.random.default_rng(21)
    values = np.linspace(0.02, 0.1, 9)
    noise = draw.normal(0, 0.01, 9)
    bulges = {
        "plain": 3.0 * (0.057 - values) + noise,
        "bent": 0.4 * (np.exp(-(values - 0.057) / 0.03) - 1) + noise,
        "slip": 3.0 * (0.057 - values) + noise + np.where(np.arange(9) == 2, 0.3, 0.0),
        "at the end": 3.0 * (0.095 - values) + noise,
    }
    scores = {
        "one": np.array([1, 2, 4, 7, 9, 8, 5, 3, 1.0]),
        "two": np.array([1, 3, 8, 4, 2, 3, 9, 5, 2.0]),
        "flat": np.array([5, 6, 7, 7, 7, 7, 6, 5, 5.0]),
        "slip": np.array([1, 2, 4, 1, 9, 8, 5, 3, 1.0]),
    }
    return {
        "told": [lead.told_by(values[a:b], 0.004, 0.002) for a, b in ((3, 4), (3, 5), (2, 7))],
        **{
            f"bulge {n}": judged(lambda b=b: lead.crossing(values, b, 0.01))
            for n, b in bulges.items()
        },
        **{f"score {n}": judged(lambda s=s: lead.peak(values, s, 1.0)) for n, s in scores.items()},
    }


def still(name):
    """A sensor at rest: as read, coarse, and along one axis alone."""
    log = read_motion(name)
    axes = log.acceleration_mm_s2
    coarse = np.round(axes / 40.0) * 40.0
    lossy = np.arange(len(axes)) % 7 > 1
    return {
        "fine": rest.at_rest(log.time_s, axes, 1000.0),
        "lossy": rest.at_rest(log.time_s[lossy], axes[lossy], 1000.0),
        "coarse": rest.at_rest(log.time_s, coarse, 1000.0),
        "ranges": [rest.ranges(s) for s in (4.79, 38.3, 306.5)],
    }


def knocked():
    """Decays of two modes after blows, in noise drawn once."""
    draw = np.random.default_rng(22)
    t = np.arange(int(12 * modes.RATE_HZ)) / modes.RATE_HZ
    values = draw.normal(0, 8.0, len(t))
    for blow in (1.5, 3.1, 4.9, 6.6, 8.2, 10.0):
        since = np.maximum(t - blow, 0.0)
        ring = np.exp(-12 * since) * np.sin(2 * np.pi * 44 * since)
        ring += 0.5 * np.exp(-30 * since) * np.sin(2 * np.pi * 81 * since)
        values += np.where(t >= blow, 3000 * ring, 0.0)
    return modes.tapped(values)


def among():
    """Values drawn once, and what is odd among them: none, one, three; exact ones, coarse ones."""
    draw = np.random.default_rng(23)
    value, doubt = draw.normal(412.0, 1.5, 24), draw.uniform(0.2, 2.0, 24)
    odd = value + np.where(np.arange(24) % 9 == 4, 9.0, 0.0)
    cases = {
        "alike": (value, doubt),
        "one": (value + 12.0 * (np.arange(24) == 3), doubt),
        "three": (odd, doubt),
        "exact": (odd, 0.0 * doubt),
        "few": (value[:5], doubt[:5]),
        "coarse": (np.round(value), 0.3 + 0 * doubt),
    }
    found = {name: comparison.placed_among(*case) for name, case in cases.items()}
    return {
        "found": found,
        "named": {name: comparison.named(one.chance) for name, one in found.items()},
        "loose": comparison.named(found["three"].chance, 0.3),
        "changes": [
            comparison.changes(odd - value + s, doubt, f) for s in (0.1, 2.0) for f in (3.0, 30.0)
        ],
    }


HOLDS = ("hold-before.csv", "hold-poor.csv", "hold-slow.csv", "hold-wound.csv", "hold-bed.csv")
INNER = {
    **{f"held {name}": (held, name) for name in HOLDS},
    "measured": (measured,),
    "led": (led,),
    "still rest.csv": (still, "rest.csv"),
    "knocked": (knocked,),
    "among": (among,),
    **{f"loop {name}": (looped, name) for name in LOOPS},
}


def inner(name):
    """One of them, in plain numbers; run where the logs are."""
    make, *words = INNER[name]
    return plain(make(*words))
