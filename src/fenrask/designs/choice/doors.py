"""Lanes by doors that no offer stands behind: a public address on each host, and IPv6 straight out."""

from collections.abc import Iterator

from fenrask.designs.choice.units import Group, Lane, Site
from fenrask.estate import Described

__all__ = ["ipv6_lanes", "own_address_lanes"]


def own_address_lanes(described: Described, group: Group) -> Iterator[Lane]:
    """Straight out by the network's own door, with a public IPv4 address on each host of the workloads."""
    if not all(described.estate.subnets[name].prefix.version == 4 for name in group.subnets):
        return
    site = Site("direct-internet", "", group.network, None)
    needs = group.needs
    fails = [name for name in ("off_internet", "inspected", "max_source_addresses") if getattr(needs, name)]
    yield Lane("an address on each host", (site,) * len(group.subnets), tuple(fails), own_addresses=True)


def ipv6_lanes(described: Described, group: Group) -> Iterator[Lane]:
    """Straight out without translation, where every subnet has IPv6."""
    estate = described.estate
    if not all(any(one.version == 6 for one in estate.subnets[name].prefixes) for name in group.subnets):
        return
    known = [
        name for name, one in estate.exits.items() if one.kind == "ipv6-outbound" and one.of_network == group.network
    ]
    site = Site("ipv6-outbound", "", group.network, None, existing=known[0] if known else "")
    fails = [name for name in ("off_internet", "inspected") if getattr(group.needs, name)]
    yield Lane("IPv6 straight out", (site,) * len(group.subnets), tuple(fails))
