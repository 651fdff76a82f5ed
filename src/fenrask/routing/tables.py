"""Route tables of subnets and hubs: names stand for prefixes, origins rank, local prefixes are there."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property

from fenrask.estate import Behaviour, Described, Destination, Estate, ExitModel, Origin
from fenrask.prefixes import Address, Prefix, PrefixTable, covers, parse_prefix

__all__ = ["LOCAL", "Routes", "SubnetTable", "TableRoute"]

DEFAULT = Behaviour()
"""What holds where a catalogue does not say what its network does by itself."""

LOCAL = "local"
"""What stands in the place of an exit where the network's own prefixes match."""


@dataclass(frozen=True)
class TableRoute:
    """One effective route: `key` is how the table names it (a prefix, or a destination's or network's name)."""

    prefix: Prefix
    exit: str
    origin: Origin
    table: str
    key: str
    preference: tuple[int, int] = (0, 0)
    """What decides between equal prefixes of one origin, the least first: see `ExitModel.preference`."""


@dataclass(frozen=True, eq=False)
class SubnetTable:
    """All routes that hold in a place, and the winners for each prefix."""

    name: str
    routes: tuple[TableRoute, ...]
    network: str | None = None
    """The network in which it holds; None for a hub's."""
    behaviour: Behaviour = DEFAULT
    """By which origins rank."""

    def _rank(self, route: TableRoute) -> tuple[int, tuple[int, int]]:
        if route.origin is Origin.LOCAL:
            return -1, route.preference
        return self.behaviour.equal_prefixes.index(route.origin.word), route.preference

    @cached_property
    def winners(self) -> PrefixTable[tuple[TableRoute, ...]]:
        """For each prefix the routes of the highest-ranking origin, then preference; several are equal-cost.

        Of two networks with one prefix the first has the local route: what is sent to the other is lost.
        """
        best: dict[Prefix, list[TableRoute]] = {}
        for route in self.routes:
            kept = best.setdefault(route.prefix, [])
            order = (self._rank(route) > self._rank(kept[0])) - (self._rank(route) < self._rank(kept[0])) if kept else 0
            if order < 0:
                kept.clear()
            # The same next hop under two keys, such as a prefix and a destination's name, is one.
            again = any(one.exit == route.exit for one in kept)
            if not kept or (order == 0 and route.origin > Origin.PEERING and not again):
                kept.append(route)
        hidden = {prefix for prefix, kept in best.items() if self._is_hidden(kept[0])}
        return PrefixTable((prefix, tuple(routes)) for prefix, routes in best.items() if prefix not in hidden)

    def _is_hidden(self, route: TableRoute) -> bool:
        """Whether a shorter prefix wins over it, as the provider has it for its own ones or for peerings."""
        return any(
            route.origin > one.origin and one.prefix != route.prefix and covers(one.prefix, route.prefix)
            for one in self._first
        )

    @cached_property
    def _first(self) -> list[TableRoute]:
        """The routes that win over longer ones of the origins behind theirs."""
        wins = {Origin.LOCAL: "own", Origin.PEERING: "peering"}
        return [one for one in self.routes if wins.get(one.origin) in self.behaviour.wins_over_longer]

    def match(self, address: Address) -> tuple[TableRoute, ...]:
        """The routes for an address: the longest prefix, then the origin. Final, wherever they lead."""
        found = self.winners.match(address)
        return found[1] if found else ()

    def routes_of(self, origin: Origin, prefix: Prefix) -> tuple[TableRoute, ...]:
        """The routes of an origin for exactly a prefix."""
        return tuple(one for one in self.routes if one.origin is origin and one.prefix == prefix)

    def shadowed(self, route: TableRoute) -> tuple[TableRoute, ...]:
        """The routes that a winner keeps from being used: the same prefix, and the next wider one behind it."""
        same = [one for one in self.routes if one.prefix == route.prefix and self._rank(one) > self._rank(route)]
        if route in self._first:
            same += [
                one
                for one in self.routes
                if one.origin > route.origin and one.prefix != route.prefix and covers(route.prefix, one.prefix)
            ]
        wider = [
            one
            for one in self.routes
            if one.prefix.prefixlen < route.prefix.prefixlen and covers(one.prefix, route.prefix)
        ]
        longest = max((one.prefix.prefixlen for one in wider), default=-1)
        behind = [one for one in wider if one.prefix.prefixlen == longest and one.exit != route.exit]
        return (*same, *behind)


