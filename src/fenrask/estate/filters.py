"""Filters of subnets and workloads: ordered rules that allow or deny what leaves them and what enters."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import product
from typing import Annotated, Any, Literal, Protocol, Self

from pydantic import BeforeValidator, ConfigDict, Field, WithJsonSchema, model_validator

from fenrask.estate.values import LAST_PORT, PrefixText, Strict, unfit, without_empty_lists
from fenrask.prefixes import Address, Prefix

__all__ = [
    "ANY_PORT",
    "DIRECTIONS",
    "EPHEMERAL",
    "Direction",
    "Filter",
    "FilterRule",
    "Filtered",
    "Judging",
    "Matching",
    "PortSpan",
]

PortSpan = tuple[int, int]
"""The lowest and the highest port."""

EPHEMERAL: PortSpan = (1024, LAST_PORT)
"""The ports that hosts open connections from (RFC 6056, section 3.2): replies go to any of them."""


def _ports(value: Any) -> PortSpan:
    """A port, or a range of ports as text: `443`, `1024-65535`."""
    words = str(value).split("-") if not isinstance(value, bool | float) else []
    if len(words) in (1, 2) and all(word.isdecimal() and len(word) <= 5 for word in words):
        low, high = int(words[0]), int(words[-1])
        if 1 <= low <= high <= LAST_PORT:
            return low, high
    raise unfit("a port from 1 to 65535, or a range such as 1024-65535")


PortRange = Annotated[
    Any,
    BeforeValidator(_ports),
    WithJsonSchema({"anyOf": [{"type": "integer", "minimum": 1, "maximum": LAST_PORT}, {"type": "string"}]}),
]


@dataclass(frozen=True)
class Filtered:
    """What a filter judges: packets of one kind, from all these sources and to all these ports."""

    sources: tuple[Prefix, ...]
    """Where the packet comes from; empty where that is not known: only rules without `sources` match it."""
    targets: tuple[Prefix, ...]
    """Where it goes; empty where that is not known: only rules without `prefixes` match it."""
    ends: frozenset[str]
    """The destinations that rules name, and that either end is an address of."""
    ports: PortSpan
    """The destination ports."""
    protocol: str


ANY_PORT: PortSpan = (1, LAST_PORT)


class Matching(Protocol):
    """A rule as data, of a filter or of an exit: what it matches, every key that is not empty, and what it does."""

    @property
    def action(self) -> str: ...
    @property
    def destinations(self) -> Sequence[str]: ...
    @property
    def sources(self) -> Sequence[Prefix]: ...
    @property
    def prefixes(self) -> Sequence[Prefix]: ...
    @property
    def protocol(self) -> str | None: ...


class FilterRule(Strict):
    """What a rule matches, every key that is given, and what it does. Default: anything."""

    action: Literal["allow", "deny"] = Field(description="what is done with what matches")
    order: Annotated[int, Field(strict=True)] | None = Field(
        None, description="rules are tried in this order; default: as written, after those with a number"
    )
    destinations: tuple[str, ...] = Field(
        (), description="destinations that it comes from or goes to: whatever has their addresses"
    )
    sources: tuple[PrefixText, ...] = Field((), description="where the packet comes from")
    prefixes: tuple[PrefixText, ...] = Field((), description="where the packet goes")
    ports: tuple[PortRange, ...] = Field((), description="destination ports, or ranges of them: `1024-65535`")
    protocol: Literal["tcp", "udp"] | None = Field(None, description="transport protocol")

    @model_validator(mode="after")
    def _no_empty_lists(self) -> Self:
        return without_empty_lists(self, ("sources", "prefixes", "destinations", "ports"))

    def matches(self, packet: Filtered, source: Address | None, target: Address | None, port: int) -> bool:
        """Whether it matches such a packet from one address to another's port."""
        return (
            (not self.destinations or not packet.ends.isdisjoint(self.destinations))
            and (not self.sources or (source is not None and any(source in one for one in self.sources)))
            and (not self.prefixes or (target is not None and any(target in one for one in self.prefixes)))
            and (not self.ports or any(first <= port <= last for first, last in self.ports))
            and self.protocol in (None, packet.protocol)
        )

    @property
    def matches_everything(self) -> bool:
        """Whether nothing narrows it."""
        return not (self.destinations or self.sources or self.prefixes or self.ports or self.protocol)


Direction = Literal["out", "in"]
"""What leaves a place, and what enters it."""
DIRECTIONS: tuple[Direction, ...] = ("out", "in")


