"""Bytes that each path carries in a month, exactly, from the numbers as they were written."""

from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from functools import lru_cache

from fenrask.estate import Described, Flow
from fenrask.routing import FlowPath
from fenrask.units import KIB, SECONDS_PER_HOUR, exact

__all__ = ["Volume", "Volumes", "flow_volume", "month_volume"]

_GIB = 2**30


@dataclass(frozen=True)
class Volume:
    """Bytes sent and received in a month."""

    out_bytes: Fraction
    in_bytes: Fraction

    @property
    def both_bytes(self) -> Fraction:
        return self.out_bytes + self.in_bytes


Ratio = tuple[int, int]
"""A fraction as it comes, not reduced: to multiply such ones takes no common divisor."""


@dataclass(frozen=True, slots=True)
class FlowVolume:
    """Bytes of a whole flow in a month, sent and both ways, as ratios."""

    out_bytes: Ratio
    in_bytes: Ratio

    @property
    def both_bytes(self) -> Ratio:
        (out, of_out), (back, of_back) = self.out_bytes, self.in_bytes
        return (out + back, of_out) if of_out == of_back else (out * of_back + back * of_out, of_out * of_back)


class Volumes:
    """What whole flows carry in the catalogue's month, were all of them to arrive; each worked out once."""

    def __init__(self, described: Described) -> None:
        self._described = described
        hours = exact(described.catalogue.hours_per_month)
        self._month_s = (hours.numerator * SECONDS_PER_HOUR, hours.denominator)
        self._means: dict[str | None, Ratio] = {None: (1, 1), "": (1, 1)}
        self._known: dict[str, FlowVolume] = {}

    def of(self, name: str) -> FlowVolume:
        """The volume of a flow."""
        if name not in self._known:
            flow = self._described.estate.flows[name]
            connections = self._connections(flow)
            self._known[name] = FlowVolume(
                _bytes(connections, flow.out_kib_per_connection, flow.out_gib_per_month),
                _bytes(connections, flow.in_kib_per_connection, flow.in_gib_per_month),
            )
        return self._known[name]

    def _connections(self, flow: Flow) -> Ratio:
        """Connections in a month."""
        if flow.users is not None:
            users, each = _ratio(flow.users), _ratio(flow.connections_per_user or 0)
            above, below = _ratio(flow.duration_mean_s)
            rate = (users[0] * each[0] * below, users[1] * each[1] * above)
        else:
            above, below = _ratio(flow.per_host_per_s or 0)
            rate = (self._described.estate.workloads[flow.from_].hosts * above, below)
        if flow.profile not in self._means:
            mean = _exact_mean(self._described.estate.profiles[flow.profile or ""])
            self._means[flow.profile] = (mean.numerator, mean.denominator)
        mean_above, mean_below = self._means[flow.profile]
        return rate[0] * mean_above * self._month_s[0], rate[1] * mean_below * self._month_s[1]


def month_volume(described: Described, path: FlowPath) -> Volume:
    """What one path of a flow carries in the catalogue's month; nothing where it does not arrive."""
    if not path.example.verdict.arrives:
        return Volume(Fraction(0), Fraction(0))
    whole = flow_volume(described, path.flow)
    return Volume(path.share * whole.out_bytes, path.share * whole.in_bytes)


def flow_volume(described: Described, name: str) -> Volume:
    """What a whole flow carries in a month, were all of it to arrive."""
    whole = Volumes(described).of(name)
    return Volume(Fraction(*whole.out_bytes), Fraction(*whole.in_bytes))


def _ratio(value: float) -> Ratio:
    return (value, 1) if isinstance(value, int) else Decimal(repr(value)).as_integer_ratio()


def _bytes(connections: Ratio, kib_each: float | None, gib_a_month: float | None) -> Ratio:
    if gib_a_month is not None:
        above, below = _ratio(gib_a_month)
        return above * _GIB, below
    above, below = _ratio(kib_each or 0)
    return connections[0] * above * KIB, connections[1] * below


@lru_cache(maxsize=256)
def _exact_mean(multipliers: tuple[float, ...]) -> Fraction:
    return sum(map(exact, multipliers), Fraction(0)) / len(multipliers)
