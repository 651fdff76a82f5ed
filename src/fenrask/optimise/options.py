"""What there is to choose from: flows grouped to units, and the lanes of each; one function a family of lanes."""

from collections.abc import Iterator
from fractions import Fraction

from fenrask.designs.endpoints import endpoints_of
from fenrask.estate import BY_NAME, KINDS, Described, Needs, Onward
from fenrask.evaluation import broken_needs
from fenrask.optimise.problem import AS_IT_IS, Group, Option, Site, Unit
from fenrask.optimise.sites import Places, passed, standing_site
from fenrask.prefixes import is_public
from fenrask.routing import FlowPath, Paths

__all__ = ["ipv6_options", "kept", "own_address_options", "units_of"]


def units_of(paths: Paths) -> list[Unit]:
    """Every group of flows, with its lanes."""
    described = paths.described
    estate = described.estate
    flows: dict[tuple[str, tuple[str, ...], str, bool], list[str]] = {}
    for name, flow in estate.flows.items():
        workload = estate.workloads[flow.from_]
        by_network: dict[str, list[str]] = {}
        for subnet in workload.subnets:
            by_network.setdefault(estate.subnets[subnet].network, []).append(subnet)
        for network, subnets in by_network.items():
            flows.setdefault((network, tuple(subnets), flow.to, workload.public_address), []).append(name)
    found, places = [], Places(described)
    for (network, some, to, public), names in flows.items():
        needs = estate.needs_of(estate.flows[names[0]])
        for name in names[1:]:
            needs = needs.joined(estate.needs_of(estate.flows[name]))
        for family, part in _families(described, to):
            group = Group(tuple(names), to, network, some, needs, public, family, part)
            found.append(Unit(group, tuple(_options(paths, group, places))))
    return found


def _families(described: Described, to: str) -> Iterator[tuple[int | None, Fraction]]:
    """The IP versions of a destination, with the share of its prefixes of each; None where all go one way."""
    stated = described.estate.destinations[to]
    versions = [prefix.version for prefix in stated.prefixes]
    if stated.service or 6 not in versions:
        yield None, Fraction(1)
        return
    for version in sorted(set(versions)):
        yield version, Fraction(versions.count(version), len(versions))


def _options(paths: Paths, group: Group, places: Places) -> Iterator[Option]:
    described = paths.described
    own = [path for name in group.flows for path in paths.by_flow[name] if group.holds(path)]
    if _stays(described, own):
        fails = tuple(_fails_as_it_is(described, own, group.needs))
        yield Option(AS_IT_IS, (), fails, also=passed(paths, group))
    prefixes = described.estate.destinations[group.to].prefixes
    if group.public or (prefixes and not any(map(is_public, prefixes))):
        return
    if group.family == 6:
        yield from ipv6_options(described, group)
        return
    for name, offer in described.catalogue.offers.items():
        if offer.kind.endswith("-endpoint"):
            yield from _endpoint(described, group, name)
        elif KINDS[offer.kind].model_fields.get("addresses") and offer.kind != "forward-proxy":
            yield from _translators(described, group, name, places)
            yield from _behind(described, group, name, places)
            yield from _shared(described, group, name, places)
    yield from own_address_options(described, group)


def _stays(described: Described, own: list[FlowPath]) -> bool:
    """Whether a flow arrives by exits that no choice puts up or takes down."""
    exits = described.estate.exits
    return bool(own) and all(
        path.trace.verdict.arrives and not any(exits[name].needs_offer for name in path.trace.exits) for path in own
    )


def _fails_as_it_is(described: Described, own: list[FlowPath], needs: Needs) -> Iterator[str]:
    if needs.off_internet and any(path.trace.onward is Onward.INTERNET for path in own):
        yield "off_internet"
    if needs.inspected:
        yield "inspected"
    if needs.fixed_source and any(
        not described.estate.exits[name].fixed_source for path in own for name in path.trace.exits
    ):
        yield "fixed_source"


