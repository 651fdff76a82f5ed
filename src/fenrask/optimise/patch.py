"""From the lanes that were taken to a patch: sites put up, tables led to them."""

from collections import Counter
from collections.abc import Iterable, Mapping
from typing import Any

from fenrask.designs.contract import Patch
from fenrask.designs.draft import DEFAULT, DEFAULT_V6, Draft
from fenrask.designs.placing import missing_rules, named_rules
from fenrask.errors import NoAnswer
from fenrask.estate import KINDS, Described
from fenrask.optimise.problem import Option, Site, Unit
from fenrask.optimise.programme import AddressChoice

__all__ = ["patch_of"]

_Aim = tuple[str, int | None]
"""A destination, and the IP version where it has prefixes of both."""


def patch_of(
    described: Described,
    taken: Mapping[int, Option],
    units: list[Unit],
    bought: Mapping[Site, AddressChoice],
    stated: bool = False,
    keep: Iterable[str] = (),
) -> Patch:
    """The patch that makes these lanes; a subnet's default leads to the site that most of its units use.

    Addresses are `auto`, which is as many as the day needs; with `stated` at least as many as were chosen. Exits to
    `keep` stay, whether they are used or not.
    """
    used = list(dict.fromkeys(site for option in taken.values() for site in option.distinct))
    draft = Draft(described, kept=[*keep, *(site.existing for site in used if site.existing)])
    senders: dict[Site, list[str]] = {}
    for number, option in taken.items():
        for subnet, site in zip(units[number].subnets, option.sites, strict=False):
            senders.setdefault(site, []).append(subnet)
        if option.own_addresses:
            for name in units[number].flows:
                draft.workloads[described.estate.flows[name].from_] = {"public_address": True}
    entries = {site: _put_up(draft, site, bought.get(site), stated, senders.get(site, [])) for site in used}
    for subnet, by_aim in _routes(taken, units).items():
        network = described.estate.subnets[subnet].network
        default = _default(described, {aim: site for aim, (site, first) in by_aim.items() if not first})
        if default is not None:
            draft.lead([subnet], DEFAULT, entries[default].of(network))
        for aim, (site, first) in by_aim.items():
            if (first or site != default) and not site.subnets:
                for key in _keys_to(described, aim, site):
                    draft.lead([subnet], key, first or entries[site].of(network))
    return draft.patch()


def _keys_to(described: Described, aim: _Aim, site: Site) -> list[str]:
    """What the routes to a destination are named after."""
    destination, family = aim
    prefixes = described.estate.destinations[destination].prefixes
    if not prefixes:
        raise NoAnswer(f"{destination} has no prefix to lead to {site.name}", "Add its prefixes.")
    if site.kind == "ipv6-outbound":
        return [DEFAULT_V6]
    return [str(one) for one in prefixes if one.version == family] if family else [destination]


def _routes(taken: Mapping[int, Option], units: list[Unit]) -> dict[str, dict[_Aim, tuple[Site, str]]]:
    """By subnet and destination: the site to lead to, and the exit to name where the way is kept as it is."""
    found: dict[str, dict[_Aim, tuple[Site, str]]] = {}
    for number, option in taken.items():
        unit = units[number]
        for place, (subnet, site) in enumerate(zip(unit.subnets, option.sites, strict=False)):
            first = option.first[place] if option.first else ""
            found.setdefault(subnet, {})[unit.to, unit.group.family] = (site, first)
    return found


def _default(described: Described, by_aim: Mapping[_Aim, Site]) -> Site | None:
    """The site that takes what no other route of a subnet names: it leads anywhere by IPv4."""
    anywhere = {aim: site for aim, site in by_aim.items() if site.translates or site.kind == "direct-internet"}
    nameless = [site for (to, _), site in anywhere.items() if not described.estate.destinations[to].prefixes]
    translating = Counter(site for site in anywhere.values() if site.translates)
    chosen = nameless or [site for site, _ in translating.most_common(1)]
    return chosen[0] if chosen else None


class _Entry:
    """Where routes to a site lead: the exit, the firewall before it, or for other networks its hub."""

    def __init__(self, network: str, own: str, others: str = "") -> None:
        self._network, self._own, self._others = network, own, others or own

    def of(self, network: str) -> str:
        """The exit that routes of a network lead to."""
        return self._own if network == self._network else self._others


