"""What the functions of physics/ and studies/ give on the way to an answer, each result summed up in
one number: small faults often leave no trace in an answer that is rounded for people.
"""

import contextlib
import dataclasses
import inspect
import re
import sys
from pathlib import Path

import numpy as np

import omphalon

ROOT = Path(omphalon.__file__).parent
ROOMS = tuple(str(ROOT / room) for room in ("physics", "studies"))
CALLS = 3  # of each function, the first ones: a search may later go other ways
SMALL = 1e-6
MAY_MOVE = 5e-5
NUMBERS = re.compile(r"[-+.\d]")


def leaves(value, depth=0):
    """Every number in a value, in order; a text without its numbers counts by its letters."""
    if isinstance(value, str):
        yield float(sum(map(ord, NUMBERS.sub("", value))))
    elif isinstance(value, (bool, int, float, complex, np.number, np.bool_, np.ndarray)):
        flat = np.asarray(value).ravel()
        parts = (flat.real, flat.imag) if np.iscomplexobj(flat) else (flat,)
        for part in parts:
            yield from part.astype(float)[:: max(1, len(part) // 500)]
    elif depth < 6:
        if dataclasses.is_dataclass(value):
            value = [getattr(value, field.name) for field in dataclasses.fields(value)]
        elif isinstance(value, dict):
            value = list(value.values())
        if isinstance(value, (list, tuple)):
            for one in value:
                yield from leaves(one, depth + 1)


def summed(value):
    """One number for a result: it moves by as much as the share by which any part of it moves."""
    found = np.fromiter(leaves(value), float)
    sure = np.isfinite(found)
    if not len(found):
        return 0.0
    weights = 1.0 + 0.5 * np.cos(np.arange(len(found)))
    size = np.where(sure, np.arcsinh(np.where(sure, found, 0.0) / SMALL), 99.0)
    return round(float(np.sum(weights * size) / np.sqrt(len(found))), 5)


@contextlib.contextmanager
def followed():
    """Within it, the results of the first calls of every function, by file and name."""
    results, kept, by_id = {}, [], {}  # by identity: a code's own hash costs more than a call

    def results_of(code):
        kept.append(code)
        function = code.co_flags & inspect.CO_OPTIMIZED  # not a module or a class, read once only
        part = code.co_qualname.endswith(("comp>", "genexpr>"))
        if not function or part or not code.co_filename.startswith(ROOMS):
            return None
        place = Path(code.co_filename).relative_to(ROOT)
        return results.setdefault(f"{place}:{code.co_qualname}", [])

    def called(frame, event, _):
        code = frame.f_code
        key = id(code)
        if key not in by_id:
            by_id[key] = results_of(code)
        found = by_id[key]
        if found is None or len(found) >= CALLS:
            return None
        frame.f_trace_lines = False

        def returned(_, event, result):
            if event == "return" and len(found) < CALLS:
                found.append(summed(result))
            return returned

        return returned

    before = sys.gettrace()
    sys.settrace(called)
    try:
        yield results
    finally:
        sys.settrace(before)


def agree(old, new, strictly=1.0):
    """Whether a function gave the same, up to the last digits."""
    if new is None or len(old) != len(new):
        return False
    return all(abs(a - b) <= strictly * MAY_MOVE for a, b in zip(old, new, strict=True))


def strayed(old, new):
    """The functions that gave something else, or were not called."""
    return [
        f"{name}: {results} is now {new.get(name)}"
        for name, results in old.items()
        if not agree(results, new.get(name))
    ]
