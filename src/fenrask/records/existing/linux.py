"""What Linux tells in JSON: `ip -json address`, `ip -json route`, `ip -json rule`, and `nft -j list ruleset`."""

from collections.abc import Iterator, Mapping
from contextlib import suppress
from ipaddress import summarize_address_range
from typing import Any

from fenrask.prefixes import is_public, parse_address, parse_prefix
from fenrask.records.existing.facts import Facts, whole_name

__all__ = ["knows_linux", "read_linux"]

_NOWHERE = ("blackhole", "unreachable", "prohibit")
_MOST_ADDRESSES = 1024


def knows_linux(data: Any) -> bool:
    """Whether data from JSON is the output of one of these."""
    if isinstance(data, Mapping):
        return isinstance(data.get("nftables"), list)
    return isinstance(data, list) and bool(data) and _of_list(data) != ""


def _of_list(data: list[Any]) -> str:
    keys = {key for one in data if isinstance(one, Mapping) for key in one}
    if "addr_info" in keys:
        return "addresses"
    if "dst" in keys:
        return "routes"
    return "rules" if {"priority", "table"} <= keys else ""


def read_linux(data: Any, file: str, stem: str, facts: Facts) -> str:
    """Take what the output tells; what it is, in words. `stem`: the file's name, for the machine or table."""
    if isinstance(data, Mapping):
        _ruleset(data["nftables"], file, whole_name(stem), facts)
        return "a ruleset of nft"
    what = _of_list(data)
    entries = [one for one in data if isinstance(one, Mapping)]
    if what == "addresses":
        for one in entries:
            _address(one, file, whole_name(stem), facts)
        return "addresses of a machine (ip -json address)"
    if what == "rules":
        for one in entries:
            _rule(one, file, facts)
        return "which prefix obeys which table (ip -json rule)"
    for number, one in enumerate(entries, 1):
        _route(one, f"{file} route {number}", whole_name(stem), facts)
    return "routes (ip -json route)"


def _address(link: Mapping[str, Any], file: str, machine: str, facts: Facts) -> None:
    name = str(link.get("ifname", ""))
    for one in link["addr_info"] if isinstance(link.get("addr_info"), list) else ():
        if isinstance(one, Mapping) and one.get("scope") == "global":
            length = str(one.get("prefixlen", ""))
            facts.has_address(str(one.get("local", "")), length, name, machine, f"{file} {name}")


def _route(route: Mapping[str, Any], where: str, stem: str, facts: Facts) -> None:
    stated = str(route.get("dst", ""))
    table = whole_name(str(route.get("table", stem)))
    if table in ("main", "254"):
        table = stem
    if table in ("local", "255", "default", "253") or route.get("type") in ("local", "broadcast", "multicast"):
        return
    if route.get("type") in _NOWHERE:
        facts.skip("a route to nowhere", where)
        return
    try:
        prefix = parse_prefix("0.0.0.0/0" if stated == "default" else stated)
    except ValueError:
        facts.skip("a route without a prefix", where)
        return
    if prefix.version == 4 and stated == "default" and ":" in str(route.get("gateway", "")):
        prefix = parse_prefix("::/0")
    if route.get("protocol") == "kernel" or (route.get("scope") == "link" and "gateway" not in route):
        facts.connected.setdefault(table, []).append((prefix, where))
        return
    hops = route["nexthops"] if isinstance(route.get("nexthops"), list) else [route]
    names = [name for one in hops if isinstance(one, Mapping) and (name := _hop(one, facts))]
    value: Any = names[0] if len(names) == 1 else [{"exit": one} for one in names]
    facts.add("route_tables", table, str(prefix), value=value, where=where)


def _hop(route: Mapping[str, Any], facts: Facts) -> str:
    """Whose address the gateway is; else the device."""
    gateway = route.get("gateway") or _mapping(route.get("via")).get("host")
    return facts.whose(str(gateway)) if gateway else whole_name(str(route.get("dev", "")))


