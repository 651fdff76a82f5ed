"""What is sent, and what the plan says of it: packets that it treats the same, and the connections tried for them."""

from dataclasses import dataclass
from typing import NamedTuple

from fenrask.estate import Estate
from fenrask.prefixes import Address
from fenrask.routing import Source, Verdict

__all__ = ["AT_ONCE", "Class", "Planned", "Try", "client_at", "is_service", "party_of", "service_at", "service_of"]

AT_ONCE = 63
"""Tries whose packets can be told apart on their path: by the DS field, whose zero is everybody else's (RFC 2474)."""


class Planned(NamedTuple):
    """What the plan says of the packets of a class: all of it, or one of several paths."""

    verdict: Verdict
    exits: tuple[str, ...]
    """The exits passed, in order."""
    source: Source
    """What the other end sees."""
    why: str

    @property
    def arrives(self) -> bool:
        return self.verdict.arrives


class Try(NamedTuple):
    """One connection that is opened: from whom, to where, and what the packets are known by on their path."""

    space: str
    """The space that it is opened in."""
    sender: Address
    target: Address
    port: int
    protocol: str
    workload: str = ""
    name: str = ""
    """The name that is asked for."""
    source_port: int = 0
    """0 for any."""
    host_port: int = 0
    """The port at which it is received, where an exit forwards it; 0 for `port`."""
    publisher: str = ""
    """The exit whose address it is sent to, in the place of `target`, whom the exit forwards it to."""
    published: str = ""
    """The name of the published port."""

    asked: Address | None = None
    """What is asked to connect to the target: a proxy's address, or the target's as IPv6 hosts ask for it."""
    asked_at: int = 0
    """The TCP port of that proxy; 0 for none."""

    @property
    def opens(self) -> tuple[str, int]:
        """The protocol and the port that it opens its connection with."""
        return ("tcp", self.asked_at) if self.asked_at else (self.protocol, self.port)

    @property
    def is_from_host(self) -> bool:
        """Whether a host of the estate opens it."""
        return self.space.startswith("hosts ")

    @property
    def received_at(self) -> int:
        """The port at which it is received."""
        return self.host_port or self.port


@dataclass(frozen=True)
class Class:
    """Packets that the plan treats the same: who sends, to what, what is planned, what is tried; or why nothing is."""

    sender: str
    to: str
    planned: tuple[Planned, ...]
    tries: tuple[Try, ...] = ()
    not_tried: str = ""
    part: str = ""
    """Which of the packets from there these are, in words; empty for all."""
    is_inward: bool = False
    limit: str = ""
    """Why the kernel may do otherwise, where that is known beforehand."""


def client_at(workload: str, subnet: str) -> str:
    """The name of the space of a workload's hosts in a subnet, as those who send."""
    return f"hosts {workload} in {subnet}"


_SERVICE = "service "
_TOWARD = " toward "


def service_at(origin: str, network: str = "") -> str:
    """The name of the space of a provider's service that opens connections; network: the only one that it asks."""
    return f"{_SERVICE}{origin}{_TOWARD}{network}" if network else f"{_SERVICE}{origin}"


def is_service(space: str) -> bool:
    """Whether it is one of a provider's service that opens connections."""
    return space.startswith(_SERVICE)


def service_of(space: str) -> str:
    """The destination that such a space is."""
    return space.removeprefix(_SERVICE).partition(_TOWARD)[0]


def party_of(estate: Estate, line: str) -> str:
    """Who is at the other end of a line; one that names nobody has somebody of its own there."""
    return estate.exits[line].party or line
