"""Classes of packets: which hosts, addresses and names nothing in an estate tells apart.

Every set of addresses that a route, a list, a rule, a filter, a pool or a subnet names cuts the address families; those
that are members of the same sets are treated the same at every step, so that one stands for all of its class (atomic
predicates: Yang & Lam 2013; header spaces: Kazemian, Varghese & McKeown 2012). Shares are exact, by number of
addresses.
"""

from collections.abc import Container, Hashable, Iterable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property

from fenrask.estate import Destination, Estate, ExitModel, Onward
from fenrask.prefixes import (
    PRIVATE,
    Address,
    Block,
    Partition,
    Piece,
    Prefix,
    covers,
    fewest_prefixes,
    is_public,
    mapped_prefix,
    parse_prefix,
    unmapped,
)
from fenrask.routing.packets import UNKNOWN, Packet
from fenrask.routing.tables import Routes, SubnetTable

__all__ = ["Classes", "IpStack", "Names", "Senders", "Targets"]

_WELL_KNOWN = parse_prefix("64:ff9b::/96")
_UNIQUE_LOCAL = parse_prefix("fc00::/7")


@dataclass(frozen=True)
class Senders:
    """Hosts of a subnet that nothing tells apart: their addresses, and the share of all that they are."""

    blocks: tuple[Block, ...]
    share: Fraction
    kind: int | None = None
    """Their class, by number; None where the subnet has no address of that family."""

    @cached_property
    def address(self) -> Address | None:
        """One of them, which stands for all; None where the subnet has no address of that family."""
        return self.blocks[0].address if self.blocks else None


@dataclass(frozen=True)
class IpStack:
    """What decides which addresses of a destination hosts ask for: their IP versions, and how far their IPv6 goes."""

    versions: frozenset[int]
    is_local_v6: bool = False
    """Whether their IPv6 addresses are unique local ones (RFC 4193)."""


@dataclass(frozen=True)
class Targets:
    """Addresses of a destination that nothing tells apart, and the share that they are of all of their turn."""

    blocks: tuple[Block, ...]
    share: Fraction
    turn: int | None = None
    """When they are asked for, where there are two IP versions: 0 first, 1 what is lost then, and so on."""
    kind: int | None = None
    """Their class, by number, for all but the first table that is asked; None where no address is known."""

    @cached_property
    def address(self) -> Address:
        """One of them, which stands for all."""
        return self.blocks[0].address if self.blocks else UNKNOWN

    @property
    def version(self) -> int:
        """Their IP version."""
        return self.blocks[0].version if self.blocks else 4


@dataclass(frozen=True)
class Names:
    """Names of a destination that nothing tells apart, and the share of all that they are; none for all of them."""

    names: tuple[str, ...]
    share: Fraction


