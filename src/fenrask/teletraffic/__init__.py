"""Teletraffic theory, with no network noun in it: loss formulas, hold laws, connections held over time.

All on NumPy alone; importable from a notebook.
"""

from fenrask.teletraffic.capped_hosts import CappedHosts, PortsKept, capped_hosts, capped_hosts_b, capped_peakedness
from fenrask.teletraffic.classes import kaufman_roberts
from fenrask.teletraffic.erlang import erlang_b, erlangs_for, log_erlang_b, ports_for
from fenrask.teletraffic.kept_after import size_of_law
from fenrask.teletraffic.occupancy import (
    Peak,
    Summands,
    concurrent,
    concurrent_each,
    concurrent_rows,
    concurrent_sum,
    peak_concurrent,
    peak_near,
)
from fenrask.teletraffic.peaked import Retried, batches_b, hayward_b, with_retries
from fenrask.teletraffic.searching import limited_search_b, refusal_when

__all__ = [
    "Peak",
    "PortsKept",
    "Summands",
    "Retried",
    "batches_b",
    "CappedHosts",
    "capped_hosts",
    "capped_hosts_b",
    "capped_peakedness",
    "erlang_b",
    "erlangs_for",
    "hayward_b",
    "concurrent",
    "concurrent_each",
    "concurrent_rows",
    "concurrent_sum",
    "kaufman_roberts",
    "limited_search_b",
    "log_erlang_b",
    "peak_concurrent",
    "peak_near",
    "ports_for",
    "refusal_when",
    "size_of_law",
    "with_retries",
]