def _endpoint(described: Described, group: Group, name: str) -> Iterator[Option]:
    offer, to, network, subnets = described.catalogue.offers[name], group.to, group.network, group.subnets
    if not described.estate.destinations[to].service or not offer.leads_to(to):
        return
    existing = endpoints_of(described, offer.kind).get((network, to), "")
    inside: tuple[str, ...] = ()
    if offer.kind == "in-subnet-endpoint":
        inside = tuple(sorted(_by_zone(described, to, network).values()))
        if existing:
            inside = described.estate.exits[existing].in_subnets
    site = Site(offer.kind, name, network, None, to, inside, existing)
    fails = ["inspected"] if group.needs.inspected else []
    if group.needs.survives and inside:
        zones = {described.estate.subnets[one].zone for one in inside}
        if len(zones) == 1 and any(described.estate.subnets[one].zone not in zones for one in subnets):
            fails.append("survives")
    yield Option(f"{name} ({offer.kind})", (site,) * len(subnets), tuple(fails))


def _by_zone(described: Described, to: str, network: str) -> dict[str | None, str]:
    """A subnet in each zone from which a destination is sent to."""
    estate = described.estate
    senders = [estate.workloads[flow.from_].subnets for flow in estate.flows.values() if flow.to == to]
    names = [name for subnets in senders for name in subnets if estate.subnets[name].network == network]
    return {estate.subnets[name].zone: name for name in reversed(names)}


def _translators(described: Described, group: Group, name: str, places: Places) -> Iterator[Option]:
    """An offer in one zone, in each zone, or for the network."""
    network, offer = group.network, described.catalogue.offers[name]
    fails, singles = _fails(described, group, name, KINDS[offer.kind].inspects), _singles(described, group, name)
    if offer.scope == "region":
        site = places.standing(name, network, None)
        yield Option(f"{name} for the network", (site,) * len(group.subnets), fails, singles)
        return
    for zone in places.zones(network):
        site = places.standing(name, network, zone)
        where_it_is = f"{name} in zone {zone}" if zone else f"{name} in {network}"
        alone = _falls_with(described, group, zone)
        yield Option(where_it_is, (site,) * len(group.subnets), (*fails, *alone), singles)
    zones = [described.estate.subnets[one].zone for one in group.subnets]
    if len(set(zones)) > 1:
        sites = tuple(places.standing(name, network, zone) for zone in zones)
        yield Option(f"{name} in each zone", sites, fails, singles)


def _behind(described: Described, group: Group, name: str, places: Places) -> Iterator[Option]:
    """An offer behind a firewall that inspects and does not translate, where anything of the network is inspected."""
    offers, network = described.catalogue.offers, group.network
    if network not in places.inspected or KINDS[offers[name].kind].inspects:
        return
    fails, singles = _fails(described, group, name, True), _singles(described, group, name)
    zones = [described.estate.subnets[one].zone for one in group.subnets]
    for wall, offer in offers.items():
        if offer.kind != "inspecting-firewall":
            continue
        words = f"{wall} before {name}"
        if "region" in (offer.scope, offers[name].scope):
            site = places.behind(name, wall, network, None)
            yield Option(f"{words} for the network", (site,) * len(zones), fails, singles)
            continue
        zone = places.busiest(network)
        site = places.behind(name, wall, network, zone)
        where_it_is = f"{words} in zone {zone}" if zone else f"{words} in {network}"
        yield Option(where_it_is, (site,) * len(zones), (*fails, *_falls_with(described, group, zone)), singles)
        if len(set(zones)) > 1:
            sites = tuple(places.behind(name, wall, network, one) for one in zones)
            yield Option(f"{words} in each zone", sites, fails, singles)


def _shared(described: Described, group: Group, name: str, places: Places) -> Iterator[Option]:
    """An offer in the network with the most hosts, with a hub that brings it the others' traffic."""
    if not places.centre:
        return
    site, inspects = places.shared(name), KINDS[described.catalogue.offers[name].kind].inspects
    fails = (*_fails(described, group, name, inspects), *_falls_with(described, group, site.zone))
    how = f"{name} in {site.network} by a hub"
    yield Option(how, (site,) * len(group.subnets), fails, _singles(described, group, name))


