"""The spaces of subnets, networks, exits and hosts, each joined with those next to it."""

from dataclasses import dataclass

from fenrask.estate import Described, ExitModel, Onward
from fenrask.prefixes import Address, Prefix
from fenrask.rehearsal.attempts import Try, client_at
from fenrask.rehearsal.laboratory import ROWS, Laboratory, Space, Wire
from fenrask.rehearsal.rules import Rules, hook, table
from fenrask.rehearsal.shown import Shown

__all__ = ["DELIVER", "KNOWN", "Places"]

DELIVER = 80
"""The table of a subnet for what is for its own hosts and exits."""
KNOWN = 70
"""The table for addresses that need no route."""


@dataclass(frozen=True)
class _Edges:
    """The wires of a subnet: to what is in it, and to what is not. What passes from one to the other meets filters."""

    inner: list[Wire]
    outer: list[Wire]


class Places:
    """All spaces of an estate, and the wires between them."""

    def __init__(self, described: Described, tries: list[Try]) -> None:
        self.described, self.estate, self.tries = described, described.estate, tries
        self.lab = Laboratory()
        self.shown = Shown(self.estate, tries)
        self.rules = Rules(self.estate.named_addresses.prefixes_of)
        self.edges: dict[str, _Edges] = {}
        """By subnet."""
        self.at_exit: dict[tuple[str, str], Wire] = {}
        """The wire of a subnet to an exit in it, by exit and subnet."""
        self._inside: dict[tuple[str, str], Wire] = {}
        for name in ("internet", "nowhere"):
            self.lab.space(name).forwards = False
        for name in self.estate.networks:
            self.network(name).looks_up(ROWS)
        for name in self.estate.subnets:
            self._stand_subnet(name)
        for name, exit_ in self.estate.exits.items():
            self._stand_exit(name, exit_)
        self._stand_hosts()

    def subnet(self, name: str) -> Space:
        """The router of a subnet."""
        return self.lab.space(f"subnet {name}")

    def network(self, name: str) -> Space:
        """The inside of a network: what joins its subnets."""
        return self.lab.space(f"inside {name}")

    def exit(self, name: str) -> Space:
        """An exit."""
        return self.lab.space(f"exit {name}", name)

    def within(self, space: Space, network: str | None) -> Wire | None:
        """From a space into a network, past its tables, to the subnets by their prefixes; None for no network."""
        if network not in self.estate.networks:
            return None
        return self._joined(space, self.network(network))

    def nowhere(self, space: Space) -> Wire:
        """From a space to where nothing is."""
        return self._joined(space, self.lab.space("nowhere"))

    def _joined(self, space: Space, other: Space) -> Wire:
        key = space.name, other.name
        if key not in self._inside:
            self._inside[key] = self.lab.wire(space, other)[0]
        return self._inside[key]

    def _stand_subnet(self, name: str) -> None:
        """A subnet's router, joined with the inside of its network twice: to leave it, and to come back to itself."""
        stated, space = self.estate.subnets[name], self.subnet(name)
        network = self.network(stated.network)
        near, far = self.lab.wire(space, network)
        back, forth = self.lab.wire(space, network)
        self._inside[space.name, network.name] = near
        self.edges[name] = _Edges([], [near])
        for wire in (near, back):
            space.from_wire(wire, DELIVER)
        space.ends(DELIVER)
        for prefix in stated.prefixes:
            network.route(ROWS, prefix, far)
            network.route(forth.table, prefix, forth)
        network.from_wire(far, forth.table)
        space.rules.append(f"lookup {KNOWN} priority 500")
        space.looks_up(ROWS)

    def _stand_exit(self, name: str, exit_: ExitModel) -> None:
        """An exit's space, joined with the subnets that it is in; the addresses that it shows are known there."""
        space = self.exit(name)
        places = exit_.in_subnets if exit_.onward is Onward.SERVICE else exit_.in_subnets[:1]
        for number, place in enumerate(places):
            near, far = self.lab.wire(self.subnet(place), space)
            self.at_exit[name, place] = near
            self.edges[place].inner.append(near)
            if number == 0:
                space.default(ROWS, far)
            if exit_.onward is Onward.SERVICE:
                self._stand_endpoint(name, place, far)
        space.looks_up(ROWS)
        if exit_.in_subnets:
            for address in (*self.shown.of(name), *([exit_.pool] if exit_.pool is not None else [])):
                self._make_known(name, exit_.in_subnets[0], address)

    def _stand_endpoint(self, name: str, place: str, far: Wire) -> None:
        """An endpoint in a subnet, at its address there.

        Its answers to hosts of its own network go straight to them, past the filters of its subnet.
        """
        own, space, near = self.exit(name), self.subnet(place), self.at_exit[name, place]
        own.default(far.table, far)
        for entry in self.shown.entries_in(name, place):
            own.local[entry] = None
            own.rules.append(f"from {entry} lookup {far.table} priority 200")
            space.route(DELIVER, entry, near)
        network = self.estate.subnets[place].network
        space.from_wire(near, near.table)
        for stated in self.estate.subnets.values():
            for prefix in stated.prefixes if stated.network == network else ():
                space.route(near.table, prefix, self.within(space, network))

    def _make_known(self, name: str, place: str, shown: Prefix | Address) -> None:
        """What an exit in a subnet shows finds it inside its network; a public address whatever a table says."""
        network = self.estate.subnets[place].network
        own, there = self.at_exit[name, place], self._inside[self.subnet(place).name, self.network(network).name]
        self.subnet(place).route(DELIVER, shown, own)
        far = next(wire for wire in self.network(network).wires if wire.name == there.peer)
        self.network(network).route(ROWS, shown, far)
        if shown in self.shown.pools:
            return
        for subnet, stated in self.estate.subnets.items():
            if stated.network == network:
                space = self.subnet(subnet)
                space.route(KNOWN, shown, own if subnet == place else self.within(space, network))

    # Hosts, and what is reached

    def _stand_hosts(self) -> None:
        """Those who send; and those of the estate who are sent to, apart from these."""
        for try_ in self.tries:
            if try_.is_from_host:
                self._host(try_.space, try_.sender)
            else:
                self.lab.space(try_.space).local[try_.sender] = None
        hosts = [space for name, space in self.lab.spaces.items() if name.startswith("hosts ")]
        held = {address for space in hosts for address in space.local}
        for try_ in self.tries:
            if try_.target in self.shown.entries or try_.target in held:
                continue
            for subnet in self.estate.subnets_at(try_.target):
                owners = [name for name, each in self.estate.workloads.items() if subnet in each.subnets]
                workload = owners[0] if len(owners) == 1 else ""
                if try_.workload in owners and try_.space != client_at(try_.workload, subnet):
                    workload = try_.workload
                self._host(f"reached {workload} in {subnet}", try_.target)

    def _host(self, space_name: str, address: Address) -> None:
        """An address in a space of hosts: `hosts WORKLOAD in SUBNET` who send, `reached ...` who do not."""
        words, subnet = space_name.rsplit(" in ", 1)
        workload = self.estate.workloads.get(words.partition(" ")[2])
        is_new = space_name not in self.lab.spaces
        space = self.lab.space(space_name)
        if is_new:
            space.forwards = False
            near, far = self.lab.wire(self.subnet(subnet), space)
            self.edges[subnet].inner.append(near)
            space.default(ROWS, far)
            space.looks_up(ROWS)
            chains, out, into = self.rules.filters(workload.filters if workload else {}, "own")
            parts = [*chains, hook("o", "output", out), hook("i", "input", into)]
            space.statements.append(table("inet", "own", parts))
        if address not in space.local:
            space.local[address] = None
            near = next(one for one in self.edges[subnet].inner if one.peer == space.wires[0].name)
            self.subnet(subnet).route(DELIVER, address, near)
        if workload is not None and workload.public_address and address.version == 4:
            self.shown.public(address)
