"""What to buy when, with the exits of a course: the addresses of the months, by when to order them, what none mends.

What each exit needs in each month is the engine's word on the estate of that month; the orders are the cheapest that
cover it; and every month is then evaluated with what has arrived by then.
"""

from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from functools import cached_property
from typing import Any

from fenrask.addresses import prices_of
from fenrask.charges import Bill
from fenrask.estate import Described
from fenrask.evaluation import Evaluation
from fenrask.evaluation.needs import SURVIVES
from fenrask.prefixes import Prefix
from fenrask.progress import gone_through
from fenrask.units import figure
from fenrask.what_if.growth import PORTS, Crossing, crossings_of, once_in
from fenrask.what_if.schedule.courses import Course, Futures, Sure, lives_of, spans
from fenrask.what_if.schedule.due import Due, due_of, lead_of
from fenrask.what_if.schedule.later import Later, later_of
from fenrask.what_if.schedule.needed import Key, Needed, StandIns, known_by, needed_by_month
from fenrask.what_if.schedule.orders import Buyer, Order, Room, Terms, as_needed, cheapest, cost_of, once_of
from fenrask.what_if.schedule.when import Months

__all__ = ["MonthThen", "Planned", "planned"]

_PORTS_AFTER = "ports after a fault"


@dataclass(frozen=True)
class MonthThen:
    """One month with what has arrived by then."""

    number: int
    evaluation: Evaluation
    amount: Fraction
    once: Fraction
    """What is paid once in it."""
    crossings: tuple[Crossing, ...]
    bill: Bill
    """Its bill, with the commitments that are taken."""


@dataclass(frozen=True)
class Beside:
    """What it costs to buy all today, or each month what it lacks, at the least price; and which orders could wait.

    by_month_over: partners whose lists cannot hold what each month lacks.
    """

    at_once: Fraction
    by_month: Fraction
    by_month_over: tuple[str, ...]
    later: tuple[Later, ...]


@dataclass(frozen=True)
class Planned:
    """All orders of some months by one course, what they cost, and what they do not mend."""

    level: float
    """The confidence of what exits need, where anything is a range."""
    share: float
    """The growth of all loads on top of their own; see `grow`."""
    is_uncertain: bool
    needed: tuple[Needed, ...]
    due: tuple[Due, ...]
    added: Fraction
    """What the orders cost to the end: hours, and what changes cost once."""
    months: tuple[MonthThen, ...]
    over: tuple[str, ...]
    """Partners whose lists cannot hold what is needed."""
    waits: tuple[tuple[Needed, int, int], ...]
    """Exits that lack addresses before any order can be there: from which month, and until which."""
    look_beside: Callable[[], Beside] = field(compare=False, repr=False)
    """Works out `beside`, when it is asked for: of many courses that are looked at one is shown."""

    @cached_property
    def beside(self) -> Beside:
        """What else could be done."""
        return self.look_beside()

    @property
    def not_waited_for(self) -> Iterator[Crossing]:
        """The limits that are exceeded all the same, in each month, but for ports until an order of today is there."""
        waiting = {needed.name: until for needed, _, until in self.waits}
        for crossing in (one for month in self.months for one in month.crossings):
            if crossing.limit not in (PORTS, _PORTS_AFTER) or crossing.month >= waiting.get(crossing.about, 0):
                yield crossing

    @property
    def not_mended(self) -> list[Crossing]:
        """Of these each in the first month in which it is."""
        found: dict[tuple[str, str], Crossing] = {}
        for crossing in self.not_waited_for:
            found.setdefault((crossing.about, crossing.limit), crossing)
        return [*found.values()]

    @property
    def total(self) -> Fraction:
        """The bills of all months, with what is paid once."""
        return sum((one.amount + one.once for one in self.months), Fraction(0))

    @property
    def is_well(self) -> bool:
        """Whether no limit is exceeded in any month."""
        return not self.not_mended and not self.over and not self.waits


