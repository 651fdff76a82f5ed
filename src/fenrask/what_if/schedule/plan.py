"""What to buy when, with the exits of a course: the addresses of the months, by when to order them, what none mends.

What each exit needs in each month is the engine's word on the estate of that month; the orders are the cheapest that
cover it; and every month is then evaluated with what has arrived by then.
"""

from collections.abc import Container, Iterator, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from fenrask.addresses import prices_of
from fenrask.capacity import ExitCapacity, given, growth_until, parts_toward
from fenrask.charges import Bill
from fenrask.estate import MONTH_DAYS, Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.evaluation.faults import scaled_flows
from fenrask.evaluation.needs import SURVIVES
from fenrask.prefixes import Prefix
from fenrask.progress import gone_through
from fenrask.what_if.growth import PORTS, Crossing, crossings_of, once_in
from fenrask.what_if.schedule.courses import Course, Futures, lives_of, spans
from fenrask.what_if.schedule.needed import Key, Needed, StandIns, needed_by_month
from fenrask.what_if.schedule.orders import Buyer, Order, Room, Terms, as_needed, cheapest, cost_of, once_of

__all__ = ["Due", "Later", "MonthThen", "Planned", "day_of", "months_until", "planned"]

_PORTS_AFTER = "ports after a fault"


def day_of(month: int) -> int:
    """The day on which a month from now begins; today is 0."""
    return int(month * MONTH_DAYS)


def months_until(day: int) -> int:
    """The first month that begins on a day or later."""
    return next(month for month in range(10**6) if day_of(month) >= day)


@dataclass(frozen=True)
class Due:
    """One order: what, for which exit and month, by when, and who has to be told."""

    order: Order
    needed: Needed
    order_by: int
    """The latest day, from today."""
    there: int
    """The day on which its addresses can then be used."""
    then: int
    """The addresses that the exit has with it."""
    month_amount: Fraction
    """What it costs a month."""

    @property
    def entries(self) -> int:
        """Entries that each partner adds."""
        return len(self.order.lengths) if self.needed.partners else 0


@dataclass(frozen=True)
class Later:
    """What a measurement before an order would change: below so many connections it can wait."""

    due: Due
    day: int
    planned: float
    """Concurrent connections at the peak of the exit, by the plan, in the month of that day."""
    below: float
    """With no more than these the addresses before the order still do when its month begins."""
    regret: "Regret | None"
    """None where nothing is a range."""


@dataclass(frozen=True)
class Regret:
    """What may be regretted of an order, over all samples: that it was given, or that it was not."""

    needed: float
    """The share of samples in which its month needs it."""
    unused: Fraction
    """Money for it in months that do not need it, in the mean."""
    short_days: float
    """Days on which ports are lacking if it waits until its month has shown that it is needed, in the mean."""


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
    at_once: Fraction
    """What it costs to buy all today."""
    by_month: Fraction
    """What it costs if each month buys what it lacks, at the least price."""
    by_month_over: tuple[str, ...]
    """Partners whose lists cannot hold that."""
    months: tuple[MonthThen, ...]
    over: tuple[str, ...]
    """Partners whose lists cannot hold what is needed."""
    waits: tuple[tuple[Needed, int, int], ...]
    """Exits that lack addresses before any order can be there: from which month, and until which."""
    later: tuple[Later, ...]

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
    buyers = [_buyer(futures.estate(mixes[one.key.begin]), one) for one in needed]
    new = {one.key for one in needed if not one.owned}
    rooms = [_room(ahead[stage.begin], stage.begin, until, new) for stage, until in spans(course, futures.months)]
    terms = Terms(described.estate.targets.change_cost, rooms)
    orders = cheapest(buyers, terms)
    lacking = as_needed(buyers)
    waits = [*_waits(buyers)]
    due = [*_due(described, buyers, orders, {needed.key for needed, *_ in waits})]
    return Planned(
        futures.level,
        futures.share,
        any(some is not None for one in needed for some in one.confidence),
        tuple(needed),
        tuple(due),
        cost_of(buyers, orders, terms),
        cost_of(buyers, cheapest(buyers, terms, at_once=True), terms),
        cost_of(buyers, lacking, terms),
        tuple(dict.fromkeys(_too_many(buyers, lacking, terms))),
        tuple(_months(futures, ahead, needed, orders, buyers, terms, stand_ins)),
        tuple(dict.fromkeys(_too_many(buyers, orders, terms))),
        tuple(waits),
        tuple(_later(ahead, due)),
    )


def lead_of(described: Described, needed: Needed) -> int:
    """The days from an order until its addresses can be used: the provider's, then those of the slowest partner."""
    lead = described.estate.targets.lead_days
    return lead.addresses + max((lead.of_partner(one) for one in needed.partners), default=0)


def _buyer(described: Described, needed: Needed) -> Buyer:
    hours = Fraction(described.catalogue.hours_per_month)
    prices = {length: hour * hours for length, hour in prices_of(described, needed.key.exit, blocks=True).items()}
    return Buyer(needed, prices, max(months_until(lead_of(described, needed)), needed.key.begin))


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