def _put_up(draft: Draft, site: Site, bought: AddressChoice | None, stated: bool, senders: list[str]) -> _Entry:
    """The exit of a site: the one that stands, or a new one."""
    sized: dict[str, Any] = {"addresses": "auto"} if site.translates else {}
    if site.translates and stated and bought is not None:
        sized["at_least"] = bought.number
    if site.existing:
        changed = missing_rules(draft.described, site.existing, site.network)
        if bought is not None and not bought.listed:
            changed |= sized
        if changed:
            draft.exits[site.existing] = changed
        return _Entry(site.network, site.existing)
    if site.kind == "direct-internet":
        return _Entry(site.network, draft.internet_exit(site.network))
    data: dict[str, Any] = {"kind": site.kind, **({"offer": site.offer} if site.offer else {}), **sized}
    if site.behind:
        return _behind_a_firewall(draft, site, data, senders)
    if site.shared:
        return _joined_by_a_hub(draft, site, data, senders)
    return _Entry(site.network, draft.add(*_alone(draft, site, data)))


def _alone(draft: Draft, site: Site, data: dict[str, Any]) -> tuple[str, dict[str, Any]]:
    """A name and the keys of an exit that stands by itself."""
    if site.destination:
        data |= {"destination": site.destination}
        data |= {"subnets": list(site.subnets)} if site.subnets else {"network": site.network}
        return f"endpoint-{site.destination}-{site.network}", data
    if not site.translates:
        return f"six-{site.network}", data | {"network": site.network}
    if site.zone or "network" not in KINDS[site.kind].model_fields:
        data |= {"subnet": draft.landing(site.network, site.zone)}
    else:
        data |= {"network": site.network}
    if KINDS[site.kind].inspects:
        data |= named_rules(draft.described, site.network)
    return f"{site.offer}-{_where(site)}", data


def _where(site: Site) -> str:
    return "-".join(filter(None, (site.network, site.zone)))


def _behind_a_firewall(draft: Draft, site: Site, data: dict[str, Any], senders: list[str]) -> _Entry:
    """The firewall lets no answer pass that it did not see asked: what stands behind it sends answers back to it."""
    inner = draft.standing("inner", site.network, site.zone)
    outer = draft.standing("outer", site.network, site.zone)
    inspecting = {"kind": "inspecting-firewall", "offer": site.behind, "subnet": inner, "rewrites_toward": []}
    rules = named_rules(draft.described, site.network)
    wall = draft.add(f"{site.behind}-{_where(site)}", {**inspecting, **rules})
    draft.route(inner, DEFAULT, draft.add(f"{site.offer}-behind-{_where(site)}", data | {"subnet": outer}))
    draft.route(outer, DEFAULT, draft.internet_exit(site.network))
    for name in senders:
        draft.route(outer, str(draft.estate.subnets[name].prefix), wall)
    return _Entry(site.network, wall)


def _joined_by_a_hub(draft: Draft, site: Site, data: dict[str, Any], senders: list[str]) -> _Entry:
    """The hub's own table leads to the exit, whose subnet leads the answers back to the hub."""
    others = sorted({draft.estate.subnets[name].network for name in senders} - {site.network})
    landing = draft.standing("shared", site.network, site.zone)
    draft.route(landing, DEFAULT, draft.internet_exit(site.network))
    rules = named_rules(draft.described, site.network, *others) if KINDS[site.kind].inspects else {}
    exit_name = draft.add(f"{site.offer}-shared", {**data, **rules, "subnet": landing})
    if not others:
        return _Entry(site.network, exit_name)
    table = draft.new_table("hub-shared", {DEFAULT: exit_name})
    paid = {"offer": site.hub} if site.hub else {}
    hub = draft.add("hub-shared", {"kind": "hub", "networks": [site.network, *others], "routes": table, **paid})
    for network in others:
        for prefix in draft.estate.networks[network].prefixes:
            if prefix.version == 4:
                draft.route(landing, str(prefix), hub)
    return _Entry(site.network, exit_name, hub)
