"""What is walked: packets, their sources, the hops they take, the verdict they meet."""

from dataclasses import dataclass
from enum import Enum
from functools import cached_property

from fenrask.estate import Estate, Onward
from fenrask.prefixes import Address, Prefix, fewest_prefixes
from fenrask.routing.tables import LOCAL, TableRoute

__all__ = ["Hop", "Packet", "Source", "Trace", "Verdict", "first_source"]


class Verdict(Enum):
    """How a walk ends."""

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


@dataclass(frozen=True)
class Source:
    """Whose address a packet carries at some point of its way."""

    kind: str
    """`host` (private), `host-public`, or `exit`."""
    exit: str = ""
    addresses: tuple[Address, ...] = ()
    """The public addresses that an exit lists."""
    prefix: Prefix | None = None
    """The private prefix that it lies in: the host's subnet, or an exit's pool."""
    network: str | None = None
    """The network that it belongs to."""

    @property
    def public(self) -> bool:
        return self.kind == "host-public" or (self.kind == "exit" and self.prefix is None)

    def __str__(self) -> str:
        if self.kind == "host":
            return "host's private address"
        if self.kind == "host-public":
            return "host's own public address"
        if self.prefix is not None:
            return f"{self.exit}'s pool {self.prefix}"
        prefixes = (str(prefix).removesuffix("/32") for prefix in fewest_prefixes(self.addresses))
        return ", ".join(prefixes) or f"addresses of {self.exit}"


@dataclass(frozen=True)
class Packet:
    """What is sent: the destination's name (if it has one), the address, and whether the host is public."""

    address: Address
    destination: str | None = None
    public_host: bool = False


@dataclass(frozen=True)
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
    """The peering that was crossed to reach the exit, if one was."""
    rule: str = ""
    """The rule by which the exit let it pass, or did not."""

    @property
    def crosses_zone(self) -> bool:
        """Whether this step leaves one zone for another (it costs money)."""
        return None not in (self.from_zone, self.to_zone) and self.from_zone != self.to_zone


@dataclass(frozen=True)
class Trace:
    """A whole way there, and back: its hops, its verdict, and what the far side sees."""

    subnet: str
    packet: Packet
    verdict: Verdict
    hops: tuple[Hop, ...]
    onward: Onward | None = None
    """Where the last exit let it go; None inside the network, or where it did not arrive."""
    why: str = ""
    back: tuple[Hop, ...] = ()
    """The steps of the answer inside the estate that an exit or a table decides."""

    @cached_property
    def exits(self) -> tuple[str, ...]:
        """The exits passed, in order, without the local step."""
        return tuple(hop.exit for hop in self.hops if hop.exit not in ("", LOCAL))

    @property
    def source(self) -> Source:
        """What the far side sees."""
        return self.hops[-1].source if self.hops else Source("host")


def first_source(estate: Estate, trace: Trace) -> Source:
    """The source with which a packet leaves its host, before any exit rewrites it."""
    first = trace.hops[0].source if trace.hops else Source("host")
    if first.kind != "exit":
        return first
    subnet = estate.subnets[trace.subnet]
    wants_v6 = subnet.prefix.version != trace.packet.address.version and subnet.prefix_v6 is not None
    return Source("host", prefix=subnet.prefix_v6 if wants_v6 else subnet.prefix, network=subnet.network)