class Filter(Strict):
    """One list of rules for what goes out and what comes in; all filters of a place must allow a packet."""

    model_config = ConfigDict(validate_by_alias=True, serialize_by_alias=True)

    stateful: bool = Field(True, description="whether replies to what it allowed pass by themselves")
    drops_icmp: bool = Field(
        False, description="whether it drops ICMP errors, so that senders do not learn of smaller packets on a path"
    )
    out: dict[str, FilterRule] = Field({}, description="rules for what leaves, by name; the first that matches decides")
    in_: dict[str, FilterRule] = Field({}, alias="in", description="the same for what enters")
    out_default: Literal["allow", "deny"] | None = Field(
        None, description="what leaves and no rule matches; default: deny where `out` has rules, else allow"
    )
    in_default: Literal["allow", "deny"] | None = Field(
        None,
        description="what enters and no rule matches; default: deny where `in` has rules or it is stateful, else allow",
    )

    def toward(self, direction: Direction) -> "Judging":
        """Its rules for what leaves (`out`), or for what enters (`in`)."""
        return self._judging[direction]

    @cached_property
    def _judging(self) -> "dict[Direction, Judging]":
        leaves = self.out_default == "allow" if self.out_default is not None else not self.out
        enters = self.in_default == "allow" if self.in_default is not None else not (self.in_ or self.stateful)
        return {"out": Judging(_ordered(self.out), leaves), "in": Judging(_ordered(self.in_), enters)}

    @property
    def address_sets(self) -> tuple[tuple[Prefix, ...], ...]:
        """The sets of addresses that its rules treat unlike others, at either end of a packet."""
        rules = (*self.out.values(), *self.in_.values())
        return tuple(each for rule in rules for each in (rule.sources, rule.prefixes) if each)

    @property
    def named_destinations(self) -> tuple[str, ...]:
        """The destinations that its rules name."""
        return tuple(name for rule in (*self.out.values(), *self.in_.values()) for name in rule.destinations)


@dataclass(frozen=True)
class Judging:
    """The rules of a filter for one direction, as they are tried, and what becomes of packets that none matches."""

    rules: list[tuple[str, FilterRule]]
    allows_by_default: bool

    def verdict(self, packet: Filtered, source: Address | None, target: Address | None) -> tuple[bool, str]:
        """Whether packets from one address to another pass at every port, and the rule that says so, or stops some.

        An address that is not known is None: only rules that name none match it. The rule is empty for the default.
        """
        judged = [self._judged(packet, source, target, port) for port in self._ports(packet)]
        return next((one for one in judged if not one[0]), judged[0])

    def lets_some_pass(self, packet: Filtered, meant: Callable[[str], Sequence[Prefix]]) -> bool:
        """Whether any such packet passes.

        meant: the prefixes that a rule means by a destination. All sources and targets are looked at, whatever `ends`
        says of one of them.
        """
        named = {name: meant(name) for _, rule in self.rules for name in rule.destinations}
        for source, target, port in self._kinds(packet, [one for some in named.values() for one in some]):
            at_ends = [one for one in (source, target) if one is not None]
            ends = (name for name, some in named.items() if any(one in each for one in at_ends for each in some))
            passes, _ = self._judged(replace(packet, ends=frozenset(ends)), source, target, port)
            if passes:
                return True
        return False

    def _judged(self, packet: Filtered, source: Address | None, target: Address | None, port: int) -> tuple[bool, str]:
        for name, rule in self.rules:
            if rule.matches(packet, source, target, port):
                return rule.action == "allow", name
        return self.allows_by_default, ""

    def _kinds(self, packet: Filtered, named: Sequence[Prefix]) -> Iterator[tuple[Address | None, Address | None, int]]:
        """One source, target and port of each kind that the rules tell apart: where one begins to hold, or ends to.

        named: the prefixes of the destinations that they name.
        """
        rules = [rule for _, rule in self.rules]
        sources = _told_apart(packet.sources, [*named, *(one for rule in rules for one in rule.sources)])
        targets = _told_apart(packet.targets, [*named, *(one for rule in rules for one in rule.prefixes)])
        return product(sources, targets, self._ports(packet))

    def _ports(self, packet: Filtered) -> list[int]:
        """One port of each kind that the rules tell apart."""
        low, high = packet.ports
        edges = {edge for _, rule in self.rules for first, last in rule.ports for edge in (first, last + 1)}
        return [low, *sorted(edge for edge in edges if low < edge <= high)]


def _ordered(stated: dict[str, FilterRule]) -> list[tuple[str, FilterRule]]:
    last = max((rule.order or 0 for rule in stated.values()), default=0) + 1
    return sorted(stated.items(), key=lambda item: last if item[1].order is None else item[1].order)


def _told_apart(prefixes: Sequence[Prefix], parts: Sequence[Prefix]) -> list[Address | None]:
    """One address of each piece that the edges of parts cut prefixes into; None alone for no prefix."""
    found: list[Address | None] = []
    for prefix in prefixes:
        first, last = int(prefix.network_address), int(prefix.broadcast_address)
        alike = [one for one in parts if one.version == prefix.version]
        edges = {edge for one in alike for edge in (int(one.network_address), int(one.broadcast_address) + 1)}
        found += [prefix[0], *(prefix[edge - first] for edge in sorted(edges) if first < edge <= last)]
    return found or [None]
