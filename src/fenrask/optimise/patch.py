"""From the options that were taken to a patch: exits put up, tables routed to them."""

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from fenrask.designs.contract import Patch
from fenrask.designs.draft import DEFAULT, DEFAULT_V6, Draft
from fenrask.designs.held import idle_addresses
from fenrask.designs.placing import missing_rules
from fenrask.designs.topologies import (
    NewExit,
    firewall_before,
    firewall_before_line,
    hub_before,
    in_subnet_endpoint,
    ipv6_outbound,
    lead_on,
    pass_to_line,
    routed_endpoint,
    several,
    translator,
)
from fenrask.errors import NoAnswer
from fenrask.estate import Described
from fenrask.optimise.problem import Option, Role, Site, Unit
from fenrask.optimise.programme import AddressChoice
from fenrask.prefixes import Address, is_public

__all__ = ["Chosen", "exits_of", "patch_and_exits"]


@dataclass(frozen=True)
class Chosen:
    """The option of each unit by its number, and the addresses of each translating site where they are decided."""

    taken: Mapping[int, Option]
    units: Sequence[Unit]
    bought: Mapping[Site, AddressChoice] = field(default_factory=dict)


def patch_and_exits(
    described: Described, chosen: Chosen, stated: bool = False, keep: Iterable[str] = ()
) -> tuple[Patch, dict[str, Site]]:
    """The patch that makes what is chosen, and the sites by the names of their exits in it.

    A subnet's default route names what most of its units use. Addresses are `auto`, which is as many as the day needs;
    with `stated` at least as many as were chosen. Exits to `keep` stay, whether they are used or not.
    """
    made = _Made(described, chosen, stated, keep)
    for subnet, by_destination in made.routes().items():
        default = made.default_of(by_destination)
        if default:
            made.draft.lead([subnet], DEFAULT, default)
        lets_ipv6_out = any(site and site.role is Role.IPV6_OUT for site, _ in by_destination.values())
        lets_ipv6_out |= made.draft.has_ipv6_route(subnet)
        for to, (site, entry) in by_destination.items():
            by_name = site is not None and bool(site.subnets)
            if entry and not by_name:
                for key in _keys_to(described, to, site, entry == default, lets_ipv6_out):
                    made.draft.lead([subnet], key, entry)
    return made.draft.patch(), made.sites


def exits_of(described: Described, chosen: Chosen) -> dict[str, Site]:
    """The sites by the names that their exits get in the patch."""
    return _Made(described, chosen, False, ()).sites


