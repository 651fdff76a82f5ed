"""Filters of subnets and workloads: ordered rules that allow or deny what leaves them and what enters."""

from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, ConfigDict, Field, WithJsonSchema

from fenrask.estate.values import PrefixText, Strict, unfit
from fenrask.prefixes import Address, Prefix, covers

__all__ = ["EPHEMERAL", "Filter", "FilterRule", "Filtered", "PortSpan"]

PortSpan = tuple[int, int]
"""The lowest and the highest port."""

EPHEMERAL: PortSpan = (1024, 65535)
"""The ports that hosts open connections from (RFC 6056, section 3.2): replies go to any of them."""


def _ports(value: Any) -> PortSpan:
    """A port, or a range of ports as text: `443`, `1024-65535`."""
    words = str(value).split("-") if not isinstance(value, bool | float) else []
    if len(words) in (1, 2) and all(word.isdecimal() and len(word) <= 5 for word in words):
        low, high = int(words[0]), int(words[-1])
        if 1 <= low <= high <= 65535:
            return low, high
    raise unfit("a port from 1 to 65535, or a range such as 1024-65535")


PortRange = Annotated[
    Any,
    BeforeValidator(_ports),
    WithJsonSchema({"anyOf": [{"type": "integer", "minimum": 1, "maximum": 65535}, {"type": "string"}]}),
]


@dataclass(frozen=True)
class Filtered:
    """What a filter judges: packets of one kind, to all these ports; a source or a remote end may not be known."""

    sources: tuple[Prefix, ...]
    """Where the packet comes from; empty where that is not known."""
    address: Address | None
    """Where it goes; None where that is not known."""
    remote: str | None
    """The destination at the other end, by name, whichever way the packet goes."""
    ports: PortSpan | None
    """The destination ports; None where they are not known."""
    protocol: str


class FilterRule(Strict):
    """What a rule matches, every key that is given, and what it does. Default: anything."""

    action: Literal["allow", "deny"] = Field(description="what is done with what matches")
    order: Annotated[int, Field(strict=True)] | None = Field(
        None, description="rules are tried in this order; default: as written, after those with a number"
    )
    destinations: tuple[str, ...] = Field((), description="destinations at the other end, by name")
    sources: tuple[PrefixText, ...] = Field((), description="where the packet comes from")
    prefixes: tuple[PrefixText, ...] = Field((), description="where the packet goes")
    ports: tuple[PortRange, ...] = Field((), description="destination ports, or ranges of them: `1024-65535`")
    protocol: Literal["tcp", "udp"] | None = Field(None, description="transport protocol")

    def share(self, packet: Filtered) -> Literal["all", "some", "none"]:
        """How much of such packets it matches: a reply may go to any ephemeral port, a pool has many addresses."""
        parts = (
            _named(self.destinations, packet.remote),
            _among(self.sources, packet.sources),
            _at(self.prefixes, packet.address),
            _within(self.ports, packet.ports),
            "all" if self.protocol in (None, packet.protocol) else "none",
        )
        return "none" if "none" in parts else "some" if "some" in parts else "all"

    @property
    def matches_everything(self) -> bool:
        """Whether nothing narrows it."""
        return not (self.destinations or self.sources or self.prefixes or self.ports or self.protocol)


def _named(stated: tuple[str, ...], remote: str | None) -> str:
    return "all" if not stated or remote in stated else "none"


def _at(stated: tuple[Prefix, ...], address: Address | None) -> str:
    if not stated:
        return "all"
    return "some" if address is None else "all" if any(address in one for one in stated) else "none"


def _among(stated: tuple[Prefix, ...], sources: tuple[Prefix, ...]) -> str:
    if not stated:
        return "all"
    if not sources:
        return "some"
    if all(any(covers(one, source) for one in stated) for source in sources):
        return "all"
    return "some" if any(covers(source, one) for one in stated for source in sources) else "none"


def _within(stated: tuple[PortSpan, ...], ports: PortSpan | None) -> str:
    if not stated:
        return "all"
    if ports is None:
        return "some"
    low, high = ports
    for first, last in sorted(stated):
        if first <= low <= last:
            low = last + 1
    if low > high:
        return "all"
    return "some" if any(first <= ports[1] and last >= ports[0] for first, last in stated) else "none"


class Filter(Strict):
    """One list of rules for what goes out and what comes in; all filters of a place must allow a packet."""

    model_config = ConfigDict(validate_by_alias=True, serialize_by_alias=True)

    stateful: bool = Field(True, description="whether replies to what it allowed pass by themselves")
    out: dict[str, FilterRule] = Field({}, description="rules for what leaves, by name; the first that matches decides")
    in_: dict[str, FilterRule] = Field({}, alias="in", description="the same for what enters")
    out_default: Literal["allow", "deny"] | None = Field(
        None, description="what leaves and no rule matches; default: deny where `out` has rules, else allow"
    )
    in_default: Literal["allow", "deny"] | None = Field(
        None,
        description="what enters and no rule matches; default: deny where `in` has rules or it is stateful, else allow",
    )

    def rules(self, inward: bool) -> list[tuple[str, FilterRule]]:
        """The rules of one direction as they are tried."""
        stated = self.in_ if inward else self.out
        last = max((rule.order or 0 for rule in stated.values()), default=0) + 1
        return sorted(stated.items(), key=lambda item: last if item[1].order is None else item[1].order)

    def allows_by_default(self, inward: bool) -> bool:
        """What becomes of packets that no rule matches."""
        stated = self.in_default if inward else self.out_default
        if stated is not None:
            return stated == "allow"
        return not (self.in_ or self.stateful) if inward else not self.out

    def verdict(self, packet: Filtered, inward: bool) -> tuple[bool, str]:
        """Whether all such packets pass, and the rule that says so, or that stops some of them; empty: its default."""
        partly = ""
        for name, rule in self.rules(inward):
            share = rule.share(packet)
            if rule.action == "deny" and share != "none":
                return False, name
            if rule.action == "allow" and share == "all":
                return True, name
            if share == "some":
                partly = partly or name
        return self.allows_by_default(inward), partly

    def lets_some_pass(self, packet: Filtered, inward: bool) -> tuple[bool, str]:
        """Whether any such packet passes, and by which rule; empty: its default."""
        for name, rule in self.rules(inward):
            share = rule.share(packet)
            if rule.action == "allow" and share != "none":
                return True, name
            if rule.action == "deny" and share == "all":
                return False, name
        return self.allows_by_default(inward), ""
