"""What comes of a job, wherever it ran."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from omphalon.farm.jobs import FarmJob

# the command's words → its JSON document, or one with "error" in it
Answering = Callable[[list[str]], dict[str, Any]]
Warming = Callable[[], None]


@dataclass(frozen=True, kw_only=True)
class JobOutcome:
    """The document of a job, or the sentence why there is none; one that is not `lasting` hung on
    the machine and is tried again by the next run. `busy_s`: how long a worker was at it.
    """

    job: FarmJob
    document: Mapping[str, Any]
    lasting: bool = True
    busy_s: float = 0.0


def failed(job: FarmJob, problem: str, remedy: str, busy_s: float = 0.0) -> JobOutcome:
    """A job that the machine did not let end."""
    return JobOutcome(
        job=job,
        document={"kind": f"{job.row.study}-fit", "error": f"{problem}; {remedy}"},
        lasting=False,
        busy_s=busy_s,
    )


def too_long(job: FarmJob, timeout_s: float) -> JobOutcome:
    """A job that was ended because it took too long."""
    return failed(
        job,
        f"ended after {timeout_s:g} s",
        "look at the file, or give more time with --job-timeout",
        timeout_s,
    )


def too_large(job: FarmJob, busy_s: float) -> JobOutcome:
    """A job that wanted more memory than a worker may take."""
    return failed(
        job,
        "not enough memory for this file",
        "cut out the part that holds the test, or run with fewer --workers",
        busy_s,
    )


def died(job: FarmJob) -> JobOutcome:
    """A job whose worker was killed, more than once."""
    return failed(
        job,
        "its worker was killed more than once, perhaps for want of memory",
        "run it again with fewer --workers, or cut the file",
    )
