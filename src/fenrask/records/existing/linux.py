"""What Linux tells in JSON: `ip -json address`, `ip -json route`, `ip -json rule`, and `nft -j list ruleset`."""

from collections.abc import Mapping
from contextlib import suppress
from typing import Any

from fenrask.prefixes import parse_prefix
from fenrask.records.existing.facts import Facts, whole_name
from fenrask.records.existing.nft import read_ruleset

__all__ = ["knows_linux", "read_linux"]

_NOWHERE = ("blackhole", "unreachable", "prohibit")


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
        read_ruleset(data["nftables"], file, whole_name(stem), facts)
        return "a ruleset of nft"
    what = _of_list(data)
    entries = [one for one in data if isinstance(one, Mapping)]
    if what == "addresses":
        for entry in entries:
            _address(entry, file, whole_name(stem), facts)
        return "addresses of a machine (ip -json address)"
    if what == "rules":
        for entry in entries:
            _rule(entry, file, facts)
        return "which prefix uses which table (ip -json rule)"
    for number, entry in enumerate(entries, 1):
        _route(entry, f"{file} route {number}", whole_name(stem), facts)
    return "routes (ip -json route)"


def _address(link: Mapping[str, Any], file: str, machine: str, facts: Facts) -> None:
    name = str(link.get("ifname", ""))
    for address in link["addr_info"] if isinstance(link.get("addr_info"), list) else ():
        if isinstance(address, Mapping) and address.get("scope") == "global":
            length = str(address.get("prefixlen", ""))
            facts.has_address(str(address.get("local", "")), length, name, machine, f"{file} {name}")


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
    if route.get("protocol") == "kernel":
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