def planned(futures: Futures, course: Course) -> Planned:
    """The cheapest orders for the months of a course."""
    described, stand_ins = futures.described, StandIns()
    ahead, sure = zip(*futures.through(course), strict=True)
    needed = needed_by_month(ahead, sure, lives_of(futures, course), stand_ins)
    mixes = {one.begin: one.mix for one in course}
    buyers = [_buyer(futures.estate(mixes[one.key.begin]), futures.calendar, one) for one in needed]
    new = {one.key for one in needed if not one.owned}
    rooms = [_room(ahead[stage.begin], stage.begin, until, new) for stage, until in spans(course, futures.months)]
    terms = Terms(described.estate.targets.change_cost, rooms)
    orders = cheapest(buyers, terms)
    waits = [*_waits(buyers)]
    due = [*due_of(described, futures.calendar, buyers, orders, {needed.key for needed, *_ in waits})]
    return Planned(
        futures.level,
        futures.share,
        any(some is not None for one in needed for some in one.confidence),
        tuple(needed),
        tuple(due),
        cost_of(buyers, orders, terms),
        tuple(_months(futures, ahead, sure, _Bought(needed, buyers, orders, terms, stand_ins))),
        tuple(dict.fromkeys(_too_many(buyers, orders, terms))),
        tuple(waits),
        lambda: _beside(buyers, terms, later_of(futures.calendar, ahead, due)),
    )


def _beside(buyers: Sequence[Buyer], terms: Terms, later: Iterable[Later]) -> Beside:
    lacking = as_needed(buyers)
    return Beside(
        cost_of(buyers, cheapest(buyers, terms, at_once=True), terms),
        cost_of(buyers, lacking, terms),
        tuple(dict.fromkeys(_too_many(buyers, lacking, terms))),
        tuple(later),
    )


def _buyer(described: Described, months: Months, needed: Needed) -> Buyer:
    hours = Fraction(described.catalogue.hours_per_month)
    prices = {length: hour * hours for length, hour in prices_of(described, needed.key.exit, blocks=True).items()}
    return Buyer(needed, prices, max(months.since(lead_of(described, needed)), needed.key.begin))


def _room(now: Evaluation, begin: int, until: int, new: Container[Key]) -> Room:
    """By partner with a limit: the entries that its list has left, beside those of exits that order all they have."""
    left = dict[str, int]()
    for partner in now.plan.partners:
        if partner.fixed and partner.most is not None:
            ordered = (part for part in partner.parts if Key(part.exit, part.toward, begin) in new)
            left[partner.destination] = partner.most - partner.entries + sum(len(part.blocks) for part in ordered)
    return Room(begin, until, left)


def _too_many(buyers: Sequence[Buyer], orders: Sequence[Order], terms: Terms) -> Iterator[str]:
    """Partners whose lists are longer than they take, with the orders."""
    known = {one.needed.key: one for one in buyers}
    for room in terms.rooms:
        standing = [one for one in orders if room.holds(known[one.key], one.month)]
        for partner, left in room.left.items():
            added = sum(len(one.lengths) for one in standing if partner in known[one.key].needed.partners)
            if added > left:
                yield partner


def _waits(buyers: Sequence[Buyer]) -> Iterator[tuple[Needed, int, int]]:
    """Exits that lack addresses before an order of today is there."""
    for buyer in buyers:
        needed = buyer.needed
        before = range(needed.key.begin, min(buyer.first, needed.until))
        short = [one for one in before if needed.wanted(one) > needed.has]
        if short:
            yield needed, short[0], buyer.first


@dataclass(frozen=True)
class _Bought:
    """What is needed, and what is ordered for it, by whom and on which terms; blocks have addresses that stand in."""

    needed: Sequence[Needed]
    buyers: Sequence[Buyer]
    orders: Sequence[Order]
    terms: Terms
    stand_ins: StandIns


