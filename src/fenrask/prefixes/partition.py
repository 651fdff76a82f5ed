"""The address space cut by sets of prefixes: addresses that are members of the same sets are one class.

Atomic predicates: Yang & Lam, "Real-time verification of network properties using atomic predicates" (2013). Prefixes
nest or are disjoint, so that one pass in order of first address with a stack of the open ones finds all classes.
"""

from bisect import bisect_right
from collections.abc import Hashable, Iterable, Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address, summarize_address_range

from fenrask.prefixes.blocks import Address, Prefix

__all__ = ["Block", "Partition", "Piece", "usable"]


@dataclass(frozen=True, order=True, slots=True)
class Block:
    """Consecutive addresses of one IP version, the last one included."""

    version: int
    first: int
    last: int

    @classmethod
    def of(cls, prefix: Prefix) -> "Block":
        """All addresses of a prefix."""
        return cls(prefix.version, int(prefix.network_address), int(prefix.broadcast_address))

    def __str__(self) -> str:
        if self.size == 1:
            return str(self.address)
        prefixes = self.prefixes
        return str(prefixes[0]) if len(prefixes) == 1 else f"{self.address}-{_address(self.version, self.last)}"

    @property
    def size(self) -> int:
        """How many addresses it holds."""
        return self.last - self.first + 1

    @property
    def address(self) -> Address:
        """Its first address."""
        return _address(self.version, self.first)

    @property
    def prefixes(self) -> tuple[Prefix, ...]:
        """The fewest prefixes that hold exactly its addresses."""
        return tuple(summarize_address_range(self.address, _address(self.version, self.last)))

    @classmethod
    def joined(cls, blocks: Iterable["Block"]) -> tuple["Block", ...]:
        """The same addresses in the fewest blocks, in order."""
        found: list[Block] = []
        for block in sorted(blocks):
            known = found[-1] if found else None
            if known is not None and known.version == block.version and block.first <= known.last + 1:
                found[-1] = cls(block.version, known.first, max(known.last, block.last))
            else:
                found.append(block)
        return tuple(found)

    def common(self, other: "Block") -> "Block | None":
        """The addresses that both hold; None for none."""
        first, last = max(self.first, other.first), min(self.last, other.last)
        return Block(self.version, first, last) if self.version == other.version and first <= last else None


def _address(version: int, number: int) -> Address:
    return IPv4Address(number) if version == 4 else IPv6Address(number)


def usable(prefix: Prefix) -> Block:
    """The addresses of a prefix that hosts may have: not the network's and, in IPv4, not the broadcast address.

    RFC 1122, section 3.2.1.3, RFC 3021 (both of an IPv4 /31), RFC 4291, section 2.6.1 (the first one of IPv6).

    >>> from fenrask.prefixes import parse_prefix
    >>> str(usable(parse_prefix("192.0.2.0/29")))
    '192.0.2.1-192.0.2.6'
    """
    whole = Block.of(prefix)
    if whole.size <= 2:
        return whole
    return Block(whole.version, whole.first + 1, whole.last - (whole.version == 4))


@dataclass(frozen=True, slots=True)
class Piece:
    """Addresses of one class: a part of what was asked for."""

    kind: int
    """The class, by its number in the partition."""
    blocks: tuple[Block, ...]

    @property
    def size(self) -> int:
        """How many addresses it holds."""
        return sum(block.size for block in self.blocks)


class Partition:
    """Classes of addresses, told apart by labelled prefixes: all prefixes of one label are one set."""

    def __init__(self, labelled: Iterable[tuple[Prefix, Hashable]]) -> None:
        self._numbers: dict[frozenset[Hashable], int] = {frozenset(): 0}
        self._members: list[frozenset[Hashable]] = [frozenset()]
        self._grown: dict[tuple[int, Hashable], int] = {}
        self._starts: dict[int, list[int]] = {4: [0], 6: [0]}
        self._kinds: dict[int, list[int]] = {4: [0], 6: [0]}
        each: dict[int, list[tuple[int, int, Hashable]]] = {4: [], 6: []}
        for prefix, label in dict.fromkeys(labelled):
            first = int(prefix.network_address)
            each[prefix.version].append((first, -(first + prefix.num_addresses - 1), label))
        for version, edges in each.items():
            self._sweep(version, sorted(edges, key=lambda edge: edge[:2]))

    def _sweep(self, version: int, edges: list[tuple[int, int, Hashable]]) -> None:
        opened: list[tuple[int, int]] = []
        for first, minus_last, label in edges:
            while opened and opened[-1][0] < first:
                self._close(version, opened)
            kind = self._with(opened[-1][1] if opened else 0, label)
            self._mark(version, first, kind)
            opened.append((-minus_last, kind))
        while opened:
            self._close(version, opened)

    def _close(self, version: int, opened: list[tuple[int, int]]) -> None:
        last, _ = opened.pop()
        self._mark(version, last + 1, opened[-1][1] if opened else 0)

    def _mark(self, version: int, start: int, kind: int) -> None:
        starts, kinds = self._starts[version], self._kinds[version]
        if starts[-1] == start:
            kinds[-1] = kind
        else:
            starts.append(start)
            kinds.append(kind)

    def _with(self, kind: int, label: Hashable) -> int:
        """The class whose members are those of another, and one more label."""
        known = self._grown.get((kind, label))
        if known is None:
            members = self._members[kind] | {label}
            known = self._numbers.setdefault(members, len(self._members))
            if known == len(self._members):
                self._members.append(members)
            self._grown[kind, label] = known
        return known

    def kind_of(self, address: Address) -> int:
        """The class of an address, by number."""
        return self._kinds[address.version][bisect_right(self._starts[address.version], int(address)) - 1]

    def pieces(self, blocks: Iterable[Block]) -> list[Piece]:
        """The addresses of blocks that do not overlap, by class, in order of appearance."""
        found: dict[int, list[Block]] = {}
        for block in blocks:
            for kind, part in self._cut(block):
                found.setdefault(kind, []).append(part)
        return [Piece(kind, tuple(parts)) for kind, parts in found.items()]

    def _cut(self, block: Block) -> Iterator[tuple[int, Block]]:
        starts, kinds = self._starts[block.version], self._kinds[block.version]
        place = bisect_right(starts, block.first) - 1
        first = block.first
        while first <= block.last:
            last = min(block.last, starts[place + 1] - 1) if place + 1 < len(starts) else block.last
            yield kinds[place], Block(block.version, first, last)
            first, place = last + 1, place + 1
