"""What YANG instance data tells (JSON encoding, RFC 7951): routes (RFC 8349), translation (RFC 8512), access lists
(RFC 8519), interfaces and their addresses (RFC 8343, 8344), and what is joined with what (RFC 8345, 8346).
"""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any
from urllib.parse import unquote

from fenrask.prefixes import is_public, parse_address, parse_prefix
from fenrask.records.existing.facts import Facts, Steps, each_port, whole_name

__all__ = ["knows_yang", "read_yang"]

_ROUTING, _NAT = "ietf-routing:routing", "ietf-nat:nat"
_LISTS, _INTERFACES = "ietf-access-control-list:acls", "ietf-interfaces:interfaces"
_NETWORKS = "ietf-network:networks"
_MOST_POOL = 1024
"""Addresses of one pool that are listed one by one."""


def knows_yang(data: Any) -> bool:
    """Whether data from JSON has one of these modules at its top."""
    return isinstance(data, Mapping) and not {*_READERS}.isdisjoint(data)


def read_yang(data: Mapping[str, Any], file: str, stem: str, facts: Facts) -> str:
    """Take what the modules tell; which they are, in words. What has another shape than the model is passed over."""
    known = [name for name in _READERS if name in data]
    for name in data:
        if name in _READERS:
            _READERS[name](_mapping(data[name]), file, stem, facts)
        else:
            facts.skip(f"the module {name.split(':')[0]}", file)
    return "YANG: " + ", ".join(name.split(":")[0] for name in known)


def _mapping(value: Any) -> Mapping[str, Any]:
    return value if isinstance(value, Mapping) else {}


def _each(value: Any) -> Iterator[Mapping[str, Any]]:
    """The entries of a list that are mappings."""
    yield from (one for one in value if isinstance(one, Mapping)) if isinstance(value, list) else ()


def _plain(node: Mapping[str, Any], name: str) -> Any:
    """A child by its name, with the module's name before it or without."""
    return next((value for key, value in node.items() if key.rpartition(":")[2] == name), None)


def _routing(data: Mapping[str, Any], file: str, stem: str, facts: Facts) -> None:
    """Static routes by protocol instance, and the routes of routing tables in force."""
    for protocol in _each(_mapping(_plain(data, "control-plane-protocols")).get("control-plane-protocol")):
        table = whole_name(str(protocol.get("name") or stem))
        for family in _mapping(_plain(protocol, "static-routes")).values():
            for route in _each(_mapping(family).get("route")):
                _route(route, table, f"{file} {table}", facts)
    for rib in _each(_mapping(_plain(data, "ribs")).get("rib")):
        table = whole_name(str(rib.get("name") or stem))
        for route in _each(_mapping(_plain(rib, "routes")).get("route")):
            _route(route, table, f"{file} {table}", facts)


def _route(route: Mapping[str, Any], table: str, where: str, facts: Facts) -> None:
    text = str(_plain(route, "destination-prefix") or "")
    try:
        prefix = parse_prefix(text)
    except ValueError:
        facts.skip("a route without a prefix", where)
        return
    hop = _mapping(_plain(route, "next-hop"))
    if str(_plain(route, "source-protocol") or "").endswith(":direct"):
        facts.connected.setdefault(table, []).append((prefix, where))
        return
    if _plain(hop, "special-next-hop"):
        facts.skip("a route to nowhere (special-next-hop)", where)
        return
    several = _each(_mapping(_plain(hop, "next-hop-list")).get("next-hop"))
    hops = [name for one in (hop, *several) if (name := _hop(one, facts))]
    value: Any = hops[0] if len(hops) == 1 else [{"exit": one} for one in hops]
    facts.add("route_tables", table, str(prefix), value=value, where=where)


def _hop(hop: Mapping[str, Any], facts: Facts) -> str:
    """What a next hop names: whose address it is, or the interface."""
    if out := _plain(hop, "outgoing-interface"):
        return whole_name(str(out))
    address = _plain(hop, "next-hop-address") or _plain(hop, "address")
    return facts.whose(str(address)) if address else ""


def _nat(data: Mapping[str, Any], file: str, stem: str, facts: Facts) -> None:
    for instance in _each(_mapping(data.get("instances")).get("instance")):
        name = whole_name(str(instance.get("name") or f"{stem}-{instance.get('id', '')}"))
        where = f"{file} {name}"
        for policy in _each(instance.get("policy")):
            _policy(policy, name, where, facts)
        facts.add("translators", name, "told", value=True, where=where)


