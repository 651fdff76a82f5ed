"""The walk from a subnet to an address, exit by exit, to its verdict."""

from dataclasses import dataclass, field
from enum import Enum

from fenrask.estate import Estate, ExitModel, Onward, Origin
from fenrask.prefixes import Address, fewest_prefixes
from fenrask.routing.tables import LOCAL, Routes, TableRoute

__all__ = ["Hop", "Packet", "Source", "Verdict", "Walk", "walk"]


class Verdict(Enum):
    """How a walk ends."""

    ARRIVES = "arrives"
    NO_ROUTE = "no route"
    BLACK_HOLE = "black hole"
    LOOP = "loop"
    NO_PUBLIC_SOURCE = "no public source"
    WRONG_SERVICE = "not carried"

    @property
    def arrives(self) -> bool:
        return self is Verdict.ARRIVES


@dataclass(frozen=True)
class Source:
    """Whose address a packet carries at some point of its way."""

    kind: str
    """`host` (private), `host-public`, or `exit`."""
    exit: str = ""
    addresses: tuple[Address, ...] = ()

    @property
    def public(self) -> bool:
        return self.kind != "host"

    def __str__(self) -> str:
        if self.kind == "host":
            return "host's private address"
        if self.kind == "host-public":
            return "host's own public address"
        prefixes = (str(prefix).removesuffix("/32") for prefix in fewest_prefixes(self.addresses))
        return ", ".join(prefixes) or f"addresses of {self.exit}"


@dataclass(frozen=True)
class Packet:
    """What is sent: the destination's name (if it has one), the address, and the sending host's source."""

    address: Address
    destination: str | None = None
    public_host: bool = False


@dataclass(frozen=True)
class Hop:
    """One step: in which subnet's table, which route matched, to which exit, and the source afterwards."""

    subnet: str
    route: TableRoute | None
    """None where no table was asked, or where no route matched."""
    exit: str
    source: Source
    from_zone: str | None = None
    to_zone: str | None = None
    by_name: bool = False
    """Whether the exit was found because the destination's name resolves to it."""

    @property
    def crosses_zone(self) -> bool:
        """Whether this step leaves one zone for another (it costs money)."""
        return None not in (self.from_zone, self.to_zone) and self.from_zone != self.to_zone


@dataclass(frozen=True)
class Walk:
    """A whole way: its hops, its verdict, and what the far side sees."""

    subnet: str
    packet: Packet
    verdict: Verdict
    hops: tuple[Hop, ...]
    onward: Onward | None = None
    """Where the last exit let it go; None inside the network, or where it did not arrive."""
    why: str = ""

    @property
    def exits(self) -> tuple[str, ...]:
        """The exits passed, in order, without the local step."""
        return tuple(hop.exit for hop in self.hops if hop.exit not in ("", LOCAL))

    @property
    def source(self) -> Source:
        """What the far side sees."""
        return self.hops[-1].source if self.hops else Source("host")


@dataclass
class _State:
    subnet: str
    zone: str | None
    source: Source
    hops: list[Hop] = field(default_factory=list)


def walk(routes: Routes, subnet: str, packet: Packet) -> Walk:
    """Follow a packet from a subnet until it arrives or is lost.

    Longest prefix first, then origin (RFC 1812); a matched route is final even where its exit is
    gone. An exit that stands in a subnet looks that subnet's table up in turn.
    """
    estate = routes.estate
    start = Source("host-public" if packet.public_host else "host")
    state = _State(subnet, estate.subnets[subnet].zone, start)

    def ended(verdict: Verdict, why: str = "", onward: Onward | None = None) -> Walk:
        return Walk(subnet, packet, verdict, tuple(state.hops), onward, why)

    by_name = _endpoint_by_name(estate, subnet, packet.destination)
    if by_name:
        state.hops.append(_hop(estate, state, None, by_name))
        return ended(Verdict.ARRIVES, onward=Onward.SERVICE)
    while True:
        route = routes.of(state.subnet).match(packet.address)
        if route and route.origin is Origin.LOCAL:
            state.hops.append(Hop(state.subnet, route, LOCAL, state.source, state.zone, None))
            return ended(Verdict.ARRIVES)
        name = route.exit if route else _fallback(estate, state.subnet)
        if not name:
            state.hops.append(Hop(state.subnet, None, "", state.source))
            table = routes.of(state.subnet).name
            return ended(Verdict.NO_ROUTE, f"no route in {table} matches, and nothing is lent")
        if name not in estate.exits:
            state.hops.append(Hop(state.subnet, route, name, state.source))
            return ended(Verdict.BLACK_HOLE, f"{name} does not exist")
        looped = name in [hop.exit for hop in state.hops]
        state.hops.append(_hop(estate, state, route, name))
        if looped:
            table = routes.of(state.subnet).name
            why = f"{name} sends it back to itself by the table {table} of its own subnet {state.subnet}"
            return ended(Verdict.LOOP, why)
        way_out = estate.exits[name]
        if refusal := _refusal(way_out, name, state.source, packet):
            return ended(*refusal)
        if way_out.onward is not Onward.TABLE:
            return ended(Verdict.ARRIVES, onward=way_out.onward)
        state.subnet = way_out.stands_in[0]


def _refusal(way_out: ExitModel, name: str, source: Source, packet: Packet) -> tuple[Verdict, str] | None:
    """Why an exit does not let a packet pass, if it does not."""
    if way_out.needs_public_source and not source.public:
        return Verdict.NO_PUBLIC_SOURCE, f"{name} lets out only public sources"
    if way_out.carries and way_out.carries != packet.destination:
        return Verdict.WRONG_SERVICE, f"{name} leads to {way_out.carries} only"
    return None


def _hop(estate: Estate, state: _State, route: TableRoute | None, name: str) -> Hop:
    """Step to an exit: its zone, and the source as it rewrites it. Moves the state on."""
    way_out = estate.exits[name]
    zones = estate.zones_of(way_out)
    zone = state.zone if not zones or state.zone in zones else zones[0]
    if way_out.translates:
        state.source = Source("exit", name, way_out.listed_addresses)
    hop = Hop(state.subnet, route, name, state.source, state.zone, zone, way_out.found_by_name)
    state.zone = zone
    return hop


def _endpoint_by_name(estate: Estate, subnet: str, destination: str | None) -> str | None:
    """The endpoint that the destination's name resolves to in the subnet's network."""
    network = estate.subnets[subnet].network
    return next(
        (
            name
            for name, way_out in estate.exits.items()
            if way_out.found_by_name
            and way_out.carries == destination
            and estate.network_of(way_out) == network
        ),
        None,
    )


def _fallback(estate: Estate, subnet: str) -> str | None:
    return estate.fallback_of.get(estate.subnets[subnet].network)
