"""NAT (RFC 8512), filters and firewall rules (RFC 8519) as YANG instance data, JSON encoding (RFC 7951)."""

import json
from collections.abc import Iterator, Sequence
from itertools import product
from typing import Any

from fenrask.addresses import AddressPlan
from fenrask.capacity import Capacity, ExitCapacity
from fenrask.capacity.streams import parts_toward
from fenrask.demand import Parts
from fenrask.estate import Described
from fenrask.prefixes import Prefix
from fenrask.views.handover.contract import HandoverFile, csv_text

__all__ = ["filter_files", "nat_file", "published_files"]

_PROTOCOLS = {"tcp": 6, "udp": 17}
_MOST_TIMER = 2**32 - 1


def nat_file(capacity: Capacity, plan: AddressPlan) -> HandoverFile:
    """Every translating exit, and what single destinations see of it: its subscribers, pool if known, ports, timers."""
    listed = {(one.exit, one.toward): one.listed for one in plan.exits}
    instances = [
        _instance(number, capacity, one, listed.get((one.exit, one.toward), ()))
        for number, one in enumerate(capacity.exits, 1)
    ]
    whole = {"ietf-nat:nat": {"instances": {"instance": instances}} if instances else {}}
    return HandoverFile("nat.yang.json", "translating exits as YANG (ietf-nat)", _json(whole))


def _json(whole: Any) -> bytes:
    return (json.dumps(whole, indent=2) + "\n").encode("utf-8")


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


def filter_files(described: Described) -> Iterator[HandoverFile]:
    """Rules of firewalls and filters in the order in which they are tried, as CSV and as access lists in YANG."""
    lists = list(_lists(described))
    rows: list[tuple[object, ...]] = [
        (
            place, direction, number, name, rule.action, " ".join(map(str, getattr(rule, "sources", ()))),
            " ".join(map(str, rule.prefixes)), " ".join(rule.destinations), " ".join(getattr(rule, "names", ())),
            " ".join(_span(one) for one in rule.ports), rule.protocol or "",
        )
        for place, direction, rules, _ in lists
        for number, (name, rule) in enumerate(rules, 1)
    ]  # fmt: skip
    rows += [(place, direction, "last", "", rest, *[""] * 6) for place, direction, _, rest in lists]
    heading = (
        "place", "direction", "order", "rule", "action", "sources", "prefixes", "destinations", "names", "ports",
        "protocol",
    )  # fmt: skip
    yield HandoverFile("filters.csv", "rules of firewalls and filters", csv_text(heading, rows))
    acls = [_acl(described, version, *one) for one in lists for version in (4, 6)]
    whole = {"ietf-access-control-list:acls": {"acl": acls} if acls else {}}
    about = "the same as YANG (ietf-access-control-list); rules by name of the service are in the CSV alone"
    yield HandoverFile("filters.yang.json", about, _json(whole))


def _span(ports: Any) -> str:
    low, high = ports if isinstance(ports, tuple) else (ports, ports)
    return str(low) if low == high else f"{low}-{high}"


def _lists(described: Described) -> Iterator[tuple[str, str, list[tuple[str, Any]], str]]:
    estate = described.estate
    for kind, owners in (("subnet", estate.subnets), ("workload", estate.workloads)):
        for owner, stated in owners.items():
            for name, one in stated.filters.items():
                for direction, inward in (("out", False), ("in", True)):
                    rest = "allow" if one.allows_by_default(inward) else "deny"
                    yield f"{kind} {owner}, {name}", direction, one.rules(inward), rest
    for owner, exit_ in estate.exits.items():
        rules = getattr(exit_, "rules", None)
        if rules:
            ordered = sorted(rules.items(), key=lambda item: (item[1].order is None, item[1].order or 0))
            yield f"exit {owner}", "out", ordered, "allow" if getattr(exit_, "open_by_default", False) else "deny"


def _acl(
    described: Described, version: int, place: str, direction: str, rules: Sequence[tuple[str, Any]], rest: str
) -> dict[str, Any]:
    """A list for one IP version: entries of both cannot stand in one."""
    aces = [ace for name, rule in rules for ace in _aces(described, version, name, rule, direction)]
    aces.append({"name": "rest", "matches": {}, "actions": {"forwarding": _forwarding(rest)}})
    kind = f"ietf-access-control-list:ipv{version}-acl-type"
    return {"name": f"{place}, {direction}, IPv{version}", "type": kind, "aces": {"ace": aces}}


def _forwarding(action: str) -> str:
    return f"ietf-access-control-list:{'accept' if action == 'allow' else 'drop'}"


def _aces(described: Described, version: int, name: str, rule: Any, direction: str) -> Iterator[dict[str, Any]]:
    """One entry for each combination of source, target and port: an entry holds one of each."""
    if getattr(rule, "names", ()):
        return
    named = [prefix for one in rule.destinations for prefix in described.estate.destinations[one].prefixes]
    sources, targets = list(getattr(rule, "sources", ())), list(rule.prefixes)
    if direction == "in" and named:
        sources = sources or named
    elif named:
        targets = targets or named
    if any(column and all(one.version != version for one in column) for column in (sources, targets)):
        return
    fitting = [[one for one in column if one.version == version] or [None] for column in (sources, targets)]
    for number, (source, target, ports) in enumerate(product(*fitting, rule.ports or [None]), 1):
        layer: dict[str, Any] = {"protocol": _PROTOCOLS[rule.protocol]} if rule.protocol else {}
        if source is not None:
            layer[f"source-ipv{version}-network"] = str(source)
        if target is not None:
            layer[f"destination-ipv{version}-network"] = str(target)
        matches: dict[str, Any] = {f"ipv{version}": layer} if layer else {}
        if ports is not None:
            low, high = ports if isinstance(ports, tuple) else (ports, ports)
            port = {"operator": "eq", "port": low} if low == high else {"lower-port": low, "upper-port": high}
            matches[rule.protocol or "tcp"] = {"destination-port": port}
        yield {"name": f"{name} {number}", "matches": matches, "actions": {"forwarding": _forwarding(rule.action)}}
