"""Single addresses and contiguous blocks: which to buy for so many addresses in so few entries."""

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache
from math import lcm

import numpy as np

from fenrask.errors import NoAnswer
from fenrask.units import counted

__all__ = ["SINGLE", "Purchase", "purchases"]

SINGLE = 32
"""The prefix length of one IPv4 address."""


@dataclass(frozen=True)
class Purchase:
    """Blocks bought for `wanted` addresses: prefix lengths, the widest block first; 32 is one address."""

    wanted: int
    lengths: tuple[int, ...]
    hour: Fraction = Fraction(0)
    """What they cost in an hour."""

    @property
    def entries(self) -> int:
        """Entries that an allow-list needs for them."""
        return len(self.lengths)

    @property
    def bought(self) -> int:
        """Addresses paid for."""
        return sum(_size(length) for length in self.lengths)

    @property
    def waste(self) -> int:
        """Addresses paid for and not wanted."""
        return self.bought - self.wanted

    @property
    def blocks(self) -> tuple[str, ...]:
        """The blocks as text, by size: `2 x /30`, `1 single address`."""
        return tuple(_pieces(length, number) for length, number in sorted(Counter(self.lengths).items()))


_EXACT, _MOST = 512, 65_536


def purchases(wanted: int, prices: Mapping[int, Fraction]) -> tuple[Purchase, ...]:
    """The purchases worth a look: for each number of entries the least cost, the cheapest first.

    prices: money per block and hour by the prefix lengths on sale, 32 for a single address among them. One
    with more entries is listed only where it costs less (or as much, for fewer addresses). Exact up to 512
    addresses, by dynamic programming over the number of entries: neither the largest block first nor the
    block with the least price per address is always right.

    >>> prices = {32: Fraction(1), 31: Fraction(2), 30: Fraction(4)}
    >>> [one.lengths for one in purchases(3, prices)]
    [(31, 32), (30,)]
    """
    if wanted <= 0:
        return (Purchase(0, ()),)
    if wanted > _MOST:
        raise NoAnswer(f"{wanted:,} addresses are more than can be weighed", f"Ask for {_MOST:,} at most.")
    if wanted > _EXACT:
        # Far from the end whole blocks of the least price per address, the widest of them, are bought.
        bulk = min(prices, key=lambda length: (prices[length] / _size(length), length))
        number = (wanted - _EXACT // 2) // _size(bulk)
        rest = purchases(wanted - number * _size(bulk), prices)
        return tuple(
            Purchase(wanted, tuple(sorted((*one.lengths, *(bulk,) * number))), one.hour + number * prices[bulk])
            for one in rest
        )
    lengths, hours = tuple(prices), tuple(prices.values())
    # Counted in whole parts of the smallest unit of money: fractions are many times slower.
    parts = lcm(*(price.denominator for price in hours))
    found = _covers_of(lengths, tuple(int(price * parts) for price in hours)).of(wanted)
    return tuple(Purchase(wanted, cover, sum(prices[length] for length in cover) + Fraction(0)) for cover in found)


class _Covers:
    """The cheapest covers of every number of addresses up to `_EXACT`, by dynamic programming.

    Layer k holds, for each number, the worth (cost, then addresses: less of both is better) of the best cover of at
    most k blocks, and which block it ends with. Layers are made as they are asked for.
    """

    def __init__(self, lengths: tuple[int, ...], prices: tuple[int, ...]) -> None:
        numbers = np.arange(_EXACT + 1)
        sizes = [_size(length) for length in lengths]
        most = (max(prices) + 1) * _EXACT * _WORTH
        self._dtype = np.int64 if most < np.iinfo(np.int64).max // 2 else np.object_
        self._lengths = lengths
        self._added = np.array([price * _WORTH + size for price, size in zip(prices, sizes, strict=True)], self._dtype)
        self._before = np.stack([np.maximum(0, numbers - size) for size in sizes])
        least = [0]
        for number in range(1, _EXACT + 1):
            rests = (least[int(one)] for one in self._before[:, number])
            least.append(min(rest + int(added) for rest, added in zip(rests, self._added, strict=True)))
        self._least = least
        nothing = np.full(_EXACT + 1, most, self._dtype)
        nothing[0] = 0
        self._worth, self._ends = [nothing], [np.full(_EXACT + 1, -1)]

    def of(self, wanted: int) -> list[tuple[int, ...]]:
        """The prefix lengths of the covers worth a look, the cheapest first."""
        found = list[tuple[int, ...]]()
        layer, best = 0, self._worth[0][wanted]
        while best > self._least[wanted]:
            layer += 1
            if layer == len(self._worth):
                self._add_layer()
            if self._worth[layer][wanted] < best:
                best = self._worth[layer][wanted]
                found.append(tuple(sorted(self._blocks(wanted, layer))))
        return found[::-1]

    def _add_layer(self) -> None:
        options = self._worth[-1][self._before] + self._added[:, None]
        ends = np.argmin(options, axis=0)
        worth = np.take_along_axis(options, ends[None], axis=0)[0]
        kept = self._worth[-1] <= worth
        self._worth.append(np.where(kept, self._worth[-1], worth))
        self._ends.append(np.where(kept, -1, ends))

    def _blocks(self, wanted: int, layer: int) -> Iterator[int]:
        while wanted:
            end = self._ends[layer][wanted]
            layer -= 1
            if end >= 0:
                yield self._lengths[end]
                wanted = int(self._before[end][wanted])


_WORTH = 1 << 20
"""More than the addresses of any cover: a unit of cost outweighs them all."""

_covers_of = lru_cache(maxsize=16)(_Covers)


def _pieces(length: int, number: int) -> str:
    if length == SINGLE:
        return counted(number, "single address", "single addresses")
    return f"a /{length}" if number == 1 else f"{number} x /{length}"


def _size(length: int) -> int:
    """Addresses in a block."""
    return 1 << (SINGLE - length)
