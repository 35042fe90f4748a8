"""Jobs in processes of this machine: warm workers, one job at a time each, that can be killed
without harm to the others.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import signal
import threading
import time
from collections import Counter, deque
from collections.abc import Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, wait
from typing import Any

from pebble import ProcessExpired, ProcessPool

from omphalon.farm.jobs import Answering, FarmJob, JobOutcome, Warming, died, too_large, too_long

RETRIES = 1  # of a job whose worker died: a kill may be nobody's fault, two are the job's
AHEAD = 2  # jobs a worker: one runs, one lies ready
LEAST_MEMORY = 2 << 30  # bytes that a worker may take, however many there are


def share_of_memory(workers: int) -> int:
    """Bytes that each of some workers may take of this machine's; 0 where it cannot be told."""
    try:
        whole = os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    except (AttributeError, ValueError, OSError):
        return 0
    return max(whole // workers, LEAST_MEMORY)


def run_here(
    jobs: Iterable[FarmJob], answering: Answering, warming: Warming, workers: int, timeout_s: float
) -> Iterator[JobOutcome]:
    """Each job's outcome, as they come.

    `answering`, `warming`: functions of a module's top: what does a job, what is done once before.
    `timeout_s`: after which a job is ended.
    """
    todo, deaths = deque(jobs), Counter[str]()
    if not todo:
        return
    workers = min(workers, len(todo))
    pool = ProcessPool(
        workers,
        initializer=_begin,
        initargs=(share_of_memory(workers), warming),
        context=multiprocessing.get_context("spawn"),
    )
    under_way: dict[Future[Any], FarmJob] = {}
    try:
        while todo or under_way:
            while todo and len(under_way) < AHEAD * workers:
                job = todo.popleft()
                words = job.command_here()
                under_way[pool.schedule(_timed, (answering, words), timeout=timeout_s)] = job
            for future in wait(under_way, return_when=FIRST_COMPLETED).done:
                job = under_way.pop(future)
                outcome = _outcome(job, future, timeout_s)
                if outcome is not None:
                    yield outcome
                elif deaths[job.key] < RETRIES:
                    deaths[job.key] += 1
                    todo.appendleft(job)
                else:
                    yield died(job)
    finally:
        pool.stop()  # type: ignore[no-untyped-call]
        pool.join()


def _outcome(job: FarmJob, future: Future[Any], timeout_s: float) -> JobOutcome | None:
    """What came of a job that is over; None where its worker died over it."""
    try:
        document, busy_s = future.result()
    except TimeoutError:
        return too_long(job, timeout_s)
    except ProcessExpired:
        return None
    except MemoryError:
        return too_large(job, 0.0)
    return JobOutcome(job=job, document=document, busy_s=busy_s)


def _timed(answering: Answering, words: list[str]) -> tuple[dict[str, Any], float]:
    """In a worker: the answer, and how long it took."""
    began = time.monotonic()
    return answering(words), time.monotonic() - began


def _begin(memory: int, warming: Warming) -> None:
    """In a new worker: Ctrl-C is the parent's affair, memory has an end, and so has a worker whose
    parent is gone; then import what jobs need.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    if memory:
        with contextlib.suppress(ImportError, ValueError, OSError):
            import resource

            resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    parent = multiprocessing.parent_process()
    if parent is not None:
        threading.Thread(target=_end_with, args=(parent,), daemon=True).start()
    warming()


def _end_with(parent: Any) -> None:
    parent.join()
    os._exit(1)
