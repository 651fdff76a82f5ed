"""What subnets and exits let pass, and what exits rewrite, as rules of the spaces that they are."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property
from ipaddress import ip_address

from fenrask.estate import ExitModel, Onward
from fenrask.prefixes import PRIVATE, parse_prefix
from fenrask.rehearsal.attempts import AT_ONCE, Try
from fenrask.rehearsal.laboratory import Space, Wire
from fenrask.rehearsal.places import DELIVER, Places
from fenrask.rehearsal.relays import NO_ADDRESS
from fenrask.rehearsal.rules import MARKS, among, chain, hook, mark_of, marking, source_map, table
from fenrask.rehearsal.ways import Ways

__all__ = ["ExitRules", "Marked"]

_FAMILIES = {4: "ipv4", 6: "ipv6"}
_FIRST_PACKET = "tcp flags & (fin | syn | rst | ack) == syn"
_MOST_SHOWN = 256
"""Addresses of a pool that are shown."""


@dataclass(frozen=True)
class Marked:
    """A set that holds the marks of some of the tries: those to which a rule applies by a name or a policy."""

    space: str
    table: str
    name: str
    holds: Callable[[Try], bool]


class ExitRules:
    """The rules of all subnets and exits; `marked` says which sets are to be filled for each try."""

    def __init__(self, places: Places, ways: Ways) -> None:
        self.places, self.ways = places, ways
        self.estate, self.lab, self.shown = places.estate, places.lab, places.shown
        self.behaviour = places.described.catalogue.behaviour
        self.marked: list[Marked] = []
        for space in self.lab.spaces.values():
            if space.is_exit or space.local:
                self._note(space)
        for name in self.estate.subnets:
            self._filter_subnet(name)
        for name, exit_ in self.estate.exits.items():
            self._judge(name, exit_)
            self._publish(name, exit_)
            self._translate(name, exit_)

    def _filter_subnet(self, name: str) -> None:
        """Filters of what leaves a subnet and enters it; what stays in it meets none."""
        stated, space, edges = self.estate.subnets[name], self.places.subnet(name), self.places.edges[name]
        if not (stated.filters and edges.inner):
            return
        chains, out, into = self.places.rules.filters(stated.filters, "own")
        inside = self.places.within(space, stated.network)
        assert inside is not None
        stays = [f"oifname {inside.name} {among('daddr', [one], one.version)} return" for one in stated.prefixes]
        inner, outer = _names(edges.inner), _names(edges.outer)
        jumps = [
            f"iifname {{ {inner} }} oifname {{ {outer} }} jump leaving",
            f"iifname {{ {outer} }} oifname {{ {inner} }} jump entering",
        ]
        parts = [*chains, chain("leaving", [*stays, *out]), chain("entering", into)]
        space.statements.append(table("inet", "own", [*parts, hook("f", "forward", jumps)]))

    @staticmethod
    def _note(space: Space) -> None:
        """A space notes what enters it: first packets alone, since the kernel answers some later ones in kind."""
        noted = [
            f"meta mark {mark_of(1)}-{mark_of(AT_ONCE)} {one} add @seen {{ meta mark }}"
            for one in (_FIRST_PACKET, "meta l4proto udp")
        ]
        parts = [f"set seen {{ {MARKS} }}", hook("p", "prerouting", [*marking(AT_ONCE), *noted], "filter", -300)]
        space.statements.append(table("inet", "seen", parts))
        space.notes = True

    def _judge(self, name: str, exit_: ExitModel) -> None:
        """What an exit lets pass: what it can carry, what has state, what its rules, filters and policy allow."""
        space, sets, chains, hooks = self.places.exit(name), list[str](), list[str](), list[str]()
        lines = [*self._carried(name, exit_)]
        if exit_.keeps_state:
            lines += ["ct state invalid drop", "ct state established,related accept"]
            lines += [f"udp sport {{ {self._asked_by_udp} }} drop"] if self._asked_by_udp else []
        asked: dict[int, str] = {}
        for number, rule in enumerate(exit_.rules_in_order):
            if rule.names:
                asked[number] = f"asked{number}"
                sets.append(self._set(space, asked[number], _asks(tuple(rule.names))))
        decisions = self.places.rules.decisions
        lines += decisions(exit_.rules_in_order, exit_.lets_by_default, lambda number: asked.get(number, ""))
        if exit_.own_filters:
            chains, out, into = self.places.rules.filters(exit_.own_filters, "filter")
            lines += into
            hooks.append(hook("o", "output", out))
        if (allowed := exit_.lets_in) is not None:
            sets.append(self._set(space, "clients", lambda try_: try_.workload in allowed))
            lines.insert(0, "meta l4proto { tcp, udp } ct state new jump listed")
            chains.append(chain("listed", ["meta mark @clients return", "drop"]))
        if exit_.asked_at is not None or exit_.maps_ipv6:
            # What it opens itself is judged as what others send through it.
            opened = [one for one in self._carried(name, exit_) if not one.startswith("iifname")]
            answers_v6 = exit_.maps_ipv6
            hooks.append(hook("o", "output", [one for one in opened if not (answers_v6 and "6 " in one)]))
        where = "forward"
        if exit_.onward is Onward.SERVICE:
            where = "input"
            # What hosts send back to a service that asked them is no request of theirs.
            hooks.append(hook("b", "forward", self._carried(name, exit_)))
        space.statements.append(table("inet", "own", [*sets, *chains, hook("f", where, lines), *hooks]))

    def _set(self, space: Space, name: str, holds: Callable[[Try], bool]) -> str:
        """A set of the marks of the tries to which something applies."""
        self.marked.append(Marked(space.name, "own", name, holds))
        return f"set {name} {{ {MARKS} }}"

    def _carried(self, name: str, exit_: ExitModel) -> Iterator[str]:
        """What an exit does not carry, whatever its rules say."""
        if exit_.fault or not exit_.forwards:
            yield "drop"
        for version in {4, 6} - exit_.families:
            yield f"meta nfproto ipv{version} drop"
        if exit_.onward is Onward.SERVICE and any(self._is_closed(name, exit_, to) for to in exit_.carries or ()):
            yield "drop"
        if exit_.onward is Onward.JOINED and not exit_.takes_forwarded:
            yield from self._own_sources(name)
        outward = self._outward(name)
        if outward and exit_.onward is Onward.THIRD_PARTY:
            yield from self._over_line(exit_, outward)
        elif outward:
            yield from self._to_internet(exit_, outward)

    def _over_line(self, exit_: ExitModel, outward: str) -> Iterator[str]:
        """Out to what the third party announces; in to the ports that are open."""
        for version, family in _FAMILIES.items():
            yield f"oifname {outward} meta nfproto {family} {among('daddr', exit_.announced, version, but=True)} drop"
        if exit_.lets_in_ports is not None:
            ports = ", ".join(map(str, exit_.lets_in_ports))
            but = f"th dport != {{ {ports} }} " if ports else ""
            answers = f"udp sport != {{ {self._asked_by_udp} }} " if self._asked_by_udp else ""
            yield f"iifname {outward} {_FIRST_PACKET} {but}drop"
            yield f"iifname {outward} meta l4proto udp ct state new {but}{answers}drop"

    def _to_internet(self, exit_: ExitModel, outward: str) -> Iterator[str]:
        """Out to public addresses, from public ones where that is needed; in by what keeps state only replies."""
        if exit_.keeps_state and not exit_.published:
            yield f"iifname {outward} ct state new drop"
        for version in _FAMILIES:
            yield f"oifname {outward} {among('daddr', PRIVATE, version)} drop"
        if exit_.needs_public_source:
            owned = among("saddr", [*self.shown.owner, *self.shown.public_of], 4, but=True)
            yield f"oifname {outward} meta nfproto ipv4 {owned} drop"
            yield f"oifname {outward} {among('saddr', PRIVATE, 6)} drop"

    @cached_property
    def _asked_by_udp(self) -> str:
        """The ports that datagrams are sent to: what comes from one is an answer, and is nothing else's beginning."""
        return ", ".join(map(str, sorted({one.port for one in self.places.tries if one.protocol == "udp"})))

    def _outward(self, name: str) -> str:
        """The interface of an exit to the internet, or to a third party; empty for none."""
        spaces = self.lab.spaces.items()
        outside = {
            wire.peer for key, one in spaces if key == "internet" or key.startswith("party ") for wire in one.wires
        }
        return next((wire.name for wire in self.places.exit(name).wires if wire.name in outside), "")

    def _is_closed(self, name: str, exit_: ExitModel, destination: str) -> bool:
        """Whether an endpoint does not reach a service: of another region, or not let in by it."""
        stated, own = self.estate.destinations[destination], self.estate.region_of(exit_)
        far = bool(own and stated.region and own != stated.region)
        return far or (stated.only_through is not None and name not in stated.only_through)

    def _own_sources(self, name: str) -> Iterator[str]:
        """A peering that takes only packets whose source lies in the network that they come from."""
        for network, wires in self.ways.sides.get(name, {}).items():
            own = [*self.estate.networks[network].prefixes, *self.shown.owned_in(network)]
            own += self.shown.pools_in(network)
            for version, family in _FAMILIES.items():
                but = among("saddr", own, version, but=True)
                yield f"iifname {{ {_names(wires)} }} meta nfproto {family} {but} drop"

    # What is rewritten

    def _translate(self, name: str, exit_: ExitModel) -> None:
        """Sources of the estate on their way out, and public hosts' addresses at the internet exit."""
        space = self.places.exit(name)
        if exit_.translates:
            version = exit_.pool.version if exit_.pool is not None else 4
            inside = [one for network in self.estate.networks.values() for one in network.prefixes]
            inside += [parse_prefix(str(NO_ADDRESS))] if exit_.maps_ipv6 else []
            own = among("saddr", [*inside, *self.shown.owner, *self.shown.pools], version)
            lines = [f"{own} {one}" for one in self._rewriting(name, exit_, version)]
            family = "ip" if version == 4 else "ip6"
            space.statements.append(table(family, "translate", [hook("s", "postrouting", lines, "nat", 100)]))
        elif exit_.takes_public_sources and self.shown.public_of:
            there = ", ".join(f"{own} : {public}" for own, public in self.shown.public_of.items())
            back = ", ".join(f"{public} : {own}" for own, public in self.shown.public_of.items())
            outward = self._outward(name)
            snat = f"oifname {outward} snat to ip saddr map {{ {there} }}"
            dnat = f"iifname {outward} dnat to ip daddr map {{ {back} }}"
            hooks = [hook("s", "postrouting", [snat], "nat", 100), hook("d", "prerouting", [dnat], "nat", -100)]
            # It keeps no state: what answers a request that came another way has its source rewritten, too.
            answers = f"oifname {outward} ct state invalid ip saddr set ip saddr map {{ {there} }}"
            hooks.append(hook("a", "postrouting", [answers], "filter", 110))
            space.statements.append(table("ip", "translate", hooks))

    def _rewriting(self, name: str, exit_: ExitModel, version: int) -> Iterator[str]:
        """The rules by which it rewrites, toward public and private addresses apart."""
        for but, example in ((False, "10.0.0.1"), (True, "192.0.2.1")):
            condition = among("daddr", PRIVATE, version, but=but)
            if exit_.pool is not None:
                number = min(exit_.pool.num_addresses, _MOST_SHOWN)
                yield f"{condition} snat {source_map([exit_.pool[place] for place in range(number)])}"
            elif exit_.rewrites(ip_address(example)):
                for toward in sorted(self.shown.toward[name], reverse=True):
                    there = among("daddr", self.estate.named_addresses.prefixes_of(toward), version) if toward else ""
                    port = self.estate.destinations[toward].port if toward else None
                    with_port = f"th dport {port} " if port is not None else ""
                    if there or not toward:
                        yield f"{condition} {there} {with_port}snat {source_map(self.shown.toward[name][toward])}"

    def _publish(self, name: str, exit_: ExitModel) -> None:
        """Ports at its addresses that an exit forwards to hosts; these may see the exit's own address."""
        forwarded, own_source = [], []
        for as_, published in exit_.published.items():
            tried = (each for each in self.places.tries if (each.publisher, each.published) == (name, as_))
            hosts = [*dict.fromkeys(each.target for each in tried if each.target.version == 4)]
            if not hosts or not (exit_.is_machine or self.behaviour.gateways_publish):
                continue
            cells = ", ".join(f"{number} : {host} . {published.host_port}" for number, host in enumerate(hosts))
            to = f"numgen random mod {len(hosts)} map {{ {cells} }}"
            at = self.shown.aims[name, as_]
            forwarded.append(f"ip daddr {at} {published.protocol} dport {published.port} dnat ip to {to}")
            if published.rewrites_source and exit_.in_subnets:
                there = f"ip daddr {{ {', '.join(map(str, hosts))} }} {published.protocol} dport {published.host_port}"
                own = self.shown.private(name)
                place = exit_.in_subnets[0]
                self.places.subnet(place).route(DELIVER, own, self.places.at_exit[name, place])
                own_source.append(f"ct status dnat {there} snat to {own}")
        if forwarded:
            hooks = [hook("d", "prerouting", forwarded, "nat", -100)]
            hooks.append(hook("s", "postrouting", [*own_source, "ct status dnat accept"], "nat", 90))
            self.places.exit(name).statements.append(table("ip", "publish", hooks))


def _names(wires: list[Wire]) -> str:
    return ", ".join(one.name for one in wires)


def _asks(patterns: tuple[str, ...]) -> Callable[[Try], bool]:
    """Whether the name that is asked for is one of those, `*.` standing for all below one."""

    def asks(try_: Try) -> bool:
        below = (each[1:] for each in patterns if each.startswith("*."))
        return bool(try_.name) and (try_.name in patterns or try_.name.endswith(tuple(below)))

    return asks
