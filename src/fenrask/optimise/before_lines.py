"""The options of what goes to a private destination and must pass something on its way: a firewall before the line."""

from collections.abc import Iterator, Sequence

from fenrask.estate import KINDS, Described, Onward
from fenrask.optimise.problem import Group, Option, Site
from fenrask.optimise.sites import Places
from fenrask.routing import Packet, Trace, Verdict

__all__ = ["firewalls_before_lines"]


def firewalls_before_lines(described: Described, group: Group, places: Places) -> Iterator[Option]:
    """A firewall on the way to a private destination: one by which it would arrive, or one before the line there."""
    network = group.network
    if not places.wants(network):
        return
    yield from _through(described, group, places)
    walls = [
        name
        for name, offer in described.catalogue.offers.items()
        if places.is_wanted(network, name) and KINDS[offer.kind].may_only_inspect
    ]
    for line in _lines_to(described, group, places) if walls else ():
        for wall in walls:
            yield from _before_line(described, group, places, wall, line)


def _before_line(described: Described, group: Group, places: Places, wall: str, line: str) -> Iterator[Option]:
    """An offer of a firewall before a line: in one zone, or in each; for that alone, or for the internet too."""
    offer, network, site = described.catalogue.offers[wall], group.network, places.existing(line)
    zones, busiest = [described.estate.subnets[one].zone for one in group.subnets], places.busiest(network)
    spreads: dict[str, Sequence[str | None]] = {"for the network": [None] * len(zones)}
    if offer.scope != "region":
        spreads = {f"in zone {busiest}" if busiest else f"in {network}": [busiest] * len(zones)}
        spreads |= {"in each zone": zones} if len(set(zones)) > 1 else {}
    for where_it_is, spread in spreads.items():
        alone = [places.firewall_to(wall, site, zone) for zone in spread]
        yield _chain_to(site, alone, f"{wall} before {line} {where_it_is}")
        if offer.ports is not None:
            # One that translates what goes out to the internet may pass this on as it is.
            shared = [places.at(wall, network, zone) for zone in spread]
            yield _chain_to(site, shared, f"{wall} before {line} and the internet {where_it_is}")


def _chain_to(line: Site, walls: Sequence[Site], name: str) -> Option:
    return Option(name, (line,) * len(walls), before=tuple(walls), also=tuple(dict.fromkeys(walls)))


def _lines_to(described: Described, group: Group, places: Places) -> Iterator[str]:
    """The private lines of a group's network that lead where it goes, whichever way replies take."""
    for name, exit_ in described.estate.exits.items():
        if exit_.onward is not Onward.THIRD_PARTY or exit_.of_network != group.network or exit_.fault:
            continue
        traces = _traces(described, group, places, name)
        leads = (Verdict.ARRIVES, Verdict.OTHER_RETURN)
        if traces and all(trace.verdict in leads and trace.exits == (name,) for trace in traces):
            yield name


def _through(described: Described, group: Group, places: Places) -> Iterator[Option]:
    """The firewalls of the network that exist, and by which a group would arrive if its routes named them."""
    estate = described.estate
    for name, exit_ in estate.exits.items():
        if not exit_.inspects or not exit_.offer_name or exit_.fault or estate.network_of(exit_) != group.network:
            continue
        traces = _traces(described, group, places, name)
        if traces and all(trace.verdict.arrives for trace in traces):
            passed = dict.fromkeys(each for trace in traces for each in trace.exits if each != name)
            paid = (places.existing(each) for each in passed if each in estate.exits and estate.exits[each].offer_name)
            yield Option(f"through {name}", (places.existing(name),) * len(group.subnets), also=tuple(paid))


def _traces(described: Described, group: Group, places: Places, name: str) -> list[Trace]:
    """The paths of a group to each prefix of its destination, if routes named an exit."""
    prefixes = [one for one in described.estate.destinations[group.to].prefixes if one.version in group.families]
    packets = [Packet(one.network_address, group.to) for one in prefixes]
    asked = [(subnet, packet) for subnet in group.subnets for packet in packets]
    return [trace for subnet, packet in asked for trace, _ in places.tracer.through(subnet, packet, name)]
