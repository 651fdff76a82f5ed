"""Who works: threads or processes here, or a Dask cluster; one option for all commands that can be divided."""

import os
from collections.abc import Iterator
from concurrent.futures import Executor, ProcessPoolExecutor, ThreadPoolExecutor
from contextlib import contextmanager

from fenrask.errors import NoAnswer, Place, Problem, UnusableInput

__all__ = ["executor_of"]


@contextmanager
def executor_of(workers: str, processes: bool = False) -> Iterator[Executor]:
    """Threads for compiled kernels, which run beside each other, or processes; or a Dask cluster by its address."""
    if ":" in workers:
        with _cluster(workers) as cluster:
            yield cluster
        return
    try:
        number = int(workers or os.cpu_count() or 1)
    except ValueError:
        number = 0
    if not 1 <= number <= 1024:
        expected = "a number from 1 to 1024, or an address such as tcp://10.0.0.9:8786"
        raise UnusableInput([Problem(Place(path="--workers"), repr(workers), expected)])
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
    try:
        client = Client(address, timeout="10s")
    except (OSError, ValueError) as error:
        raise NoAnswer(f"no scheduler answers at {address}: {error}", "Start one, or leave --workers out.") from None
    with client:
        yield client.get_executor()
