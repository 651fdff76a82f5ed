"""Who works: threads or processes here, or a Dask cluster; one option for all commands that can be divided."""

import logging
import os
from collections.abc import Iterator
from concurrent.futures import CancelledError, Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor
from concurrent.futures import TimeoutError as FuturesTimeout
from contextlib import contextmanager, suppress
from time import monotonic
from typing import Annotated, Any

import typer

from fenrask.errors import Place, Problem, UnusableInput, WorkersLost

__all__ = ["Cases", "executor_of", "number_of", "processors", "workers_for_cases"]

_ALONE_S = 5.0
"""How long a cluster may be without workers, or its scheduler silent, before it is given up."""


Cases = Annotated[
    str,
    typer.Option(
        "--workers",
        metavar="NUMBER|ADDRESS",
        help="Cases worked out at once here (default: 1), or the address of a Dask scheduler.",
    ),
]
"""The option of commands whose cases can be worked out apart."""


@contextmanager
def workers_for_cases(workers: str) -> Iterator[tuple[Executor, int] | None]:
    """An executor, and how many work at once; None where this process does all by itself."""
    if workers == "1":
        yield None
        return
    with executor_of(workers, processes=True) as executor:
        yield executor, number_of(workers, executor)


def number_of(workers: str, executor: Executor | None = None) -> int:
    """How many workers a cluster has, or the number that is asked for; by default as many as there are processors."""
    if isinstance(executor, _Cluster):
        return executor.number
    try:
        number = int(workers or processors())
    except ValueError:
        number = 0
    if not 1 <= number <= 1024:
        expected = "a number from 1 to 1024, or an address such as tcp://10.0.0.9:8786"
        raise UnusableInput([Problem(Place(path="--workers"), repr(workers), expected)])
    return number


def processors() -> int:
    """How many processors this process may use."""
    allowed = getattr(os, "sched_getaffinity", None)
    return len(allowed(0)) if allowed else os.cpu_count() or 1


@contextmanager
def executor_of(workers: str, processes: bool = False) -> Iterator[Executor]:
    """Threads for compiled kernels, which run beside each other, or processes; or a Dask cluster by its address."""
    if ":" in workers:
        with _cluster(workers) as cluster:
            yield cluster
        return
    number = number_of(workers)
    executor: Executor = ProcessPoolExecutor(number) if processes else ThreadPoolExecutor(number)
    try:
        yield executor
    finally:
        executor.shutdown(wait=False, cancel_futures=True)


@contextmanager
def _cluster(address: str) -> Iterator[Executor]:
    try:
        from distributed import Client
    except ImportError:
        remedy = "Install it: pip install fenrask[cluster]."
        raise UnusableInput([Problem(Place(path="--workers"), repr(address), "the extra `cluster`", remedy)]) from None
    # What becomes of connections is told here, in a sentence.
    for name in [
        "tornado",
        "asyncio",
        *(one for one in logging.root.manager.loggerDict if one.startswith("distributed")),
    ]:
        logging.getLogger(name).setLevel(logging.CRITICAL)
    _check_scheme(address)
    try:
        client = Client(address, timeout="10s")
    except (OSError, ValueError) as error:
        found = str(error).splitlines()[0] if str(error) else type(error).__name__
        remedy = "Start one, or leave --workers out."
        raise UnusableInput([Problem(Place(path="--workers"), found, f"a scheduler at {address}", remedy)]) from None
    try:
        yield _Cluster(client)
    finally:
        # A scheduler that is gone cannot be taken leave of.
        with suppress(Exception):
            client.close(timeout="2s")


def _check_scheme(address: str) -> None:
    """UnusableInput for a kind of connection that is not installed, or that lacks its keys."""
    from distributed.comm.registry import get_backend
    from distributed.security import Security

    scheme = address.partition("://")[0] if "://" in address else "tcp"
    try:
        get_backend(scheme).get_connector()
    except (ImportError, RuntimeError, TypeError, ValueError):
        problem = Problem(Place(path="--workers"), repr(address), "tcp://HOST:PORT, or tls://HOST:PORT")
        raise UnusableInput([problem]) from None
    if scheme == "tls" and Security().get_connection_args("client").get("ssl_context") is None:
        remedy = "Name the files of keys in Dask's configuration (distributed.comm.tls), or use tcp://."
        raise UnusableInput([Problem(Place(path="--workers"), f"{address} without keys", "keys for TLS", remedy)])


class _Cluster(Executor):
    """A cluster's executor whose results are not waited for once nobody is there to work on them."""

    def __init__(self, client: Any) -> None:
        self._client = client
        self._executor = client.get_executor()

    @property
    def number(self) -> int:
        """How many workers there are."""
        return max(1, len(self._client.scheduler_info()["workers"]))

    def submit(self, fn: Any, /, *args: Any, **kwargs: Any) -> "Future[Any]":
        try:
            return _Awaited(self._client, self._executor.submit(fn, *args, **kwargs))
        except OSError:
            raise WorkersLost("the scheduler is gone") from None


class _Awaited(Future[Any]):
    """A result on the way: WorkersLost where the scheduler, or every worker for some seconds, is gone."""

    def __init__(self, client: Any, future: "Future[Any]") -> None:
        super().__init__()
        self._client, self._future = client, future

    def cancel(self) -> bool:
        with suppress(Exception):
            return self._future.cancel()
        return False

    def result(self, timeout: float | None = None) -> Any:
        alone_since: float | None = None
        while True:
            try:
                return self._future.result(1.0)
            except FuturesTimeout:
                alone_since = None if self._workers() else (alone_since or monotonic())
            except (CancelledError, OSError):
                raise WorkersLost("the scheduler is gone") from None
            except Exception as error:
                if type(error).__name__ != "KilledWorker":
                    raise
                raise WorkersLost("workers die of this run again and again") from None
            if alone_since is not None and monotonic() - alone_since > _ALONE_S:
                raise WorkersLost(f"no worker is left at {self._client.scheduler.address}")

    def _workers(self) -> int:
        """How many there are; WorkersLost where the scheduler does not say so in time."""
        try:
            return len(self._client.sync(self._client.scheduler.identity, callback_timeout=_ALONE_S)["workers"])
        except (OSError, FuturesTimeout, TimeoutError):
            raise WorkersLost("the scheduler is gone") from None
