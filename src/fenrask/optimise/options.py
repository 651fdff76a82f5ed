"""The options of each unit: its current path, other exits that exist, and those that could be put up."""

from collections.abc import Iterator
from dataclasses import replace
from fractions import Fraction
from functools import reduce
from itertools import combinations

from fenrask.designs.draft import DEFAULT_V6
from fenrask.designs.endpoints import endpoints_of
from fenrask.estate import KINDS, Described, Estate, Needs, Onward, PrivateEndpoint, Translating
from fenrask.estate.suggestions import some
from fenrask.evaluation import Evaluation
from fenrask.optimise.before_lines import firewalls_before_lines
from fenrask.optimise.judging import breaks
from fenrask.optimise.problem import CURRENT, PRIVATE, Group, Option, Role, Site, Unit, Wanted
from fenrask.optimise.sites import Places, passed
from fenrask.prefixes import Address, Prefix, is_public
from fenrask.routing import FlowPath, Packet, Paths

__all__ = ["kept", "units_of"]

_MOST_TRIALS = 20_000
"""Pairs of a subnet's destination and an exit that exists, of which the path is traced; more are too many to try."""


_From = tuple[str, tuple[tuple[str, Fraction], ...]]
"""A network, and its subnets with the share of a workload's hosts in each."""
_Common = tuple[_From, str, bool]
"""What flows of one group have in common: where from, where to, and whether hosts have public addresses."""


def units_of(current: Evaluation, asked: Wanted) -> list[Unit]:
    """Every group of flows, with its options; which needs those break that do not exist yet is for `judged` to say."""
    described = current.described
    estate = described.estate
    flows: dict[_Common, list[str]] = {}
    of_workload: dict[str, list[_From]] = {}
    for name, flow in estate.outward_flows.items():
        if flow.from_ not in of_workload:
            of_workload[flow.from_] = _froms(estate, flow.from_)
        for origin in of_workload[flow.from_]:
            flows.setdefault((origin, flow.to, estate.workloads[flow.from_].public_address), []).append(name)
    found, places = [], Places(described)
    others = [name for name, one in estate.exits.items() if one.translates and one.offer_name and not one.fault]
    few = len(others) * sum(len(subnets) for (_, subnets), _, _ in flows) <= _MOST_TRIALS
    for ((network, spread), to, public), names in flows.items():
        some, shares = tuple(name for name, _ in spread), [share for _, share in spread]
        weights = tuple(share / sum(shares) for share in shares)
        examples = tuple({estate.flows[name].from_: name for name in reversed(names)}.values())
        needs = reduce(Needs.joined, (estate.needs_of(estate.flows[name]) for name in examples))
        families = _families(described, some, to)
        part = sum(shares, Fraction(0))
        group = Group(tuple(names), examples, to, network, some, needs, public, families, part, weights)
        options = _distinct(_options(current, group, places, asked))
        if few:
            options += _others(group, places, options, others)
        found.append(Unit(group, tuple(options)))
    return found


def _froms(estate: Estate, workload: str) -> list[_From]:
    """Where a workload's hosts send from: subnets of one network and of the same IP versions together."""
    found: dict[tuple[str, frozenset[int]], list[tuple[str, Fraction]]] = {}
    for subnet, share in estate.host_shares(workload).items():
        stated = estate.subnets[subnet]
        versions = frozenset(prefix.version for prefix in stated.prefixes)
        if share:
            found.setdefault((stated.network, versions), []).append((subnet, share))
    return [(network, tuple(subnets)) for (network, _), subnets in found.items()]


def _distinct(options: Iterator[Option]) -> list[Option]:
    """Each option once: the current path stands for another one through the same exits."""
    found: dict[tuple[object, ...], Option] = {}
    for option in options:
        alone = option.also if option.name != CURRENT or option.sites else None
        found.setdefault((option.sites, alone, bool(option.before), option.own_addresses, option.fails), option)
    return list(found.values())


def _families(described: Described, subnets: tuple[str, ...], to: str) -> tuple[int, ...]:
    """The IP versions by which subnets reach a destination; IPv6 only where both ends have global addresses of it."""
    stated = described.estate.destinations[to]
    own = {one.version for name in subnets for one in described.estate.subnets[name].prefixes if _counts(one)}
    versions = {one.version for one in stated.prefixes if one.version in own and _counts(one)}
    return (4,) if stated.service or 6 not in versions else tuple(sorted(versions))


