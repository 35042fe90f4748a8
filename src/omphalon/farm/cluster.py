"""Jobs at a scheduler that is already there (Dask): inputs travel with the job, so that workers
need no disk in common with this machine.
"""

from __future__ import annotations

import contextlib
import tempfile
import time
from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from omphalon import __version__
from omphalon.base.errors import LinkFault, UsageError, echoed
from omphalon.farm.jobs import Answering, FarmJob, JobOutcome, died, failed, too_large, too_long

if TYPE_CHECKING:
    from distributed import Client, Future

PATIENCE_S = 20.0  # for the scheduler to answer, and for the first worker to come
ANEW_S = 5.0  # for a worker to be started again; it goes on in its own time after
LOOK_S = 0.25
AHEAD = 3  # jobs a thread of the cluster's: one runs, two lie ready
RETRIES = 2


@dataclass(frozen=True, kw_only=True)
class Scheduler:
    """Where a scheduler is, and what the two sides know each other by; files that are not given are
    those of Dask's own configuration.
    """

    address: str
    tls_ca: str | None = None
    tls_cert: str | None = None
    tls_key: str | None = None


def run_there(
    jobs: Iterable[FarmJob], answering: Answering, scheduler: Scheduler, timeout_s: float
) -> Iterator[JobOutcome]:
    """Each job's outcome, as they come.

    `answering`: a function of a module's top, which the workers can import too. `scheduler`:
    tcp://host:port, or tls://host:port. `timeout_s`: after which a job is ended, and its worker
    started again. Raises UsageError if the package distributed is not installed; LinkFault if there
    is no scheduler, it has no workers, or it goes away; what was done is done.
    """
    try:
        from distributed import wait
    except ImportError as error:
        raise UsageError(
            "--scheduler: the package distributed is not installed",
            "pip install 'omphalon[farm]', or leave --scheduler out",
        ) from error
    todo: deque[FarmJob] = deque(jobs)
    lost: deque[FarmJob] = deque()
    under_way: dict[Future, tuple[FarmJob, float]] = {}
    address = scheduler.address
    with _client(scheduler) as client:
        threads, watch = _threads(client, address), _Watch(client, timeout_s)
        while todo or under_way:
            with _reached(client, address):
                while todo and len(under_way) < AHEAD * threads:
                    job = todo.popleft()
                    sent = _sent(client, job, answering)
                    if sent is None:
                        lost.append(job)
                    else:
                        under_way[sent] = (job, time.monotonic())
                with contextlib.suppress(TimeoutError):
                    wait(list(under_way), timeout=LOOK_S, return_when="FIRST_COMPLETED")
                late = watch.late(under_way)
            for future in [f for f in under_way if f.done()]:
                job, began = under_way.pop(future)
                outcome = _outcome(job, future, time.monotonic() - began)
                future.release()  # or the scheduler keeps its files
                yield outcome
            yield from late
            while lost:
                yield failed(lost.popleft(), "a file of it is gone", "put it back, and run again")


@contextlib.contextmanager
def _reached(client: Client, address: str) -> Iterator[None]:
    """What goes wrong where the scheduler cannot be reached any more is one sentence."""
    from distributed import CancelledError
    from distributed.comm.core import CommClosedError

    try:
        yield
        gone = client.status != "running"
    except (CancelledError, CommClosedError, OSError):
        gone = True
    if gone:
        raise LinkFault(
            f"the scheduler {echoed(address)} is gone", "start it; the same command goes on"
        )


def _security(scheduler: Scheduler) -> Any:
    """What `tls://` needs, checked before anything is sent; None for `tcp://`."""
    from distributed.security import Security

    given = {
        name: path
        for name in ("tls_ca", "tls_cert", "tls_key")
        if (path := getattr(scheduler, name)) is not None
    }
    if not scheduler.address.startswith("tls://"):
        if given:
            raise UsageError(
                f"--{next(iter(given)).replace('_', '-')} without tls://",
                "give the scheduler as tls://HOST:PORT",
            )
        return None
    client = {"tls_client_cert": given.get("tls_cert"), "tls_client_key": given.get("tls_key")}
    known = {"tls_ca_file": given.get("tls_ca"), **client}
    security = Security(**{name: path for name, path in known.items() if path is not None})
    try:
        security.get_connection_args("client")["ssl_context"].get_ca_certs()
    except (OSError, ValueError, TypeError, KeyError, AttributeError) as error:
        words = " ".join(str(error).split()) or type(error).__name__
        raise UsageError(
            f"--scheduler {echoed(scheduler.address)}: its certificates cannot be used "
            f"({echoed(words)})",
            "give --tls-ca, --tls-cert and --tls-key, or set them in Dask's own configuration",
        ) from error
    return security


