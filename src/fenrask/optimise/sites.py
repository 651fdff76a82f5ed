"""Where exits are, and could be: in a zone, for a network, behind a firewall, or joined by a hub."""

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import replace

from fenrask.designs.draft import DEFAULT
from fenrask.designs.placing import centres
from fenrask.designs.topologies import existing_hub, hub_offer
from fenrask.estate import KINDS, Described, ExitModel, Onward
from fenrask.evaluation import wanted_on_the_way
from fenrask.optimise.problem import Group, Role, Site
from fenrask.prefixes import overlaps
from fenrask.routing import Paths, Tracer

__all__ = ["Places", "passed"]


class Places:
    """The sites of offers; each place is looked up once, and an exit that exists is one site, whoever uses it."""

    def __init__(self, described: Described) -> None:
        self.described = described
        self.tracer = Tracer(described)
        self._sites: dict[tuple[str, str, str | None], Site] = {}
        self._existing: dict[str, Site] = {}
        estate = described.estate
        self._zones: dict[str, Counter[str | None]] = {}
        self._sending = {name for workload in estate.senders for name in estate.workloads[workload].subnets}
        for workload in estate.senders:
            for name, share in estate.host_shares(workload).items():
                subnet = estate.subnets[name]
                zones = self._zones.setdefault(subnet.network, Counter())
                zones[subnet.zone] += int(estate.workloads[workload].hosts * share)
        self._wanted: dict[str, dict[Callable[[type[ExitModel]], bool], None]] = {}
        for flow in estate.outward_flows.values():
            wanted = dict.fromkeys(wanted_on_the_way(estate.needs_of(flow)))
            for name in estate.workloads[flow.from_].subnets if wanted else ():
                self._wanted.setdefault(estate.subnets[name].network, {}).update(wanted)
        self.centres = self._centres()
        """The networks that a hub could bring the others' traffic to; none where none can."""

    def wants(self, network: str) -> bool:
        """Whether something from a network must pass an exit of some kind on its way."""
        return network in self._wanted

    def is_wanted(self, network: str, offer: str) -> bool:
        """Whether an offer is of such a kind."""
        kind = KINDS[self.described.catalogue.offers[offer].kind]
        return any(wants(kind) for wants in self._wanted.get(network, ()))

    def zones(self, network: str) -> list[str | None]:
        """The zones of a network from which something is sent."""
        return list(self._zones[network])

    def busiest(self, network: str) -> str | None:
        """The zone of a network with the most hosts."""
        return self._zones[network].most_common(1)[0][0]

    def existing(self, name: str) -> Site:
        """The site of an exit that exists."""
        if name not in self._existing:
            exit_, estate = self.described.estate.exits[name], self.described.estate
            zone = next((estate.subnets[subnet].zone for subnet in exit_.in_subnets), None)
            passes = Role.JOINS if exit_.joins_many else Role.PASSES
            role = Role.TRANSLATES if exit_.translates and exit_.pool is None else passes
            whole = bool(exit_.of_network) and not exit_.in_subnets
            network = estate.network_of(exit_) or ""
            if exit_.onward is Onward.SERVICE:
                service = (exit_.carries or ("",))[0]
                site = Site(Role.ENDPOINT, exit_.offer_name, network, None, service, exit_.in_subnets, name)
                self._existing[name] = site
                return site
            self._existing[name] = Site(role, exit_.offer_name, network, zone, existing=name, whole_network=whole)
        return self._existing[name]

    def at(self, offer: str, network: str, zone: str | None) -> Site:
        """The site of a translating offer at a place, with the exit that is there already."""
        key = (offer, network, zone)
        if key not in self._sites:
            self._sites[key] = self._at(offer, network, zone)
        return self._sites[key]

    def behind(self, offer: str, network: str, zone: str | None) -> Site:
        """The site of an offer at a place where something may be put before it.

        One in a zone may serve direct routes as well; one that is among hosts, or of a whole network, cannot.
        """
        site = self.at(offer, network, zone)
        inside = self.described.estate.exits[site.existing].in_subnets if site.existing else ()
        if site.whole_network or self._sending & {*inside}:
            return Site(Role.TRANSLATES, offer, network, zone, apart=True)
        return site

    def firewall(self, offer: str, before: Site) -> Site:
        """The site of a firewall that inspects before another site."""
        onward = before.existing or before.offer
        return Site(Role.PASSES, offer, before.network, before.zone, onward=onward, apart=before.apart)

    def existing_firewalls(self, network: str) -> list[str]:
        """The exits of a network that inspect what something of it must pass, and pass it on as it is."""
        estate = self.described.estate
        return [
            name
            for name, one in estate.exits.items()
            if one.inspects and one.offer_name and not one.translates and not one.fault and one.in_subnets
            if estate.network_of(one) == network and self.is_wanted(network, one.offer_name)
        ]

    def before(self, firewall: str, site: Site) -> Site:
        """An existing firewall, with its default to a site: it sends on to one of them at a time."""
        estate, standing = self.described.estate, self.existing(firewall)
        table = estate.table_of(estate.exits[firewall].in_subnets[0])
        leads_to = estate.route_tables.get(table or "", {}).get(DEFAULT)
        return (
            standing
            if site.existing and leads_to == site.existing
            else replace(standing, onward=site.existing or site.offer)
        )

    def firewall_to(self, offer: str, line: Site, zone: str | None) -> Site:
        """The site of a firewall that inspects before a line that exists, in a zone of its network."""
        return Site(Role.PASSES, offer, line.network, zone, onward=line.existing)

    def hub(self, centre: str) -> Site | None:
        """The hub that brings other networks' traffic to one: one that exists, or is sold; None for neither."""
        name = existing_hub(self.described, self._zones)
        if name:
            hub, tables = self.described.estate.exits[name], self.described.estate.route_tables
            if any(DEFAULT in tables.get(table, {}) for table in hub.tables):
                return None
            return self.existing(name)
        offer = hub_offer(self.described.catalogue)
        return Site(Role.JOINS, offer, centre, None) if offer else None

    def _at(self, offer: str, network: str, zone: str | None) -> Site:
        estate, stated = self.described.estate, self.described.catalogue.offers[offer]
        for name, exit_ in estate.exits.items():
            if exit_.offer_name != offer or exit_.fault or exit_.pool is not None or not exit_.translates:
                continue
            site = self.existing(name)
            here = site.network == network and site.zone == zone
            if here and (site.whole_network or any(map(estate.internet_exit_of, exit_.in_subnets))):
                return site
        whole = stated.scope == "region" and KINDS[stated.kind].serves_whole_network
        return Site(Role.TRANSLATES, offer, network, zone, whole_network=whole)

    def _centres(self) -> list[str]:
        """That with the most hosts, or each of few; networks whose prefixes overlap cannot be joined."""
        networks = self.described.estate.networks
        owned = [(prefix, name) for name in self._zones for prefix in networks[name].prefixes]
        if len(self._zones) < 2 or any(one != other for (_, one), (_, other) in overlaps(owned)):
            return []
        return centres(self.described)


def passed(paths: Paths, places: Places, group: Group, sites: Sequence[Site] = ()) -> tuple[Site, ...]:
    """What is paid on the paths that a group has, beside these sites."""
    own = [path for path in paths.by_flow[group.flows[0]] if group.holds(path)]
    known, exits = {site.existing for site in sites}, paths.described.estate.exits
    names = dict.fromkeys(name for path in own for name in path.trace.exits if name in exits)
    return tuple(places.existing(name) for name in names if exits[name].offer_name and name not in known)
