"""Bytes that each way carries in a month, exactly, from the numbers as they were written."""

from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache

from fenrask.estate import Described, Flow
from fenrask.routing import FlowPath
from fenrask.units import KIB, SECONDS_PER_HOUR, exact

__all__ = ["Volume", "bytes_per_s", "flow_volume", "month_volume"]

_GIB = 2**30


@dataclass(frozen=True)
class Volume:
    """Bytes sent and received in a month."""

    out_bytes: Fraction
    in_bytes: Fraction

    @property
    def both_bytes(self) -> Fraction:
        return self.out_bytes + self.in_bytes


def month_volume(described: Described, path: FlowPath) -> Volume:
    """What one way of a flow carries in the catalogue's month; nothing where it does not arrive."""
    if not path.example.verdict.arrives:
        return Volume(Fraction(0), Fraction(0))
    whole = flow_volume(described, path.flow)
    return Volume(path.share * whole.out_bytes, path.share * whole.in_bytes)


def flow_volume(described: Described, name: str) -> Volume:
    """What a whole flow carries in a month, were all of it to arrive."""
    flow = described.estate.flows[name]
    connections = _connections_a_month(described, flow)
    return Volume(
        _bytes(connections, flow.out_kib_per_connection, flow.out_gib_per_month),
        _bytes(connections, flow.in_kib_per_connection, flow.in_gib_per_month),
    )


def bytes_per_s(described: Described, flow: Flow, mean_new_per_s: float) -> float:
    """Mean bytes of a whole flow in a second of the month, both ways, as far as floats tell."""
    month_s = float(described.catalogue.hours_per_month) * SECONDS_PER_HOUR
    total = 0.0
    for kib_each, gib_a_month in (
        (flow.out_kib_per_connection, flow.out_gib_per_month),
        (flow.in_kib_per_connection, flow.in_gib_per_month),
    ):
        by_month = None if gib_a_month is None else gib_a_month * _GIB / month_s
        total += mean_new_per_s * (kib_each or 0.0) * KIB if by_month is None else by_month
    return total


def _bytes(connections: Fraction, kib_each: float | None, gib_a_month: float | None) -> Fraction:
    if gib_a_month is not None:
        return exact(gib_a_month) * _GIB
    return connections * exact(kib_each or 0) * KIB


def _connections_a_month(described: Described, flow: Flow) -> Fraction:
    if flow.users is not None:
        duration = exact(flow.duration_mean_s)
        per_s = exact(flow.users) * exact(flow.connections_per_user or 0) / duration
    else:
        per_s = described.estate.workloads[flow.from_].hosts * exact(flow.per_host_per_s or 0)
    if flow.profile:
        per_s *= _exact_mean(described.estate.profiles[flow.profile])
    return per_s * SECONDS_PER_HOUR * exact(described.catalogue.hours_per_month)


@lru_cache(maxsize=256)
def _exact_mean(multipliers: tuple[float, ...]) -> Fraction:
    return sum(map(exact, multipliers), Fraction(0)) / len(multipliers)
