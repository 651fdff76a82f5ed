"""A firewall that inspects by rule and may translate."""

from collections.abc import Sequence
from functools import cached_property
from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from fenrask.estate.exits.contract import (
    Announcing,
    Counted,
    Decision,
    Inspecting,
    InSubnet,
    Passing,
    Publishing,
    Translating,
)
from fenrask.estate.values import PortNumber, PrefixText, Strict, without_empty_lists
from fenrask.prefixes import Address, Prefix, is_public

__all__ = ["FirewallRule", "InspectingFirewall"]


class FirewallRule(Strict):
    """What a rule matches, every key that is given, and what it does. Default: anything."""

    action: Literal["allow", "deny"] = Field(description="what is done with what matches")
    order: Annotated[int, Field(strict=True)] | None = Field(
        None, description="rules are tried in this order; default: as written, after those with a number"
    )
    destinations: tuple[str, ...] = Field((), description="destinations that it goes to: whatever has their addresses")
    sources: tuple[PrefixText, ...] = Field((), description="where the packet comes from")
    prefixes: tuple[PrefixText, ...] = Field((), description="where the packet goes")
    ports: tuple[PortNumber, ...] = Field((), description="destination ports")
    protocol: Literal["tcp", "udp"] | None = Field(None, description="transport protocol")
    names: tuple[str, ...] = Field((), description="names asked for; `*.example.net` for all below one")

    @model_validator(mode="after")
    def _no_empty_lists(self) -> Self:
        return without_empty_lists(self, ("sources", "prefixes", "destinations", "ports", "names"))

    def matches(self, passing: Passing) -> bool:
        return (
            (not self.destinations or not passing.named.isdisjoint(self.destinations))
            and (not self.sources or _inside(passing.source, self.sources))
            and (not self.prefixes or any(passing.address in one for one in self.prefixes))
            and (not self.ports or passing.port in self.ports)
            and (self.protocol is None or passing.protocol == self.protocol)
            and (not self.names or any(_named(pattern, name) for pattern in self.names for name in passing.names))
        )

    @property
    def matches_everything(self) -> bool:
        """Whether nothing narrows it: no source, destination, port, protocol or name, and no prefix but the whole."""
        narrow = self.sources or self.destinations or self.ports or self.protocol or self.names
        return not narrow and (not self.prefixes or any(one.prefixlen == 0 for one in self.prefixes))


def _inside(address: Address | None, prefixes: Sequence[Prefix]) -> bool:
    return address is not None and any(address in one for one in prefixes)


def _named(pattern: str, name: str) -> bool:
    return name.endswith(pattern[1:]) if pattern.startswith("*.") else name == pattern


class InspectingFirewall(InSubnet, Announcing, Counted, Inspecting, Publishing, Translating):
    purpose: ClassVar[str] = "inspects what passes by rule, may translate, has nodes"
    is_machine: ClassVar[bool] = True
    count_key: ClassVar[str] = "nodes"
    may_only_inspect: ClassVar[bool] = True

    kind: Literal["inspecting-firewall"]
    offer: str = Field(description="the catalogue's offer")
    nodes: Annotated[int, Field(strict=True, ge=1)] = Field(1, description="nodes that run and are paid")
    rewrites_toward: tuple[Literal["public", "private"], ...] = Field(
        ("public", "private"),
        description="toward which destinations it rewrites the source: those with public addresses, private ones, "
        "both, or (an empty list) none",
    )
    rules: dict[str, FirewallRule] = Field({}, description="rules by name; the first that matches decides")
    default: Literal["allow", "deny"] | None = Field(
        None, description="what is done where no rule matches; default: deny where there are rules"
    )

    @property
    def translates(self) -> bool:
        return bool(self.rewrites_toward)

    def rewrites(self, address: Address) -> bool:
        return super().rewrites(address) and ("public" if is_public(address) else "private") in self.rewrites_toward

    @property
    def units(self) -> int:
        return self.nodes

    @cached_property
    def in_order(self) -> list[tuple[str, FirewallRule]]:
        """The rules as they are tried."""
        far = max((rule.order or 0 for rule in self.rules.values()), default=0) + 1
        return sorted(self.rules.items(), key=lambda item: far if item[1].order is None else item[1].order)

    @cached_property
    def _tried_for(self) -> dict[frozenset[str], list[tuple[str, FirewallRule]]]:
        """The rules that may match packets to some destinations, in order; filled as these are met."""
        return {}

    @property
    def address_sets(self) -> tuple[tuple[Prefix, ...], ...]:
        rules = self.rules.values()
        return (self.learned, *(each for rule in rules for each in (rule.sources, rule.prefixes) if each))

    @property
    def ruled_destinations(self) -> tuple[str, ...]:
        return tuple(name for rule in self.rules.values() for name in rule.destinations)

    def patterns_of(self, name: str) -> tuple[str, ...]:
        patterns = dict.fromkeys(pattern for rule in self.rules.values() for pattern in rule.names)
        return tuple(pattern for pattern in patterns if _named(pattern, name))

    @property
    def open_rules(self) -> tuple[str, ...]:
        return tuple(name for name, rule in self.rules.items() if rule.action == "allow" and rule.matches_everything)

    @property
    def open_by_default(self) -> bool:
        return self.default == "allow"

    @property
    def has_rules(self) -> bool:
        return bool(self.rules)

    @property
    def first_order(self) -> int:
        return min((rule.order for rule in self.rules.values() if rule.order is not None), default=0)

    @property
    def rules_in_order(self) -> list[FirewallRule]:
        return [rule for _, rule in self.in_order]

    @property
    def lets_by_default(self) -> bool:
        return (self.default or ("deny" if self.rules else "allow")) == "allow"

    def rule_names(self, rule: str) -> tuple[str, ...]:
        return self.rules[rule].names if rule in self.rules else ()

    def decides(self, passing: Passing) -> Decision | None:
        to = passing.named
        if to not in self._tried_for:
            self._tried_for[to] = [
                one for one in self.in_order if not one[1].destinations or not to.isdisjoint(one[1].destinations)
            ]
        for name, rule in self._tried_for[to]:
            if rule.matches(passing):
                return Decision(rule.action == "allow", name)
        return Decision(self.lets_by_default, "its default")
