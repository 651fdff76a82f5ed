"""What there is to choose from: units of traffic, sites that could carry them, and the lanes of each unit."""

from collections.abc import Iterator
from dataclasses import dataclass

from fenrask.designs.draft import DEFAULT
from fenrask.designs.private_ways import endpoints_of
from fenrask.estate import BY_NAME, KINDS, Described, Needs, Onward
from fenrask.prefixes import is_public
from fenrask.routing import Way, Ways

__all__ = ["AS_IT_IS", "Group", "Lane", "Site", "Unit", "units_of"]

AS_IT_IS = "as it is"


@dataclass(frozen=True)
class Site:
    """An exit that stands, or could be put up: of an offer, in a network, in one zone or for all of it."""

    kind: str
    offer: str
    network: str
    zone: str | None
    destination: str = ""
    """The service that an endpoint leads to; empty for a translating exit."""
    subnets: tuple[str, ...] = ()
    """The subnets that an in-subnet endpoint stands in."""
    existing: str = ""
    """The name of the exit that stands there already."""

    @property
    def translates(self) -> bool:
        return not self.destination

    @property
    def places(self) -> int:
        """How many times its hourly rate is paid."""
        return len(self.subnets) or 1


@dataclass(frozen=True)
class Lane:
    """One way for a unit: the site that each of its subnets uses; none of them where all stays as it is."""

    name: str
    sites: tuple[Site, ...]
    """One for each subnet of the unit."""
    fails: tuple[str, ...]
    """The needs that it does not meet, whatever else is chosen."""
    singles: bool = False
    """Whether its sites may have but one address each."""

    @property
    def distinct(self) -> tuple[Site, ...]:
        return tuple(dict.fromkeys(self.sites))


@dataclass(frozen=True)
class Group:
    """All flows from the same subnets of one network to one destination: one route serves them all."""

    flows: tuple[str, ...]
    to: str
    network: str
    subnets: tuple[str, ...]
    needs: Needs
    """What any of them needs."""
    public: bool
    """Whether their hosts have public addresses of their own."""


@dataclass(frozen=True)
class Unit:
    """A group with its lanes; it is not split."""

    group: Group
    lanes: tuple[Lane, ...]

    @property
    def flows(self) -> tuple[str, ...]:
        return self.group.flows

    @property
    def to(self) -> str:
        return self.group.to

    @property
    def network(self) -> str:
        return self.group.network

    @property
    def subnets(self) -> tuple[str, ...]:
        return self.group.subnets

    @property
    def needs(self) -> Needs:
        return self.group.needs

    @property
    def name(self) -> str:
        return ", ".join(self.flows)

    @property
    def open_lanes(self) -> tuple[Lane, ...]:
        """Those that meet its needs."""
        return tuple(one for one in self.lanes if not one.fails)


def units_of(ways: Ways) -> list[Unit]:
    """Every group of flows, with its lanes."""
    described = ways.described
    estate = described.estate
    flows: dict[tuple[str, tuple[str, ...], str, bool], list[str]] = {}
    for name, flow in estate.flows.items():
        workload = estate.workloads[flow.from_]
        by_network: dict[str, list[str]] = {}
        for subnet in workload.subnets:
            by_network.setdefault(estate.subnets[subnet].network, []).append(subnet)
        for network, subnets in by_network.items():
            flows.setdefault((network, tuple(subnets), flow.to, workload.public_address), []).append(name)
    found, places = [], _Places(described)
    for (network, some, to, public), names in flows.items():
        needs = estate.needs_of(estate.flows[names[0]])
        for name in names[1:]:
            needs = needs.joined(estate.needs_of(estate.flows[name]))
        group = Group(tuple(names), to, network, some, needs, public)
        found.append(Unit(group, tuple(_lanes(ways, group, places))))
    return found


def _lanes(ways: Ways, group: Group, places: "_Places") -> Iterator[Lane]:
    described = ways.described
    own = [way for name in group.flows for way in ways.by_flow[name] if way.subnet in group.subnets]
    if _stays(described, own):
        yield Lane(AS_IT_IS, (), tuple(_fails_as_it_is(described, own, group.needs)))
    prefixes = described.estate.destinations[group.to].prefixes
    if group.public or (prefixes and not any(map(is_public, prefixes))):
        return
    for name, offer in described.catalogue.offers.items():
        if offer.kind.endswith("-endpoint"):
            yield from _endpoint(described, group, name)
        elif KINDS[offer.kind].model_fields.get("addresses") and offer.kind != "forward-proxy":
            yield from _translators(described, group, name, places)


def _stays(described: Described, own: list[Way]) -> bool:
    """Whether a flow arrives by exits that no choice puts up or takes down."""
    exits = described.estate.exits
    return bool(own) and all(
        way.walk.verdict.arrives and not any(exits[name].needs_offer for name in way.walk.exits) for way in own
    )