class Classes:
    """The classes of one estate, each worked out when it is first asked for."""

    def __init__(self, routes: Routes) -> None:
        self.routes = routes
        self.estate: Estate = routes.estate
        self._senders: dict[tuple[str | None, str, int], list[Senders]] = {}
        self._targets: dict[tuple[str, IpStack], list[Targets]] = {}
        self._kinds: dict[str | None, Hashable] = {}
        self._defaults: dict[SubnetTable, bool] = {}
        self._judged: dict[str, Hashable] = {}
        self._numbers: dict[Hashable, int] = {}
        self._alike_senders: dict[tuple[str | None, str, bool], int] = {}
        self._alike_targets: dict[tuple[str, IpStack], int] = {}

    @cached_property
    def sources(self) -> Partition:
        """Classes of addresses that packets come from."""
        return Partition(_as_mapped_too(self.estate, self._named_sets))

    @cached_property
    def destinations(self) -> Partition:
        """Classes of addresses that packets go to: subnets deliver, so that each is one by itself."""
        return Partition(_as_mapped_too(self.estate, [*self._named_sets, *_subnets(self.estate)]))

    @cached_property
    def _named_sets(self) -> list[tuple[Prefix, Hashable]]:
        return [*_named_sets(self.routes)]

    @cached_property
    def beyond(self) -> Partition:
        """The same for all that is asked after the first table: fewer, since most tables are asked of hosts alone."""
        estate = self.estate
        asked: set[str | None] = {name for exit_ in estate.exits.values() for name in exit_.tables}
        asked |= {estate.table_of(place) for exit_ in estate.exits.values() for place in exit_.in_subnets}
        return Partition(_as_mapped_too(estate, [*_named_sets(self.routes, asked), *_subnets(estate)]))

    def key(self, subnet: str, packet: Packet, workload: str | None) -> tuple[Hashable, ...]:
        """What is the same for all packets that are treated as this one is, after the first table."""
        filters = self._judged_as(workload)
        return (self.host_kind(subnet, packet), filters, self.target_kind(packet))

    def _judged_as(self, workload: str | None) -> Hashable:
        """What filters of hosts, and policies of endpoints, tell a workload from others by."""
        if workload is None:
            return None
        if workload not in self._judged:
            lists = (exit_.lets_in for exit_ in self.estate.exits.values() if exit_.lets_in is not None)
            own = workload if self.estate.workloads[workload].filters else ""
            self._judged[workload] = (own, tuple(workload in one for one in lists))
        return self._judged[workload]

    def host_kind(self, subnet: str, packet: Packet) -> tuple[Hashable, ...]:
        """What is the same for all hosts that are treated as the sender of a packet is, after the first table."""
        host = None if packet.host is None else (packet.host.version, self.sources.kind_of(packet.host))
        return (self._places[subnet], packet.public_host, host)

    def target_kind(self, packet: Packet) -> tuple[Hashable, ...]:
        """What is the same for all addresses and names that are treated as those of a packet are, after that table."""
        address = packet.address
        kind = (address.version, self.beyond.kind_of(address), address == UNKNOWN)
        return (kind, self._kind(packet.destination), packet.names, packet.transport)

    def senders(self, workload: str | None, subnet: str, version: int) -> list[Senders]:
        """The hosts of a subnet that send to addresses of an IP version, by class; spread over all usable addresses."""
        key = (workload, subnet, version)
        if key not in self._senders:
            own = {prefix.version for prefix in self.estate.subnets[subnet].prefixes}
            # Where a subnet has only IPv6, an IPv4 destination is asked for by a mapped address.
            used = version if version in own else 6
            pieces = self.sources.pieces(self.estate.host_blocks(workload, subnet, used)) if used in own else []
            size = sum(piece.size for piece in pieces)
            found = [Senders(piece.blocks, Fraction(piece.size, size), piece.kind) for piece in pieces]
            self._senders[key] = found or [Senders((), Fraction(1))]
        return self._senders[key]

    def targets(self, to: str, subnet: str) -> list[Targets]:
        """The addresses of a destination that hosts of a subnet ask for, by class.

        Where both have both IP versions, all is asked for by the first turn, and what is lost by the next; where the
        subnet has none of the destination's versions, all count. Inside a prefix that holds subnets only these count:
        hosts are where subnets are. A proxy asks for those of its own IP versions.
        """
        return self.targets_of(to, self._asking(to, subnet))

    def _asking(self, to: str, subnet: str) -> IpStack:
        """By what a destination's addresses are asked for: of the hosts of a subnet, or of the proxy that they ask."""
        exit_ = self.estate.exits.get(self.estate.by_name.get((subnet, to), ""))
        return self.stacks[subnet] if exit_ is None or exit_.asked_at is None else IpStack(exit_.families)

    def targets_of(self, to: str, stack: IpStack) -> list[Targets]:
        """The same for hosts of some IP versions."""
        if (to, stack) not in self._targets:
            prefixes = fewest_prefixes(self.estate.destinations[to].prefixes)
            asked = [one for one in prefixes if one.version in stack.versions] or prefixes
            families = [[one for one in asked if one.version == version] for version in (4, 6)]
            by_turn: dict[int | None, list[Piece]] = {}
            for piece in (piece for some in families for piece in self._pieces(some)):
                turn = _turn(piece.blocks[0].address, stack) if all(families) else None
                by_turn.setdefault(turn, []).append(piece)
            self._targets[to, stack] = [
                Targets(piece.blocks, Fraction(piece.size, size), turn, self._kind_beyond(piece))
                for turn, pieces in sorted(by_turn.items(), key=lambda own: own[0] or 0)
                for size in [sum(piece.size for piece in pieces)]
                for piece in pieces
            ] or [Targets((), Fraction(1))]
        return self._targets[to, stack]

    def _kind_beyond(self, piece: Piece) -> int:
        return self.beyond.kind_of(piece.blocks[0].address)

    def _pieces(self, prefixes: list[Prefix]) -> list[Piece]:
        held = [self.estate.subnets_inside(prefix) for prefix in prefixes]
        blocks = [
            Block.of(one)
            for prefix, inside in zip(prefixes, held, strict=True)
            for one in (fewest_prefixes(inside) if inside else (prefix,))
        ]
        return self.destinations.pieces(blocks)

    def public_is_one(self, subnet: str) -> bool:
        """Whether every public IPv4 address goes one path from a subnet: no route but a default names any of them."""
        return all(map(self._has_defaults_alone, (self.routes.of(subnet), *self._beyond)))

    def _has_defaults_alone(self, table: SubnetTable) -> bool:
        if table not in self._defaults:
            named = (one.prefix for one in table.routes if one.prefix.version == 4 and is_public(one.prefix))
            self._defaults[table] = all(prefix.prefixlen == 0 for prefix in named)
        return self._defaults[table]

    @cached_property
    def _beyond(self) -> list[SubnetTable]:
        """The tables that are asked after a subnet's own: those where exits are, and those of hubs."""
        exits = self.estate.exits.items()
        found = [self.routes.of(place) for _, exit_ in exits for place in exit_.in_subnets[:1]]
        hubs = [(name, exit_) for name, exit_ in exits if exit_.onward is Onward.HUB]
        return found + [self.routes.of(hub, network) for hub, exit_ in hubs for network in (None, *exit_.joins)]

    def ipv6_share(self, workload: str | None) -> Fraction | None:
        """The share of a workload's connections that ask for IPv6 first, where it says so."""
        stated = None if workload is None else self.estate.workloads[workload].ipv6_share
        return None if stated is None else Fraction(str(stated))

    def senders_kind(self, workload: str | None, subnet: str, public_host: bool) -> int:
        """A number for all that tells a workload's hosts in a subnet from others, but for the table of the subnet."""
        asked = (workload, subnet, public_host)
        if asked not in self._alike_senders:
            filters = self._judged_as(workload)
            shares = tuple(
                tuple((one.kind, one.share) for one in self.senders(workload, subnet, version)) for version in (4, 6)
            )
            self._alike_senders[asked] = self._number(
                (self._places[subnet], filters, public_host, shares, self.ipv6_share(workload))
            )
        return self._alike_senders[asked]

    def targets_kind(self, to: str, subnet: str) -> int:
        """A number for all that tells what hosts of a subnet reach in a destination from others, after that table."""
        asked = (to, self._asking(to, subnet))
        if asked not in self._alike_targets:
            shares = tuple((one.version, one.kind, one.share, one.turn) for one in self.targets(to, subnet))
            names = tuple((one.names, one.share) for one in self.names(to))
            self._alike_targets[asked] = self._number((self._kind(to), shares, names))
        return self._alike_targets[asked]

    def _number(self, what: Hashable) -> int:
        return self._numbers.setdefault(what, len(self._numbers))

    @cached_property
    def stacks(self) -> dict[str, IpStack]:
        """What hosts of each subnet ask for addresses by."""
        return {name: _stack(one.prefixes) for name, one in self.estate.subnets.items()}

    def names(self, to: str) -> list[Names]:
        """The names of a destination, by what rules look for; connections ask for each of them equally."""
        stated = self.estate.destinations[to].names
        found: dict[tuple[tuple[str, ...], ...], list[str]] = {}
        for name in stated:
            found.setdefault(tuple(exit_.patterns_of(name) for exit_ in self._naming), []).append(name)
        if len(found) < 2:
            return [Names(stated if any(map(any, found)) else (), Fraction(1))]
        return [Names(tuple(names), Fraction(len(names), len(stated))) for names in found.values()]

    @cached_property
    def _naming(self) -> list[ExitModel]:
        return [exit_ for exit_ in self.estate.exits.values() if exit_.has_rules]

    def _kind(self, to: str | None) -> Hashable:
        """What tells a destination from others beside its addresses: its name where it is asked for, port, protocol."""
        if to not in self._kinds:
            stated = self.estate.destinations.get(to or "")
            known = stated is not None and (to in self._named or not stated.prefixes)
            self._kinds[to] = (to if known else None, *_transport(stated))
        return self._kinds[to]

    @cached_property
    def _named(self) -> frozenset[str]:
        return frozenset(name for exit_ in self.estate.exits.values() for name in exit_.named_destinations)

    @cached_property
    def _places(self) -> dict[str, Hashable]:
        """What tells a subnet's hosts apart beside addresses and table; one with an exit, filter or names is itself."""
        estate = self.estate
        alone = {name for exit_ in estate.exits.values() for name in exit_.in_subnets}
        alone |= {name for name, stated in estate.subnets.items() if stated.filters}
        # Names that resolve in some subnets alone.
        alone |= {name for exit_ in estate.exits.values() for name in exit_.serves_subnets_by_name or ()}
        return {
            name: name
            if name in alone
            else (
                stated.network,
                stated.zone,
                *(one.version for one in stated.prefixes),
            )
            for name, stated in estate.subnets.items()
        }


