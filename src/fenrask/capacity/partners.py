"""What partners take from one source address, and how many addresses an exit needs for it."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from fenrask.capacity.limits import LimitUse
from fenrask.demand import Demand, Part, Parts, most_new, shaped

__all__ = ["AtPartner", "at_partners"]


@dataclass(frozen=True)
class AtPartner:
    """One limit of a partner on each source address, and what an exit lays on it with all its addresses together.

    Connections take addresses evenly.
    """

    destination: str
    what: str
    unit: str
    use: float
    most: float

    def addresses(self, growth: float = 0.0) -> int:
        """The fewest addresses that keep to it, with this share of load more."""
        return int(np.ceil(self.use * (1 + growth) / self.most - 1e-9))

    def with_addresses(self, addresses: int) -> LimitUse:
        """The use of each of so many addresses."""
        each, most = self.use / max(1, addresses), self.most
        name, unit = f"{self.what} of an address at {self.destination}", f"{self.unit} from one address"
        return LimitUse(name, unit, each, most, of=self.destination, grow=lambda: most / each - 1 if each else None)


def at_partners(demand: Demand, exit_name: str, parts: Sequence[Part]) -> Iterator[AtPartner]:
    """The limits of all partners that see addresses of an exit, at its busiest hour."""
    if not parts or all(one.per_source is None for one in demand.paths.described.estate.destinations.values()):
        return
    destinations, some, laid = demand.paths.described.estate.remotes, Parts.of(parts), demand.laid
    shows = [one.source.exit == exit_name for one in demand.paths.examples]
    shown = demand.paths.pairs.of_rows(shows, bool)[laid.own[some.rows]]
    curves = laid.curves
    connected = np.array([one.connected for one in curves.families])[curves.family]
    for number in dict.fromkeys(some.destination.tolist()):
        name = laid.traffic.destinations[number]
        limit = destinations[name].per_source
        if limit is None:
            continue
        own = Parts(laid, some.rows[shown & (some.destination == number)])
        if not len(own):
            continue
        group = np.zeros(len(own), dtype=np.intp)
        if limit.connections is not None:
            lives = (connected * curves.duration_s)[own.curve]
            opened = float(shaped(own, group, 1, own.rate_per_s * lives).max()) + float(own.persistent.sum())
            yield AtPartner(name, "connections", "connections", opened, float(limit.connections))
        if limit.new_per_s is not None:
            new = float(shaped(own, group, 1, own.rate_per_s * most_new(laid, own)).max())
            yield AtPartner(name, "new per second", "new connections per s", new, float(limit.new_per_s))
