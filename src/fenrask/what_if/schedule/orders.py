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

__all__ = ["Buyer", "Order", "Room", "Terms", "as_needed", "cheapest", "cost_of", "once_of"]


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
        for month in range(self.needed.key.begin, self.needed.until):
            wanted = self.needed.wanted(month)
            if wanted > most:
                most = wanted
                at = max(month, self.first)
                if found and found[-1][0] == at:
                    found.pop()
                found.append((at, wanted - self.needed.has))
        return [one for one in found if one[0] < self.needed.until]

    def hours_of(self, order: Order) -> Fraction:
        """What an order costs to the end."""
        months = self.needed.until - order.month
        return months * sum((self.prices[length] for length in order.lengths), Fraction(0))


@dataclass(frozen=True)
class Room:
    """What lists have left in some months: the entries, by partner with a limit."""

    begin: int
    until: int
    left: Mapping[str, int]

    def holds(self, buyer: Buyer, month: int) -> bool:
        """Whether entries of what is bought for a month stand in the lists within these months."""
        return buyer.needed.key.begin < self.until and self.begin < buyer.needed.until and month < self.until


@dataclass(frozen=True)
class Terms:
    """What is agreed with others: what changes of lists cost, and the room that lists have."""

    change: ChangeCost | None
    rooms: Sequence[Room]


def cost_of(buyers: Iterable[Buyer], orders: Sequence[Order], terms: Terms) -> Fraction:
    """What orders cost to the end of the months: hours, entries and changed lists."""
    known = {one.needed.key: one for one in buyers}
    hours = sum((known[one.key].hours_of(one) for one in orders), Fraction(0))
    return hours + once_of(known.values(), orders, terms)


def once_of(buyers: Iterable[Buyer], orders: Iterable[Order], terms: Terms) -> Fraction:
    """What orders cost once: entries and changed lists."""
    partners, change = {one.needed.key: one.needed.partners for one in buyers}, terms.change or ChangeCost()
    each = [(partner, one) for one in orders for partner in partners[one.key]]
    lists = {(partner, order.month) for partner, order in each}
    entries = sum(len(order.lengths) for _, order in each)
    return len(lists) * Fraction(change.allow_list) + entries * Fraction(change.allow_list_entry)


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
    """The orders that cost least and keep every list; where none do, those with the fewest entries beyond, by month.

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
        self._buyers: dict[Key, Buyer] = {}

    def add(self, buyer: Buyer, rises: Sequence[tuple[int, int]], months: Sequence[int]) -> None:
        """An exit: it has what it wants from each month on."""
        needed, sizes = buyer.needed, dict[int, float]()
        self._buyers[needed.key] = buyer
        for month in months:
            for length, price in buyer.prices.items():
                size = 1 << (32 - length)
                entries = len(needed.partners) * Fraction(self.change.allow_list_entry)
                cost = float((needed.until - month) * price + entries)
                variable = self.program.variable(cost, float(ceil(rises[-1][1] / size)))
                self.bought[variable], sizes[variable] = (needed.key, month, length), float(size)
                for partner in needed.partners:
                    self._of_list.setdefault(partner, {}).setdefault(month, []).append(variable)
        for month, more in rises:
            there = {variable: size for variable, size in sizes.items() if self.bought[variable][1] <= month}
            self.program.row(there, low=float(more))

    def keep_lists(self) -> None:
        """Partners: their lists hold so many entries, in each month; and a month in which one changes costs."""
        for partner, by_month in self._of_list.items():
            for room in self.terms.rooms:
                months = [one for one in sorted({room.begin, *by_month}) if room.begin <= one < room.until]
                for month in months if partner in room.left else ():
                    self._keep(room, month, by_month, room.left[partner])
            for some in by_month.values() if self.change.allow_list else ():
                changed = self.program.variable(float(self.change.allow_list))
                for variable in some:
                    self.program.row({variable: 1.0, changed: -self.program.upper[variable]}, high=0)

    def _keep(self, room: Room, month: int, by_month: Mapping[int, Sequence[int]], left: int) -> None:
        """A list in a month: no more entries than it has left, but for those that no order saves."""
        entries = {one: 1.0 for some in by_month.values() for one in some if self._stands(one, room, month)}
        if entries:
            beyond = self.program.variable(_FORBIDDING, float(len(entries)) * _MOST_OF_A_SIZE, integral=False)
            self.program.row(entries | {beyond: -1.0}, high=float(max(0, left)))

    def _stands(self, variable: int, room: Room, by: int) -> bool:
        key, month, _ = self.bought[variable]
        return month <= by and room.holds(self._buyers[key], month)


def _orders(bought: Mapping[int, tuple[Key, int, int]], values: Sequence[float]) -> Iterator[Order]:
    """What is bought, one order for each exit and month."""
    found: dict[tuple[Key, int], list[int]] = {}
    for variable, (key, month, length) in bought.items():
        if number := round(values[variable]):
            found.setdefault((key, month), []).extend([length] * number)
    for (key, month), lengths in sorted(found.items(), key=lambda item: (item[0][1], item[0][0])):
        yield Order(key, month, tuple(sorted(lengths)))
