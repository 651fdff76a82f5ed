"""What is traced: packets, their sources, the hops they take, the verdict they meet, and which packets share it."""

from dataclasses import dataclass, replace
from enum import Enum
from fractions import Fraction
from functools import cached_property
from typing import Literal, NamedTuple

from fenrask.estate import Onward
from fenrask.estate.suggestions import some
from fenrask.prefixes import Address, Block, Prefix, fewest_prefixes, is_public, parse_address, usable
from fenrask.routing.tables import LOCAL, TableRoute

__all__ = ["UNKNOWN", "Hop", "Inward", "Packet", "Portion", "Protocol", "Source", "Trace", "Transport", "Verdict"]

UNKNOWN = parse_address("0.0.0.0")
"""Stands for an address that is not known yet; no route but a default holds it."""


class Verdict(Enum):
    """How a trace ends."""

    ARRIVES = "arrives"
    NO_ROUTE = "no route"
    BLACK_HOLE = "black hole"
    LOOP = "loop"
    DENIED = "denied"
    NO_PUBLIC_SOURCE = "no public source"
    NOT_CARRIED = "not carried"
    PRIVATE_DESTINATION = "private destination"
    NO_HOST = "address in no subnet"
    FAMILY_NOT_CARRIED = "address family not carried"
    PROTOCOL_NOT_TRANSLATED = "protocol not translated"
    UNRESOLVED = "unresolved name"
    NO_RETURN = "no return"
    OTHER_RETURN = "asymmetric return"
    REPLY_DENIED = "reply denied"

    @property
    def arrives(self) -> bool:
        return self is Verdict.ARRIVES

    @property
    def gets_there(self) -> bool:
        """Whether what is sent reaches the destination, be it that its reply is lost."""
        return self in (Verdict.ARRIVES, Verdict.NO_RETURN, Verdict.OTHER_RETURN, Verdict.REPLY_DENIED)


@dataclass(frozen=True, slots=True)
class Source:
    """Whose address a packet carries at some point of its path."""

    kind: str
    """`host` (private), `host-public`, `exit`, or `remote` where the other end opens the connection."""
    exit: str = ""
    addresses: tuple[Address, ...] = ()
    """The public addresses that an exit lists."""
    prefix: Prefix | None = None
    """The prefix that it lies in: the host's subnet, or an exit's private pool."""
    network: str | None = None
    """The network that it belongs to."""
    address: Address | None = None
    """The address itself; None for one that an exit is yet to get."""
    may_be_public: bool = False
    """Whether an internet exit gives it a public address of its own."""
    toward: str = ""
    """The destination that sees addresses of its own of the exit; empty for those that others see too."""

    @property
    def public(self) -> bool:
        if self.kind == "remote":
            return self.address is not None and is_public(self.address)
        return self.kind == "host-public" or self.may_be_public or (self.kind == "exit" and self.prefix is None)

    def __str__(self) -> str:
        if self.kind == "remote":
            return f"{self.exit}'s own private address" if self.exit else "sender's own address"
        if self.kind == "host":
            return "host's private address"
        if self.kind == "host-public":
            return "host's own public address"
        if self.prefix is not None:
            return f"{self.exit}'s pool {self.prefix}"
        prefixes = (str(prefix).removesuffix("/32") for prefix in fewest_prefixes(self.addresses))
        own = f" for {self.toward}" if self.toward else ""
        return ", ".join(prefixes) or f"addresses of {self.exit}{own}"


Protocol = Literal["tcp", "udp"]


class Transport(NamedTuple):
    """What a connection is asked for at: the port, and the protocol."""

    port: int
    protocol: Protocol


@dataclass(frozen=True)
class Packet:
    """What is sent: the destination's name (if it has one), the address, the host, and the name that it asked for."""

    address: Address
    destination: str | None = None
    public_host: bool = False
    host: Address | None = None
    """The address of the sending host; default: the first usable one of its subnet."""
    names: tuple[str, ...] | None = None
    """The name asked for, or several that no rule tells apart; default: all of the destination."""
    transport: Transport | None = None
    """Default: that of the destination."""


@dataclass(frozen=True, slots=True)
class Hop:
    """One step: in which place's table, which route matched, to which exit, and the source afterwards."""

    subnet: str
    """The subnet, or the hub, whose table was asked."""
    route: TableRoute | None
    """None where no table was asked, or where no route matched."""
    exit: str
    source: Source
    from_zone: str | None = None
    to_zone: str | None = None
    by_name: bool = False
    """Whether the exit was found because of the destination's name."""
    via: str = ""
    """The peering that was crossed to reach the exit; of a reply, the line that it came in by."""
    rule: str = ""
    """The rule by which the exit let it pass, or did not."""

    def of_origin(self, origin: Source) -> "Hop":
        """The same step of packets that leave their host as `origin`."""
        if self.source.exit or (self.source.prefix, self.source.address) == (origin.prefix, origin.address):
            return self
        return replace(self, source=replace(origin, kind=self.source.kind))

    @property
    def crosses_zone(self) -> bool:
        """Whether this step leaves one zone for another (it costs money)."""
        return None not in (self.from_zone, self.to_zone) and self.from_zone != self.to_zone


