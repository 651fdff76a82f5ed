"""NAT (RFC 8512) as YANG instance data, JSON encoding (RFC 7951); ports that are forwarded inward."""

from collections.abc import Iterator, Sequence
from typing import Any

from fenrask.addresses import AddressPlan
from fenrask.capacity import Capacity, ExitCapacity
from fenrask.capacity.streams import parts_toward
from fenrask.demand import Parts
from fenrask.estate import Described
from fenrask.prefixes import Prefix
from fenrask.views.handover.contract import HandoverFile, csv_text, json_text

__all__ = ["nat_file", "published_files"]

_MOST_TIMER = 2**32 - 1


def nat_file(capacity: Capacity, plan: AddressPlan) -> HandoverFile:
    """Every translating exit, and what single destinations see of it: its subscribers, pool if known, ports, timers."""
    listed = {(one.exit, one.toward): one.listed for one in plan.exits}
    instances = [
        _instance(number, capacity, one, listed.get((one.exit, one.toward), ()))
        for number, one in enumerate(capacity.exits, 1)
    ]
    whole = {"ietf-nat:nat": {"instances": {"instance": instances}} if instances else {}}
    return HandoverFile("nat.yang.json", "translating exits as YANG (ietf-nat)", json_text(whole))


def _instance(number: int, capacity: Capacity, sized: ExitCapacity, listed: Sequence[Prefix]) -> dict[str, Any]:
    described = capacity.demand.paths.described
    offer = described.offer_of(sized.exit)
    some = parts_toward(capacity.demand, sized.exit, sized.toward)
    subnets = dict.fromkeys(part.subnet for part in Parts.of(some).outward) if some else {}
    prefixes = [prefix for one in subnets for prefix in described.estate.subnets[one].prefixes]
    policy: dict[str, Any] = {"id": 1}
    pool = [str(one) for one in listed if one.version == 4]
    private = described.estate.exits[sized.exit].pool
    if private is not None and private.version == 4:
        pool = [str(private)]
    if pool:
        policy["external-ip-address-pool"] = [{"pool-id": n, "external-ip-pool": one} for n, one in enumerate(pool, 1)]
    first = max(1, 65_536 - round(sized.how.per_address))
    policy["port-set-restrict"] = {"start-port-number": first, "end-port-number": 65_535}
    if prefixes:
        policy["subscriber-match"] = [{"match-id": n, "subnet": str(one)} for n, one in enumerate(prefixes, 1)]
    if offer is not None:
        after = offer.mapping_timeout_s
        policy["timers"] = {
            "udp-timeout": _seconds(after.after("udp_answered")),
            "tcp-idle-timeout": _seconds(after.after("idle")),
            "tcp-trans-close-timeout": _seconds(after.after("closed")),
        }
    return {"id": number, "name": sized.name, "enable": True, "type": "ietf-nat:napt44", "policy": [policy]}


def published_files(described: Described) -> Iterator[HandoverFile]:
    """The ports at addresses of exits that are forwarded to workloads; nothing where there are none."""
    rows = [
        (exit_name, name, one.address or "", one.port, one.protocol, one.to, one.host_port, one.rewrites_source)
        for exit_name, exit_ in described.estate.exits.items()
        for name, one in exit_.published.items()
    ]
    heading = ("exit", "name", "address", "port", "protocol", "workload", "host_port", "rewrites_source")
    if rows:
        yield HandoverFile("published.csv", "ports that exits forward inward, to workloads", csv_text(heading, rows))


def _seconds(value: float) -> int:
    return min(_MOST_TIMER, max(1, round(value)))
