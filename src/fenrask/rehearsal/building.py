"""From an estate as it is described to what is to stand in the kernel; the traced paths have no part in it."""

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from ipaddress import ip_address
from itertools import islice

from fenrask.estate import Described, Destination, Estate, ExitModel, Onward, Origin
from fenrask.prefixes import PRIVATE, Address, Prefix, is_public, parse_prefix, usable
from fenrask.rehearsal.attempts import AT_ONCE, Try, client_at
from fenrask.rehearsal.laboratory import ROWS, Laboratory, Space, Wire
from fenrask.rehearsal.rules import MARKS, Rules, among, chain, hook, mark_of, marking, source_map, table
from fenrask.routing import LOCAL, Routes, SubnetTable, TableRoute

__all__ = ["LISTENING", "Built", "Marked", "build"]

DELIVER, KNOWN, FIRST, OUT, BACK = 80, 70, 60, 90, 110
"""Tables of a subnet for what is for its hosts; for addresses that need no route; of what wins over longer prefixes;
of an exit for what goes out; and for what comes back to one with a table of its own."""
_REPLY = 7
LISTENING = 1 << 25
"""The mark of sockets that answer, by which they have a route to begin with; the request's wire then decides."""
_MOST_SHOWN = 256
"""Addresses of a pool that are shown."""
_UNLISTED = {4: int(ip_address("198.18.0.1")), 6: int(ip_address("2001:2::1"))}
"""Addresses that are yet to be bought, in ranges for tests (RFC 2544, RFC 5180)."""


@dataclass(frozen=True)
class Marked:
    """A set that holds what some of the tries' packets carry: those to which a rule applies by a name or a policy."""

    space: str
    table: str
    name: str
    holds: Callable[[Try], bool]


@dataclass
class Built:
    """What is to be made, and what is to be read in it."""

    laboratory: Laboratory
    marked: list[Marked] = field(default_factory=list)
    owner: dict[Address, str] = field(default_factory=dict)
    """The exit that shows an address."""
    public_of: dict[Address, Address] = field(default_factory=dict)
    """The public address of a host that has one."""
    pools: dict[Prefix, str] = field(default_factory=dict)
    """The exit that rewrites to a private pool."""

    aims: dict[tuple[str, str], Address] = field(default_factory=dict)
    """The address of a published port, by exit and name."""

    def aim(self, one: Try) -> Address:
        """The address that a try is sent to: a published one, a host's public one, or the target's own."""
        if one.publisher:
            return self.aims[one.publisher, one.published]
        if one.space == "internet":
            return self.public_of.get(one.target, one.target)
        return one.target

    def whose(self, address: Address) -> str:
        """The exit that an address is one of; empty for none."""
        return self.owner.get(address) or next((name for pool, name in self.pools.items() if address in pool), "")


def build(described: Described, tries: Iterable[Try]) -> Built:
    """The laboratory of an estate in which these can be tried."""
    return _Builder(described, list(tries)).built()