def _counts(prefix: Prefix) -> bool:
    return prefix.version == 4 or is_public(prefix)


def _options(current: Evaluation, group: Group, places: Places, asked: Wanted) -> Iterator[Option]:
    described = current.described
    known = _current(current.paths, group, places)
    if known is not None:
        yield replace(known, fails=tuple(sorted(breaks(current, group))))
    prefixes = described.estate.destinations[group.to].prefixes
    if prefixes and not any(map(is_public, prefixes)):
        yield from firewalls_before_lines(described, group, places)
        return
    if 6 in group.families:
        yield from _ipv6(described, group)
    if 4 not in group.families:
        return
    for name, offer in described.catalogue.offers.items():
        kind = KINDS[offer.kind]
        if issubclass(kind, PrivateEndpoint):
            yield from _endpoint(places, group, name, kind)
        elif issubclass(kind, Translating) and not kind.by_name_only and offer.ports is not None:
            for option in _translators(described, group, name, places):
                yield option
                yield from _beside_ipv6(described, group, option)
            yield from _behind(described, group, name, places)
            for centre in places.centres:
                yield from _shared(described, group, name, places, centre)
    yield from _own_addresses(described, group, asked)


def kept(unit: Unit) -> Unit:
    """The unit with its current path as the only option; with none where a subnet has several paths at once."""
    return Unit(unit.group, tuple(one for one in unit.options if one.name == CURRENT))


def _current(paths: Paths, group: Group, places: Places) -> Option | None:
    """The path that a group has; None where part of it does not arrive, or a subnet has several paths at once."""
    estate = paths.described.estate
    own = [path for name in group.examples for path in paths.by_flow[name] if group.holds(path)]
    if not own or not all(path.trace.verdict.arrives for path in own):
        return None
    reached = {path.subnet for path in own}
    if any(name not in reached for name in group.subnets):
        return None
    if not any(estate.exits[name].needs_offer for path in own for name in path.trace.exits if name in estate.exits):
        return Option(CURRENT, (), first=_defaulted(group, own), also=passed(paths, places, group))
    sites, first = list[Site](), list[str]()
    for subnet in group.subnets:
        mine = [path for path in paths.by_flow[group.flows[0]] if group.holds(path) and path.subnet == subnet]
        if len(mine) != 1:
            return None
        site = _last_site(places, mine[0])
        if site is None:
            return None
        sites.append(site)
        first.append(mine[0].trace.exits[0])
    return Option(CURRENT, tuple(sites), first=tuple(first), also=passed(paths, places, group, sites))


def _defaulted(group: Group, own: list[FlowPath]) -> tuple[str, ...]:
    """What subnets' routes must name so that a path outlasts another default; empty where routes of its own do."""
    first: dict[str, str] = {}
    for path in own:
        hop = path.trace.hops[0] if path.trace.hops else None
        if hop is not None and not hop.by_name and (hop.route is None or not hop.route.prefix.prefixlen):
            first[path.subnet] = hop.exit
    return tuple(first.get(subnet, "") for subnet in group.subnets) if first else ()


def _last_site(places: Places, path: FlowPath) -> Site | None:
    """The site that a path's traffic is counted at: the exit that rewrote its source, else the last that is paid.

    None where nothing is paid, unless IPv6 goes straight out.
    """
    trace, exits = path.trace, places.described.estate.exits
    paid = [name for name in trace.exits if name in exits and exits[name].offer_name]
    if not paid:
        last = trace.exits[-1] if trace.exits else ""
        if last not in exits or not exits[last].untranslated_ipv6:
            return None
        return Site(Role.IPV6_OUT, "", exits[last].of_network or "", None, existing=last)
    return places.existing(trace.source.exit if trace.source.exit in paid else paid[-1])


