"""What is exchanged with third parties over private lines, prefix by prefix: whether it is needed, where it goes."""

from collections.abc import Iterator
from dataclasses import dataclass

from fenrask.estate import ExitModel
from fenrask.prefixes import Prefix, covers, overlap
from fenrask.routing.paths import Paths

__all__ = ["Exchanged", "exchanged"]

RECEIVED, ADVERTISED = "received", "advertised"


@dataclass(frozen=True)
class Exchanged:
    """One prefix that a third party announces, or that is announced to it."""

    party: str
    line: str
    direction: str
    """`received` or `advertised`."""
    prefix: Prefix
    is_taken: bool
    """Whether the boundary takes it, or lets it out."""
    needed_by: tuple[str, ...]
    """Flows that use it."""
    faults: tuple[str, ...]
    """What is doubtful about it; none where it is as it should be."""
    known_in: tuple[str, ...]
    """Of what is received: the networks from which traffic to it goes to this line."""


def exchanged(paths: Paths) -> list[Exchanged]:
    """Every prefix of every private line, received ones first."""
    found = []
    for name, line in paths.described.estate.exits.items():
        if line.known_beyond is not None:
            found += [*_received(paths, name, line), *_advertised(paths, name, line)]
    return found


def _received(paths: Paths, name: str, line: ExitModel) -> Iterator[Exchanged]:
    estate, party = paths.described.estate, line.party or name
    taken = {*line.learned}
    for prefix in line.announced:
        flows, elsewhere = dict[str, None](), dict[str, str]()
        for path in paths.paths:
            to = path.to
            if any(covers(prefix, one) for one in estate.remotes[to].prefixes):
                if name in path.example.exits:
                    flows[path.flow] = None
                elif path.example.exits:
                    elsewhere[to] = path.example.boundary
        faults = []
        if prefix.prefixlen == 0 and prefix in taken:
            faults.append(f"a default route is accepted: all that no other route matches goes to {party}")
        faults += [
            f"overlaps {own} of {network}"
            for network, one in estate.networks.items()
            for own in one.prefixes
            if prefix.prefixlen and overlap(prefix, own)
        ]
        if prefix.prefixlen:
            faults += [f"holds {to}, which is reached through {exit_}" for to, exit_ in elsewhere.items()]
        faults += [
            f"{other} announces {one} too"
            for other, exit_ in estate.exits.items()
            if other != name and exit_.known_beyond is not None and exit_.party != line.party
            for one in exit_.announced
            if prefix.prefixlen and one.prefixlen and overlap(prefix, one)
        ]
        if not flows and prefix in taken and prefix.prefixlen:
            faults.append("more than is needed: no flow goes there")
        known = tuple(_known_in(paths, name, line, prefix)) if prefix in taken else ()
        yield Exchanged(party, name, RECEIVED, prefix, prefix in taken, tuple(flows), tuple(faults), known)


def _known_in(paths: Paths, name: str, line: ExitModel, prefix: Prefix) -> Iterator[str]:
    """The networks of which some subnet sends to this prefix by the line, or by the hub that it ends at."""
    estate, seen = paths.described.estate, set[str]()
    for subnet, stated in estate.subnets.items():
        if stated.network not in seen:
            matching = paths.routes.of(subnet).match(prefix[0])
            if any(route.exit in (name, line.attached_to) for route in matching):
                seen.add(stated.network)
                yield stated.network


def _advertised(paths: Paths, name: str, line: ExitModel) -> Iterator[Exchanged]:
    estate, party = paths.described.estate, line.party or name
    hub = estate.exits.get(line.attached_to or "")
    near = hub.joins if hub is not None else (line.of_network or "",)
    for prefix in line.known_beyond or ():
        flows = {
            path.flow: None
            for path in paths.paths
            if name in path.example.exits and _shows(path.trace.source.prefix, prefix)
        }
        faults = []
        if not flows:
            faults.append("more than is needed: no flow to it comes from there")
        faults += [
            f"a leak: {one} belongs to {network}, which is not joined at {line.attached_to or line.of_network}"
            for network, stated in estate.networks.items()
            if network not in near
            for one in stated.prefixes
            if overlap(prefix, one)
        ]
        faults += [
            f"a leak: {one} is what {exit_.party or other} announces: {party} could reach it through here"
            for other, exit_ in estate.exits.items()
            if other != name and exit_.known_beyond is not None
            for one in exit_.announced
            if one.prefixlen and overlap(prefix, one)
        ]
        yield Exchanged(party, name, ADVERTISED, prefix, True, tuple(flows), tuple(faults), ())


def _shows(source: Prefix | None, prefix: Prefix) -> bool:
    """Whether a source lies in what is advertised, or holds it."""
    return source is not None and overlap(source, prefix)
