"""Longest-prefix match (RFC 1812, section 5.2.4.3)."""

from bisect import bisect_right
from collections.abc import Iterable, Iterator
from functools import cached_property
from typing import Generic, TypeVar

from fenrask.prefixes.blocks import Address, Prefix

__all__ = ["PrefixTable"]

Entry = TypeVar("Entry")


class PrefixTable(Generic[Entry]):
    """Entries by prefix, one for each prefix, and the longest match of an address.

    The entries cut the addresses into sections, each with the one that wins there: a match is one search among them.
    """

    def __init__(self, entries: Iterable[tuple[Prefix, Entry]] = ()) -> None:
        self._entries: dict[Prefix, tuple[Prefix, Entry]] = {prefix: (prefix, entry) for prefix, entry in entries}

    def __iter__(self) -> Iterator[tuple[Prefix, Entry]]:
        """The longest first; IPv4 before IPv6 of as many addresses."""
        return iter(sorted(self._entries.values(), key=lambda entry: (entry[0].version, entry[0].num_addresses)))

    @cached_property
    def sections(self) -> dict[int, tuple[list[int], list[tuple[Prefix, Entry] | None]]]:
        """By IP version: the addresses at which sections begin, in rising order, and who wins in each."""
        found: dict[int, tuple[list[int], list[tuple[Prefix, Entry] | None]]] = {4: ([0], [None]), 6: ([0], [None])}
        opened: list[tuple[int, tuple[Prefix, Entry]]] = []

        def begins(starts: list[int], winners: list[tuple[Prefix, Entry] | None], start: int) -> None:
            winner = opened[-1][1] if opened else None
            if starts[-1] == start:
                winners[-1] = winner
            else:
                starts.append(start)
                winners.append(winner)

        def order(entry: tuple[Prefix, Entry]) -> tuple[int, int]:
            return int(entry[0].network_address), entry[0].prefixlen

        for version, (starts, winners) in found.items():
            for entry in sorted((one for one in self._entries.values() if one[0].version == version), key=order):
                first = int(entry[0].network_address)
                while opened and opened[-1][0] < first:
                    begins(starts, winners, opened.pop()[0] + 1)
                opened.append((first + entry[0].num_addresses - 1, entry))
                begins(starts, winners, first)
            while opened:
                begins(starts, winners, opened.pop()[0] + 1)
        return found

    def match(self, address: Address) -> tuple[Prefix, Entry] | None:
        """The entry of the longest prefix that holds the address, with that prefix; None where none does."""
        starts, winners = self.sections[address.version]
        return winners[bisect_right(starts, int(address)) - 1]
