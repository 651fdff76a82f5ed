"""Filters, firewalls' rules and translations as rules of nftables."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

from fenrask.estate import Filter, PassingRule
from fenrask.estate.filters import DIRECTIONS, Matching
from fenrask.prefixes import Address, Prefix, fewest_prefixes

__all__ = ["MARKS", "Rules", "among", "chain", "hook", "mark_of", "marking", "number_of", "source_map", "table"]

MARKS = "type mark; flags dynamic; size 128;"
"""A set of what tells the tries under way apart, in the place of a name that a host asks for, say."""
_MARKED = 1 << 24
"""Added to what a try's packets carry, so that no other mark is one of these."""
_IP = {4: "ip", 6: "ip6"}


def _elements(prefixes: Iterable[Prefix | Address], version: int) -> str:
    """The elements of a set of one IP version; empty for none. Overlapping ones are joined."""
    some = [one for one in prefixes if one.version == version]
    return ", ".join(map(str, fewest_prefixes(some)))


def among(way: str, prefixes: Iterable[Prefix | Address], version: int, but: bool = False) -> str:
    """The condition that a packet's `saddr` or `daddr` lies in prefixes, or does not; empty where there are none."""
    elements = _elements(prefixes, version)
    return f"{_IP[version]} {way} {'!= ' if but else ''}{{ {elements} }}" if elements else ""


def mark_of(number: int) -> int:
    """The mark of what carries a number in its DS field."""
    return _MARKED + number


def number_of(mark: int) -> int:
    """The number that a mark is of; 0 for another mark."""
    return mark - _MARKED if mark > _MARKED else 0


def marking(most: int) -> list[str]:
    """Rules that mark packets by what their DS field carries (RFC 2474), up to some number."""
    pairs = ", ".join(f"{number} : {mark_of(number)}" for number in range(1, most + 1))
    return [f"{ip} dscp != 0 meta mark set {ip} dscp map {{ {pairs} }}" for ip in _IP.values()]


def table(family: str, name: str, parts: Iterable[str]) -> str:
    """A table of sets and chains."""
    return f"table {family} {name} {{\n" + "\n".join(parts) + "\n}"


def chain(name: str, lines: Iterable[str]) -> str:
    """A chain that others jump to."""
    return f"chain {name} {{\n" + "\n".join(lines) + "\n}"


def hook(name: str, where: str, lines: Iterable[str], kind: str = "filter", priority: int | str = 0) -> str:
    """A chain that packets come to at a hook of the kernel."""
    return chain(name, [f"type {kind} hook {where} priority {priority}; policy accept;", *lines])


def source_map(addresses: Sequence[Address]) -> str:
    """What a translation rewrites to: an address, or any of several."""
    if len(addresses) == 1:
        return f"to {addresses[0]}"
    pairs = ", ".join(f"{number} : {one}" for number, one in enumerate(addresses))
    return f"to numgen random mod {len(addresses)} map {{ {pairs} }}"


class Rules:
    """Turns what the estate states into rules; knows the addresses of destinations by name."""

    def __init__(self, addresses_of: Callable[[str], Sequence[Prefix]]) -> None:
        self._addresses_of = addresses_of

    def filters(self, filters: Mapping[str, Filter], label: str) -> tuple[list[str], list[str], list[str]]:
        """The chains of a place's filters, and the jumps that bring what leaves, and what enters, through all."""
        chains, out, into = list[str](), list[str](), list[str]()
        for number, filter_ in enumerate(filters.values()):
            for direction, jumps in zip(DIRECTIONS, (out, into), strict=True):
                judging, name = filter_.toward(direction), f"{label}{number}_{direction}"
                jumps.append(f"jump {name}")
                lines = ["ct state established,related return"] if filter_.stateful else []
                for _, rule in judging.rules:
                    ports = [f"{low}-{high}" for low, high in rule.ports]
                    lines += self._lines(rule, ports, ("saddr", "daddr"), _verdict(rule, "return"))
                if not judging.allows_by_default:
                    lines.append("drop")
                chains.append(chain(name, lines))
        return chains, out, into

    def decisions(self, rules: Sequence[PassingRule], allows: bool, names: Callable[[int], str]) -> Iterator[str]:
        """The rules of a firewall, in order; names: by number of a rule, the set of the names that it looks for."""
        for number, rule in enumerate(rules):
            asked = names(number)
            for line in self._lines(rule, [*map(str, rule.ports)], ("daddr",), _verdict(rule, "accept")):
                yield f"meta mark @{asked} {line}" if asked else line
        if not allows:
            yield "drop"

    def _lines(self, rule: Matching, ports: Sequence[str], ends: Sequence[str], verdict: str) -> Iterator[str]:
        """One rule as lines: one for each IP version where addresses tell, and for each end that may be the remote."""
        tail = f"th dport {{ {', '.join(ports)} }} " if ports else ""
        tail = (f"meta l4proto {rule.protocol} " if rule.protocol else "") + tail + verdict
        named = [one for name in rule.destinations for one in self._addresses_of(name)]
        if not (rule.sources or rule.prefixes or rule.destinations):
            yield tail
            return
        for version in _IP:
            own = [among("saddr", rule.sources, version), among("daddr", rule.prefixes, version)]
            if (rule.sources and not own[0]) or (rule.prefixes and not own[1]):
                continue
            head = " ".join(one for one in own if one)
            if not rule.destinations:
                yield f"{head} {tail}"
                continue
            for end in ends:
                if there := among(end, named, version):
                    yield f"{there} {head} {tail}"


def _verdict(rule: Matching, allowing: str) -> str:
    return allowing if rule.action == "allow" else "drop"
