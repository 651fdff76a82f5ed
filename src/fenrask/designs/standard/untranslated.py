"""Exits without translation: a public address on every host, and IPv6 straight out."""

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import DEFAULT_V6, Draft, sending_subnets
from fenrask.designs.standard.gateways import GATEWAY, place_exits
from fenrask.designs.topologies import ipv6_outbound, public_hosts
from fenrask.errors import NoAnswer
from fenrask.estate import Described

__all__ = ["IPV6", "PUBLIC_HOSTS"]


def _public_hosts(described: Described) -> Patch:
    draft = Draft(described)
    senders = described.estate.senders
    public_hosts(draft, senders, sending_subnets(described))
    return draft.patch()


PUBLIC_HOSTS = Design(
    "public address on each host", "every host with a public address of its own, straight out", _public_hosts
)


def _ipv6(described: Described) -> Patch:
    estate = described.estate
    subnets = [name for name in sending_subnets(described) if _has_ipv6(described, name)]
    if not subnets:
        raise NoAnswer("no subnet that sends has an IPv6 prefix")
    if not any(prefix.version == 6 for one in estate.destinations.values() for prefix in one.prefixes):
        raise NoAnswer("no destination has an IPv6 prefix")
    draft = Draft(described)
    place_exits(draft, GATEWAY, "gateway", per_zone=True)
    for network in dict.fromkeys(estate.subnets[name].network for name in subnets):
        exit_ = ipv6_outbound(draft, network)
        draft.lead([name for name in subnets if estate.subnets[name].network == network], DEFAULT_V6, exit_)
    return draft.patch()


def _has_ipv6(described: Described, name: str) -> bool:
    return any(prefix.version == 6 for prefix in described.estate.subnets[name].prefixes)


IPV6 = Design(
    "IPv6 straight out",
    "IPv6 without translation where both ends have it, gateways by zone for the rest",
    _ipv6,
    (GATEWAY,),
)
