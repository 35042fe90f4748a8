"""What the heater's fit works with on the way, on the stand-in's logs and on models that are given:
the answer itself hangs on the last digits of a search, these numbers do not.
"""

import dataclasses

import numpy as np

from omphalon.physics import linear, oscillation, thermal_fit
from omphalon.physics.aims import AIMS
from omphalon.physics.choice import choose_gains, ensemble_of
from omphalon.physics.loop import Gains, Loop, run_loop, step_for
from omphalon.physics.record import join
from omphalon.physics.thermal import ThermalModel
from omphalon.readers.temperature import read_temperature
from omphalon.studies.answer import Unanswerable
from omphalon.studies.heater.cleaning import cleaned
from omphalon.studies.heater.doubts import explained, fastest_rise, fit_doubts, jumps
from omphalon.studies.heater.excerpt import excerpt
from omphalon.studies.heater.fit import record_of
from omphalon.studies.heater.question import HeaterQuestion
from omphalon.studies.heater.tuning import promised_range, tune

READ = ("hotend-oscillation.csv", "warm.csv", "chain.csv", "limited.csv", "fan.csv", "even.csv")
HOTEND = ThermalModel(620.0, 240.0, 3.1, 1.4, 0.35, 22.0, 190.0)
BED = dataclasses.replace(HOTEND, gain_c=160.0, time_constant_s=520.0, lag_s=9.0, dead_time_s=2.6)
BLOCK = dataclasses.replace(HOTEND, second_s=9.0, zero_s=12.0, lag_s=1.9)
LOOPS = {
    "hotend": (HOTEND, Loop(212.0, unit_s=60.0)),
    "block": (BLOCK, Loop(212.0, limit=0.8, noise_c=0.08, quantum_c=0.1, unit_s=60.0)),
    "wound": (BLOCK, Loop(212.0, band_c=40.0, wound=True, unit_s=60.0)),
    "bed": (BED, Loop(70.0, period_s=0.5, filter_s=3.0, fan_extra=0.15, unit_s=300.0)),
}
SHAPES = (np.array([5.4, 1.0, 1.3]), np.array([5.4, 1.0, 1.3, 2.0, 0.6]))


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


def read(name):
    """A log as the fit takes it: what was seen in it, and its doubts."""
    log = read_temperature(name)
    test = excerpt(log, None)
    return {
        "test": test,
        "cycle": oscillation.ultimate(test.found),
        "noise": oscillation.noise_level(log.time_s, log.temperature_c),
        "quantum": oscillation.quantum(log.temperature_c),
        "cleaned": len(cleaned(log)[0].time_s),
        "jumps": jumps(log),
        "rise": fastest_rise(log),
    }


def fitted(name, masses):
    """A model at given shapes: its linear part, its doubt, and the gains that come of it."""
    test = excerpt(read_temperature(name), None)
    record = join([record_of(test)])
    problem, first = thermal_fit._problem(record)
    near = np.abs(record.reading_c - record.target_c) <= record.near_c
    use = ~record.skip
    shape = SHAPES[masses - 1]
    fit = thermal_fit._answer(problem, shape, masses, near[use], use, record.doubt_s, 3.0)
    question = HeaterQuestion(heater="hotend", fan_on=False)
    tuned = tune(test, fit, "hotend", question, Gains(0.2, 0.01, 0.4))
    doubt = tuned.doubt
    return {
        "first": first,
        "fit": {**plain(fit), "parameters": None},
        "spread": {n: fit.spread(n) for n in ("gain_c", "time_constant_s", "dead_time_s")},
        "memory": thermal_fit._memory(problem.solve(shape, masses)[2]),
        "doubts": fit_doubts(test, fit, tuned, oscillation.ultimate(test.found)),
        "explained": judged(lambda: explained(test, fit)),
        "gains": tuned.new,
        "spreads": tuned.relative_spread,
        "worth": tuned.worth,
        "sure": tuned.sure,
        "sensitivity": tuned.sensitivity,
        "ultimates": tuned.ultimates,
        "ranges": [promised_range(v[:, 0]) for v in (doubt.overshoot_c, doubt.dip_c)],
    }


def judged(doubt):
    """What a doubt says, or what it refuses with."""
    try:
        return doubt()
    except Unanswerable as refusal:
        return refusal.retest


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
        "best": best,
        "holds": model.holding_power,
        "shares": model.shares,
    }


INNER = {
    **{f"read {name}": (read, name) for name in READ},
    **{f"fit {name}, {n} masses": (fitted, name, n) for name in READ[:3] for n in (1, 2)},
    **{f"loop {name}": (looped, name) for name in LOOPS},
}


def inner(name):
    """One of them, in plain numbers; run where the logs are."""
    make, *words = INNER[name]
    return plain(make(*words))