def _fails_as_it_is(described: Described, own: list[Way], needs: Needs) -> Iterator[str]:
    if needs.off_internet and any(way.walk.onward is Onward.INTERNET for way in own):
        yield "off_internet"
    if needs.inspected:
        yield "inspected"
    if needs.fixed_source and any(
        not described.estate.exits[name].fixed_source for way in own for name in way.walk.exits
    ):
        yield "fixed_source"


def _endpoint(described: Described, group: Group, name: str) -> Iterator[Lane]:
    offer, to, network, subnets = described.catalogue.offers[name], group.to, group.network, group.subnets
    if not described.estate.destinations[to].service or not offer.leads_to(to):
        return
    existing = endpoints_of(described, offer.kind).get((network, to), "")
    inside: tuple[str, ...] = ()
    if offer.kind == "in-subnet-endpoint":
        inside = tuple(sorted(_by_zone(described, to, network).values()))
        if existing:
            inside = described.estate.exits[existing].stands_in
    site = Site(offer.kind, name, network, None, to, inside, existing)
    fails = ["inspected"] if group.needs.inspected else []
    if group.needs.survives and inside:
        zones = {described.estate.subnets[one].zone for one in inside}
        if len(zones) == 1 and any(described.estate.subnets[one].zone not in zones for one in subnets):
            fails.append("survives")
    yield Lane(f"{name} ({offer.kind})", (site,) * len(subnets), tuple(fails))


def _by_zone(described: Described, to: str, network: str) -> dict[str | None, str]:
    """A subnet in each zone from which a destination is sent to."""
    estate = described.estate
    senders = [estate.workloads[flow.from_].subnets for flow in estate.flows.values() if flow.to == to]
    names = [name for subnets in senders for name in subnets if estate.subnets[name].network == network]
    return {estate.subnets[name].zone: name for name in reversed(names)}


def _translators(described: Described, group: Group, name: str, places: "_Places") -> Iterator[Lane]:
    network, subnets, offer = group.network, group.subnets, described.catalogue.offers[name]
    estate = described.estate
    stated, needs = estate.destinations[group.to], group.needs
    fails = [] if stated.protocol in offer.protocols else ["protocol"]
    fails += ["off_internet"] if needs.off_internet else []
    nameless = needs.inspected == BY_NAME and not stated.names
    fails += ["inspected"] if nameless or (needs.inspected and not KINDS[offer.kind].inspects) else []
    ties = offer.ports is not None and (offer.ports.hashes_hosts or offer.ports.block is not None)
    singles = needs.one_source_per_host and not ties
    zones = [estate.subnets[one].zone for one in subnets]
    if offer.scope == "region":
        site = places.standing(name, network, None)
        yield Lane(f"{name} for the network", (site,) * len(subnets), tuple(fails), singles)
        return
    for zone in places.zones(network):
        site = places.standing(name, network, zone)
        alone = ["survives"] if needs.survives and any(one not in (None, zone) for one in zones) else []
        where_it_is = f"{name} in zone {zone}" if zone else f"{name} in {network}"
        yield Lane(where_it_is, (site,) * len(subnets), (*fails, *alone), singles)
    if len(set(zones)) > 1:
        sites = tuple(places.standing(name, network, zone) for zone in zones)
        yield Lane(f"{name} in each zone", sites, tuple(fails), singles)


class _Places:
    """Where translating exits can stand: each place is looked up once."""

    def __init__(self, described: Described) -> None:
        self._described = described
        self._sites: dict[tuple[str, str, str | None], Site] = {}
        estate = described.estate
        senders = [estate.workloads[flow.from_] for flow in estate.flows.values()]
        self._zones: dict[str, list[str | None]] = {}
        for name in dict.fromkeys(name for one in senders for name in one.subnets):
            subnet = estate.subnets[name]
            zones = self._zones.setdefault(subnet.network, [])
            if subnet.zone not in zones:
                zones.append(subnet.zone)

    def zones(self, network: str) -> list[str | None]:
        """The zones of a network from which something is sent."""
        return self._zones[network]

    def standing(self, offer: str, network: str, zone: str | None) -> Site:
        """The site of an offer at a place."""
        key = (offer, network, zone)
        if key not in self._sites:
            self._sites[key] = _standing(self._described, offer, network, zone)
        return self._sites[key]


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
    for subnet_name in estate.exits[name].stands_in:
        subnet = estate.subnets[subnet_name]
        default = estate.route_tables.get(estate.table_of(subnet_name) or "", {}).get(DEFAULT)
        door = estate.exits.get(default) if isinstance(default, str) else None
        leads_out = door is not None and door.onward is Onward.INTERNET and door.needs_public_source
        if subnet.network == network and subnet.zone == zone and leads_out:
            return True
    return False
