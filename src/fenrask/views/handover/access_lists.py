"""Filters and firewall rules as a table, and as access lists in YANG (RFC 8519; JSON encoding: RFC 7951)."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import product
from typing import Any

from fenrask.estate import Described, PrivateEndpoint
from fenrask.estate.filters import DIRECTIONS, EPHEMERAL
from fenrask.prefixes import Prefix, covers, overlap
from fenrask.views.handover.contract import HandoverFile, csv_text, json_text

__all__ = ["filter_files"]

_PROTOCOLS = {"tcp": 6, "udp": 17}


@dataclass(frozen=True)
class _List:
    """The rules of one direction at a place, what becomes of the rest, and whether answers pass by themselves."""

    place: str
    direction: str
    rules: Sequence[tuple[str, Any]]
    rest: str
    is_stateful: bool
    is_filter: bool = True

    @property
    def keeping(self) -> str:
        return "stateful" if self.is_stateful else "stateless"

    @property
    def back(self) -> str:
        """The direction of answers."""
        return "in" if self.direction == "out" else "out"

    @property
    def answered(self) -> "_List":
        """The list that answers meet, where there is none but for them."""
        return _List(self.place, self.back, (), "deny", self.is_stateful, self.is_filter)


def filter_files(described: Described) -> Iterator[HandoverFile]:
    """Rules of firewalls and filters in the order in which they are tried, as CSV and as access lists in YANG.

    An access list of RFC 8519 keeps no state: which of them are to keep it, their names say, and a second file has
    them as lists that need none.
    """
    lists = list(_lists(described))
    rows: list[tuple[object, ...]] = [
        (
            one.place, one.direction, number, name, rule.action, " ".join(map(str, getattr(rule, "sources", ()))),
            " ".join(map(str, rule.prefixes)), " ".join(rule.destinations), " ".join(getattr(rule, "names", ())),
            " ".join(_span(span) for span in rule.ports), rule.protocol or "", one.keeping,
        )
        for one in lists
        for number, (name, rule) in enumerate(one.rules, 1)
    ]  # fmt: skip
    rows += [(one.place, one.direction, "last", "", one.rest, *[""] * 6, one.keeping) for one in lists]
    heading = (
        "place", "direction", "order", "rule", "action", "sources", "prefixes", "destinations", "names", "ports",
        "protocol", "state",
    )  # fmt: skip
    yield HandoverFile("filters.csv", "rules of firewalls and filters", csv_text(heading, rows))
    about = "the same as YANG (ietf-access-control-list); rules by name of the service are in the CSV alone"
    yield HandoverFile("filters.yang.json", about, _acls(described, lists, ()))
    if kept := [one for one in lists if one.is_stateful]:
        about = "the same where no state is kept: replies pass by lists of their own"
        yield HandoverFile("filters-stateless.yang.json", about, _acls(described, lists, kept))


def _acls(described: Described, lists: Sequence[_List], replied: Sequence[_List]) -> bytes:
    """Access lists, with what lets replies to some of them pass at the top of those that replies meet."""
    back = {(one.place, one.back): one for one in replied}
    acls = [_acl(described, version, one, back.get((one.place, one.direction))) for one in lists for version in (4, 6)]
    alone = [one for key, one in back.items() if key not in {(each.place, each.direction) for each in lists}]
    acls += [_acl(described, version, one.answered, one) for one in alone for version in (4, 6)]
    return json_text({"ietf-access-control-list:acls": {"acl": acls} if acls else {}})


def _span(ports: Any) -> str:
    low, high = ports if isinstance(ports, tuple) else (ports, ports)
    return str(low) if low == high else f"{low}-{high}"


def _lists(described: Described) -> Iterator[_List]:
    estate = described.estate
    endpoints = {name: one for name, one in estate.exits.items() if isinstance(one, PrivateEndpoint)}
    for kind, owners in (("subnet", estate.subnets), ("workload", estate.workloads), ("endpoint", endpoints)):
        for owner, stated in owners.items():
            for name, filter_ in stated.filters.items():
                for direction in DIRECTIONS:
                    judging = filter_.toward(direction)
                    rest = "allow" if judging.allows_by_default else "deny"
                    yield _List(f"{kind} {owner}, {name}", direction, judging.rules, rest, filter_.stateful)
    for owner, exit_ in estate.exits.items():
        rules, lets_by = getattr(exit_, "rules", None), getattr(exit_, "lets_by_default", True)
        # One without rules may let nothing by.
        if rules or not lets_by:
            ordered = sorted((rules or {}).items(), key=lambda item: (item[1].order is None, item[1].order or 0))
            rest = "allow" if lets_by else "deny"
            yield _List(f"exit {owner}", "out", ordered, rest, is_stateful=True, is_filter=False)


def _acl(described: Described, version: int, acl: _List, answers: _List | None) -> dict[str, Any]:
    """A list for one IP version: entries of both cannot stand in one."""
    aces = [*_replies(described, version, answers)] if answers is not None else []
    aces += [ace for name, rule in acl.rules for ace in _aces(described, version, name, rule, acl.is_filter)]
    aces.append({"name": "rest", "matches": {}, "actions": {"forwarding": _forwarding(acl.rest)}})
    kind = f"ietf-access-control-list:ipv{version}-acl-type"
    name = f"{acl.place}, {acl.direction}, IPv{version}"
    return {"name": name if answers is not None else f"{name}, {acl.keeping}", "type": kind, "aces": {"ace": aces}}


def _replies(described: Described, version: int, allowing: _List) -> Iterator[dict[str, Any]]:
    """Entries for the answers to what a list allows: from the ports that it allows, to ports that hosts open from.

    One of TCP has its ACK bit set (RFC 9293, section 3.10), which no packet has that opens a connection; one of UDP
    looks as any other.
    """
    allowed = [(name, rule) for name, rule in allowing.rules if rule.action == "allow"]
    aces = [ace for name, rule in allowed for ace in _aces(described, version, name, rule, allowing.is_filter)]
    if allowing.rest == "allow":
        aces.append({"name": "rest", "matches": {}})
    for ace in aces:
        layer = ace["matches"].get(f"ipv{version}", {})
        back = {
            f"{end}-ipv{version}-network": layer[key]
            for end, other in _TURNED.items()
            if (key := f"{other}-ipv{version}-network") in layer
        }
        for protocol, number in _PROTOCOLS.items():
            if layer.get("protocol", number) != number:
                continue
            there: dict[str, Any] = {"destination-port": {"lower-port": EPHEMERAL[0], "upper-port": EPHEMERAL[1]}}
            if protocol in ace["matches"]:
                there["source-port"] = ace["matches"][protocol]["destination-port"]
            if protocol == "tcp":
                there["flags"] = "ack"
            matches = {f"ipv{version}": {"protocol": number, **back}, protocol: there}
            accept = {"forwarding": _forwarding("allow")}
            yield {"name": f"answers to {ace['name']}, {protocol}", "matches": matches, "actions": accept}


_TURNED = {"source": "destination", "destination": "source"}


def _forwarding(action: str) -> str:
    return f"ietf-access-control-list:{'accept' if action == 'allow' else 'drop'}"


def _aces(described: Described, version: int, name: str, rule: Any, either: bool) -> Iterator[dict[str, Any]]:
    """One entry for each combination of source, target and port: an entry holds one of each.

    either: whether the destinations of a rule may be at either end, as those of filters.
    """
    named = [prefix for to in rule.destinations for prefix in described.estate.named_addresses.prefixes_of(to)]
    # A destination of which only names are known would make an entry for any address.
    if getattr(rule, "names", ()) or (rule.destinations and not named):
        return
    sources, targets = tuple(getattr(rule, "sources", ())), tuple(rule.prefixes)
    ends = [(sources, targets)]
    if named:
        there, here = _common(targets, named), _common(sources, named)
        ends = [(sources, there)] * bool(there) + [(here, targets)] * bool(here and either)
    pairs = [pair for some in ends for pair in _pairs(version, *some)]
    spans = rule.ports or [None]
    # Ports are those of a protocol: a rule that names none is for both.
    protocols = [rule.protocol] if rule.protocol else [*_PROTOCOLS] if rule.ports else [None]
    for number, ((source, target), ports, protocol) in enumerate(product(pairs, spans, protocols), 1):
        layer: dict[str, Any] = {"protocol": _PROTOCOLS[protocol]} if protocol else {}
        if source is not None:
            layer[f"source-ipv{version}-network"] = str(source)
        if target is not None:
            layer[f"destination-ipv{version}-network"] = str(target)
        matches: dict[str, Any] = {f"ipv{version}": layer} if layer else {}
        if ports is not None:
            low, high = ports if isinstance(ports, tuple) else (ports, ports)
            port = {"operator": "eq", "port": low} if low == high else {"lower-port": low, "upper-port": high}
            matches[str(protocol)] = {"destination-port": port}
        yield {"name": f"{name} {number}", "matches": matches, "actions": {"forwarding": _forwarding(rule.action)}}


def _common(some: Sequence[Prefix], named: Sequence[Prefix]) -> tuple[Prefix, ...]:
    """The addresses that prefixes, or all where there are none, have in common with named ones."""
    if not some:
        return tuple(dict.fromkeys(named))
    each = [one if covers(other, one) else other for one in some for other in named if overlap(one, other)]
    return tuple(dict.fromkeys(each))


def _pairs(version: int, *ends: Sequence[Prefix]) -> Iterator[tuple[Prefix | None, ...]]:
    """Each source with each target of one IP version; None for any."""
    if not any(column and all(one.version != version for one in column) for column in ends):
        fitting: list[list[Prefix | None]] = [[one for one in column if one.version == version] for column in ends]
        yield from product(*(column or [None] for column in fitting))