def _others(group: Group, places: Places, options: list[Option], names: list[str]) -> Iterator[Option]:
    """Other translating exits that exist and that all subnets of a group reach, if routes name them."""
    described = places.described
    to = described.estate.destinations[group.to]
    known = {site.existing for one in options for site in one.sites if site.existing and len(set(one.sites)) == 1}
    if not to.prefixes or 4 not in group.families:
        return
    addresses: list[Address] = [one.network_address for one in to.prefixes if one.version == 4]
    for name in names if addresses else ():
        if name in known or places.existing(name).role is not Role.TRANSLATES:
            continue
        traces = [
            trace
            for subnet in group.subnets
            for address in addresses[:1]
            for trace, _ in places.tracer.through(subnet, Packet(address, group.to), name)
        ]
        if len(traces) != len(group.subnets) or not all(one.verdict.arrives for one in traces):
            continue
        if any(one.source.exit != name or one.onward is not Onward.INTERNET for one in traces):
            continue
        site, subnets = places.existing(name), len(group.subnets)
        beside = dict.fromkeys(one for trace in traces for one in trace.exits if one != name)
        also = tuple(places.existing(one) for one in beside if described.estate.exits[one].offer_name)
        yield Option(f"through {name}", (site,) * subnets, first=(name,) * subnets, also=also)


def _endpoint(places: Places, group: Group, name: str, kind: type[PrivateEndpoint]) -> Iterator[Option]:
    """A private endpoint, where one reaches the service from this network: in one zone, or in several."""
    described = places.described
    estate, offer, to, network = described.estate, described.catalogue.offers[name], group.to, group.network
    if not estate.destinations[to].service or not offer.leads_to(to) or not estate.endpoint_reaches(network, to):
        return
    existing = endpoints_of(described, offer.kind).get((network, to), "")
    if existing and estate.exits[existing].offer_name != name:
        existing = ""
    every: list[tuple[str, ...]] = [()]
    if existing:
        every = [estate.exits[existing].in_subnets]
    elif not kind.entered_by_route:
        every = _some_zones(tuple(sorted(_by_zone(described, to, network).values())))
    for inside in every:
        site = places.existing(existing) if existing else Site(Role.ENDPOINT, name, network, None, to, inside)
        zones = {estate.subnets[one].zone for one in inside}
        where = f" in {some(sorted(str(zone) for zone in zones))} alone" if inside != every[0] else ""
        yield Option(f"{name} ({offer.kind}){where}", (site,) * len(group.subnets))


_FEW_ZONES = 3


def _some_zones(subnets: tuple[str, ...]) -> list[tuple[str, ...]]:
    """All of these, one in each zone, and some of them: every choice of few, each by itself of many."""
    sizes = range(len(subnets) - 1, 0, -1) if len(subnets) <= _FEW_ZONES else [1]
    return [subnets, *(chosen for size in sizes if size < len(subnets) for chosen in combinations(subnets, size))]


def _by_zone(described: Described, to: str, network: str) -> dict[str | None, str]:
    """A subnet in each zone from which a destination is sent to."""
    estate = described.estate
    senders = [estate.workloads[workload].subnets for workload, destination in estate.outward_ends if destination == to]
    names = [name for subnets in senders for name in subnets if estate.subnets[name].network == network]
    return {estate.subnets[name].zone: name for name in reversed(names)}


def _translators(described: Described, group: Group, name: str, places: Places) -> Iterator[Option]:
    """An offer in one zone, in each zone, or for the network."""
    network, offer = group.network, described.catalogue.offers[name]
    if offer.scope == "region":
        site = places.at(name, network, None)
        yield Option(f"{name} for the network", (site,) * len(group.subnets))
        if (inner := places.behind(name, network, None)) != site and places.wants(network):
            # One in a subnet of its own serves what a firewall passes on, and other subnets directly.
            yield Option(f"{name} in a subnet of {network}", (inner,) * len(group.subnets))
        return
    for zone in places.zones(network):
        site = places.at(name, network, zone)
        where_it_is = f"{name} in zone {zone}" if zone else f"{name} in {network}"
        yield Option(where_it_is, (site,) * len(group.subnets))
    zones = [described.estate.subnets[one].zone for one in group.subnets]
    if len(set(zones)) > 1:
        sites = tuple(places.at(name, network, zone) for zone in zones)
        yield Option(f"{name} in each zone", sites)


