"""Which addresses to order for which month, at least cost: a mixed-integer programme over single addresses and blocks.

An address costs its hours from its month to the end, an entry and a changed list of a partner cost once. Buying early
costs hours; buying often changes lists often. Nothing is given back.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from math import ceil

from fenrask.addresses import purchases
from fenrask.estate import ChangeCost
from fenrask.programming import Program
from fenrask.what_if.schedule.needed import Key, Needed

__all__ = ["Buyer", "Order", "Terms", "as_needed", "cheapest", "cost_of"]


_FORBIDDING, _MOST_OF_A_SIZE = 1e7, 65_536
"""Money that no order saves; and blocks of one size in one month, at most."""


@dataclass(frozen=True)
class Order:
    """What is bought for one exit, so that it is there when a month begins."""

    key: Key
    month: int
    lengths: tuple[int, ...]
    """Prefix lengths of the blocks, the widest first; 32 is one address."""

    @property
    def addresses(self) -> int:
        """How many addresses it brings."""
        return sum(1 << (32 - length) for length in self.lengths)


@dataclass(frozen=True)
class Buyer:
    """An exit as one who buys: what it wants by month, what there is to buy, and from which month on."""

    needed: Needed
    prices: Mapping[int, Fraction]
    """Money a month by prefix length."""
    first: int
    """The first month for which an order of today is there in time."""

    @property
    def rises(self) -> list[tuple[int, int]]:
        """The months in which it wants more than in any before, from the first one on; and how many addresses more
        than it has."""
        found, most = list[tuple[int, int]](), self.needed.has
        for month in range(len(self.needed.addresses)):
            wanted = self.needed.wanted(month)
            if wanted > most:
                most = wanted
                at = max(month, self.first)
                if found and found[-1][0] == at:
                    found.pop()
                found.append((at, wanted - self.needed.has))
        return [one for one in found if one[0] < len(self.needed.addresses)]


@dataclass(frozen=True)
class Terms:
    """What is agreed with others.

    months: how many are looked at; change: what changes of lists cost; room: by partner, the entries that its list
    has left.
    """

    months: int
    change: ChangeCost | None
    room: Mapping[str, int]


def cost_of(buyers: Iterable[Buyer], orders: Iterable[Order], terms: Terms) -> Fraction:
    """What orders cost to the end of the months: hours, entries and changed lists."""
    known, lists, total = {one.needed.key: one for one in buyers}, set[tuple[str, int]](), Fraction(0)
    for order in orders:
        buyer = known[order.key]
        left = terms.months - order.month
        total += left * sum((buyer.prices[length] for length in order.lengths), Fraction(0))
        lists |= {(partner, order.month) for partner in buyer.needed.partners}
        if terms.change is not None:
            entries = len(order.lengths) * len(buyer.needed.partners)
            total += entries * Fraction(terms.change.allow_list_entry)
    return total + (len(lists) * Fraction(terms.change.allow_list) if terms.change else 0)


def as_needed(buyers: Iterable[Buyer]) -> list[Order]:
    """What is bought if each month buys what it lacks, at the least price, and thinks of no other."""
    found = []
    for buyer in buyers:
        bought = 0
        for month, more in buyer.rises:
            if more > bought:
                cheapest = purchases(more - bought, buyer.prices)[0]
                bought += cheapest.bought
                found.append(Order(buyer.needed.key, month, cheapest.lengths))
    return found


def cheapest(buyers: Sequence[Buyer], terms: Terms, at_once: bool = False) -> list[Order]:
    """The orders that cost least and keep every list; where no orders do, those with the fewest entries beyond.

    at_once: all of each exit for the first month in which it can be there.
    """
    model = _Model(terms)
    # An order for a month in which no exit wants more can wait for the next in which one does.
    months = sorted({month for one in buyers for month, _ in one.rises})
    for buyer in buyers:
        if rises := buyer.rises:
            own = [month for month in months if buyer.first <= month <= rises[-1][0]]
            model.add(buyer, rises, [buyer.first] if at_once else own)
    model.keep_lists()
    if not model.bought:
        return []
    solved = model.program.solve(twice=True)
    assert solved is not None, "single addresses cover every number"
    return [*_orders(model.bought, solved.values.tolist())]


class _Model:
    """How many blocks of each size are bought for each exit and month, as a programme."""

    def __init__(self, terms: Terms) -> None:
        self.terms, self.change = terms, terms.change or ChangeCost()
        self.program = Program()
        self.bought: dict[int, tuple[Key, int, int]] = {}
        """By variable: the exit, the month, the prefix length."""
        self._of_list: dict[str, dict[int, list[int]]] = {}
        """By partner and month: the variables of what its list then gets."""

    def add(self, buyer: Buyer, rises: Sequence[tuple[int, int]], months: Sequence[int]) -> None:
        """An exit: it has what it wants from each month on, and no more than its offer takes."""
        needed, sizes = buyer.needed, dict[int, float]()
        for month in months:
            for length, price in buyer.prices.items():
                size = 1 << (32 - length)
                entries = len(needed.partners) * Fraction(self.change.allow_list_entry)
                cost = float((self.terms.months - month) * price + entries)
                variable = self.program.variable(cost, float(ceil(rises[-1][1] / size)))
                self.bought[variable], sizes[variable] = (needed.key, month, length), float(size)
                for partner in needed.partners:
                    self._of_list.setdefault(partner, {}).setdefault(month, []).append(variable)
        for month, more in rises:
            there = {variable: size for variable, size in sizes.items() if self.bought[variable][1] <= month}
            self.program.row(there, low=float(more))
        if needed.most is not None and needed.most > needed.has:
            self.program.row(sizes, high=float(needed.most - needed.has))

    def keep_lists(self) -> None:
        """Partners: their lists hold so many entries, and a month in which one changes costs."""
        for partner, by_month in self._of_list.items():
            if partner in self.terms.room:
                entries = dict.fromkeys((one for some in by_month.values() for one in some), 1.0)
                beyond = self.program.variable(_FORBIDDING, float(len(entries)) * _MOST_OF_A_SIZE, integral=False)
                self.program.row(entries | {beyond: -1.0}, high=float(max(0, self.terms.room[partner])))
            for some in by_month.values() if self.change.allow_list else ():
                changed = self.program.variable(float(self.change.allow_list))
                for variable in some:
                    self.program.row({variable: 1.0, changed: -self.program.upper[variable]}, high=0)


def _orders(bought: Mapping[int, tuple[Key, int, int]], values: Sequence[float]) -> Iterator[Order]:
    """What is bought, one order for each exit and month."""
    found: dict[tuple[Key, int], list[int]] = {}
    for variable, (key, month, length) in bought.items():
        if number := round(values[variable]):
            found.setdefault((key, month), []).extend([length] * number)
    for (key, month), lengths in sorted(found.items(), key=lambda one: (one[0][1], one[0][0])):
        yield Order(key, month, tuple(sorted(lengths)))
