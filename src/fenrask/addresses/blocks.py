"""Single addresses and contiguous blocks: which to buy for so many addresses in so few entries."""

from collections.abc import Iterable
from dataclasses import dataclass

__all__ = ["SINGLE", "Purchase", "purchases"]

SINGLE = 32
"""The prefix length of one IPv4 address."""


@dataclass(frozen=True)
class Purchase:
    """Blocks bought for `wanted` addresses: prefix lengths, the widest block first; 32 is one address."""

    wanted: int
    lengths: tuple[int, ...]

    @property
    def entries(self) -> int:
        """Entries that an allow-list needs for them."""
        return len(self.lengths)

    @property
    def bought(self) -> int:
        """Addresses paid for."""
        return sum(2 ** (SINGLE - length) for length in self.lengths)

    @property
    def waste(self) -> int:
        """Addresses paid for and not wanted."""
        return self.bought - self.wanted


def purchases(wanted: int, blocks: Iterable[int] = ()) -> tuple[Purchase, ...]:
    """The purchases worth a look: for each number of entries the fewest addresses, the fewest first.

    `blocks` are the prefix lengths on sale beside single addresses. Every address costs the same, so
    that fewest addresses means least cost; one with more entries is listed only where it buys fewer.
    Exact, by dynamic programming over the number of entries: neither the largest block first nor the
    block with the least price per address is always right.

    >>> [one.lengths for one in purchases(3, [30, 31])]
    [(31, 32), (30,)]
    """
    if wanted <= 0:
        return (Purchase(0, ()),)
    lengths = sorted({*blocks, SINGLE})
    # covers[n]: the blocks, of so many entries, that cover n addresses with the fewest in all.
    covers: list[tuple[int, tuple[int, ...]] | None] = [(0, ()), *[None] * wanted]
    found: list[Purchase] = []
    while not found or found[-1].waste:
        covers = [(0, ()), *(_cheapest(covers, n, lengths) for n in range(1, wanted + 1))]
        last = covers[wanted]
        if last is not None and (not found or last[0] < found[-1].bought):
            found.append(Purchase(wanted, tuple(sorted(last[1]))))
    return tuple(reversed(found))


def _cheapest(
    covers: list[tuple[int, tuple[int, ...]] | None], wanted: int, lengths: list[int]
) -> tuple[int, tuple[int, ...]] | None:
    """The best cover of `wanted` with one entry more than those in `covers`."""
    best = covers[wanted]
    for length in lengths:
        size = 2 ** (SINGLE - length)
        rest = covers[max(0, wanted - size)]
        if rest is not None and (best is None or rest[0] + size < best[0]):
            best = (rest[0] + size, (*rest[1], length))
    return best