def _behind(described: Described, group: Group, name: str, places: Places) -> Iterator[Option]:
    """An offer behind an exit that something of the network has to pass, and that does not translate itself."""
    offers, network = described.catalogue.offers, group.network
    if not places.wants(network) or places.is_wanted(network, name):
        return
    zones = [described.estate.subnets[one].zone for one in group.subnets]
    for existing in places.existing_firewalls(network):
        zone = None if offers[name].scope == "region" else places.existing(existing).zone
        site = places.behind(name, network, zone)
        wall_there = places.before(existing, site)
        yield _through_walls(f"{existing} before {name}", [site] * len(zones), [wall_there] * len(zones))
    for wall, offer in offers.items():
        if not places.is_wanted(network, wall):
            continue
        words = f"{wall} before {name}"
        if "region" in (offer.scope, offers[name].scope):
            sites = [places.behind(name, network, None)] * len(zones)
            yield _chain(places, wall, f"{words} for the network", sites)
            continue
        zone = places.busiest(network)
        where_it_is = f"{words} in zone {zone}" if zone else f"{words} in {network}"
        yield _chain(places, wall, where_it_is, [places.behind(name, network, zone)] * len(zones))
        if len(set(zones)) > 1:
            sites = [places.behind(name, network, one) for one in zones]
            yield _chain(places, wall, f"{words} in each zone", sites)


def _chain(places: Places, wall: str, name: str, sites: list[Site]) -> Option:
    return _through_walls(name, sites, [places.firewall(wall, one) for one in sites])


def _through_walls(name: str, sites: list[Site], walls: list[Site]) -> Option:
    return Option(name, tuple(sites), before=tuple(walls), also=tuple(dict.fromkeys(walls)))


def _shared(described: Described, group: Group, name: str, places: Places, centre: str) -> Iterator[Option]:
    """An offer in one network, with a hub that brings it the others' traffic."""
    hub = places.hub(centre)
    if hub is None:
        return
    offer = described.catalogue.offers[name]
    zone = None if offer.scope == "region" else places.busiest(centre)
    site, count = places.behind(name, centre, zone), len(group.subnets)
    also = (hub,) if hub.offer else ()
    how = f"{name} in {site.network}, through a hub"
    if group.network == centre:
        # A new one beside what exists there may serve its own network too.
        if site.apart:
            yield Option(f"another {name} in {site.network}", (site,) * count)
        return
    yield Option(how, (site,) * count, before=(hub,) * count, also=also)


def _own_addresses(described: Described, group: Group, asked: Wanted) -> Iterator[Option]:
    """Straight out by the network's own internet exit, with a public IPv4 address on each host of the workloads."""
    estate = described.estate
    if not all(estate.subnets[name].prefix.version == 4 for name in group.subnets):
        return
    site = Site(Role.PUBLIC_HOSTS, "", group.network, None)
    workloads = {estate.flows[name].from_ for name in group.flows}
    stated = [estate.workloads[name] for name in workloads]
    allowed = asked.public_hosts or all(one.may_be_public or one.public_address for one in stated)
    fails = () if allowed else (PRIVATE,)
    yield Option("a public address on each host", (site,) * len(group.subnets), fails, own_addresses=True)


def _beside_ipv6(described: Described, group: Group, option: Option) -> Iterator[Option]:
    """The same for those subnets alone that let IPv6 out today; where all do, or none, other options say so."""
    if 6 not in group.families:
        return
    estate = described.estate
    out = {name for name, one in estate.exits.items() if one.untranslated_ipv6 and one.of_network == group.network}
    tables = [estate.route_tables.get(estate.table_of(one) or "", {}) for one in group.subnets]
    exits = [route if isinstance(route := table.get(DEFAULT_V6), str) else "" for table in tables]
    if any(one in out for one in exits) and not all(one in out for one in exits):
        sites = (
            Site(Role.IPV6_OUT, "", group.network, None, existing=exit_) if exit_ in out else site
            for exit_, site in zip(exits, option.sites, strict=True)
        )
        yield replace(option, name=f"{option.name}, and IPv6 straight out where it goes so", sites=tuple(sites))


def _ipv6(described: Described, group: Group) -> Iterator[Option]:
    """Straight out without translation, where every subnet has IPv6."""
    estate = described.estate
    if not all(any(one.version == 6 for one in estate.subnets[name].prefixes) for name in group.subnets):
        return
    known = [n for n, one in estate.exits.items() if one.untranslated_ipv6 and one.of_network == group.network]
    site = Site(Role.IPV6_OUT, "", group.network, None, existing=known[0] if known else "")
    yield Option("IPv6 straight out", (site,) * len(group.subnets))
