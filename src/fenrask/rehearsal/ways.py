"""Route tables as the kernel takes them, and what each next hop that they name is a wire to."""

from collections.abc import Iterable

from fenrask.estate import ExitModel, Onward, Origin
from fenrask.prefixes import Address, Prefix
from fenrask.rehearsal.attempts import party_of
from fenrask.rehearsal.laboratory import ROWS, Space, Wire
from fenrask.rehearsal.places import KNOWN, Places
from fenrask.rehearsal.rules import hook, table
from fenrask.routing import LOCAL, Routes, SubnetTable, TableRoute

__all__ = ["OUT", "Ways"]

OUT, BACK, FIRST = 90, 110, 60
"""Tables of an exit for what goes out, and for what comes back to one with a table of its own; and, in any place, the
first of those for what wins over longer prefixes."""
_NUMBERED_FROM = ROWS + 20
"""The tables of hubs and peerings, by where packets come from."""
_REPLY = 7
"""The mark of replies, where they have a table of their own."""
_LAST = 10_000
"""The metric of what takes what no route matches."""

Rank = tuple[int, tuple[int, int]]


class Ways:
    """The tables of all places, with all routes that hold there; which of them is taken the kernel says."""

    def __init__(self, places: Places) -> None:
        self.places, self.estate, self.lab, self.shown = places, places.estate, places.lab, places.shown
        self.behaviour = places.described.catalogue.behaviour
        self.routes = Routes(places.described)
        self.sides: dict[str, dict[str, list[Wire]]] = {}
        """The wires by which a peering is entered, by the network that they are from."""
        self._entered: dict[tuple[str, str | None, str], Wire | None] = {}
        self._numbers: dict[tuple[str, str | None], int] = {}
        for name in self.estate.subnets:
            self._of_subnet(name)
        for name, exit_ in self.estate.exits.items():
            self._of_exit(name, exit_)

    def _of_subnet(self, name: str) -> None:
        stated, space = self.estate.subnets[name], self.places.subnet(name)
        self._rows(space, ROWS, self.routes.of(name), stated.network)
        fallback = self.estate.fallback_of.get(stated.network, "")
        if fallback and (wire := self._enter(space, stated.network, fallback)) is not None:
            space.default(ROWS, wire, _LAST)
        space.ends(ROWS)

    def _rows(self, space: Space, number: int, rows: SubnetTable, network: str | None) -> None:
        """All routes that hold in a place; those that win over longer ones are in tables that are asked before."""
        self._install(space, number, rows.routes, network)
        for step, (origin, word) in enumerate(((Origin.LOCAL, "own"), (Origin.PEERING, "peering"))):
            rule = f"lookup {FIRST + step} priority {60 + step if network is None else 600 + step}"
            if word not in self.behaviour.wins_over_longer or number == BACK or rule in space.rules:
                continue
            first = {one.prefix for one in rows.routes if one.origin is origin}
            self._install(space, FIRST + step, [one for one in rows.routes if one.prefix in first], network)
            # What is local inside a peering's prefix is not the peering's.
            for route in rows.routes if origin is Origin.PEERING else ():
                if route.origin is Origin.LOCAL:
                    space.goes_on(FIRST + step, route.prefix)
            space.rules.append(rule)

    def _install(self, space: Space, number: int, rows: Iterable[TableRoute], network: str | None) -> None:
        groups: dict[tuple[Prefix, Rank], list[TableRoute]] = {}
        for row in rows:
            groups.setdefault((row.prefix, self._rank(row)), []).append(row)
        metrics = {rank: place + 1 for place, rank in enumerate(sorted({rank for _, rank in groups}))}
        for (prefix, rank), some in groups.items():
            # A network's own routes, and those of peerings, are never several.
            hops = dict.fromkeys((row.exit, row.key if row.exit == LOCAL else "") for row in some)
            hops = hops if some[0].origin > Origin.PEERING else dict.fromkeys([*hops][:1])
            wires = [self._next(space, network, *one) or self.places.nowhere(space) for one in hops]
            space.route(number, prefix, [*dict.fromkeys(wires)], metrics[rank])

    def _rank(self, row: TableRoute) -> Rank:
        if row.origin is Origin.LOCAL:
            return -1, row.preference
        return self.behaviour.equal_prefixes.index(row.origin.word), row.preference

    def _next(self, space: Space, network: str | None, name: str, key: str) -> Wire | None:
        """Where a route leads: into a network (at a hub, the one that it is called by), or to an exit."""
        if name == LOCAL:
            return self.places.within(space, network or key)
        return self._enter(space, network, name)

    def _enter(self, space: Space, network: str | None, name: str) -> Wire | None:
        """From a place to an exit that a route of it names; None where that does not exist, or is out of reach.

        network: in which the place is; None at a hub.
        """
        key = space.name, network, name
        if key not in self._entered:
            exit_ = self.estate.exits.get(name)
            self._entered[key] = self._way(space, network, name, exit_) if exit_ is not None else None
        return self._entered[key]

    def _way(self, space: Space, network: str | None, name: str, exit_: ExitModel) -> Wire | None:
        there = self.estate.network_of(exit_)
        if network is None:
            hub = self.estate.exits[space.is_exit]
            near = exit_.attached_to == space.is_exit or there in hub.joins
            return self._direct(space, network, name, exit_) if near else None
        if network in (there, *exit_.joins):
            return self._direct(space, network, name, exit_)
        for peering, other in self.estate.peers_of(network):
            if other == there:
                is_open = exit_.is_machine or self.estate.exits[peering].lets_use_exits(network)
                return self._past(space, network, peering, name) if is_open else None
        return None

    def _direct(self, space: Space, network: str | None, name: str, exit_: ExitModel) -> Wire:
        """A wire to an exit, or to the subnet that it is in, which hands over all that comes in by it."""
        if exit_.in_subnets:
            place = exit_.in_subnets[0]
            at = self.places.subnet(place)
            if space is at:
                return self.places.at_exit[name, place]
            near, far = self.lab.wire(space, at)
            self.places.edges[place].outer.append(far)
            at.from_wire(far, far.table)
            at.default(far.table, self.places.at_exit[name, place])
        else:
            near, far = self.lab.wire(space, self.places.exit(name))
            self._comes_in(name, exit_, far, network)
        self._leaves(space, near)
        return near

    def _leaves(self, space: Space, wire: Wire) -> None:
        """A wire by which packets leave a subnet, if the space is one's."""
        if space.name.startswith("subnet "):
            self.places.edges[space.name.removeprefix("subnet ")].outer.append(wire)

    def _comes_in(self, name: str, exit_: ExitModel, far: Wire, network: str | None) -> None:
        """What an exit of a whole network, or of several, does with what comes by a wire."""
        space = self.places.exit(name)
        if exit_.onward is Onward.HUB:
            space.from_wire(far, self._hub_table(name, network))
        elif exit_.onward is Onward.JOINED:
            self.sides.setdefault(name, {}).setdefault(network or "", []).append(far)
            if network is not None:
                space.from_wire(far, self._side_table(name, exit_, network))
        elif exit_.onward is not Onward.SERVICE:
            space.from_wire(far, OUT)

    def _number(self, name: str, network: str | None) -> tuple[int, bool]:
        """The number of a table of an exit for what comes from a network, and whether it is new."""
        is_new = (name, network) not in self._numbers
        return self._numbers.setdefault((name, network), _NUMBERED_FROM + len(self._numbers)), is_new

    def _side_table(self, name: str, exit_: ExitModel, network: str) -> int:
        """The table of a peering for what comes from a network: the prefixes of the other."""
        number, is_new = self._number(name, network)
        space = self.places.exit(name)
        if is_new:
            for other in exit_.joins:
                for prefix in self.estate.networks[other].prefixes if other != network else ():
                    space.route(number, prefix, self.places.within(space, other))
            space.ends(number)
        return number

    def _hub_table(self, name: str, network: str | None) -> int:
        """The table of a hub for what comes from a network, or from a line."""
        number, is_new = self._number(name, network)
        if is_new:
            space = self.places.exit(name)
            self._rows(space, number, self.routes.of(name, network), None)
            space.ends(number)
        return number

    def _past(self, space: Space, network: str, peering: str, name: str) -> Wire:
        """Across a peering to an exit of the other network that a route names."""
        own = self.places.exit(peering)
        near, far = self.lab.wire(space, own)
        self.sides.setdefault(peering, {}).setdefault(network, []).append(far)
        own.from_wire(far, far.table)
        own.default(far.table, self._direct(own, network, name, self.estate.exits[name]))
        self._leaves(space, near)
        return near

    # What comes back, and what comes in from outside

    def _of_exit(self, name: str, exit_: ExitModel) -> None:
        space, network = self.places.exit(name), self.estate.network_of(exit_)
        if exit_.onward is Onward.HUB:
            self._hub_table(name, None)
        elif exit_.onward is Onward.THIRD_PARTY:
            self._of_line(name, exit_)
        elif exit_.onward is Onward.INTERNET:
            space.default(OUT, self.lab.wire(space, self.lab.space("internet"))[0])
            self._of_boundary(name, exit_, network)
        elif exit_.onward is Onward.SERVICE and not exit_.in_subnets:
            self._of_boundary(name, exit_, network)
        elif exit_.table_for_replies is not None and network is not None:
            self._rows(space, BACK, self.routes.of(name), network)
            space.rules.append(f"fwmark {_REPLY} lookup {BACK} priority 90")
            self._need_no_route(space, network)
            marked = [f"ct direction reply meta mark set {_REPLY}"]
            hooks = [hook("p", "prerouting", marked, "filter", -50), hook("o", "output", marked, "route", -50)]
            space.statements.append(table("inet", "back", hooks))

    def _of_line(self, name: str, exit_: ExitModel) -> None:
        """A line: out to the third party; in by the table of its hub, or of its own."""
        space, network = self.places.exit(name), exit_.of_network
        space.default(OUT, self.lab.wire(space, self.lab.space(f"party {party_of(self.estate, name)}"))[0])
        if exit_.attached_to in self.estate.exits and exit_.attached_to is not None:
            hub = self.places.exit(exit_.attached_to)
            near, far = self.lab.wire(space, hub)
            hub.from_wire(far, self._hub_table(exit_.attached_to, None))
            space.default(ROWS, near)
        elif network is not None:
            self._rows(space, ROWS, self.routes.of(name), network)
            self._need_no_route(space, network)

    def _need_no_route(self, space: Space, network: str) -> None:
        """Public addresses of exits are known in their network, whatever a table says."""
        for address in self.shown.owned_in(network):
            space.route(KNOWN, address, self.places.within(space, network))
        space.rules.append(f"lookup {KNOWN} priority 80")

    def _of_boundary(self, name: str, exit_: ExitModel, network: str | None) -> None:
        """What comes back: by a table of its own, or a translator's; else straight to who it is for."""
        space = self.places.exit(name)
        if network is None or (exit_.table_for_replies is None and not exit_.translates):
            for number, other in enumerate(sorted(self.estate.networks, key=lambda network_: network_ != network)):
                for prefix in self._held_in(other):
                    space.route(ROWS, prefix, self.places.within(space, other), 1 + number)
            return
        self._rows(space, ROWS, self.routes.of(name), network)
        if exit_.translates:
            self._need_no_route(space, network)
            return
        for address in self.shown.owned_in(network):
            space.route(ROWS, address, self._as_its_subnet(space, network, address))

    def _held_in(self, network: str) -> Iterable[Prefix | Address]:
        """All that is in a network: its prefixes, those of its subnets, and what its exits show."""
        own = [one for each in self.estate.subnets.values() if each.network == network for one in each.prefixes]
        prefixes = (*self.estate.networks[network].prefixes, *own)
        in_subnets = [
            one for one in self.shown.pools_in(network) if self.estate.exits[self.shown.pools[one]].in_subnets
        ]
        return dict.fromkeys((*prefixes, *self.shown.owned_in(network), *in_subnets))

    def _as_its_subnet(self, space: Space, network: str, address: Address) -> Wire | None:
        """The route to a public address, as to the subnet of its exit: the longest that the table has."""
        exit_ = self.estate.exits[self.shown.owner[address]]
        at = self.estate.subnets[exit_.in_subnets[0]].prefix[0]
        rows = self.routes.of(space.is_exit).match(at)
        return self._next(space, network, rows[0].exit, rows[0].key) if rows else None
