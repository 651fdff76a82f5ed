"""How translators hand out ports (RFC 4787): one model for each port assignment."""

from functools import reduce
from operator import or_
from typing import Annotated, Any, Literal, Self

from pydantic import Discriminator, Field, GetCoreSchemaHandler, Tag, model_validator
from pydantic_core import CoreSchema

from fenrask.estate.flows import Ending
from fenrask.estate.values import Share, Strict, unfit

__all__ = [
    "PORTS",
    "AnyPorts",
    "EndedReuse",
    "GrowingBlock",
    "HostBlock",
    "NodeShare",
    "Ports",
    "SharedOnce",
    "SharedPerDestination",
]

AddressChoice = Literal["any-free", "by-host", "by-host-and-destination", "in-turn"]
PortCount = Annotated[int, Field(strict=True, ge=1, le=65536)]


def _share_shape(value: Any) -> str:
    return "endings" if isinstance(value, dict) else "share"


EarlyReuse = Annotated[
    Annotated[Share, Tag("share")] | Annotated[dict[Ending, Share], Tag("endings")], Discriminator(_share_shape)
]


def _tries_shape(value: Any) -> str:
    return "rounds" if isinstance(value, list | tuple) else "tries"


SearchTries = Annotated[
    Annotated[PortCount, Tag("tries")] | Annotated[tuple[PortCount, ...], Field(min_length=1), Tag("rounds")],
    Discriminator(_tries_shape),
]


class EndedReuse(Strict):
    """How a search takes ports that have ended and are not yet free: the fuller the range, the more of them."""

    last_tries: PortCount = Field(description="in this many last tries of each round of the search")
    chance: Share = Field(1.0, description="the chance each time, such as that a sequence number lies ahead")
    endings: tuple[Ending, ...] = Field(("closed",), description="the endings after which it may")


class Ports(Strict):
    """How a translator hands out ports (RFC 4787). TCP and UDP have ports of their own each."""

    assignment: str
    per_address: PortCount = Field(description="ports that one address offers for each transport protocol")
    address_choice: AddressChoice = Field(
        "any-free", description="which address a new connection takes its port from, where there are several"
    )
    search_tries: SearchTries | None = Field(
        None,
        description="ports tried for a new connection before it fails, one after another from any one on; a list: "
        "round by round, each from another one on; default: all",
    )
    ended_reuse: EndedReuse | None = Field(
        None, description="how the search may take a port whose connection has ended, before its time"
    )
    early_reuse_share: EarlyReuse = Field(
        0.0,
        description="share of ended connections whose port is given out again before its time; one number for all "
        "that ended (not the idle ones), or one by ending",
    )
    refusal: Literal["dropped", "answered"] = Field(
        "dropped",
        description="what a sender that finds no port gets: silence, so that it waits and sends again, or an answer",
    )

    @property
    def hashes_hosts(self) -> bool:
        """Whether a hash sends all of a host's connections, toward one destination or all, to one of several places."""
        return self.ties_hosts

    @property
    def ties_hosts(self) -> bool:
        """Whether a host always shows the same address, at least toward one destination."""
        return self.address_choice in ("by-host", "by-host-and-destination")

    @property
    def host_block(self) -> int | None:
        """The ports of the block that each host gets at first; None where ports are shared."""
        return None

    @property
    def largest_block(self) -> int:
        """The most ports of an address that one host has: all of them, where ports are shared."""
        return self.per_address

    @property
    def stated_nodes(self) -> int | None:
        """How many nodes are behind one address, where the offer says; None for as many as the exit has."""
        return None

    def with_nodes(self, nodes: int) -> "Ports":
        """These ports at an exit with this many nodes."""
        return self

    def size_text(self, addresses: int) -> str:
        """What the ports of this many addresses are made of, as a term of an explanation."""
        return f"{addresses:,} {'address' if addresses == 1 else 'addresses'} x {self.per_address:,} ports"

    @property
    def rounds(self) -> tuple[int, ...]:
        """The tries of each round of a limited search; none for one without limit."""
        if self.search_tries is None:
            return ()
        return self.search_tries if isinstance(self.search_tries, tuple) else (self.search_tries,)

    @property
    def tries(self) -> int | None:
        """The tries of all rounds together; None for a search without limit."""
        return sum(self.rounds) or None

    def early_reuse(self, ending: Ending) -> float:
        """The share of connections with this ending whose port is given out again at once."""
        if isinstance(self.early_reuse_share, dict):
            return self.early_reuse_share.get(ending, 0.0)
        return self.early_reuse_share if ending in _ENDED else 0.0


