"""Where translating exits can stand: in a zone, for a network, behind a firewall, or joined by a hub."""

from collections import Counter
from collections.abc import Sequence
from fractions import Fraction

from fenrask.designs.draft import hub_offer
from fenrask.estate import Described
from fenrask.optimise.problem import Group, Site
from fenrask.prefixes import overlaps
from fenrask.routing import Paths

__all__ = ["Places", "passed", "standing_site"]


class Places:
    """The sites of offers; each place is looked up once."""

    def __init__(self, described: Described) -> None:
        self._described = described
        self._sites: dict[tuple[str, str, str | None], Site] = {}
        estate = described.estate
        self._zones: dict[str, Counter[str | None]] = {}
        senders = dict.fromkeys(flow.from_ for flow in estate.flows.values())
        for workload in (estate.workloads[name] for name in senders):
            for name in workload.subnets:
                subnet = estate.subnets[name]
                zones = self._zones.setdefault(subnet.network, Counter())
                zones[subnet.zone] += workload.hosts // len(workload.subnets)
        self.inspected = {
            estate.subnets[name].network
            for flow in estate.flows.values()
            if estate.needs_of(flow).inspected
            for name in estate.workloads[flow.from_].subnets
        }
        """The networks from which something must be inspected."""
        self.centre = self._centre()
        """The network that a hub could bring the others' traffic to; empty where none can."""

    def zones(self, network: str) -> list[str | None]:
        """The zones of a network from which something is sent."""
        return list(self._zones[network])

    def standing(self, offer: str, network: str, zone: str | None) -> Site:
        """The site of an offer at a place, with the exit that stands there already."""
        key = (offer, network, zone)
        if key not in self._sites:
            self._sites[key] = _standing(self._described, offer, network, zone)
        return self._sites[key]

    def busiest(self, network: str) -> str | None:
        """The zone of a network with the most hosts."""
        return self._zones[network].most_common(1)[0][0]

    def behind(self, offer: str, firewall: str, network: str, zone: str | None) -> Site:
        """The site of an offer behind a firewall."""
        return Site(self._described.catalogue.offers[offer].kind, offer, network, zone, behind=firewall)

    def shared(self, offer: str) -> Site:
        """The site of an offer in the centre, with a hub before it."""
        catalogue = self._described.catalogue
        zone = None if catalogue.offers[offer].scope == "region" else self.busiest(self.centre)
        return Site(catalogue.offers[offer].kind, offer, self.centre, zone, shared=True, hub=hub_offer(catalogue))

    def _centre(self) -> str:
        """The one with the most hosts; networks whose prefixes overlap cannot be joined."""
        networks = self._described.estate.networks
        owned = [(prefix, name) for name in self._zones for prefix in networks[name].prefixes]
        if len(self._zones) < 2 or any(one != other for (_, one), (_, other) in overlaps(owned)):
            return ""
        return max(self._zones, key=lambda name: self._zones[name].total())


def standing_site(described: Described, name: str, passes: bool = False) -> Site:
    """The site of an exit that stands, whatever stands beside it."""
    one, estate = described.estate.exits[name], described.estate
    zone = next((estate.subnets[subnet].zone for subnet in one.in_subnets), None)
    offer = described.offer_of(name)
    if offer is not None and offer.scope == "region":
        zone = None
    return Site(one.kind, one.offer_name, estate.network_of(one) or "", zone, existing=name, passes=passes)


def passed(paths: Paths, group: Group, sites: Sequence[Site] = ()) -> tuple[tuple[Site, Fraction], ...]:
    """What is paid on the ways that a group has, beside these sites, with the share of the group that passes it."""
    own = [path for path in paths.by_flow[group.flows[0]] if group.holds(path)]
    whole, known = sum((path.share for path in own), Fraction(0)), {site.existing for site in sites}
    found: dict[str, Fraction] = {}
    for path in own:
        for name in path.trace.exits:
            one = paths.described.estate.exits.get(name)
            if one is not None and one.offer_name and name not in known:
                found[name] = found.get(name, Fraction(0)) + path.share / whole
    return tuple((standing_site(paths.described, name, passes=True), share) for name, share in found.items())


def _standing(described: Described, offer: str, network: str, zone: str | None) -> Site:
    """The site of an offer at a place, with the exit that stands there, if one does and its way leads on to a door."""
    estate = described.estate
    kind = described.catalogue.offers[offer].kind
    for name, one in estate.exits.items():
        if one.offer_name != offer or one.fault or one.pool is not None or not one.translates:
            continue
        here = one.of_network == network if zone is None and one.of_network else _stands(described, name, network, zone)
        if here:
            return Site(kind, offer, network, zone, existing=name)
    return Site(kind, offer, network, zone)


def _stands(described: Described, name: str, network: str, zone: str | None) -> bool:
    estate = described.estate
    return any(
        estate.subnets[one].network == network and estate.subnets[one].zone == zone and estate.internet_exit_of(one)
        for one in estate.exits[name].in_subnets
    )
