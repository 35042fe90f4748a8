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
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from typing import Any

from omphalon.farm.jobs import FarmJob
from omphalon.farm.outcome import Answering, JobOutcome, Warming, died, too_large, too_long

RETRIES = 1  # of a job whose worker died: a kill may be nobody's fault, two are the job's
LOOK_S = 0.25  # between looks at the clock
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

    Parameters
    ----------
    jobs : to do
    answering, warming : functions of a module's top: what does a job, what is done once before
    workers : processes
    timeout_s : after which a job is ended
    """
    todo, deaths = deque(jobs), Counter[str]()
    memory = share_of_memory(workers)
    slots = [_Slot(answering, warming, memory) for _ in range(min(workers, len(todo)))]
    try:
        while todo or any(slot.job for slot in slots):
            for slot in slots:
                if slot.job is None and todo:
                    slot.take(todo.popleft())
            done: list[JobOutcome] = []
            for slot, job, outcome in _ended(slots, timeout_s):
                if outcome is not None:
                    done.append(outcome)
                elif deaths[job.key] < RETRIES:
                    deaths[job.key] += 1
                    todo.appendleft(job)
                else:
                    done.append(died(job))
                if todo:  # before anything is written: no worker waits for a disk
                    slot.take(todo.popleft())
            yield from done
    finally:
        for slot in slots:
            slot.kill()


class _Slot:
    """One worker, and the job it has."""

    def __init__(self, answering: Answering, warming: Warming, memory: int) -> None:
        self.answering, self.warming, self.memory = answering, warming, memory
        self.job: FarmJob | None = None
        self._open()

    def _open(self) -> None:
        self.pool = ProcessPoolExecutor(
            1, multiprocessing.get_context("spawn"), _begin, (self.memory,)
        )
        self.began: float | None = None
        self.pid: Future[int] = self.pool.submit(_ready, self.warming)
        self.pid.add_done_callback(lambda _: self._is_ready())
        self.job = None

    def _is_ready(self) -> None:
        self.began = time.monotonic()

    def take(self, job: FarmJob) -> None:
        """Give it a job."""
        self.job, self.given = job, time.monotonic()
        try:
            self.future: Future[dict[str, Any]] = self.pool.submit(
                self.answering, job.command_here()
            )
        except BrokenProcessPool:  # killed while it had nothing to do
            self.renew()
            self.job, self.given = job, time.monotonic()
            self.future = self.pool.submit(self.answering, job.command_here())

    @property
    def busy_s(self) -> float:
        """Since it could begin with its job."""
        if self.began is None:
            return 0.0
        return time.monotonic() - max(self.began, self.given)

    def outcome(self, busy_s: float) -> JobOutcome | None:
        """What came of a job that is over; None where the worker died over it."""
        assert self.job is not None
        try:
            return JobOutcome(job=self.job, document=self.future.result(), busy_s=busy_s)
        except BrokenProcessPool:
            return None
        except MemoryError:
            return too_large(self.job, busy_s)

    def kill(self) -> None:
        """End the process, whatever it does."""
        if self.pid.done() and not self.pid.cancelled() and self.pid.exception() is None:
            with contextlib.suppress(OSError):
                os.kill(self.pid.result(), getattr(signal, "SIGKILL", signal.SIGTERM))
        self.pool.shutdown(wait=False, cancel_futures=True)

    def renew(self) -> None:
        """Another process instead."""
        self.kill()
        self._open()


def _ended(slots: list[_Slot], timeout_s: float) -> list[tuple[_Slot, FarmJob, JobOutcome | None]]:
    """Slots whose job is over, freed, with what came of it; None where the worker died."""
    busy = [slot for slot in slots if slot.job is not None]
    wait([slot.future for slot in busy], LOOK_S, FIRST_COMPLETED)
    out: list[tuple[_Slot, FarmJob, JobOutcome | None]] = []
    for slot in busy:
        job, busy_s = slot.job, slot.busy_s
        assert job is not None
        if slot.future.done():
            outcome = slot.outcome(busy_s)
        elif busy_s > timeout_s:
            outcome = too_long(job, timeout_s)
        else:
            continue
        if outcome is None or not outcome.lasting:
            slot.renew()
        slot.job = None
        out.append((slot, job, outcome))
    return out


def _begin(memory: int) -> None:
    """In a new worker: Ctrl-C is the parent's affair, memory has an end, and so has a worker whose
    parent is gone.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    if memory:
        with contextlib.suppress(ImportError, ValueError, OSError):
            import resource

            resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    parent = multiprocessing.parent_process()
    if parent is not None:
        threading.Thread(target=_end_with, args=(parent,), daemon=True).start()


def _end_with(parent: Any) -> None:
    parent.join()
    os._exit(1)


def _ready(warming: Warming) -> int:
    """In a worker: import what jobs need; its number."""
    warming()
    return os.getpid()