@dataclass(frozen=True)
class Portion:
    """Which packets from a subnet to a destination share one trace: those of these hosts to these addresses.

    hosts: the share of the subnet's hosts; reach: the share of the destination's addresses and names. A block list
    is empty where addresses are not known.
    """

    sources: tuple[Block, ...] = ()
    hosts: Fraction = Fraction(1)
    targets: tuple[Block, ...] = ()
    reach: Fraction = Fraction(1)
    names: tuple[str, ...] = ()
    """The names that these packets ask for; empty for all names equally."""
    addresses: Fraction = Fraction(1)
    """The share of the destination's addresses of this IP version."""
    family: int | None = None
    """The IP version, where both ends have both."""
    way: str = ""
    """How they come in, in words, where others come in another way."""
    lost_before: tuple[str, ...] = ()
    """Why what these hosts asked for before, by another IP version, did not arrive."""

    @property
    def is_all(self) -> bool:
        """Whether these are all packets from the subnet to the destination."""
        return self.hosts == 1 and self.reach == 1 and self.family is None and not self.way


@dataclass(frozen=True)
class Inward:
    """What is known of a path whose connections the other end opens, beside its hops: these begin outside."""

    origin: str
    """Who opens them, as flows state it."""
    shown: str
    """The same in a sentence."""
    port: int
    """The port of the hosts."""
    sender: str = ""
    """The subnet that they come from, where it is one of the estate."""
    ingress: str = ""
    """The exit by which they enter; empty where they enter by none."""
    published_at: str = ""
    """The exit that forwards them to the hosts; empty where they are sent to a host's own address."""
    as_: str = ""
    """The name of the published port."""
    published_port: int = 0
    entry: Address | None = None
    """The address that is sent to as far as that exit, inside the network."""


@dataclass(frozen=True, eq=False)
class Trace:
    """A whole path there, and back: its hops, its verdict, and what the remote end sees.

    Of connections that the other end opens, the hops begin outside, and the packet is addressed to the host.
    """

    subnet: str
    packet: Packet
    verdict: Verdict
    hops: tuple[Hop, ...]
    origin: Source
    """The source with which the packet leaves its host."""
    onward: Onward | None = None
    """Where the last exit let it go; None inside the network, or where it did not arrive."""
    reason: str = ""
    """Why it ends so, with `{to}` and `{from}` in the place of the packet's two addresses."""
    back: tuple[Hop, ...] = ()
    """The steps of the reply inside the estate that an exit or a table decides."""
    there: str = ""
    """The subnet of the estate that it is delivered in; empty beyond the estate, or where it does not get so far."""
    portion: Portion = Portion()
    inward: Inward | None = None
    """None where a host opens the connections."""

    @cached_property
    def exits(self) -> tuple[str, ...]:
        """The exits passed, in order, without the local step."""
        return tuple(hop.exit for hop in self.hops if hop.exit not in ("", LOCAL))

    @property
    def why(self) -> str:
        """Why it ends so; empty where it arrives."""
        if "{" not in self.reason:
            return self.reason
        return self.reason.replace("{to}", str(self.packet.address)).replace("{from}", self._from)

    @property
    def boundary(self) -> str:
        """The exit by which it leaves the estate, or enters it; empty for none."""
        if self.inward is not None:
            return self.inward.ingress
        return self.exits[-1] if self.exits else ""

    @property
    def _from(self) -> str:
        """The hosts that it is from, as text: their subnet's prefix, or a part of it."""
        blocks = self.portion.sources
        if self.inward is not None:
            return self.inward.shown if self.portion.hosts == 1 else some(map(str, blocks))
        if self.portion.hosts == 1 and sum(block.size for block in blocks) != 1:
            return str(self.origin.prefix)
        return some(map(str, self._whole_ranges(blocks)))

    def _whole_ranges(self, blocks: tuple[Block, ...]) -> list[Block]:
        """Ranges of hosts with the addresses at their subnet's ends that no host has: 10.0.0.0/25, not 10.0.0.1-127."""
        prefix = self.origin.prefix
        if prefix is None:
            return [*blocks]
        whole, hosts = Block.of(prefix), usable(prefix)
        return [
            Block(
                block.version,
                whole.first if block.first == hosts.first and block.size > 1 else block.first,
                whole.last if block.last == hosts.last and block.size > 1 else block.last,
            )
            for block in blocks
        ]

    @property
    def part(self) -> str:
        """Which packets these are, in words, where they are not all: addresses, names, hosts, IP version."""
        portion = self.portion
        if portion.is_all:
            return ""
        words = []
        if portion.targets and portion.addresses != 1:
            words.append(f"to {some(map(str, portion.targets))}")
        if portion.names:
            words.append(f"asking for {some(portion.names)}")
        if portion.hosts != 1:
            words.append(f"from {self._from}")
        if portion.family is not None:
            before = f", as {some(portion.lost_before)}" if portion.lost_before else ""
            words.append(f"over IPv{portion.family}{before}")
        if portion.way:
            words.append(portion.way)
        return ", ".join(words)

    @property
    def source(self) -> Source:
        """What the remote end sees."""
        return self.hops[-1].source if self.hops else Source("host")

    def of(
        self, subnet: str, packet: Packet, origin: Source, portion: Portion, first: TableRoute | None = None
    ) -> "Trace":
        """The same trace of other packets of its classes: from another subnet, or to another address.

        first: the route that the table of that subnet has for them.
        """

        if subnet == self.subnet and packet == self.packet:
            return replace(self, portion=portion)
        begun = tuple(replace(hop.of_origin(origin), subnet=subnet, route=first) for hop in self.hops[:1])
        hops = tuple(hop.of_origin(origin) for hop in self.hops[1:])
        back = tuple(hop.of_origin(origin) for hop in self.back)
        return Trace(
            subnet, packet, self.verdict, begun + hops, origin, self.onward, self.reason, back, self.there, portion
        )  # fmt: skip