def _policy(policy: Mapping[str, Any], name: str, where: str, facts: Facts) -> None:
    addresses: list[str] = []
    for pool in _each(policy.get("external-ip-address-pool")):
        with suppress(ValueError):
            prefix = parse_prefix(str(pool.get("external-ip-pool")))
            if not is_public(prefix):
                # Toward another side than the internet: that the estate states as a private pool.
                facts.add("translators", name, "pool", value=str(prefix), where=where)
            elif prefix.num_addresses <= _MOST_POOL:
                addresses += [str(address) for address in prefix]
    facts.add("exits", name, "addresses", value=addresses or None, where=where)
    ports = _mapping(policy.get("port-set-restrict"))
    low, high = ports.get("start-port-number"), ports.get("end-port-number")
    if isinstance(low, int) and isinstance(high, int) and low <= high:
        facts.add("translators", name, "per_address", value=high - low + 1, where=where)
    timers = _mapping(policy.get("timers"))
    for key, ours in _TIMERS.items():
        if isinstance(value := timers.get(key), int | float) and not isinstance(value, bool):
            facts.add("translators", name, ours, value=value, where=where)
    for match in _each(policy.get("subscriber-match")):
        with suppress(ValueError):
            facts.served.setdefault(name, []).append((parse_prefix(str(match.get("subnet"))), where))


_TIMERS = {
    "udp-timeout": "udp_idle", "tcp-idle-timeout": "idle", "tcp-trans-close-timeout": "closed",
    "tcp-in-syn-timeout": "unanswered",
}  # fmt: skip
"""The timers of RFC 8512 by the endings that the catalogue has."""

_OWN_LIST = re.compile(
    r"(subnet|workload|endpoint|exit) (.+?)(?:, (.+))?, (out|in), IPv[46](?:, (stateful|stateless))?"
)
"""How `handover` names access lists: place, filter, direction, IP version, and whether state is kept."""
_SECTIONS = {"subnet": "subnets", "workload": "workloads", "exit": "exits", "endpoint": "exits"}


@dataclass(frozen=True)
class _Place:
    """Where an access list is in force: an exit's own rules have no filter's name."""

    section: str
    owner: str
    filter: str
    direction: str
    is_stateful: bool = True

    @property
    def rules(self) -> Steps:
        """The steps to its rules."""
        if not self.filter:
            return self.section, self.owner, "rules"
        return self.section, self.owner, "filters", self.filter, self.direction

    @property
    def rest(self) -> Steps:
        """The steps to what becomes of what no rule matches."""
        return (*self.rules[:-1], f"{self.direction}_default" if self.filter else "default")


def _lists(data: Mapping[str, Any], file: str, stem: str, facts: Facts) -> None:
    """Access lists at the place that their names say, or to which interfaces they are attached."""
    attached: dict[str, list[_Place]] = {}
    for interface in _each(_mapping(data.get("attachment-points")).get("interface")):
        # What comes in at an interface is what its subnet sends.
        for key, direction in (("ingress", "out"), ("egress", "in")):
            for each in _each(_mapping(_mapping(interface.get(key)).get("acl-sets")).get("acl-set")):
                place = _Place("subnets", whole_name(str(interface.get("interface-id", ""))), "listed", direction)
                attached.setdefault(str(each.get("name", "")), []).append(place)
    for acl in _each(data.get("acl")):
        name = str(acl.get("name", ""))
        places = attached.get(name, [])
        if own := _OWN_LIST.fullmatch(name):
            kind, owner, of, direction, keeping = own.groups()
            places = [_Place(_SECTIONS[kind], owner, of or "", direction, keeping != "stateless")]
        if not places:
            facts.skip("an access list that is attached nowhere", f"{file} {name}")
        for place in places:
            _list(acl, place, f"{file} {name}", facts)


def _list(acl: Mapping[str, Any], place: _Place, where: str, facts: Facts) -> None:
    version = "v6 " if "ipv6" in str(acl.get("type", "")) else ""
    if place.filter:
        facts.add(*place.rules[:-1], "stateful", value=place.is_stateful, where=where)
    for number, ace in enumerate(_each(_mapping(acl.get("aces")).get("ace")), 1):
        action = "allow" if str(_mapping(ace.get("actions")).get("forwarding", "")).endswith("accept") else "deny"
        matches = _mapping(ace.get("matches"))
        if not matches:
            facts.add(*place.rest, value=action, where=where)
            return
        rule = _rule(matches, single_ports=not place.filter)
        if rule is None:
            facts.skip("an entry of an access list that matches what is not modelled", f"{where}, entry {number}")
            continue
        facts.add(*place.rules, f"{version}{ace.get('name', number)}", value={"action": action, **rule}, where=where)