@contextlib.contextmanager
def _client(scheduler: Scheduler) -> Iterator[Client]:
    from distributed import Client

    address = scheduler.address
    try:
        client = Client(address, timeout=PATIENCE_S, security=_security(scheduler))
    except (OSError, TimeoutError, ValueError) as error:
        raise LinkFault(
            f"--scheduler {echoed(address)}: no scheduler answers there",
            "start one, or leave --scheduler out to use this machine",
        ) from error
    try:
        yield client
    finally:
        with contextlib.suppress(Exception):  # it may be gone: nothing is to be saved there
            client.close(timeout=2)


def _threads(client: Client, address: str) -> int:
    """Threads of all workers; waits for the first of them."""
    try:
        client.wait_for_workers(1, timeout=PATIENCE_S)
    except TimeoutError as error:
        raise LinkFault(
            f"--scheduler {echoed(address)}: it has no workers", "start some, then the same command"
        ) from error
    return max(sum(int(n) for n in client.nthreads().values()), 1)


def _sent(client: Client, job: FarmJob, answering: Answering) -> Future | None:
    """A job on its way, with its files; None where one of them has gone since it was counted."""
    try:
        files = [(path.name, path.read_bytes()) for path in job.inputs]
    except OSError:
        return None
    sent: Future = client.submit(
        travelled, answering, job.words, files, key=f"omphalon-{job.key}-{time.monotonic_ns()}",
        retries=RETRIES, pure=False,
    )  # fmt: skip
    return sent


def travelled(
    answering: Answering, words: tuple[str | int, ...], files: list[tuple[str, bytes]]
) -> tuple[str, dict[str, Any]]:
    """On a worker: put the files somewhere, answer; with the version that answered.

    `words`: of the command; a number stands for a file.
    """
    with tempfile.TemporaryDirectory(prefix="omphalon-") as folder:
        places = []
        for number, (name, content) in enumerate(files):
            place = Path(folder) / str(number) / name
            place.parent.mkdir()
            place.write_bytes(content)
            places.append(str(place))
        text = [places[word] if isinstance(word, int) else word for word in words]
        return __version__, answering(text)


def _outcome(job: FarmJob, future: Future, busy_s: float) -> JobOutcome:
    """What came back, or why nothing did."""
    from distributed import KilledWorker

    try:
        version, document = future.result(timeout=PATIENCE_S)
    except KilledWorker:
        return died(job)
    except MemoryError:
        return too_large(job, busy_s)
    except (ImportError, AttributeError):
        return failed(
            job, "a worker of the cluster has no omphalon", f"install omphalon {__version__} there"
        )
    except Exception as error:
        # whatever the wire makes of a worker's end; the next run tries again
        words = " ".join(str(error).split())
        return failed(job, f"the cluster lost it ({echoed(words)})", "run the same command again")
    if version != __version__:
        return failed(
            job,
            f"a worker of the cluster has omphalon {version}, here it is {__version__}",
            "install the same on all",
        )
    return JobOutcome(job=job, document=document, busy_s=busy_s)


class _Watch:
    """Since when each job has been running, as far as can be seen from here: a worker runs its
    oldest jobs, as many as it has threads.
    """

    def __init__(self, client: Client, timeout_s: float) -> None:
        self.client, self.timeout_s = client, timeout_s
        self.since: dict[str, float] = {}
        self.looked = time.monotonic()

    def late(self, under_way: dict[Future, tuple[FarmJob, float]]) -> list[JobOutcome]:
        """Jobs that have run for too long, taken off; their workers are started again."""
        out: list[JobOutcome] = []
        if time.monotonic() - self.looked < LOOK_S * 4:
            return out
        self.looked = now = time.monotonic()
        threads, oldest = self.client.nthreads(), list(under_way)
        for worker, keys in self.client.processing().items():
            there = [f for f in oldest if f.key in keys][: threads.get(worker, 1)]
            late = [f for f in there if now - self.since.setdefault(f.key, now) > self.timeout_s]
            for future in late:
                future.cancel()
                out.append(too_long(under_way.pop(future)[0], self.timeout_s))
            if late:
                with contextlib.suppress(Exception):  # one without a nanny cannot be started again
                    self.client.restart_workers([worker], timeout=ANEW_S, raise_for_error=False)
        return out
