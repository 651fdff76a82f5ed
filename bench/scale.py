"""A large estate: reading, `check` and every way, on one core, against a plain loop as the yardstick."""

import resource
import tempfile
from collections.abc import Iterator
from pathlib import Path

from bench.clock import best_s
from bench.estates import write_large
from fenrask.addresses import plan_addresses
from fenrask.capacity import capacity
from fenrask.checks import check
from fenrask.demand import demand
from fenrask.estate import read_estate
from fenrask.routing import flow_paths


def measure() -> Iterator[str]:
    """Seconds of processor time; under 10 s and 1 GiB are asked for, on a machine that loops 10^7 times in 0.5 s."""
    yardstick = best_s(lambda: sum(1 for _ in range(10_000_000)))
    with tempfile.TemporaryDirectory() as folder:
        walked = flow_paths(read_estate(write_large(Path(folder), per_host_per_s=0.5)))
        dividing = best_s(lambda: capacity(demand(walked)), 1)
    with tempfile.TemporaryDirectory() as folder:
        path = write_large(Path(folder))
        described = read_estate(path)
        reading = best_s(lambda: read_estate(path), 1)
        paths = best_s(lambda: flow_paths(described), 1)
        walked = flow_paths(described)
        sizing = best_s(lambda: plan_addresses(capacity(demand(walked))), 1)
        checking = best_s(lambda: check(described), 1)
    yield f"2,000 subnets, 400 tables, 300 destinations, 50,000 flows; 10^7 loops take {yardstick:.2f} s here"
    yield f"demand, capacity and addresses on those ways {sizing:.1f} s (5 asked for)"
    yield f"with five times the load, subnets divided over more gateways at each of 30 exits {dividing:.1f} s"
    yield f"read {reading:.1f} s, ways {paths:.1f} s, check (ways included) {checking:.1f} s"
    total = reading + checking
    yield f"together {total:.1f} s, {total / yardstick:.1f} times the loops (20 asked for)"
    yield f"peak memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20:.2f} GiB (1 asked for)"
