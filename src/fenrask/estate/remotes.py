"""Who is at the other end of flows that come in: the internet, a third party, a service, or another network."""

from collections.abc import Iterator, Mapping
from functools import cache
from typing import TYPE_CHECKING, Literal

from fenrask.estate.destinations import Destination, Needs
from fenrask.estate.flows import Flow
from fenrask.prefixes import PRIVATE, Prefix, covers, is_public, parse_prefix

if TYPE_CHECKING:
    from fenrask.estate.models import Estate

__all__ = ["INTERNET", "Remote", "internet_prefixes", "remotes_of"]

INTERNET = "internet"
"""What a flow from anywhere on the internet is said to be from."""

_UNICAST = ("1.0.0.0/8", "2.0.0.0/7", "4.0.0.0/6", "8.0.0.0/5", "16.0.0.0/4", "32.0.0.0/3", "64.0.0.0/2")
_MORE_UNICAST = ("128.0.0.0/2", "192.0.0.0/3", "2000::/3")


class Remote(Destination):
    """Who opens connections to one port of a workload's hosts, with the prefixes that they come from.

    The other end of flows that come in, as a destination is that of flows that go out.
    """

    origin: str
    """Its name, as flows state it."""
    way: Literal["internet", "lines", "service", "network"]
    """How its packets get to the estate."""
    lines: tuple[str, ...] = ()
    """The lines to it."""
    network: str = ""
    """The network of the estate that it is."""

    def __str__(self) -> str:
        return "the internet" if self.origin == INTERNET and self.way == "internet" else self.origin


def remotes_of(estate: "Estate") -> dict[str, Remote]:
    """The other ends of all flows that come in, by `Flow.remote`."""
    found: dict[str, Remote] = {}
    for flow in estate.inward_flows.values():
        if flow.remote not in found:
            found[flow.remote] = _remote(estate, flow)
    return found


def _remote(estate: "Estate", flow: Flow) -> Remote:
    origin = flow.from_
    stated = estate.destinations.get(origin)
    prefixes: tuple[Prefix, ...]
    way: Literal["internet", "lines", "service", "network"]
    lines, network = tuple(_lines_to(estate, origin, stated)), ""
    if stated is not None:
        prefixes = stated.prefixes
        way = "service" if stated.service else "lines" if lines else "internet"
    elif lines:
        prefixes = tuple(dict.fromkeys(one for line in lines for one in estate.exits[line].announced))
        way = "lines"
    elif origin in estate.networks:
        prefixes, way, network = estate.networks[origin].prefixes, "network", origin
    elif origin != INTERNET:
        # A third party all of whose lines are lost.
        prefixes, way = (), "lines"
    else:
        prefixes, way = internet_prefixes(estate), "internet"
    return Remote.model_construct(
        prefixes=prefixes,
        port=flow.port,
        protocol=flow.transport,
        needs=_needs(stated),
        origin=origin,
        way=way,
        lines=lines,
        network=network,
    )


def internet_prefixes(estate: "Estate") -> tuple[Prefix, ...]:
    """Where packets from the internet come from: public addresses, but those of third parties that have a line."""
    held = {one for exit_ in estate.exits.values() for one in exit_.announced if exit_.party and one.prefixlen}
    held |= {one for network in estate.networks.values() for one in network.prefixes}
    return tuple(_public_but(frozenset(held)))


def _needs(stated: Destination | None) -> Needs:
    """What is demanded of a destination's traffic that makes sense where it opens the connections."""
    return Needs() if stated is None else stated.needs.of_inward


def _lines_to(estate: "Estate", origin: str, stated: Destination | None) -> Iterator[str]:
    """The lines by which an origin comes in: those to a third party, or to who announces a private destination."""
    for name, exit_ in estate.exits.items():
        if exit_.known_beyond is None:
            continue
        if stated is None:
            if origin in (exit_.party, name):
                yield name
        elif stated.third_party:
            if stated.third_party in (exit_.party, name):
                yield name
        elif any(
            not is_public(one) and any(covers(one, other) or covers(other, one) for other in exit_.announced)
            for one in stated.prefixes
        ):
            yield name


@cache
def _public_but(held: frozenset[Prefix]) -> list[Prefix]:
    """All public unicast prefixes but those that third parties hold, who come over their lines, and one's own."""
    without = sorted(
        {*PRIVATE, *held}, key=lambda prefix: (prefix.version, int(prefix.network_address), prefix.prefixlen)
    )
    found: list[Prefix] = []
    for text in (*_UNICAST, *_MORE_UNICAST):
        some = [parse_prefix(text)]
        for hole in without:
            some = [rest for one in some for rest in _without(one, hole)]
        found += some
    return found


def _without(prefix: Prefix, hole: Prefix) -> list[Prefix]:
    if covers(hole, prefix):
        return []
    if not covers(prefix, hole):
        return [prefix]
    rest: Mapping[Prefix, None] = dict.fromkeys(prefix.address_exclude(hole))  # type: ignore[arg-type]
    return [*rest]
