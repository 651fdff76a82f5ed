"""Where designs put their exits: one translating exit in each network, or in each of its zones."""

from collections import Counter
from typing import Any

from fenrask.designs.draft import DEFAULT, Draft, sending_subnets
from fenrask.estate import Described

__all__ = ["place_exits", "sending_groups"]


def place_exits(draft: Draft, kind: str, stem: str, per_zone: bool) -> None:
    """Put up a translating exit in each network (or zone) that sends, and lead its subnets' default there.

    One for a network stands in the zone with the most hosts, or serves the whole network where the
    offer's scope is the region.
    """
    offer = draft.offer(kind)
    regional = draft.described.catalogue.offers[offer].scope == "region"
    for (network, zone), subnets in sending_groups(draft.described, per_zone and not regional).items():
        exit_data: dict[str, Any] = {"kind": kind, "offer": offer, "addresses": "auto"}
        if regional:
            exit_data["network"] = network
        else:
            exit_data["subnet"] = draft.landing(network, zone)
        name = draft.add(f"{stem}-{network}-{zone}" if per_zone and zone else f"{stem}-{network}", exit_data)
        draft.lead(subnets, DEFAULT, name)


def sending_groups(described: Described, per_zone: bool) -> dict[tuple[str, str | None], list[str]]:
    """The sending subnets by network and zone; without `per_zone` all of a network at its busiest zone."""
    hosts: Counter[str] = Counter()
    for workload in described.estate.workloads.values():
        for name in workload.subnets:
            hosts[name] += workload.hosts // len(workload.subnets)
    groups: dict[tuple[str, str | None], list[str]] = {}
    weights: dict[str, Counter[str | None]] = {}
    for name in sending_subnets(described):
        subnet = described.estate.subnets[name]
        groups.setdefault((subnet.network, subnet.zone), []).append(name)
        weights.setdefault(subnet.network, Counter())[subnet.zone] += hosts[name]
    if per_zone:
        return groups
    merged: dict[tuple[str, str | None], list[str]] = {}
    for (network, _), names in groups.items():
        busiest = weights[network].most_common(1)[0][0]
        merged.setdefault((network, busiest), []).extend(names)
    return merged