def _due(
    described: Described, buyers: Sequence[Buyer], orders: Sequence[Order], waiting: Container[Key]
) -> Iterator[Due]:
    """Each order with its day; those that are waited for are due today."""
    known = {one.needed.key: one for one in buyers}
    has = {key: one.needed.has for key, one in known.items()}
    for order in orders:
        buyer = known[order.key]
        has[order.key] += order.addresses
        lead = lead_of(described, buyer.needed)
        is_late = order.key in waiting and order.month == buyer.first
        by = 0 if is_late else day_of(order.month) - lead
        amount = sum((buyer.prices[length] for length in order.lengths), Fraction(0))
        yield Due(order, buyer.needed, by, by + lead, has[order.key], amount)


def _waits(buyers: Sequence[Buyer]) -> Iterator[tuple[Needed, int, int]]:
    """Exits that lack addresses before an order of today is there."""
    for buyer in buyers:
        needed = buyer.needed
        before = range(needed.key.begin, min(buyer.first, needed.until))
        short = [one for one in before if needed.wanted(one) > needed.has]
        if short:
            yield needed, short[0], buyer.first


def _months(
    futures: Futures,
    ahead: Sequence[Evaluation],
    needed: Sequence[Needed],
    orders: Sequence[Order],
    buyers: Sequence[Buyer],
    terms: Terms,
    stand_ins: StandIns,
) -> Iterator[MonthThen]:
    """Each month evaluated with what has arrived by then."""
    buying = {one.key for one in orders}
    owned = {one.key: [*one.owned] for one in needed if one.key in buying}
    until, most = {one.key: one.until for one in needed}, {one.key: one.most for one in needed}
    for number in gone_through(range(len(ahead)), "month with its orders"):
        arrived = [one for one in orders if one.month == number]
        for order in arrived:
            owned[order.key] += [stand_ins.block(length) for length in order.lengths]
        evaluation = ahead[number]
        exits = evaluation.described.estate.exits
        there = {key: some for key, some in owned.items() if key.begin <= number < until[key] and key.exit in exits}
        if there:
            patched = evaluation.described.patched(_listed(there, most), f"month {number} with its orders")
            evaluation = evaluate(patched, evaluation)
        once = once_of(buyers, arrived, terms) + once_in(futures.described, number)
        crossings = [*crossings_of(number, evaluation), *_not_met(number, evaluation, ahead[0])]
        short = {one.about for one in crossings if one.limit in (PORTS, _PORTS_AFTER)}
        crossings += [one for one in _not_sure(number, needed, there) if one.about not in short]
        yield MonthThen(number, evaluation, evaluation.bill.total, once, tuple(crossings), evaluation.bill)


def _not_sure(number: int, needed: Sequence[Needed], owned: Mapping[Key, Sequence[Prefix]]) -> Iterator[Crossing]:
    """Exits that carry their likely load, and not with the confidence asked for."""
    for one in needed:
        wanted = one.addresses[number]
        has = sum(int(block.num_addresses) for block in owned.get(one.key, one.owned))
        takes = has if one.most is None else min(has, one.most)
        if one.confidence[number] is not None and (wanted is None or wanted > takes):
            needs = "no number suffices" if wanted is None else f"{wanted} addresses needed"
            yield Crossing(one.name, PORTS, number, f"{needs} with the confidence asked for, and it has {takes}")


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


def _later(ahead: Sequence[Evaluation], due: Sequence[Due]) -> Iterator[Later]:
    """For each order the load below which it can wait, in the month in which it has to be decided."""
    for one in due:
        sized, then = one.needed.sized[one.order.month], ahead[one.order.month].described
        if sized is None or one.then == one.order.addresses:
            # Without any address nothing waits.
            continue
        rooms = [sized, *([sized.after_fault.then] if sized.after_fault else [])]
        # Of a larger block only so many are in use as the offer takes.
        before = min(one.then - one.order.addresses, one.needed.most or one.then)
        grows = [growth_until(each.streams, each.assignment, each.how, before, each.target) for each in rooms]
        day = max(0, one.order_by)
        month = min(one.order.month, int(day / MONTH_DAYS))
        exit_, toward, _ = one.needed.key
        demand = ahead[month].demand
        parts = parts_toward(demand, exit_, toward) if toward else demand.at_exit.get(exit_, ())
        peak = demand.load(parts).peak.concurrent
        known = [grow for grow in grows if grow is not None]
        times = (1 + min(known, default=-1.0)) / (1 + then.estate.targets.growth_margin)
        if peak and times > 0 and _does(then, sized, before, times * _JUST_BELOW):
            yield Later(one, day, peak, peak * times, _regret(one, before))


def _regret(due: Due, before: int) -> Regret | None:
    """What an order's months say of it over their samples. before: the addresses without it."""
    sure = due.needed.confidence[due.order.month : due.needed.until]
    carried = [one.carried_by(before) for one in sure if one is not None]
    if not carried:
        return None
    needed = 1 - carried[0]
    return Regret(
        needed, sum(map(Fraction, carried), Fraction(0)) * due.month_amount, needed * (due.there - due.order_by)
    )


_JUST_BELOW = 0.999


def _does(then: Described, sized: ExitCapacity, addresses: int, times: float) -> bool:
    """Whether an exit does with so many addresses if all loads are so many times as large: other limits may bind."""
    patch = scaled_flows(then, dict.fromkeys(then.estate.flows, times))
    changed = then.patched({**patch, "exits": given([(sized, addresses)])}, "measured")
    one = evaluate(changed).capacity.of(sized.exit, sized.toward)
    return one is not None and one.fits and one.carries_faults
