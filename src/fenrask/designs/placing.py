"""Who sends, by network and zone; and the rules that a firewall for them needs."""

from collections import Counter
from typing import Any

import numpy as np

from fenrask.designs.draft import sending_subnets
from fenrask.estate import BY_NAME, Described, Passing

__all__ = ["centres", "missing_rules", "named_rules", "sending_groups"]


def named_rules(described: Described, *networks: str) -> dict[str, Any]:
    """The rules of a new firewall for these networks; none unless something from them must be inspected by name.

    One for each destination that they send to: by its names where it must be, else by itself.
    """
    estate = described.estate
    needs = (*(one.needs for one in estate.workloads.values()), *(one.needs for one in estate.destinations.values()))
    if not any(one.inspected == BY_NAME for one in needs):
        return {}
    names: dict[str, dict[str, Any]] = {}
    by_name = set[str]()
    for flow in estate.outward_flows.values():
        if any(estate.subnets[one].network in networks for one in estate.workloads[flow.from_].subnets):
            names.setdefault(flow.to, {"action": "allow", "destinations": [flow.to]})
            if estate.needs_of(flow).inspected == BY_NAME and estate.destinations[flow.to].names:
                by_name.add(flow.to)
    for to in by_name:
        names[to] = {"action": "allow", "names": list(estate.destinations[to].names)}
    return {"rules": names} if by_name else {}


def missing_rules(described: Described, firewall: str, network: str) -> dict[str, Any]:
    """What a firewall that stands lacks of the rules by name: put first, and its default made explicit."""
    estate = described.estate
    stated, added = estate.exits[firewall], dict[str, Any]()
    if not stated.inspects:
        return {}
    for to, rule in named_rules(described, network).get("rules", {}).items():
        destination = estate.destinations[to]
        if "names" in rule and destination.prefixes:
            address = destination.prefixes[0].network_address
            named = estate.named_addresses.at(address)
            decision = stated.decides(
                Passing(address, to, destination.names, destination.port, destination.protocol, named=named)
            )
            if decision is None or not stated.rule_names(decision.rule):
                added[f"{to} by name"] = {**rule, "order": stated.first_order - 1}
    if not added:
        return {}
    return {"rules": added} | ({} if stated.has_rules else {"default": "allow"})


FEW_CENTRES = 3
"""Networks up to which each is tried as the one that has an exit for all."""


def centres(described: Described) -> list[str]:
    """The networks that could have an exit for all that send, that with the most hosts first.

    Of many: by region, since prices are, that with the most hosts and that with the most bytes.
    """
    estate, hosts, volume = described.estate, Counter[str](), Counter[str]()
    each = np.bincount(described.traffic.workload, described.traffic.bytes_per_s, len(estate.workloads))
    sent = dict(zip(estate.workloads, each.tolist(), strict=True))
    for workload in estate.senders:
        for name, share in estate.host_shares(workload).items():
            network = estate.subnets[name].network
            hosts[network] += int(estate.workloads[workload].hosts * share)
            # Whole numbers, so that what is as much is not told apart by how it was added up.
            volume[network] += round(sent[workload] * float(share))
    ordered = [name for name, _ in hosts.most_common()]
    if len(ordered) <= FEW_CENTRES:
        return ordered
    first: dict[tuple[str, bool], str] = {}
    for by_bytes, some in enumerate((ordered, sorted(ordered, key=lambda name: -volume[name]))):
        for name in some:
            first.setdefault((estate.networks[name].region, bool(by_bytes)), name)
    return list(dict.fromkeys(first.values()))


def sending_groups(described: Described, per_zone: bool) -> dict[tuple[str, str | None], list[str]]:
    """The sending subnets by network and zone; without `per_zone` all of a network at its busiest zone."""
    hosts: Counter[str] = Counter()
    for workload, stated in described.estate.workloads.items():
        for name, share in described.estate.host_shares(workload).items():
            hosts[name] += int(stated.hosts * share)
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