def _stack(prefixes: Iterable[Prefix]) -> IpStack:
    some = [*prefixes]
    local = any(one.version == 6 and covers(_UNIQUE_LOCAL, one) for one in some)
    return IpStack(frozenset(one.version for one in some), local)


def _turn(target: Address, stack: IpStack) -> int:
    """When a host with both IP versions asks for an address: the order of RFC 6724, section 6, rules 5 and 6.

    IPv6 comes first where both ends have global addresses. A unique local address at either end comes after IPv4: to a
    global one its label is another, and to its like its precedence is lower.
    """
    if target.version == 4:
        return 1
    return 2 if stack.is_local_v6 or target in _UNIQUE_LOCAL else 0


def _transport(stated: Destination | None) -> tuple[Hashable, ...]:
    return (None, "tcp") if stated is None else (stated.port, stated.protocol)


def _named_sets(routes: Routes, tables: Container[str | None] | None = None) -> Iterator[tuple[Prefix, Hashable]]:
    """Every prefix that anything names, with the set that it is part of; the length counts, since the longest wins.

    tables: those whose routes count; default: all.
    """
    estate = routes.estate
    yield from ((prefix, "private") for prefix in PRIVATE)
    for name, network in estate.networks.items():
        yield from ((prefix, ("network", name, prefix.prefixlen)) for prefix in network.prefixes)
    for table in estate.route_tables if tables is None else (one for one in estate.route_tables if one in tables):
        for route in routes.stated(table):
            yield route.prefix, ("route", route.key, route.prefix.prefixlen)
    for name, exit_ in estate.exits.items():
        sets = [*exit_.address_sets, (exit_.pool,) if exit_.pool else ()]
        if exit_.onward is Onward.HUB:
            sets += [exit_.known_of(network) or () for network in exit_.joins]
        for number, prefixes in enumerate(sets):
            yield from ((prefix, ("exit", name, number, prefix.prefixlen)) for prefix in prefixes)
    yield from _judging_sets(estate)