def _months(
    futures: Futures, ahead: Sequence[Evaluation], sure: Sequence[Sure], bought: _Bought
) -> Iterator[MonthThen]:
    """Each month evaluated with what has arrived by then."""
    needed, orders = bought.needed, bought.orders
    buying = {one.key for one in orders}
    owned = {one.key: [*one.owned] for one in needed if one.key in buying}
    until, most = {one.key: one.until for one in needed}, {one.key: one.most for one in needed}
    for number in gone_through(range(len(ahead)), "month with its orders"):
        arrived = [one for one in orders if one.month == number]
        for order in arrived:
            owned[order.key] += [bought.stand_ins.block(length) for length in order.lengths]
        evaluation = ahead[number]
        exits = evaluation.described.estate.exits
        there = {key: some for key, some in owned.items() if key.begin <= number < until[key] and key.exit in exits}
        if there:
            owns = tuple((key.exit, key.toward, most[key], *map(known_by, some)) for key, some in there.items())
            name = f"month {number} with its orders"
            evaluation = futures.with_orders(evaluation, _listed(there, most), owns, name)
        once = once_of(bought.buyers, arrived, bought.terms) + once_in(futures.described, number)
        crossings = [*crossings_of(number, evaluation), *_not_met(number, evaluation, ahead[0])]
        short = {one.about for one in crossings if one.limit in (PORTS, _PORTS_AFTER)}
        crossings += [one for one in _not_sure(number, needed, there) if one.about not in short]
        exceeded = {(one.about, one.limit) for one in crossings}
        crossings += [one for one in _not_kept(number, sure[number]) if (one.about, one.limit) not in exceeded]
        yield MonthThen(number, evaluation, evaluation.bill.total, once, tuple(crossings), evaluation.bill)


def _not_sure(number: int, needed: Sequence[Needed], owned: Mapping[Key, Sequence[Prefix]]) -> Iterator[Crossing]:
    """Exits that carry their likely load, and not with the confidence asked for."""
    for exit_ in needed:
        wanted = exit_.addresses[number]
        has = sum(int(block.num_addresses) for block in owned.get(exit_.key, exit_.owned))
        takes = has if exit_.most is None else min(has, exit_.most)
        if exit_.confidence[number] is not None and (wanted is None or wanted > takes):
            needs = "no number suffices" if wanted is None else f"{wanted} addresses needed"
            yield Crossing(exit_.name, PORTS, number, f"{needs} with the confidence asked for, and it has {takes}")


def _not_kept(number: int, sure: Sure) -> Iterator[Crossing]:
    """Limits beside ports that are kept to for the likely load, and not with the confidence asked for."""
    for kept in sure.limits:
        limit = kept.limit
        use = f"{figure(kept.use)} {limit.unit} of {figure(limit.capacity)} with the confidence asked for"
        yield Crossing(kept.exit, limit.limit, number, use)
    yield from sure.crowded


def _not_met(number: int, evaluation: Evaluation, now: Evaluation) -> Iterator[Crossing]:
    """What an exit does not carry after a fault, and needs that flows break which they do not break today."""
    for exit_ in evaluation.capacity.exits:
        after = exit_.after_fault
        if after is not None and not after.carries(exit_.addresses):
            needs = "no number suffices" if after.needed is None else f"it then needs {after.needed} addresses"
            yield Crossing(exit_.name, _PORTS_AFTER, number, f"{after.fault}: {needs}, and has {exit_.addresses}")
    already = {(one.flow, one.need) for one in now.broken}
    for broken in evaluation.broken:
        if broken.need != SURVIVES and (broken.flow, broken.need) not in already:
            yield Crossing(broken.flow, broken.need, number, broken.why)


def _listed(owned: Mapping[Key, Sequence[Prefix]], most: Mapping[Key, int | None]) -> dict[str, Any]:
    """The patch that lists what exits have, of what they take; what a stand-in stands for is held, and paid at the
    price of its size."""
    exits: dict[str, dict[str, Any]] = {}
    held: dict[str, dict[str, str]] = {}
    for key, blocks in owned.items():
        name, toward, _ = key
        held |= {f"block {one}": {"address": str(one)} for one in blocks if one.is_reserved}
        addresses = [str(address) for block in blocks for address in block][: most[key]]
        if toward:
            exits.setdefault(name, {}).setdefault("addresses_for", {})[toward] = addresses
        else:
            exits.setdefault(name, {}).update({"addresses": addresses, "at_least": None})
    return {"exits": exits, "public_addresses": held}
