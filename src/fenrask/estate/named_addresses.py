"""What rules, endpoints and services mean by a destination: its addresses, whoever else has the same."""

from functools import cached_property
from typing import TYPE_CHECKING

from fenrask.prefixes import Address, Prefix, PrefixTable, mapped_prefix, parse_prefix

if TYPE_CHECKING:
    from fenrask.estate.models import Estate

__all__ = ["NamedAddresses"]


class NamedAddresses:
    """The destinations that something in an estate treats unlike others, by address."""

    def __init__(self, estate: "Estate") -> None:
        self.estate = estate
        rules = [name for one in estate.exits.values() for name in (*one.ruled_destinations, *(one.carries or ()))]
        filters = [name for one in estate.filters for name in one.named_destinations]
        guarded = [name for name, one in estate.destinations.items() if one.is_guarded]
        self.names = tuple(dict.fromkeys(one for one in (*rules, *filters, *guarded) if one in estate.destinations))

    def prefixes_of(self, destination: str) -> tuple[Prefix, ...]:
        """The prefixes that are meant by a destination: its own, and where its endpoints are entered.

        Where an exit takes IPv6 hosts to IPv4 addresses, these are among them as such hosts ask for them (RFC 6052).
        """
        own = self.estate.destinations[destination].prefixes
        mapped = [mapped_prefix(one) for one in own if one.version == 4] if self._maps else []
        return (
            *own,
            *mapped,
            *self._entries.get(destination, ()),
        )

    def at(self, address: Address) -> frozenset[str]:
        """The destinations of these that hold an address."""
        found = self._table.match(address) if self.names else None
        return found[1] if found else frozenset()

    @cached_property
    def _entries(self) -> dict[str, list[Prefix]]:
        """By destination: where its endpoints in subnets are entered."""
        found: dict[str, list[Prefix]] = {}
        for exit_ in self.estate.exits.values():
            for entry in self.estate.entries_of(exit_) if exit_.asked_at is None else ():
                for carried in exit_.carries or ():
                    found.setdefault(carried, []).append(parse_prefix(str(entry)))
        return found

    @cached_property
    def _maps(self) -> bool:
        return any(exit_.maps_ipv6 for exit_ in self.estate.exits.values())

    @cached_property
    def _table(self) -> PrefixTable[frozenset[str]]:
        return PrefixTable(self._names_by_prefix().items())

    def _names_by_prefix(self) -> dict[Prefix, frozenset[str]]:
        """By each of their prefixes: those that hold it, as a part or whole."""
        own: dict[Prefix, set[str]] = {}
        for name in self.names:
            for prefix in self.prefixes_of(name):
                own.setdefault(prefix, set()).add(name)
        lengths = {version: sorted({one.prefixlen for one in own if one.version == version}) for version in (4, 6)}
        return {
            prefix: frozenset(
                name
                for length in lengths[prefix.version]
                if length <= prefix.prefixlen
                for name in own.get(prefix.supernet(new_prefix=length), ())
            )
            for prefix in own
        }