def _rule(matches: Mapping[str, Any], single_ports: bool) -> dict[str, Any] | None:
    """What an entry matches, by the keys of a rule; None where it matches something else beside."""
    rule: dict[str, Any] = {}
    for layer in matches:
        stated = _mapping(matches[layer])
        if layer in ("ipv4", "ipv6"):
            if {*stated} - {"protocol", f"source-{layer}-network", f"destination-{layer}-network"}:
                return None
            if (number := stated.get("protocol")) is not None:
                if not isinstance(number, int) or number not in _PROTOCOLS:
                    return None
                rule["protocol"] = _PROTOCOLS[number]
            for key, end in (("sources", "source"), ("prefixes", "destination")):
                if text := stated.get(f"{end}-{layer}-network"):
                    rule[key] = [str(text)]
        elif layer in ("tcp", "udp") and {*stated} == {"destination-port"}:
            ports = _ports(_mapping(stated["destination-port"]))
            listed = None if ports is None else each_port([ports]) if single_ports else [ports]
            if listed is None:
                return None
            rule |= {"protocol": layer, "ports": listed}
        else:
            return None
    return rule


_PROTOCOLS = {6: "tcp", 17: "udp"}


def _ports(stated: Mapping[str, Any]) -> int | str | None:
    low, high = stated.get("lower-port"), stated.get("upper-port")
    if stated.get("operator", "eq") == "eq" and isinstance(stated.get("port"), int):
        return int(stated["port"])
    return f"{low}-{high}" if isinstance(low, int) and isinstance(high, int) else None


def _interfaces(data: Mapping[str, Any], file: str, stem: str, facts: Facts) -> None:
    for interface in _each(data.get("interface")):
        name = str(interface.get("name", ""))
        for version in ("ipv4", "ipv6"):
            for each in _each(_mapping(_plain(interface, version)).get("address")):
                length = each.get("prefix-length", each.get("netmask"))
                facts.has_address(str(each.get("ip", "")), str(length or ""), name, stem, f"{file} {name}")


def _topology(data: Mapping[str, Any], file: str, stem: str, facts: Facts) -> None:
    """Nodes that are networks, subnets, exits or third parties, as `handover` names them, and their links."""
    for network in _each(data.get("network")):
        for node in _each(network.get("node")):
            kind, _, name = str(node.get("node-id", "")).partition(":")
            where = f"{file} {unquote(name)}"
            stated = _each(_mapping(_plain(node, "l3-node-attributes")).get("prefix"))
            _node(kind, unquote(name), [*_prefixes(stated, where, facts)], where, facts)
            if kind == "exit":
                _own_addresses(node, unquote(name), where, facts)
        for link in _each(_plain(network, "link")):
            source = str(_mapping(link.get("source")).get("source-node", ""))
            target = str(_mapping(link.get("destination")).get("dest-node", ""))
            _link(source.partition(":")[::2], target.partition(":")[::2], file, facts)


def _prefixes(stated: Iterable[Mapping[str, Any]], where: str, facts: Facts) -> Iterator[str]:
    for entry in stated:
        try:
            yield str(parse_prefix(str(entry.get("prefix"))))
        except ValueError:
            facts.skip("a node's prefix that is none", where)


def _node(kind: str, name: str, prefixes: list[str], where: str, facts: Facts) -> None:
    if kind == "network":
        facts.add("networks", name, "prefixes", value=prefixes or None, where=where)
    elif kind == "subnet":
        by_version = {parse_prefix(one).version: one for one in reversed(prefixes)}
        first = by_version.pop(4, None) or by_version.pop(6, None)
        facts.add("subnets", name, "prefix", value=first, where=where)
        facts.add("subnets", name, "prefix_v6", value=by_version.get(6), where=where)
    elif kind == "exit":
        facts.attached.setdefault(name, []).extend(("prefix", one, where) for one in prefixes)


def _own_addresses(node: Mapping[str, Any], name: str, where: str, facts: Facts) -> None:
    for point in _each(_plain(node, "termination-point")):
        own = _mapping(_plain(point, "l3-termination-point-attributes")).get("ip-address")
        with suppress(ValueError):
            listed = [str(parse_address(str(one))) for one in own] if isinstance(own, list) else []
            facts.add("exits", name, "addresses", value=listed or None, where=where)


def _link(source: Sequence[str], target: Sequence[str], file: str, facts: Facts) -> None:
    """What hangs on what; of each end its kind and its name."""
    (kind, name), (other_kind, other) = ((end[0], unquote(end[1])) for end in (source, target))
    if kind == "subnet" and other_kind == "network":
        facts.add("subnets", name, "network", value=other, where=f"{file} {name}")
    elif kind == "exit":
        facts.attached.setdefault(name, []).append((other_kind, other, f"{file} {name}"))


_READERS = {
    _ROUTING: _routing, _NAT: _nat, _LISTS: _lists, _INTERFACES: _interfaces, _NETWORKS: _topology,
}  # fmt: skip