class SharedPerDestination(Ports):
    """One port serves many destination tuples at once: each tuple has all ports of all addresses."""

    assignment: Literal["shared-per-destination"] = Field(description="each port serves any number of destinations")


class SharedOnce(Ports):
    """A port is used once, whatever the destination."""

    assignment: Literal["shared-once"] = Field(description="each port is used once, whatever the destination")


class _Blocks(Ports):
    block: PortCount = Field(description="ports of a host's block; of the first one, where blocks grow")

    @property
    def hashes_hosts(self) -> bool:
        return False

    @property
    def ties_hosts(self) -> bool:
        return True

    @property
    def host_block(self) -> int | None:
        return self.block

    @property
    def largest_block(self) -> int:
        """The most ports that a host's block has."""
        return self.block

    def size_text(self, addresses: int) -> str:
        grown = f" doubling to {self.largest_block:,}" if self.largest_block != self.block else ""
        return f"blocks of {self.block:,}{grown}, {self.per_address // self.block} to an address"

    @model_validator(mode="after")
    def _on_one_address(self) -> Self:
        if self.block > self.per_address:
            raise unfit(f"a block of at most per_address, {self.per_address} ports", "A block lies on one address.")
        return self


class HostBlock(_Blocks):
    """Each host owns a fixed block of ports on one address."""

    assignment: Literal["host-block"] = Field(description="each host has a fixed block of ports")


class GrowingBlock(_Blocks):
    """A host's block doubles as it fills, and shrinks late."""

    assignment: Literal["growing-block"] = Field(description="each host has a block of ports that doubles as it fills")
    max_block: PortCount = Field(description="the block that a host's grows to at most")

    @property
    def largest_block(self) -> int:
        """The block doubled as often as max_block and an address let it."""
        bound = min(self.max_block, self.per_address)
        return self.block << max(0, (bound // self.block).bit_length() - 1)


class NodeShare(Ports):
    """Nodes behind a hash, each with ports of its own on every address."""

    assignment: Literal["node-share"] = Field(description="each node has its own part of an address's ports")
    nodes: Annotated[int, Field(strict=True, ge=1)] | None = Field(
        None, description="nodes behind one address; default: the exit's nodes"
    )
    per_node: PortCount | None = Field(
        None, description="ports of one node on one address; default: an even part of per_address"
    )
    spread: Literal["connection", "host"] = Field(
        "connection", description="what the hash sends to one node, each connection or each host"
    )

    @property
    def hashes_hosts(self) -> bool:
        return self.ties_hosts or self.spread == "host"

    @property
    def stated_nodes(self) -> int | None:
        return self.nodes

    def with_nodes(self, nodes: int) -> Ports:
        return self if self.nodes else self.model_copy(update={"nodes": nodes})

    @property
    def of_a_node(self) -> int:
        """Ports of one node on one address."""
        return self.per_node or self.per_address // (self.nodes or 1)

    def size_text(self, addresses: int) -> str:
        return f"{addresses} addresses x {self.nodes or 1} nodes x {self.of_a_node:,} ports"

    @model_validator(mode="after")
    def _a_port_for_each(self) -> Self:
        if not self.per_node and (self.nodes or 1) > self.per_address:
            raise unfit("at least one port for each node", "Give per_node, or fewer nodes.")
        return self


PORTS: dict[str, type[Ports]] = {
    "shared-per-destination": SharedPerDestination,
    "shared-once": SharedOnce,
    "host-block": HostBlock,
    "growing-block": GrowingBlock,
    "node-share": NodeShare,
}
"""The models by assignment; how each is computed is in `fenrask.capacity.assignments`."""


class _OfAnyAssignment:
    """Validates ports by their `assignment`, among all that are in `PORTS` when a model's validator is built."""

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        models = reduce(or_, PORTS.values())
        return handler.generate_schema(Annotated[models, Field(discriminator="assignment")])


AnyPorts = Annotated[Ports, _OfAnyAssignment()]


_ENDED = ("closed", "reset", "half_closed", "rejected")