def _fails(described: Described, group: Group, name: str, inspects: bool) -> tuple[str, ...]:
    """The needs that no site of a translating offer meets, wherever it stands."""
    stated, needs = described.estate.destinations[group.to], group.needs
    fails = [] if stated.protocol in described.catalogue.offers[name].protocols else ["protocol"]
    fails += ["off_internet"] if needs.off_internet else []
    nameless = needs.inspected == BY_NAME and not stated.names
    fails += ["inspected"] if nameless or (needs.inspected and not inspects) else []
    return tuple(fails)


def _singles(described: Described, group: Group, name: str) -> bool:
    """Whether an offer may have one address alone, since it does not tie hosts to one of several."""
    ports = described.catalogue.offers[name].ports
    ties = ports is not None and ports.ties_hosts
    return group.needs.one_source_per_host and not ties


def _falls_with(described: Described, group: Group, zone: str | None) -> tuple[str, ...]:
    """`survives`, where hosts in other zones would be cut off with this one."""
    zones = [described.estate.subnets[one].zone for one in group.subnets]
    cut_off = zone is not None and any(one not in (None, zone) for one in zones)
    return ("survives",) if group.needs.survives and cut_off else ()


def own_address_options(described: Described, group: Group) -> Iterator[Option]:
    """Straight out by the network's own door, with a public IPv4 address on each host of the workloads."""
    if not all(described.estate.subnets[name].prefix.version == 4 for name in group.subnets):
        return
    site = Site("direct-internet", "", group.network, None)
    needs = group.needs
    fails = [name for name in ("off_internet", "inspected", "max_source_addresses") if getattr(needs, name)]
    yield Option("an address on each host", (site,) * len(group.subnets), tuple(fails), own_addresses=True)


def ipv6_options(described: Described, group: Group) -> Iterator[Option]:
    """Straight out without translation, where every subnet has IPv6."""
    estate = described.estate
    if not all(any(one.version == 6 for one in estate.subnets[name].prefixes) for name in group.subnets):
        return
    known = [
        name for name, one in estate.exits.items() if one.kind == "ipv6-outbound" and one.of_network == group.network
    ]
    site = Site("ipv6-outbound", "", group.network, None, existing=known[0] if known else "")
    fails = [name for name in ("off_internet", "inspected") if getattr(group.needs, name)]
    yield Option("IPv6 straight out", (site,) * len(group.subnets), tuple(fails))


_BY_SIZE = ("max_source_addresses", "one_source_per_host")
"""Needs that hang on how many addresses exits are given."""


def kept(paths: Paths, unit: Unit) -> Unit:
    """The unit with the way that it has as its only lane; with none where a subnet has several ways at once."""
    asis = [option for option in unit.options if not option.sites]
    if asis:
        return Unit(unit.group, tuple(asis))
    described = paths.described
    known = {site.existing: site for option in unit.options for site in option.sites if site.existing}
    sites, first = list[Site](), list[str]()
    for subnet in unit.subnets:
        own = [path for path in paths.by_flow[unit.flows[0]] if unit.holds(path) and path.subnet == subnet]
        if len(own) != 1 or not own[0].trace.verdict.arrives:
            return Unit(unit.group, ())
        trace = own[0].trace
        paid = [name for name in trace.exits if described.estate.exits[name].offer_name]
        last = trace.source.exit if trace.source.kind == "exit" else paid[-1]
        sites.append(known.get(last) or standing_site(described, last))
        first.append(trace.exits[0])
    broken = {one.need for name in unit.flows for one in broken_needs(paths, name)} - {*_BY_SIZE, "arrives"}
    exits = ", ".join(dict.fromkeys(site.existing for site in sites))
    option = Option(
        f"by {exits}, as it is",
        tuple(sites),
        tuple(sorted(broken)),
        first=tuple(first),
        also=passed(paths, unit.group, sites),
    )
    return Unit(unit.group, (option,))
