"""Route tables of subnets: where a destination's name stands for its prefixes, who wins, what is local."""

from dataclasses import dataclass
from functools import cached_property

from fenrask.estate import Described, Destination, Estate, Origin
from fenrask.prefixes import Address, Prefix, PrefixTable, parse_prefix

__all__ = ["LOCAL", "Routes", "SubnetTable", "TableRoute"]

LOCAL = "local"
"""What stands in the place of an exit where the network's own prefixes match."""


@dataclass(frozen=True)
class TableRoute:
    """One effective route: `key` is how the table names it (a prefix or a destination)."""

    prefix: Prefix
    exit: str
    origin: Origin
    table: str
    key: str


@dataclass(frozen=True)
class SubnetTable:
    """All routes that a subnet's hosts obey, and the winner for each prefix."""

    name: str
    routes: tuple[TableRoute, ...]

    @cached_property
    def winners(self) -> PrefixTable[TableRoute]:
        """For each prefix the route of the highest-ranking origin: local, static, learned, injected."""
        best: dict[Prefix, TableRoute] = {}
        for route in self.routes:
            if route.prefix not in best or route.origin < best[route.prefix].origin:
                best[route.prefix] = route
        return PrefixTable(best.items())

    def match(self, address: Address) -> TableRoute | None:
        """The route for an address: the longest prefix, then the origin. Final, wherever it leads."""
        found = self.winners.match(address)
        return found[1] if found else None

    def inside(self, prefix: Prefix) -> tuple[Prefix, ...]:
        """The prefixes of routes strictly inside a prefix, so that parts of it may go another way."""
        return tuple(
            route.prefix
            for route in self.routes
            if route.prefix.version == prefix.version
            and route.prefix.prefixlen > prefix.prefixlen
            and route.prefix.subnet_of(prefix)  # type: ignore[arg-type]
        )


class Routes:
    """The tables of every subnet of an estate; tables are built once for each (table, network)."""

    def __init__(self, described: Described) -> None:
        self.estate: Estate = described.estate
        self._tables: dict[tuple[str | None, str], SubnetTable] = {}

    def of(self, subnet: str) -> SubnetTable:
        """The effective table of a subnet."""
        stated = self.estate.subnets[subnet]
        key = (stated.routes, stated.network)
        if key not in self._tables:
            self._tables[key] = self._built(*key)
        return self._tables[key]

    def _built(self, table: str | None, network: str) -> SubnetTable:
        routes = [
            TableRoute(prefix, LOCAL, Origin.LOCAL, table or LOCAL, LOCAL)
            for prefix in self.estate.networks[network].prefixes
        ]
        for key, value in self.estate.route_tables.get(table or "", {}).items():
            destination = self.estate.destinations.get(key)
            for prefix in _prefixes(destination, key):
                if isinstance(value, str):
                    routes.append(TableRoute(prefix, value, Origin.STATIC, table or LOCAL, key))
                    continue
                for one in value if isinstance(value, tuple) else (value,):
                    routes.append(TableRoute(prefix, one.exit, one.rank, table or LOCAL, key))
        return SubnetTable(table or LOCAL, tuple(routes))


def _prefixes(destination: Destination | None, key: str) -> tuple[Prefix, ...]:
    return destination.prefixes if destination else (parse_prefix(key),)
