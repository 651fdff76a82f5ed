"""How someone outside may get to hosts: over a line, from another network, to a published port or a public address."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import Literal

from fenrask.estate import ANY_PORT, PortSpan
from fenrask.estate.remotes import INTERNET, Remote, internet_prefixes
from fenrask.prefixes import Prefix, covers, is_public
from fenrask.routing.arriving import Arriving, Way
from fenrask.routing.packets import Protocol

__all__ = ["WayIn", "WaysIn"]

_ALL = Fraction(1)
_BY_STATIC_ROUTE = "not advertised: a static route of theirs suffices"


@dataclass(frozen=True)
class WayIn:
    """How someone may get to a workload's hosts in a subnet."""

    end: Remote
    """Who, from which prefixes."""
    ways: tuple[Way, ...]
    """Their ways to the estate; those of a network are the subnets that they may send from."""
    through: str
    """The exit by which they enter; empty where it hangs on what they send."""
    targets: tuple[Prefix, ...]
    """Where the hosts lie that they get to so."""
    stopped: str = ""
    """What stops them before they are in; empty: nothing."""
    how: str = ""
    """What lets them get there, where it is not plain."""
    is_told: bool = True
    """Whether they have the route from us."""
    ports: PortSpan = ANY_PORT
    """The ports of hosts that they get to."""
    protocols: tuple[Protocol, ...] = ("tcp", "udp")


