"""A run: what is kept is taken, the rest is done, each answer is in its place at once."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from omphalon.farm.jobs import FarmJob, Impossible, JobOutcome
from omphalon.farm.store import Result, Store, result_of

Running = Callable[[list[FarmJob]], Iterator[JobOutcome]]
Progress = Callable[[int, int], None]


@dataclass(frozen=True, kw_only=True)
class FarmRun:
    """What a run did: a result a row, how many answers were kept from before and found now, how
    long it took, and for how long workers were at it.
    """

    results: tuple[Result, ...]
    kept: int
    found: int
    laid_aside: int
    wall_s: float
    busy_s: float

    @property
    def whole(self) -> bool:
        """Whether every row has an answer that says something."""
        return all(r.verdict in ("change", "keep") for r in self.results)

    def count(self, verdict: str) -> int:
        """Rows with a verdict; "" counts those without an answer."""
        return sum(r.verdict == verdict for r in self.results)


def run_farm(
    store: Store, planned: Sequence[FarmJob | Impossible], running: Running, progress: Progress
) -> FarmRun:
    """Do what is missing, keep it, and write the table; also where it is interrupted.

    `running`: does jobs, here or elsewhere. `progress`: is told how many of how many jobs are done.
    """
    began, busy_s = time.monotonic(), 0.0
    jobs = {one.key: one for one in planned if isinstance(one, FarmJob)}
    found: dict[str, JobOutcome] = {}
    for key, job in jobs.items():
        document = store.kept(job)
        if document is not None:
            found[key] = JobOutcome(job=job, document=document)
    kept = len(found)
    laid_aside = store.lay_aside(jobs.values())
    try:
        progress(kept, len(jobs))
        for outcome in running([job for key, job in jobs.items() if key not in found]):
            if outcome.lasting:
                store.keep(outcome.job, outcome.document)
            found[outcome.job.key] = outcome
            busy_s += outcome.busy_s
            progress(len(found), len(jobs))
    finally:
        results = tuple(
            result_of(one, found.get(one.key) if isinstance(one, FarmJob) else None)
            for one in planned
        )
        store.put_results(results)
    return FarmRun(
        results=results,
        kept=kept,
        found=len(found) - kept,
        laid_aside=laid_aside,
        wall_s=time.monotonic() - began,
        busy_s=busy_s,
    )