class _Made:
    """The exits of the sites that are used, and what routes to them name."""

    def __init__(self, described: Described, chosen: Chosen, stated: bool, keep: Iterable[str]) -> None:
        taken, units = chosen.taken, chosen.units
        self._taken, self._units, self._bought, self._stated = taken, units, chosen.bought, stated
        passed = dict.fromkeys(site for option in taken.values() for site in (*option.distinct, *option.before))
        # The first of several has the subnet that there is, and the others what is left.
        used = sorted(passed, key=lambda site: site.number)
        self.draft = Draft(described, kept=[*keep, *(site.existing for site in used if site.existing)])
        self.names: dict[Site, str] = {}
        self._held = set[Address]()
        behind = {site for option in taken.values() if option.before for site in option.sites}
        self._subnets: dict[Site, str] = {}
        self._networks: dict[Site, set[str]] = {site: set() for site in used}
        for number, option in taken.items():
            for site in {*option.sites}:
                self._networks[site].add(units[number].network)
        for site in used:
            # What is new before something needs to know what, and so does a hub.
            if site.role is not Role.JOINS and (site.existing or site.role is not Role.PASSES):
                self.names[site] = self._put_up(site, site in behind)
        for before, (site, users) in self._chains().items():
            self._chain(before, site, users)
        for number, option in taken.items():
            if option.own_addresses:
                for name in units[number].flows:
                    self.draft.workloads[described.estate.flows[name].from_] = {"public_address": True}

    @property
    def sites(self) -> dict[str, Site]:
        """The sites by the names of their exits; those that exist and that are passed on the way, too."""
        beside = (site for option in self._taken.values() for site in option.distinct if site.existing)
        return {site.existing: site for site in beside} | {name: site for site, name in self.names.items()}

    def _chain(self, before: Site, site: Site, users: list[tuple[str, str]]) -> None:
        """What is before a site sends on to it, and its replies come back so: where it exists, as where it is new."""
        if before not in self.names:
            self.names[before] = self._put_before(before, site, users)
        elif site.translates:
            self._lead_on(before, site, users)
        else:
            self._let_pass(before, site, users)

    def _chains(self) -> dict[Site, tuple[Site, list[tuple[str, str]]]]:
        """What is before other sites: the site behind it, the subnets that use it, each with where to."""
        found: dict[Site, tuple[Site, list[tuple[str, str]]]] = {}
        for number, option in self._taken.items():
            for place, before in enumerate(option.before):
                user = (self._units[number].subnets[place], self._units[number].to)
                found.setdefault(before, (option.sites[place], []))[1].append(user)
        return found

    def _put_up(self, site: Site, is_behind: bool) -> str:
        """The exit of a site: the one that exists, or a new one."""
        draft, sized = self.draft, self._sized(site)
        if site.existing:
            changed = missing_rules(draft.described, site.existing, site.network) | sized | self._several(site)
            if changed:
                draft.change(site.existing, changed)
            return site.existing
        if site.role is Role.PUBLIC_HOSTS:
            return draft.internet_exit(site.network)
        if site.role is Role.IPV6_OUT:
            return ipv6_outbound(draft, site.network)
        if site.role is Role.ENDPOINT:
            if site.subnets:
                return in_subnet_endpoint(draft, site.offer, site.subnets, site.network, site.destination)
            return routed_endpoint(draft, site.offer, site.network, site.destination)
        where = "-".join(filter(None, (site.network, site.zone)))
        own = "outer" if is_behind or site.apart else ""
        networks = self._networks[site]
        new = NewExit(site.offer, site.network, site.zone, f"{site.offer}-{where}", sized | self._several(site))
        name, subnet = translator(draft, new, own, tuple(sorted(networks)), site.number)
        self._subnets[site] = subnet
        return name

    def _several(self, site: Site) -> dict[str, Any]:
        """The machines or nodes of a site that has several, and where the second one is."""
        return several(self.draft, site.offer, site.units, site.network, site.standby) if site.units > 1 else {}

    def _sized(self, site: Site) -> dict[str, Any]:
        """The addresses of a translating site; those that are listed stay so."""
        choice = self._bought.get(site)
        if not site.translates or (site.existing and (choice is None or choice.listed)):
            return {}
        if choice is not None and choice.held:
            return {"addresses": self._from_held(site, choice.number)}
        if self._stated and choice is not None:
            return {"addresses": "auto", "at_least": choice.number}
        return {"addresses": "auto"}

    def _from_held(self, site: Site, number: int) -> list[str] | str:
        """So many held addresses that no other exit has."""
        estate = self.draft.estate
        network = estate.networks.get(site.network)
        region = network.region if network else ""
        idle = [
            one for one in idle_addresses(self.draft.described, self.draft.retired, region) if one not in self._held
        ]
        if len(idle) < number:
            return "auto"
        self._held |= {*idle[:number]}
        return [str(one) for one in idle[:number]]

    def _put_before(self, before: Site, site: Site, users: list[tuple[str, str]]) -> str:
        senders, destinations = ([one[place] for one in users] for place in (0, 1))
        where = "-".join(filter(None, (before.network, before.zone)))
        new = NewExit(before.offer, before.network, before.zone, f"{before.offer}-{where}", self._several(before))
        if site.role is Role.PASSES:
            return firewall_before_line(self.draft, new, site.existing, senders, destinations)
        behind = (self.names[site], self._subnet_of(site))
        if before.onward:
            return firewall_before(self.draft, new, behind, senders)
        networks = [self.draft.estate.subnets[one].network for one in senders]
        return hub_before(self.draft, site.network, networks, *behind)

    def _let_pass(self, wall: Site, line: Site, users: list[tuple[str, str]]) -> None:
        """Let a firewall that translates what goes to the internet pass on what goes to a line."""
        senders, destinations = ([one[place] for one in users] for place in (0, 1))
        firewall = (self.names[wall], self._subnet_of(wall))
        pass_to_line(self.draft, firewall, line.existing, senders, destinations)

    def _lead_on(self, wall: Site, site: Site, users: list[tuple[str, str]]) -> None:
        """Send what an existing firewall passes on to another site, whose replies come back through it."""
        behind = (self.names[site], self._subnet_of(site))
        lead_on(self.draft, wall.existing, behind, [subnet for subnet, _ in users])

    def _subnet_of(self, site: Site) -> str:
        known = self._subnets.get(site)
        return known if known is not None else next(iter(self.draft.estate.exits[site.existing].in_subnets), "")

    def routes(self) -> dict[str, dict[str, tuple[Site | None, str]]]:
        """By subnet and destination: the site that is used, and the exit to name."""
        found: dict[str, dict[str, tuple[Site | None, str]]] = {}
        for number, option in self._taken.items():
            unit = self._units[number]
            for place, subnet in enumerate(unit.subnets):
                entry = option.entry(place)
                if entry is not None:
                    site = option.sites[place] if option.sites else None
                    name = self.names[entry] if isinstance(entry, Site) else str(entry)
                    found.setdefault(subnet, {})[unit.to] = (site, name)
        return found

    def default_of(self, by_destination: Mapping[str, tuple[Site | None, str]]) -> str:
        """What takes all that no other route of a subnet names: it leads anywhere by IPv4."""
        destinations = self.draft.estate.destinations
        anywhere = {
            to: (site, entry)
            for to, (site, entry) in by_destination.items()
            if site is not None and site.role in (Role.TRANSLATES, Role.PUBLIC_HOSTS)
        }
        nameless = [entry for to, (_, entry) in anywhere.items() if not destinations[to].prefixes]
        translating = Counter(entry for site, entry in anywhere.values() if site.translates)
        chosen = nameless or [entry for entry, _ in translating.most_common(1)]
        return chosen[0] if chosen else ""


def _keys_to(
    described: Described, destination: str, site: Site | None, is_default: bool, lets_ipv6_out: bool
) -> list[str]:
    """What the routes to a destination are named after.

    is_default: whether its exit takes all that no other route names. IPv6 that something lets out is kept from it, so
    that it falls back to the exit that was chosen.
    """
    prefixes = described.estate.destinations[destination].prefixes
    if not prefixes and not is_default:
        what = site.name if site else "its current path"
        raise NoAnswer(f"{destination} has no prefix to route to {what}", "Add its prefixes.")
    if site is not None and site.role is Role.IPV6_OUT:
        return [DEFAULT_V6]
    # What lines announce is more specific than any default: a private destination is named.
    if is_default and (not prefixes or any(map(is_public, prefixes))):
        return [str(one) for one in prefixes if one.version == 6] if lets_ipv6_out else []
    return [destination]