class _Builder:
    def __init__(self, described: Described, tries: list[Try]) -> None:
        self.described, self.estate = described, described.estate
        self.behaviour = described.catalogue.behaviour
        self.routes = Routes(described)
        self.tries = tries
        self.lab = Laboratory()
        self.result = Built(self.lab)
        self.rules = Rules(self._addresses_of)
        self._entered: dict[tuple[str, str | None, str], Wire] = {}
        self._inside: dict[tuple[str, str], Wire] = {}
        self._inner: dict[str, list[Wire]] = {}
        self._outer: dict[str, list[Wire]] = {}
        self._at_exit: dict[tuple[str, str], Wire] = {}
        """The wire of a subnet to an exit in it, by exit and subnet."""
        self._hub_tables: dict[tuple[str, str | None], int] = {}
        self._sides: dict[str, dict[str, list[Wire]]] = {}
        """The wires by which a peering is entered, by the network that they are from."""
        self._entries = self._entry_addresses()
        self._used = {one for each in tries for one in (each.sender, each.target)} | self._entries.keys()
        self._shown = {name: self._shown_by(name) for name in self.estate.exits}

    # What is where

    @cached_property
    def _addresses_of(self) -> dict[str, list[Prefix]]:
        """By destination: its prefixes, and the addresses at which its endpoints in subnets are entered."""
        found = {name: [*one.prefixes] for name, one in self.estate.destinations.items()}
        for address, name in self._entry_addresses().items():
            for carried in self.estate.exits[name].carries or ():
                found[carried].append(parse_prefix(str(address)))
        return found

    def _entry_addresses(self) -> dict[Address, str]:
        found = {}
        for name, exit_ in self.estate.exits.items():
            if exit_.onward is Onward.SERVICE:
                for subnet in exit_.in_subnets:
                    for version in (4, 6):
                        entry = self._entry(exit_, subnet, version)
                        if entry is not None:
                            found[entry] = name
        return found

    def _entry(self, exit_: ExitModel, subnet: str, version: int) -> Address | None:
        own = (one for one in self.estate.subnets[subnet].prefixes if one.version == version)
        return next((usable(one).address for one in own), None)

    def _shown_by(self, name: str) -> dict[str, dict[int, tuple[Address, ...]]]:
        """The public addresses of an exit by the destination that sees them (empty: the rest) and IP version."""
        exit_ = self.estate.exits[name]
        if exit_.pool is not None:
            self.result.pools[exit_.pool] = name
        if exit_.pool is not None or not (exit_.translates or exit_.published):
            return {}
        found: dict[str, dict[int, tuple[Address, ...]]] = {}
        for toward in ("", *exit_.own_addresses):
            listed = exit_.listed_toward(toward)
            found[toward] = {}
            for version in (4, 6):
                some = tuple(one for one in listed if one.version == version)
                number = 1 if version == 6 else exit_.stated_toward(toward) or 1
                found[toward][version] = some or tuple(self._unlisted(version) for _ in range(number))
            for one in (*found[toward][4], *found[toward][6]):
                self.result.owner[one] = name
        return found

    def _unlisted(self, version: int) -> Address:
        number = _UNLISTED[version] + len(self.result.owner) + 64 * len(self.__dict__.get("_shown", ()))
        while (address := ip_address(number)) in self.result.owner or address in self._given:
            number += 1
        self._given.add(address)
        return address

    @cached_property
    def _given(self) -> set[Address]:
        return set()

    def _subnet(self, name: str) -> Space:
        return self.lab.space(f"subnet {name}")

    def _network(self, name: str) -> Space:
        return self.lab.space(f"inside {name}")

    def _exit(self, name: str) -> Space:
        return self.lab.space(f"exit {name}", name)

    # All of it

    def built(self) -> Built:
        self.lab.space("internet").forwards = False
        self.lab.space("nowhere").forwards = False
        for name in self.estate.networks:
            self._network(name).rules.append(f"lookup {ROWS} priority 700")
        for name in self.estate.subnets:
            self._stand_subnet(name)
        for name, exit_ in self.estate.exits.items():
            self._stand_exit(name, exit_)
        self._hosts()
        for name in self.estate.subnets:
            self._table_of_subnet(name)
        for name, exit_ in self.estate.exits.items():
            self._tables_of_exit(name, exit_)
        for party in self._parties:
            self._party(party)
        self._far_targets()
        self._internet()
        for name in self.estate.subnets:
            self._filters_of_subnet(name)
        for name, exit_ in self.estate.exits.items():
            self._rules_of_exit(name, exit_)
        return self.result

    def _stand_subnet(self, name: str) -> None:
        """A subnet's router, joined with the inside of its network twice: to leave it, and to come back to itself."""
        stated, space = self.estate.subnets[name], self._subnet(name)
        network = self._network(stated.network)
        near, far = self.lab.wire(space, network)
        back, forth = self.lab.wire(space, network)
        self._inside[space.name, stated.network] = near
        self._outer[name], self._inner[name] = [near], []
        for wire in (near, back):
            space.from_wire(wire, DELIVER)
        space.ends(DELIVER)
        for prefix in stated.prefixes:
            network.route(ROWS, prefix, far)
            network.route(forth.table, prefix, forth)
        network.from_wire(far, forth.table)
        space.rules += [f"lookup {KNOWN} priority 500", f"lookup {ROWS} priority 700"]

    def _within(self, space: Space, network: str | None) -> Wire | None:
        """From a space into a network: past its own tables, to the subnets by their prefixes."""
        if network not in self.estate.networks:
            return None
        if (space.name, network) not in self._inside:
            near, far = self.lab.wire(space, self._network(network))
            self._inside[space.name, network] = near
        return self._inside[space.name, network]

    def _stand_exit(self, name: str, exit_: ExitModel) -> None:
        """An exit's space, joined with the subnets that it is in; the addresses that it shows are known there."""
        space = self._exit(name)
        places = exit_.in_subnets if exit_.onward is Onward.SERVICE else exit_.in_subnets[:1]
        for number, place in enumerate(places):
            near, far = self.lab.wire(self._subnet(place), space)
            self._at_exit[name, place] = near
            self._inner[place].append(near)
            if number == 0:
                space.default(ROWS, far)
            if exit_.onward is not Onward.SERVICE:
                continue
            self._answers_inside(name, place)
            for version in (4, 6):
                if (entry := self._entry(exit_, place, version)) is not None:
                    space.local[entry] = None
                    space.default(far.table, far)
                    space.rules.append(f"from {entry} lookup {far.table} priority 200")
                    self._subnet(place).route(DELIVER, entry, near)
        space.rules.append(f"lookup {ROWS} priority 700")
        if self._shown[name] or exit_.pool is not None:
            self._known(name, exit_)

    def _answers_inside(self, name: str, place: str) -> None:
        """Answers of an endpoint to hosts of its own network go straight to them, past the filters of its subnet."""
        network, wire, space = self.estate.subnets[place].network, self._at_exit[name, place], self._subnet(place)
        space.from_wire(wire, wire.table)
        for stated in self.estate.subnets.values():
            for prefix in stated.prefixes if stated.network == network else ():
                space.route(wire.table, prefix, self._inside[space.name, network])

    def _known(self, name: str, exit_: ExitModel) -> None:
        """What an exit shows finds it inside its network."""
        network = self.estate.network_of(exit_)
        if network is None or not exit_.in_subnets:
            return
        place = exit_.in_subnets[0]
        own = self._at_exit[name, place]
        some: list[Prefix | Address] = [*self._addresses(name), *([exit_.pool] if exit_.pool is not None else [])]
        for one in some:
            self._subnet(place).route(DELIVER, one, own)
            there = self._inside[self._subnet(place).name, network]
            far = next(wire for wire in self._network(network).wires if wire.name == there.peer)
            self._network(network).route(ROWS, one, far)
            if one is exit_.pool:
                continue
            for subnet, stated in self.estate.subnets.items():
                if stated.network == network:
                    to = own if subnet == place else self._inside[self._subnet(subnet).name, network]
                    self._subnet(subnet).route(KNOWN, one, to)

    def _addresses(self, name: str) -> list[Address]:
        """All public addresses of an exit."""
        return [one for versions in self._shown[name].values() for some in versions.values() for one in some]

    # Hosts, and what is reached

    def _hosts(self) -> None:
        """Those who send; and those of the estate who are sent to, apart from these."""
        for one in self.tries:
            if one.space.startswith("hosts "):
                self._host(one.space, one.sender)
            else:
                self.lab.space(one.space).local[one.sender] = None
        held = {address for name, space in self.lab.spaces.items() if name.startswith("hosts ") for address in space.local}
        for one in self.tries:
            if one.target in self._entries or one.target in held:
                continue
            for subnet in self.estate.subnets_at(one.target):
                owners = [name for name, each in self.estate.workloads.items() if subnet in each.subnets]
                workload = owners[0] if len(owners) == 1 else ""
                if one.workload in owners and one.space != client_at(one.workload, subnet):
                    workload = one.workload
                self._host(f"reached {workload} in {subnet}", one.target)

    def _host(self, space_name: str, address: Address) -> None:
        """An address in a space of hosts: `hosts WORKLOAD in SUBNET` who send, `reached ...` who do not."""
        words, subnet = space_name.rsplit(" in ", 1)
        workload = words.partition(" ")[2]
        is_new = space_name not in self.lab.spaces
        space = self.lab.space(space_name)
        if is_new:
            space.forwards = False
            near, far = self.lab.wire(self._subnet(subnet), space)
            self._inner[subnet].append(near)
            space.default(ROWS, far)
            space.rules.append(f"lookup {ROWS} priority 700")
            if workload:
                filters = self.estate.workloads[workload].filters
                chains, out, into = self.rules.filters(filters, "own")
                space.statements.append(
                    table("inet", "own", [*chains, hook("o", "output", out), hook("i", "input", into)])
                )
        if address not in space.local:
            space.local[address] = None
            wire = next(
                one for one in self._inner[subnet] if any(one.peer == each.name for each in space.wires)
            )
            self._subnet(subnet).route(DELIVER, address, wire)
        if workload and self.estate.workloads[workload].public_address and address.version == 4:
            self._public(address)

    def _public(self, address: Address) -> Address:
        """The public address of a host."""
        if address not in self.result.public_of:
            self.result.public_of[address] = self._unlisted(4)
        return self.result.public_of[address]

    def _far_targets(self) -> None:
        """Targets answer wherever they can be: on the internet, at a third party, behind an endpoint."""
        for target in dict.fromkeys(one.target for one in self.tries if one.space.startswith("hosts ")):
            if is_public(target) and not self.estate.subnets_at(target):
                self.lab.space("internet").local[target] = None
            for party, lines in self._parties.items():
                if any(target in prefix for line in lines for prefix in self.estate.exits[line].announced):
                    self.lab.space(f"party {party}").local[target] = None
            for name, exit_ in self.estate.exits.items():
                if exit_.onward is Onward.SERVICE and any(
                    target in prefix for to in exit_.carries or () for prefix in self._stated(to).prefixes
                ):
                    self._exit(name).local[target] = None

    def _stated(self, destination: str) -> Destination:
        return self.estate.destinations[destination]

    @cached_property
    def _parties(self) -> dict[str, list[str]]:
        """The lines to each third party; one without a name is its own."""
        found: dict[str, list[str]] = {}
        for name, exit_ in self.estate.exits.items():
            if exit_.onward is Onward.THIRD_PARTY:
                found.setdefault(exit_.party or name, []).append(name)
        return found

    # Tables

    def _table_of_subnet(self, name: str) -> None:
        stated, space = self.estate.subnets[name], self._subnet(name)
        rows = self.routes.of(name)
        self._rows(space, ROWS, rows, stated.network)
        fallback = self.estate.fallback_of.get(stated.network, "")
        if fallback and (wire := self._enter(space, stated.network, fallback)) is not None:
            for prefix in ("0.0.0.0/0", "::/0"):
                space.route(ROWS, prefix, wire, 10_000)
        space.ends(ROWS)

    def _rows(self, space: Space, number: int, rows: SubnetTable, network: str | None) -> None:
        """All routes that hold in a place; the kernel chooses. Those that win over longer ones are in tables before."""
        wins = {Origin.LOCAL: "own", Origin.PEERING: "peering"}
        self._install(space, number, rows.routes, network)
        for step, (origin, word) in enumerate(wins.items()):
            rule = f"lookup {FIRST + step} priority {60 + step if network is None else 600 + step}"
            if word not in self.behaviour.wins_over_longer or number == BACK or rule in space.rules:
                continue
            first = {one.prefix for one in rows.routes if one.origin is origin}
            self._install(space, FIRST + step, [one for one in rows.routes if one.prefix in first], network)
            # What is local inside a peering's prefix is not the peering's.
            for one in rows.routes if origin is Origin.PEERING else ():
                if one.origin is Origin.LOCAL:
                    space.routes.append(f"throw {one.prefix} table {FIRST + step} metric 1")
            space.rules.append(rule)

    def _install(self, space: Space, number: int, rows: Iterable[TableRoute], network: str | None) -> None:
        ranks: dict[tuple[int, tuple[int, int]], None] = {}
        groups: dict[tuple[Prefix, tuple[int, tuple[int, int]]], list[TableRoute]] = {}
        for row in rows:
            origin = row.origin
            order = -1 if origin is Origin.LOCAL else self.behaviour.equal_prefixes.index(origin.word)
            rank = (order, row.preference)
            ranks[rank] = None
            groups.setdefault((row.prefix, rank), []).append(row)
        metric = {rank: place + 1 for place, rank in enumerate(sorted(ranks))}
        for (prefix, rank), some in groups.items():
            exits = dict.fromkeys((row.exit, row.key if row.exit == LOCAL else "") for row in some)
            if some[0].origin <= Origin.PEERING:
                exits = dict.fromkeys([*exits][:1])
            hops = [self._next(space, network, *one) for one in exits]
            wires = [self._nowhere(space) if one is None else one for one in hops]
            space.route(number, prefix, [*dict.fromkeys(wires)], metric[rank])

    def _next(self, space: Space, network: str | None, name: str, key: str) -> Wire | None:
        if name == LOCAL:
            return self._within(space, network or key)
        return self._enter(space, network, name)

    def _nowhere(self, space: Space) -> Wire:
        if (space.name, "nowhere") not in self._inside:
            self._inside[space.name, "nowhere"] = self.lab.wire(space, self.lab.space("nowhere"))[0]
        return self._inside[space.name, "nowhere"]

    def _enter(self, space: Space, network: str | None, name: str) -> Wire | None:
        """From a place to an exit that a route of it names; None where that is out of reach.

        network: in which the place is; None at a hub.
        """
        exit_ = self.estate.exits.get(name)
        if exit_ is None:
            return None
        key = (space.name, network, name)
        if key not in self._entered:
            wire = self._way(space, network, name, exit_)
            if wire is None:
                return None
            self._entered[key] = wire
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
                if not (exit_.is_machine or self.estate.exits[peering].lets_use_exits(network)):
                    return None
                return self._past(space, network, peering, name, exit_)
        return None

    def _direct(self, space: Space, network: str | None, name: str, exit_: ExitModel) -> Wire:
        """A wire to an exit, or to the subnet that it is in, which hands over all that comes in by it."""
        if exit_.in_subnets:
            place = exit_.in_subnets[0]
            if space is self._subnet(place):
                return self._at_exit[name, place]
            near, far = self.lab.wire(space, self._subnet(place))
            self._outer[place].append(far)
            self._subnet(place).from_wire(far, far.table)
            self._subnet(place).default(far.table, self._at_exit[name, place])
        else:
            near, far = self.lab.wire(space, self._exit(name))
            self._comes_in(name, exit_, far, network)
        if space.name.startswith("subnet "):
            self._outer[space.name.removeprefix("subnet ")].append(near)
        return near

    def _comes_in(self, name: str, exit_: ExitModel, far: Wire, network: str | None) -> None:
        """What an exit of a whole network, or of several, does with what comes by a wire."""
        space = self._exit(name)
        if exit_.onward is Onward.HUB:
            space.from_wire(far, self._hub_table(name, network))
        elif exit_.onward is Onward.JOINED:
            self._sides.setdefault(name, {}).setdefault(network or "", []).append(far)
            if network is not None:
                space.from_wire(far, self._side_table(name, exit_, network))
        elif exit_.onward is not Onward.SERVICE:
            space.from_wire(far, OUT)

    def _side_table(self, name: str, exit_: ExitModel, network: str) -> int:
        """The table of a peering for what comes from a network: the prefixes of the other."""
        number, space = ROWS + 20 + exit_.joins.index(network), self._exit(name)
        if (name, network) not in self._hub_tables:
            self._hub_tables[name, network] = number
            for other in exit_.joins:
                if other != network:
                    for prefix in self.estate.networks[other].prefixes:
                        space.route(number, prefix, self._within(space, other))
            space.ends(number)
        return number

    def _hub_table(self, name: str, network: str | None) -> int:
        """The table of a hub for what comes from a network, or from a line."""
        if (name, network) not in self._hub_tables:
            number = ROWS + 20 + len(self._hub_tables)
            self._hub_tables[name, network] = number
            self._rows(self._exit(name), number, self.routes.of(name, network), None)
            self._exit(name).ends(number)
        return self._hub_tables[name, network]

    def _past(self, space: Space, network: str, peering: str, name: str, exit_: ExitModel) -> Wire:
        """Across a peering to an exit of the other network that a route names."""
        own = self._exit(peering)
        near, far = self.lab.wire(space, own)
        self._sides.setdefault(peering, {}).setdefault(network, []).append(far)
        onward = self._direct(own, network, name, exit_)
        own.from_wire(far, far.table)
        own.default(far.table, onward)
        if space.name.startswith("subnet "):
            self._outer[space.name.removeprefix("subnet ")].append(near)
        return near

    def _tables_of_exit(self, name: str, exit_: ExitModel) -> None:
        space, network = self._exit(name), self.estate.network_of(exit_)
        if exit_.onward is Onward.HUB:
            self._hub_table(name, None)
        elif exit_.onward is Onward.THIRD_PARTY:
            out, far = self.lab.wire(space, self.lab.space(f"party {exit_.party or name}"))
            space.default(OUT, out)
            if exit_.attached_to is not None and exit_.attached_to in self.estate.exits:
                near, there = self.lab.wire(space, self._exit(exit_.attached_to))
                self._exit(exit_.attached_to).from_wire(there, self._hub_table(exit_.attached_to, None))
                space.default(ROWS, near)
            elif network is not None:
                self._rows(space, ROWS, self.routes.of(name), network)
                self._needs_no_route(space, network)
        elif exit_.onward is Onward.INTERNET:
            out, far = self.lab.wire(space, self.lab.space("internet"))
            space.default(OUT, out)
            self._back_from_outside(name, exit_, network)
        elif exit_.onward is Onward.SERVICE and not exit_.in_subnets:
            self._back_from_outside(name, exit_, network)
        elif exit_.table_for_replies is not None and network is not None:
            self._rows(space, BACK, self.routes.of(name), network)
            space.rules.append(f"fwmark {_REPLY} lookup {BACK} priority 90")
            self._needs_no_route(space, network)
            space.statements.append(
                table("inet", "back", [hook("p", "prerouting", [f"ct direction reply meta mark set {_REPLY}"], "filter", -50)])
            )

    def _needs_no_route(self, space: Space, network: str) -> None:
        """Public addresses of exits are known in their network, whatever a table says."""
        for address in self._owned_in(network):
            space.route(KNOWN, address, self._within(space, network))
        space.rules.append(f"lookup {KNOWN} priority 80")

    def _back_from_outside(self, name: str, exit_: ExitModel, network: str | None) -> None:
        """What comes back: by a table of its own, or that of a translator; else straight to who it is for."""
        space = self._exit(name)
        if network is not None and (exit_.table_for_replies is not None or exit_.translates):
            self._rows(space, ROWS, self.routes.of(name), network)
            if exit_.table_for_replies is None or exit_.translates:
                self._needs_no_route(space, network)
                return
            for one in self._owned_in(network):
                space.route(ROWS, one, self._as_its_subnet(space, network, one))
            return
        for number, other in enumerate(sorted(self.estate.networks, key=lambda one: one != network)):
            own = [one for each in self.estate.subnets.values() if each.network == other for one in each.prefixes]
            for prefix in dict.fromkeys((*self.estate.networks[other].prefixes, *own)):
                space.route(ROWS, prefix, self._within(space, other), 1 + number)
            for address in self._owned_in(other):
                space.route(ROWS, address, self._within(space, other), 1 + number)
            for each in self.estate.exits.values():
                if each.pool is not None and self.estate.network_of(each) == other and each.in_subnets:
                    space.route(ROWS, each.pool, self._within(space, other), 1 + number)

    def _as_its_subnet(self, space: Space, network: str, address: Address) -> Wire | None:
        """The route to a public address, as to the subnet of its exit: the longest that the table has."""
        exit_ = self.estate.exits[self.result.owner[address]]
        at = self.estate.subnets[exit_.in_subnets[0]].prefix[0]
        rows = self.routes.of(space.is_exit).match(at)
        return self._next(space, network, rows[0].exit, rows[0].key) if rows else None

    def _owned_in(self, network: str) -> Iterator[Address]:
        """The public addresses of the exits in a network's subnets."""
        for name, exit_ in self.estate.exits.items():
            if exit_.in_subnets and self.estate.network_of(exit_) == network:
                yield from self._addresses(name)

    # Outside

    def _internet(self) -> None:
        """Replies leave the internet by the exit that the request came by."""
        space = self.lab.space("internet")
        self._answering(space, {})
        self._sent_from_internet(space)
        lines = []
        for name, one in self.estate.destinations.items():
            if one.is_guarded and one.service:
                for version, ip in ((4, "ip"), (6, "ip6")):
                    there = among("daddr", one.prefixes, version)
                    if there and one.public_access == "listed":
                        listed = among("saddr", one.allowed, version, but=True)
                        lines.append(f"{there} {listed} drop")
                    elif there and one.public_access == "closed":
                        lines.append(f"{there} drop")
        lines += [f"{among('saddr', PRIVATE, version)} drop" for version in (4, 6)]
        space.statements.append(table("inet", "guard", [hook("i", "input", lines)]))

    def _sent_from_internet(self, space: Space) -> None:
        """What is sent to public addresses of an estate comes in by the internet exit of their network."""
        doors = {}
        for name, exit_ in self.estate.exits.items():
            if exit_.takes_public_sources and exit_.of_network and exit_.of_network not in doors:
                doors[exit_.of_network] = self._wire_to(space, name)
        for name, exit_ in self.estate.exits.items():
            network = self.estate.network_of(exit_)
            own = doors.get(network or "") if exit_.in_subnets else self._wire_to(space, name)
            if own is not None:
                for address in self._addresses(name):
                    space.route(ROWS, address, own)
        for host, public in self.result.public_of.items():
            for subnet in self.estate.subnets_at(host):
                if (door := doors.get(self.estate.subnets[subnet].network)) is not None:
                    space.route(ROWS, public, door)
        for stated in self.estate.subnets.values():
            for prefix in stated.prefixes:
                if prefix.version == 6 and is_public(prefix) and (door := doors.get(stated.network)) is not None:
                    space.route(ROWS, prefix, door)

    def _wire_to(self, space: Space, exit_name: str) -> Wire | None:
        """The wire from somebody outside to an exit."""
        peers = {one.name for one in self._exit(exit_name).wires}
        return next((one for one in space.wires if one.peer in peers), None)

    def _party(self, party: str) -> None:
        """A third party answers by the line with the longest advertised prefix; of equal ones by that of the request."""
        space = self.lab.space(f"party {party}")
        space.forwards = False
        advertised: dict[Wire, tuple[Prefix, ...]] = {}
        for name in self._parties[party]:
            exit_ = self.estate.exits[name]
            if (wire := self._wire_to(space, name)) is not None:
                advertised[wire] = () if exit_.fault else tuple(exit_.known_beyond or ())
        self._answering(space, advertised)

    def _answering(self, space: Space, advertised: Mapping[Wire, tuple[Prefix, ...]]) -> None:
        lines = []
        for wire in space.wires:
            lines.append(f"iifname {wire.name} ct mark set {wire.table}")
            space.rules.append(f"fwmark {wire.table} lookup {wire.table} priority 100")
            if wire not in advertised:
                space.default(wire.table, wire)
                continue
            others = sorted(advertised, key=lambda one: one is not wire)
            given: set[Prefix] = set()
            for other in others:
                for prefix in advertised[other]:
                    if prefix not in given:
                        given.add(prefix)
                        space.route(wire.table, prefix, other)
            space.ends(wire.table)
        space.rules.append(f"fwmark {LISTENING} lookup {OUT} priority 110")
        space.rules.append(f"lookup {ROWS} priority 700")
        if space.wires:
            space.default(OUT, space.wires[0])
        for prefix in dict.fromkeys(one for some in advertised.values() for one in some):
            space.route(ROWS, prefix, [wire for wire, some in advertised.items() if prefix in some])
        space.statements.append(table("inet", "answers", [hook("p", "prerouting", lines, "filter", -50)]))
        for family in ("ip", "ip6"):
            restored = ["ct mark != 0 meta mark set ct mark"]
            space.statements.append(table(family, "answers", [hook("o", "output", restored, "route", -50)]))

    # Rules

    def _filters_of_subnet(self, name: str) -> None:
        stated, space = self.estate.subnets[name], self._subnet(name)
        if not stated.filters:
            return
        chains, out, into = self.rules.filters(stated.filters, "own")
        inside = self._inside[space.name, stated.network].name
        stays = [
            f"oifname {inside} {among('daddr', stated.prefixes, version)} return"
            for version in {one.version for one in stated.prefixes}
        ]
        inner = ", ".join(one.name for one in self._inner[name])
        outer = ", ".join(one.name for one in self._outer[name])
        jumps = [
            f"iifname {{ {inner} }} oifname {{ {outer} }} jump leaving",
            f"iifname {{ {outer} }} oifname {{ {inner} }} jump entering",
        ]
        parts = [*chains, chain("leaving", [*stays, *out]), chain("entering", into)]
        if inner:
            space.statements.append(table("inet", "own", [*parts, hook("f", "forward", jumps)]))

    def _rules_of_exit(self, name: str, exit_: ExitModel) -> None:
        space = self._exit(name)
        # A first packet alone tells the path: the kernel answers some later ones with what they carry.
        first = ("tcp flags & (fin | syn | rst | ack) == syn", "meta l4proto udp")
        marks = [f"meta mark {mark_of(1)}-{mark_of(AT_ONCE)} {one} add @seen {{ meta mark }}" for one in first]
        seen = [f"set seen {{ {MARKS} }}", hook("p", "prerouting", [*marking(AT_ONCE), *marks], "filter", -300)]
        space.statements.append(table("inet", "seen", seen))
        lines = [*self._carried(name, exit_)]
        sets: list[str] = []
        if exit_.keeps_state:
            lines += ["ct state invalid drop", "ct state established,related accept"]
            if self._asked_by_udp:
                lines.append(f"udp sport {{ {self._asked_by_udp} }} drop")
        asked: dict[int, str] = {}
        for number, rule in enumerate(exit_.rules_in_order):
            if rule.names:
                asked[number] = f"asked{number}"
                sets.append(self._marked(space, f"asked{number}", _asks(rule.names)))
        lines += self.rules.decisions(exit_.rules_in_order, exit_.lets_by_default, lambda one: asked.get(one, ""))
        where = "input" if exit_.onward is Onward.SERVICE else "forward"
        chains: list[str] = []
        hooks = []
        if exit_.own_filters:
            chains, out, into = self.rules.filters(exit_.own_filters, "filter")
            lines += into
            hooks.append(hook("o", "output", out))
        if exit_.lets_in is not None:
            allowed = exit_.lets_in
            sets.append(self._marked(space, "clients", lambda one: one.workload in allowed))
            lines = ["meta l4proto { tcp, udp } ct state new jump listed", *lines]
            chains.append(chain("listed", ["meta mark @clients return", "drop"]))
        space.statements.append(table("inet", "own", [*sets, *chains, hook("f", where, lines), *hooks]))
        self._translations(name, exit_)

    def _marked(self, space: Space, name: str, holds: Callable[[Try], bool]) -> str:
        """The set of the marks of the tries to which something applies."""
        self.result.marked.append(Marked(space.name, "own", name, holds))
        return f"set {name} {{ {MARKS} }}"

    def _carried(self, name: str, exit_: ExitModel) -> Iterator[str]:
        """What an exit does not carry, whatever its rules say."""
        space = self._exit(name)
        if exit_.fault or not exit_.forwards:
            yield "drop"
        for version in {4, 6} - exit_.families:
            yield f"meta nfproto ipv{version} drop"
        if exit_.onward is Onward.SERVICE:
            closed = [to for to in exit_.carries or () if self._is_closed(name, exit_, to)]
            if closed:
                yield "drop"
        if exit_.onward is Onward.JOINED and not exit_.takes_forwarded:
            yield from self._own_sources(name)
        outward = next((one for one in space.wires if self._is_outside(one)), None)
        if outward is None:
            return
        if exit_.onward is Onward.THIRD_PARTY:
            for version, family in ((4, "ipv4"), (6, "ipv6")):
                but = among("daddr", exit_.announced, version, but=True)
                yield f"oifname {outward.name} meta nfproto {family} {but} drop"
            if exit_.lets_in_ports is not None:
                ports = ", ".join(map(str, exit_.lets_in_ports))
                but = f"th dport != {{ {ports} }} " if ports else ""
                yield f"iifname {outward.name} tcp flags & (fin | syn | rst | ack) == syn {but}drop"
                yield f"iifname {outward.name} meta l4proto udp ct state new {but}{self._not_answers()}drop"
        if exit_.onward is Onward.INTERNET:
            if exit_.keeps_state and not exit_.published:
                yield f"iifname {outward.name} ct state new drop"
            private = [f"oifname {outward.name} {among('daddr', PRIVATE, version)} drop" for version in (4, 6)]
            yield from private
            if exit_.needs_public_source:
                owned = [*self.result.owner, *self.result.public_of]
                for version in (4, 6):
                    some_owned = [one for one in owned if one.version == version]
                    if version == 4:
                        but = among("saddr", some_owned, 4, but=True)
                        yield f"oifname {outward.name} meta nfproto ipv4 {but} drop"
                    else:
                        yield f"oifname {outward.name} {among('saddr', PRIVATE, 6)} drop"

    @cached_property
    def _asked_by_udp(self) -> str:
        """The ports that datagrams are sent to: what comes from one is an answer, and is nothing else's beginning."""
        return ", ".join(map(str, sorted({one.port for one in self.tries if one.protocol == "udp"})))

    def _not_answers(self) -> str:
        return f"udp sport != {{ {self._asked_by_udp} }} " if self._asked_by_udp else ""

    def _is_outside(self, wire: Wire) -> bool:
        """Whether a wire of an exit leads to the internet or to a third party."""
        outside = (one for key, one in self.lab.spaces.items() if key == "internet" or key.startswith("party "))
        return any(wire.peer == each.name for one in outside for each in one.wires)

    def _is_closed(self, name: str, exit_: ExitModel, destination: str) -> bool:
        stated = self._stated(destination)
        own = self.estate.region_of(exit_)
        far = bool(own and stated.region and own != stated.region)
        return far or (stated.only_through is not None and name not in stated.only_through)

    def _own_sources(self, name: str) -> Iterator[str]:
        """A peering that takes only packets whose source lies in the network that they come from."""
        for network, wires in self._sides.get(name, {}).items():
            own = [*self.estate.networks[network].prefixes, *self._owned_in(network)]
            own += [one.pool for one in self.estate.exits.values() if one.pool and self.estate.network_of(one) == network]
            interfaces = ", ".join(one.name for one in wires)
            for version, family in ((4, "ipv4"), (6, "ipv6")):
                but = among("saddr", own, version, but=True)
                yield f"iifname {{ {interfaces} }} meta nfproto {family} {but} drop"

    def _translations(self, name: str, exit_: ExitModel) -> None:
        """Sources rewritten on the way out of the estate, and public hosts' addresses at the internet exit."""
        space = self._exit(name)
        self._publish(name, exit_)
        if exit_.translates:
            inside = [one for network in self.estate.networks.values() for one in network.prefixes]
            inside += [*self.result.owner, *(one.pool for one in self.estate.exits.values() if one.pool is not None)]
            for version, ip in ((4, "ip"), (6, "ip6")):
                if version not in exit_.families or not (own := among("saddr", inside, version)):
                    continue
                if version != (exit_.pool.version if exit_.pool is not None else 4):
                    continue
                lines = [f"{own} {one}" for one in self._rewriting(name, exit_, version)]
                space.statements.append(table(ip, "translate", [hook("s", "postrouting", lines, "nat", 100)]))
        elif exit_.takes_public_sources and self.result.public_of:
            pairs = [*self.result.public_of.items()]
            there = ", ".join(f"{own} : {public}" for own, public in pairs)
            back = ", ".join(f"{public} : {own}" for own, public in pairs)
            outward = next(one.name for one in space.wires if self._is_outside(one))
            snat = f"oifname {outward} snat to ip saddr map {{ {there} }}"
            dnat = f"iifname {outward} dnat to ip daddr map {{ {back} }}"
            space.statements.append(
                table("ip", "translate", [hook("s", "postrouting", [snat], "nat", 100), hook("d", "prerouting", [dnat], "nat", -100)])
            )

    def _publish(self, name: str, exit_: ExitModel) -> None:
        """Ports at its addresses that an exit forwards to hosts; these may see the exit's own address."""
        space, forwarded, shown = self._exit(name), [], []
        for as_, one in exit_.published.items():
            address = one.address or self._first_address(name, exit_)
            self.result.aims[name, as_] = address
            tried = (each for each in self.tries if (each.publisher, each.published) == (name, as_))
            hosts = [*dict.fromkeys(each.target for each in tried if each.target.version == 4)]
            if not hosts or not (exit_.is_machine or self.behaviour.gateways_publish):
                continue
            cells = ", ".join(f"{number} : {host} . {one.host_port}" for number, host in enumerate(hosts))
            to = f"numgen random mod {len(hosts)} map {{ {cells} }}"
            forwarded.append(f"ip daddr {address} {one.protocol} dport {one.port} dnat ip to {to}")
            if one.rewrites_source and exit_.in_subnets:
                own = self._own_address(name, exit_)
                there = f"ip daddr {{ {', '.join(map(str, hosts))} }} {one.protocol} dport {one.host_port}"
                shown.append(f"ct status dnat {there} snat to {own}")
        if forwarded:
            hooks = [hook("d", "prerouting", forwarded, "nat", -100)]
            hooks.append(hook("s", "postrouting", [*shown, "ct status dnat accept"], "nat", 90))
            space.statements.append(table("ip", "publish", hooks))

    def _first_address(self, name: str, exit_: ExitModel) -> Address:
        if exit_.pool is not None:
            return exit_.pool[0]
        return self._shown[name][""][4][0]

    def _own_address(self, name: str, exit_: ExitModel) -> Address:
        """An exit's private address: the last free one of its subnet."""
        place = exit_.in_subnets[0]
        prefix = self.estate.subnets[place].prefix
        block = usable(prefix)
        number = block.last
        while ip_address(number) in self._used or ip_address(number) in self.result.owner:
            number -= 1
        own = ip_address(number)
        self.result.owner[own] = name
        self._subnet(place).route(DELIVER, own, self._at_exit[name, place])
        return own

    def _rewriting(self, name: str, exit_: ExitModel, version: int) -> Iterator[str]:
        private, public = among("daddr", PRIVATE, version), among("daddr", PRIVATE, version, but=True)
        some = {one: exit_.rewrites(one) for one in (ip_address("10.0.0.1"), ip_address("192.0.2.1"))}
        for condition, rewrites in zip((private, public), some.values(), strict=True):
            if not rewrites:
                continue
            if exit_.pool is not None:
                if exit_.pool.version == version:
                    yield f"{condition} snat {source_map([*islice(exit_.pool, _MOST_SHOWN)])}"
                continue
            for toward, addresses in self._shown[name].items():
                if toward:
                    there = among("daddr", self._addresses_of[toward], version)
                    port = self._stated(toward).port
                    with_port = f"th dport {port} " if port is not None else ""
                    if there:
                        yield f"{condition} {there} {with_port}snat {source_map(addresses[version])}"
            yield f"{condition} snat {source_map(self._shown[name][''][version])}"


def _asks(patterns: tuple[str, ...]) -> Callable[[Try], bool]:
    """Whether the name that is asked for is one of those, `*.` standing for all below one."""

    def asks(one: Try) -> bool:
        return any(
            one.name.endswith(each[1:]) if each.startswith("*.") else one.name == each for each in patterns if one.name
        )

    return asks