class Routes:
    """The tables of every subnet, hub, exit and network of an estate, each built once."""

    def __init__(self, described: Described) -> None:
        self.described = described
        self.estate: Estate = described.estate
        self.behaviour: Behaviour = described.catalogue.behaviour
        self._tables: dict[tuple[str, ...], SubnetTable] = {}
        self._asked: dict[tuple[str, str | None], SubnetTable] = {}
        self._held: dict[str, PrefixTable[str]] = {}
        self._stated: dict[str | None, tuple[TableRoute, ...]] = {}

    def of(self, place: str, came_from: str | None = None) -> SubnetTable:
        """The effective table of a subnet, of a hub for what comes from a network, or of another exit from outside."""
        asked = (place, came_from)
        if asked not in self._asked:
            self._asked[asked] = self._found(place, came_from)
        return self._asked[asked]

    def _found(self, place: str, came_from: str | None) -> SubnetTable:
        subnet = self.estate.subnets.get(place)
        if subnet is None:
            exit_ = self.estate.exits[place]
            if not exit_.joins_many:
                return self.of_exit(place) or self.of_network(self.estate.network_of(exit_) or "")
            stated = exit_.table_for(came_from)
            return self._once(("hub", place, stated or ""), None, lambda: self._hub_routes(place, stated))
        table = self.estate.table_of(place)
        key = ("subnet", table or "", subnet.network, "learns" if subnet.learns else "")
        return self._once(key, subnet.network, lambda: self._subnet_routes(table, subnet.network, subnet.learns))

    def of_exit(self, name: str) -> SubnetTable | None:
        """The table that an exit has for what comes back to it from outside; None for an exit without one."""
        exit_ = self.estate.exits[name]
        table, network = exit_.table_for_replies, self.estate.network_of(exit_)
        if table is None or network is None:
            return None
        return self._once(("exit", table, network), network, lambda: self._exit_routes(table, network))

    def _exit_routes(self, table: str, network: str) -> Iterator[TableRoute]:
        yield from self._static(table)
        yield from self._local(network, table)

    def of_network(self, network: str) -> SubnetTable:
        """The table of what enters a network from outside: its own prefixes and its peers'."""
        return self._once(("network", network), network, lambda: self._local(network, network))

    def _once(
        self, key: tuple[str, ...], network: str | None, build: Callable[[], Iterator[TableRoute]]
    ) -> SubnetTable:
        if key not in self._tables:
            self._tables[key] = SubnetTable(key[1] or LOCAL, tuple(build()), network, self.behaviour)
        return self._tables[key]

    def _subnet_routes(self, table: str | None, network: str, learns: bool) -> Iterator[TableRoute]:
        name = table or LOCAL
        yield from self._local(network, name)
        yield from self._static(table)
        if not learns:
            return
        for exit_name, exit_ in self.estate.exits.items():
            if self.estate.network_of(exit_) == network:
                prefer = exit_.preference
                yield from (TableRoute(p, exit_name, Origin.LEARNED, name, exit_name, prefer) for p in exit_.learned)
            if network in exit_.joins and self._injects(exit_name):
                yield from (TableRoute(p, exit_name, Origin.INJECTED, name, exit_name) for p in exit_.injected)
            if exit_.joins_many and network in exit_.joins:
                passed_on: dict[Prefix, tuple[int, int]] = {}
                for announcer, prefix, prefer in self._announced_to(exit_name):
                    if self._passes_on(announcer, network):
                        passed_on[prefix] = min(prefer, passed_on.get(prefix, prefer))
                for prefix, prefer in passed_on.items():
                    yield TableRoute(prefix, exit_name, Origin.LEARNED, name, exit_name, prefer)

    def _passes_on(self, announcer: str, network: str) -> bool:
        """Whether a hub passes on to a network what an exit announces to it: a line, or an appliance."""
        how = self.behaviour.hub_passes_on
        return how == "to-all" or (
            how == "to-others" and self.estate.network_of(self.estate.exits[announcer]) != network
        )

    def _injects(self, name: str) -> bool:
        """Whether a hub injects its prefixes, by the sessions of all that is, or was, near it."""
        hub = self.estate.exits[name]
        condition = hub.injects_while or self.behaviour.hub_injects_while
        if condition == "always" or not hub.injected:
            return True
        near = [exit_ for _, exit_ in self._near(name) if exit_.speaks]
        lost = [exit_ for exit_ in self.described.failed.values() if exit_.speaks and self._is_near(name, exit_)]
        up = [*(exit_.is_heard for exit_ in near), *(False for _ in lost)]
        return any(up) if condition == "any-session" else all(up)

    def _near(self, hub: str) -> Iterator[tuple[str, ExitModel]]:
        """The lines attached to a hub, and the appliances in the networks that it joins."""
        return (one for one in self.estate.exits.items() if self._is_near(hub, one[1]))

    def _is_near(self, hub: str, exit_: ExitModel) -> bool:
        joined = self.estate.exits[hub].joins
        if exit_.attached_to == hub or not exit_.is_machine:
            return exit_.attached_to == hub
        places = [self.estate.subnets[one] for one in exit_.in_subnets[:1] if one in self.estate.subnets]
        return any(place.network in joined for place in places)

    def _hub_routes(self, hub: str, table: str | None) -> Iterator[TableRoute]:
        joined = self.estate.exits[hub]
        for network in joined.joins:
            known = joined.known_of(network)
            for prefix in self.estate.networks[network].prefixes if known is None else known:
                yield TableRoute(prefix, LOCAL, Origin.LOCAL, hub, network)
        yield from self._static(table)
        for exit_name, prefix, prefer in self._announced_to(hub):
            yield TableRoute(prefix, exit_name, Origin.LEARNED, hub, exit_name, prefer)

    def _announced_to(self, hub: str) -> Iterator[tuple[str, Prefix, tuple[int, int]]]:
        """What a hub learns, from whom, and how preferred."""
        for exit_name, exit_ in self._near(hub):
            yield from ((exit_name, prefix, exit_.preference) for prefix in exit_.learned)

    def _local(self, network: str, table: str) -> Iterator[TableRoute]:
        """A network's own prefixes, its exits' private pools beyond them, and the prefixes of its peers."""
        own = self.estate.networks[network].prefixes
        yield from (TableRoute(prefix, LOCAL, Origin.LOCAL, table, LOCAL) for prefix in own)
        for name, pool in self._pools.get(network, ()) if self.behaviour.private_pools == "automatic" else ():
            if not any(covers(one, pool) for one in own):
                yield TableRoute(pool, name, Origin.LOCAL, table, name)
        for exit_name, other in self.estate.peers_of(network) if self.behaviour.peering_routes == "automatic" else ():
            for prefix in self.estate.networks[other].prefixes:
                if prefix not in own:
                    yield TableRoute(prefix, exit_name, Origin.PEERING, table, other)

    @cached_property
    def _pools(self) -> dict[str, list[tuple[str, Prefix]]]:
        found: dict[str, list[tuple[str, Prefix]]] = {}
        for name, exit_ in self.estate.exits.items():
            network = self.estate.network_of(exit_)
            if exit_.pool is not None and network is not None:
                found.setdefault(network, []).append((name, exit_.pool))
        return found

    def subnet_at(self, network: str, address: Address) -> str | None:
        """The subnet of a network that holds an address, if one does."""
        if network not in self._held:
            own = ((name, one) for name, one in self.estate.subnets.items() if one.network == network)
            self._held[network] = PrefixTable((prefix, name) for name, one in own for prefix in one.prefixes)
        found = self._held[network].match(address)
        return found[1] if found else None

    def stated(self, table: str | None) -> tuple[TableRoute, ...]:
        """The routes that a table is written with, names as their prefixes."""
        if table not in self._stated:
            self._stated[table] = tuple(self._written(table))
        return self._stated[table]

    def _static(self, table: str | None) -> Iterator[TableRoute]:
        """What a table states, without learned routes that are withdrawn since the sessions behind them are down."""
        return (one for one in self.stated(table) if one.origin is Origin.STATIC or not self._is_withdrawn(one))

    def _written(self, table: str | None) -> Iterator[TableRoute]:
        for key, value in self.estate.route_tables.get(table or "", {}).items():
            for prefix in _prefixes(self.estate.destinations.get(key), key):
                if isinstance(value, str):
                    yield TableRoute(prefix, value, Origin.STATIC, table or "", key)
                    continue
                for found in value if isinstance(value, tuple) else (value,):
                    exit_ = self.estate.exits.get(found.exit)
                    prefer = exit_.preference if exit_ is not None and found.rank is not Origin.STATIC else (0, 0)
                    yield TableRoute(prefix, found.exit, found.rank, table or "", key, prefer)

    def _is_withdrawn(self, route: TableRoute) -> bool:
        """Whether who announces a stated learned route is lost, or has no session up; at a hub: all who do."""
        if route.exit in self.described.failed:
            return True
        exit_ = self.estate.exits.get(route.exit)
        if exit_ is None:
            return False
        if not exit_.joins_many:
            return not exit_.is_heard
        if route.origin is Origin.INJECTED:
            return not self._injects(route.exit)
        there = [one for _, one in self._near(route.exit) if _offers(one, route.prefix)]
        lost = [one for one in self.described.failed.values() if _offers(one, route.prefix)]
        return bool(there or lost) and not any(one.is_heard for one in there)


def _offers(exit_: ExitModel, prefix: Prefix) -> bool:
    """Whether an exit announces a prefix that holds this one, while its sessions are up."""
    return any(covers(one, prefix) for one in exit_.offered)


def _prefixes(destination: Destination | None, key: str) -> tuple[Prefix, ...]:
    return destination.prefixes if destination else (parse_prefix(key),)