def _judging_sets(estate: Estate) -> Iterator[tuple[Prefix, Hashable]]:
    """The prefixes that filters, rules and services judge packets by."""
    for name in estate.named_addresses.names:
        yield from ((prefix, ("named", name)) for prefix in estate.named_addresses.prefixes_of(name))
    for name, destination in estate.destinations.items():
        if destination.public_access == "listed":
            yield from ((prefix, ("allowed", name)) for prefix in destination.allowed)
    for number, stated in enumerate(estate.filters):
        for place, prefixes in enumerate(stated.address_sets):
            yield from ((prefix, ("filter", number, place)) for prefix in prefixes)


def _subnets(estate: Estate) -> Iterator[tuple[Prefix, Hashable]]:
    for name, subnet in estate.subnets.items():
        yield from ((prefix, ("subnet", name)) for prefix in subnet.prefixes)


def _as_mapped_too(
    estate: Estate, labelled: Iterator[tuple[Prefix, Hashable]] | list[tuple[Prefix, Hashable]]
) -> Iterator[tuple[Prefix, Hashable]]:
    """The same, and where an exit translates IPv6 to IPv4 each prefix in its other form (RFC 6052) beside it."""
    maps = any(exit_.maps_ipv6 for exit_ in estate.exits.values())
    for prefix, label in labelled:
        yield prefix, label
        if maps and (other := _other_form(prefix)) is not None:
            yield other, ("mapped", label)


def _other_form(prefix: Prefix) -> Prefix | None:
    if prefix.version == 4:
        return mapped_prefix(prefix)
    if prefix.prefixlen <= _WELL_KNOWN.prefixlen:
        return parse_prefix("0.0.0.0/0") if covers(prefix, _WELL_KNOWN) else None
    inner = unmapped(prefix.network_address)
    return None if inner is None else parse_prefix(f"{inner}/{prefix.prefixlen - 96}")