class WaysIn:
    """The ways in to the hosts of one estate."""

    def __init__(self, arriving: Arriving) -> None:
        self.arriving, self.estate = arriving, arriving.estate

    def to(self, subnet: str, workload: str) -> Iterator[WayIn]:
        """Those to a workload's hosts in a subnet; with no workload, to whatever has an address there."""
        prefixes = self.estate.subnets[subnet].prefixes
        for line in self._lines:
            yield from self._by_line(line, prefixes)
        yield from self._from_networks(subnet, prefixes)
        if workload:
            yield from self._published(workload, prefixes)
            yield from self._at_public_addresses(subnet, workload)

    @cached_property
    def _lines(self) -> list[str]:
        return [name for name, one in self.estate.exits.items() if one.known_beyond is not None and not one.fault]

    def _by_line(self, line: str, prefixes: tuple[Prefix, ...]) -> Iterator[WayIn]:
        """Over a line: to hosts that are advertised, and to others by a route that the other end writes itself."""
        known = self.estate.exits[line].known_beyond or ()
        pairs = [(prefix, one) for prefix in prefixes for one in known]
        told = tuple(min(pair, key=_length) for pair in pairs if covers(*pair) or covers(*reversed(pair)))
        end, ways = self._beyond(line), _over(line, prefixes)
        if told:
            yield WayIn(end, ways, line, told, self._shut(line))
        if not set(prefixes) <= {*told}:
            shut = self._shut(line) or self._unknown(line)
            yield WayIn(end, ways, line, prefixes, shut, _BY_STATIC_ROUTE, is_told=False)

    def _beyond(self, line: str) -> Remote:
        """Who is at the other end of a line."""
        exit_ = self.estate.exits[line]
        return _end(exit_.party or line, "lines", exit_.announced, (line,))

    def _shut(self, line: str) -> str:
        """Why a line lets nothing in; empty where it may."""
        return f"{line} lets in replies only" if self.estate.exits[line].lets_in_ports == () else ""

    def _unknown(self, line: str) -> str:
        """Why nothing comes over a line to what is not advertised; empty where it may."""
        by_announcement = self.estate.exits[line].reached_by_announcement
        return f"{line} does not announce it, and they route by announcements alone" if by_announcement else ""

    def _from_networks(self, subnet: str, prefixes: tuple[Prefix, ...]) -> Iterator[WayIn]:
        """From the networks that exits join with a subnet's own, be it by way of others."""
        own = self.estate.subnets[subnet].network
        for network in self._joined[own]:
            if not self._sending[network]:
                continue
            yield WayIn(self._networks[network], self._sending[network], "", prefixes)

    @cached_property
    def _networks(self) -> dict[str, Remote]:
        stated = self.estate.networks.items()
        return {name: _end(name, "network", one.prefixes, network=name) for name, one in stated}

    @cached_property
    def _sending(self) -> dict[str, tuple[Way, ...]]:
        """From which subnets the networks send: all but those that exits alone are in."""
        ways: dict[str, list[Way]] = {name: [] for name in self.estate.networks}
        hosts = {subnet for one in self.estate.workloads.values() for subnet in one.subnets}
        exits = {subnet for one in self.estate.exits.values() for subnet in one.in_subnets} - hosts
        for name, stated in self.estate.subnets.items():
            if name in exits:
                continue
            ways[stated.network] += [Way(_ALL, held.version, "", sender=name) for held in stated.prefixes]
        return {name: tuple(some) for name, some in ways.items()}

    @cached_property
    def _joined(self) -> dict[str, list[str]]:
        """For each network those that exits join it with, directly or by way of others."""
        part_of = {name: [name] for name in self.estate.networks}
        for exit_ in self.estate.exits.values():
            whole = [*dict.fromkeys(name for one in exit_.joins for name in part_of[one])]
            part_of |= {name: whole for name in whole}
        return {name: [one for one in part if one != name] for name, part in part_of.items()}

    def _published(self, workload: str, prefixes: tuple[Prefix, ...]) -> Iterator[WayIn]:
        """By ports that exits publish: at public addresses, and at any address over lines."""
        for name, exit_ in self.estate.exits.items():
            for as_, published in exit_.published.items() if not exit_.fault else ():
                if published.to != workload:
                    continue
                how, ports, protocols = (
                    f"{name} publishes port {published.port}",
                    (published.host_port,) * 2,
                    (published.protocol,),
                )
                for way in self.arriving.published_on_the_internet(name, as_):
                    yield WayIn(self._internet, (way,), name, prefixes, "", how, ports=ports, protocols=protocols)
                for way in self.arriving.published_over(self._lines, name, as_):
                    known = self.estate.exits[way.ingress].known_beyond or ()
                    told = any(way.target in each for each in known)
                    shut = self._shut(way.ingress) or ("" if told else self._unknown(way.ingress))
                    words = how if told else f"{how}; {_BY_STATIC_ROUTE}"
                    end = self._beyond(way.ingress)
                    yield WayIn(end, (way,), name, prefixes, shut, words, told, ports, protocols)

    def _at_public_addresses(self, subnet: str, workload: str) -> Iterator[WayIn]:
        """At public addresses of the hosts themselves."""
        stated, is_public_v4 = self.estate.subnets[subnet], self.estate.workloads[workload].public_address
        held = tuple(one for one in stated.prefixes if (is_public_v4 if one.version == 4 else is_public(one)))
        for name, exit_ in self.estate.exits.items():
            if held and exit_.takes_public_sources and exit_.of_network == stated.network:
                yield WayIn(self._internet, _over(name, held), name, held)

    @cached_property
    def _internet(self) -> Remote:
        return _end(INTERNET, "internet", internet_prefixes(self.estate))


def _end(
    origin: str,
    way: Literal["internet", "lines", "network"],
    prefixes: Iterable[Prefix],
    lines: Sequence[str] = (),
    network: str = "",
) -> Remote:
    """Who opens connections, whatever to."""
    return Remote.model_construct(origin=origin, way=way, prefixes=tuple(prefixes), lines=(*lines,), network=network)


def _over(name: str, held: Iterable[Prefix]) -> tuple[Way, ...]:
    """Ways in over an exit, of the IP versions that hosts have."""
    return tuple(Way(_ALL, version, name) for version in sorted({one.version for one in held}))


def _length(prefix: Prefix) -> int:
    return -prefix.prefixlen