def _rule(rule: Mapping[str, Any], file: str, facts: Facts) -> None:
    table, source = str(rule.get("table", "")), str(rule.get("src", "all"))
    if table in ("local", "main", "default") or source == "all":
        return
    with suppress(ValueError):
        prefix = parse_prefix(f"{source}/{rule['srclen']}" if "srclen" in rule else source)
        where = f"{file} priority {rule.get('priority', '')}"
        facts.connected.setdefault(whole_name(table), []).append((prefix, where))


def _mapping(value: Any) -> Mapping[str, Any]:
    return value if isinstance(value, Mapping) else {}


def _ruleset(entries: list[Any], file: str, machine: str, facts: Facts) -> None:
    """Source translation to addresses of its own, its ports and timers; filters are another machine's to tell."""
    addresses: dict[str, None] = {}
    for one in entries:
        stated = _mapping(one)
        timeout, rule = _mapping(stated.get("ct timeout")), _mapping(stated.get("rule"))
        _timers(timeout, f"{file} {timeout.get('name', '')}", machine, facts)
        where = f"{file} {rule.get('table', '')} {rule.get('chain', '')}"
        for part in rule.get("expr", ()) if isinstance(rule.get("expr"), list) else ():
            if not isinstance(part, Mapping):
                continue
            if "snat" in part:
                addresses |= dict.fromkeys(_translated(_mapping(part["snat"]), where, machine, facts))
            if "masquerade" in part:
                facts.add("exits", machine, "kind", value="translator-host", where=where)
                facts.add("translators", machine, "told", value=True, where=where)
            if not {"accept", "drop", "reject"}.isdisjoint(part):
                facts.skip("filter rules of nft", where)
    if addresses:
        facts.add("exits", machine, "addresses", value=[*addresses], where=f"{file} snat")


def _translated(snat: Mapping[str, Any], where: str, machine: str, facts: Facts) -> Iterator[str]:
    facts.add("exits", machine, "kind", value="translator-host", where=where)
    facts.add("translators", machine, "told", value=True, where=where)
    ports = _mapping(snat.get("port")).get("range")
    if isinstance(ports, list) and len(ports) == 2:
        facts.add("translators", machine, "per_address", value=int(ports[1]) - int(ports[0]) + 1, where=where)
    with suppress(ValueError, TypeError):
        yield from (text for text in _listed(snat.get("addr")) if is_public(parse_prefix(text)))


def _listed(addr: Any) -> list[str]:
    """The addresses that a translation names: one, a range, a prefix, or several of these."""
    if isinstance(addr, str):
        return [str(parse_address(addr))]
    if isinstance(addr, list):
        return [text for one in addr for text in _listed(one)]
    stated = _mapping(addr)
    if isinstance(stated.get("range"), list) and len(stated["range"]) == 2:
        # The library knows addresses of one version only, so the two ends have one.
        first, last = (parse_address(str(one)) for one in stated["range"])
        found = (str(each) for part in summarize_address_range(first, last) for each in part)
        return [one for one, _ in zip(found, range(_MOST_ADDRESSES), strict=False)]
    if prefix := _mapping(stated.get("prefix")):
        net = parse_prefix(f"{prefix.get('addr')}/{prefix.get('len')}")
        return [str(one) for one, _ in zip(net, range(_MOST_ADDRESSES), strict=False)]
    return [text for one in stated.get("set", ()) for text in _listed(one)]


def _timers(timeout: Mapping[str, Any], where: str, machine: str, facts: Facts) -> None:
    policy = _mapping(timeout.get("policy"))
    words = _TIMERS.get(str(timeout.get("protocol", "")), {})
    for word, ours in words.items():
        if isinstance(policy.get(word), int):
            facts.add("translators", machine, ours, value=policy[word], where=where)


_TIMERS = {
    "tcp": {"established": "idle", "time_wait": "closed", "close": "reset", "syn_sent": "unanswered",
            "close_wait": "half_closed"},
    "udp": {"unreplied": "udp_one_way", "replied": "udp_answered"},
}  # fmt: skip
"""States of the kernel's connection tracking, by the endings that the catalogue has."""
