"""Longest-prefix match (RFC 1812, section 5.2.4.3)."""

from collections.abc import Iterable, Iterator
from typing import Generic, TypeVar

from fenrask.prefixes.blocks import Address, Prefix

__all__ = ["PrefixTable"]

Entry = TypeVar("Entry")


class PrefixTable(Generic[Entry]):
    """Entries by prefix, one for each prefix, and the longest match of an address.

    One dictionary for each prefix length in use, looked up from the longest: a handful of look-ups
    for real tables, however many routes they hold.
    """

    def __init__(self, entries: Iterable[tuple[Prefix, Entry]] = ()) -> None:
        self._by_length: dict[tuple[int, int], dict[int, tuple[Prefix, Entry]]] = {}
        for prefix, entry in entries:
            shift = prefix.max_prefixlen - prefix.prefixlen
            slot = self._by_length.setdefault((prefix.version, shift), {})
            slot[int(prefix.network_address) >> shift] = (prefix, entry)
        self._by_length = dict(sorted(self._by_length.items()))

    def __iter__(self) -> Iterator[tuple[Prefix, Entry]]:
        for slot in self._by_length.values():
            yield from slot.values()

    def match(self, address: Address) -> tuple[Prefix, Entry] | None:
        """The entry of the longest prefix that holds the address, with that prefix; None where none does."""
        number = int(address)
        for (version, shift), slot in self._by_length.items():
            if version == address.version:
                found = slot.get(number >> shift)
                if found is not None:
                    return found
        return None
