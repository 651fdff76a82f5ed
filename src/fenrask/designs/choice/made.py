"""From the lanes that were taken to a patch: sites put up, tables led to them."""

from collections import Counter
from collections.abc import Mapping
from typing import Any

from fenrask.designs.choice.lanes import Lane, Site, Unit
from fenrask.designs.choice.model import Holding
from fenrask.designs.contract import Patch
from fenrask.designs.draft import DEFAULT, Draft
from fenrask.designs.placing import missing_rules, named_rules
from fenrask.errors import NoAnswer
from fenrask.estate import Described

__all__ = ["patch_of"]


def patch_of(
    described: Described,
    taken: Mapping[int, Lane],
    units: list[Unit],
    held: Mapping[Site, Holding],
    stated: bool = False,
) -> Patch:
    """The patch that makes these lanes; a subnet's default leads to the site that most of its units use.

    Addresses are `auto`, which is as many as the day needs; with `stated` at least as many as were chosen.
    """
    used = list(dict.fromkeys(site for lane in taken.values() for site in lane.distinct))
    draft = Draft(described, kept=[site.existing for site in used if site.existing])
    names = {site: _put_up(draft, site, held.get(site), stated) for site in used}
    for subnet, by_destination in _routes(taken, units).items():
        default = _default(described, by_destination)
        if default is not None:
            draft.lead([subnet], DEFAULT, names[default])
        for destination, site in by_destination.items():
            if site != default and not site.subnets:
                if not described.estate.destinations[destination].prefixes:
                    raise NoAnswer(f"{destination} has no prefix to lead to {names[site]}", "Add its prefixes.")
                draft.lead([subnet], destination, names[site])
    return draft.patch()


def _routes(taken: Mapping[int, Lane], units: list[Unit]) -> dict[str, dict[str, Site]]:
    """By subnet and destination: the site to lead to."""
    found: dict[str, dict[str, Site]] = {}
    for number, lane in taken.items():
        unit = units[number]
        for subnet, site in zip(unit.subnets, lane.sites, strict=False):
            found.setdefault(subnet, {})[unit.to] = site
    return found


def _default(described: Described, by_destination: Mapping[str, Site]) -> Site | None:
    """The translating site that takes what no other route of a subnet names."""
    nameless = [site for to, site in by_destination.items() if not described.estate.destinations[to].prefixes]
    translating = Counter(site for site in by_destination.values() if site.translates)
    chosen = [site for site in nameless if site.translates] or [site for site, _ in translating.most_common(1)]
    return chosen[0] if chosen else None


def _put_up(draft: Draft, site: Site, held: Holding | None, stated: bool) -> str:
    """The exit of a site: the one that stands, or a new one."""
    sized: dict[str, Any] = {"addresses": "auto"}
    if stated and held is not None:
        sized["at_least"] = held.number
    if site.existing:
        changed = missing_rules(draft.described, site.existing, site.network)
        if held is not None and not held.listed:
            changed |= sized
        if changed:
            draft.exits[site.existing] = changed
        return site.existing
    where = "-".join(filter(None, (site.network, site.zone)))
    data: dict[str, Any] = {"kind": site.kind, "offer": site.offer}
    if site.translates:
        data |= sized
        data |= {"subnet": draft.landing(site.network, site.zone)} if site.zone else {"network": site.network}
        if not site.zone and "network" not in _keys(site.kind):
            data["subnet"] = draft.landing(site.network, None)
        if site.kind == "inspecting-firewall":
            data |= named_rules(draft.described, site.network)
        return draft.add(f"{site.offer}-{where}", data)
    data |= {"destination": site.destination}
    data |= {"subnets": list(site.subnets)} if site.subnets else {"network": site.network}
    return draft.add(f"endpoint-{site.destination}-{site.network}", data)


def _keys(kind: str) -> set[str]:
    from fenrask.estate import KINDS

    return set(KINDS[kind].model_fields)
