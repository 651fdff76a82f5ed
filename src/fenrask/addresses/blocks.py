"""Single addresses and contiguous blocks: which to buy for so many addresses in so few entries."""

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from math import lcm

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
_Cover = tuple[int, int, tuple[int, ...]]
"""Cost, addresses, prefix lengths."""
_NOTHING: _Cover = (0, 0, ())


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
    # Counted in whole parts of the smallest unit of money: fractions are many times slower.
    parts = lcm(*(price.denominator for price in prices.values()))
    whole = {length: int(price * parts) for length, price in prices.items()}
    return tuple(
        Purchase(wanted, tuple(sorted(lengths)), Fraction(cost, parts)) for cost, lengths in _covers(wanted, whole)
    )


def _covers(wanted: int, prices: Mapping[int, int]) -> list[tuple[int, tuple[int, ...]]]:
    """Cost and prefix lengths of the purchases worth a look, by dynamic programming, the cheapest first."""
    least: list[_Cover] = [_NOTHING]
    for n in range(1, wanted + 1):
        least.append(min((_with(least[max(0, n - _size(one))], one, prices) for one in prices), key=_worth))
    # covers[n]: the blocks, of at most so many entries, that cover n addresses at the least cost.
    covers: list[_Cover | None] = [_NOTHING, *[None] * wanted]
    found: list[tuple[int, tuple[int, ...]]] = []
    best: _Cover | None = None
    while best is None or _worth(best) > _worth(least[wanted]):
        covers = [_NOTHING, *(_cheapest(covers, n, prices) for n in range(1, wanted + 1))]
        last = covers[wanted]
        if last is not None and (best is None or _worth(last) < _worth(best)):
            best = last
            found.append((last[0], last[2]))
    return found[::-1]


def _cheapest(covers: list[_Cover | None], wanted: int, prices: Mapping[int, int]) -> _Cover | None:
    """The best cover of `wanted` with one entry more than those in `covers`."""
    options = [covers[wanted]]
    for length in prices:
        rest = covers[max(0, wanted - _size(length))]
        options.append(_with(rest, length, prices) if rest is not None else None)
    return min((one for one in options if one is not None), key=_worth, default=None)


def _with(cover: _Cover, length: int, prices: Mapping[int, int]) -> _Cover:
    return (cover[0] + prices[length], cover[1] + _size(length), (*cover[2], length))


def _worth(cover: _Cover) -> tuple[int, int]:
    """What makes one cover better than another: less cost, then fewer addresses."""
    return cover[:2]


def _pieces(length: int, number: int) -> str:
    if length == SINGLE:
        return counted(number, "single address", "single addresses")
    return f"a /{length}" if number == 1 else f"{number} x /{length}"


def _size(length: int) -> int:
    """Addresses in a block."""
    return 1 << (SINGLE - length)
