"""What to buy when: the addresses of the months to come, by when to order them, and what no address mends.

What each exit needs in each month is the engine's word on the estate of that month; the orders are the cheapest that
cover it; and every month is then evaluated with what has arrived by then.
"""

from collections.abc import Container, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

from fenrask.addresses import prices_of
from fenrask.capacity import ExitCapacity, given, growth_until, parts_toward
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.evaluation.faults import scaled_flows
from fenrask.evaluation.needs import SURVIVES
from fenrask.prefixes import Prefix
from fenrask.progress import gone_through
from fenrask.what_if.growth import Crossing, crossings_of, months_ahead
from fenrask.what_if.schedule.needed import Key, Needed, StandIns, needed_by_month
from fenrask.what_if.schedule.orders import Buyer, Order, Terms, as_needed, cheapest, cost_of

__all__ = ["Due", "Later", "MonthThen", "Schedule", "day_of", "schedule"]

_PORTS, _PORTS_AFTER = "ports", "ports after a fault"
_DAYS = 30.4375
"""Days of a month, in the mean."""


def day_of(month: int) -> int:
    """The day on which a month from now begins; today is 0."""
    return int(month * _DAYS)


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


@dataclass(frozen=True)
class MonthThen:
    """One month with what has arrived by then."""

    number: int
    evaluation: Evaluation
    amount: Fraction
    once: Fraction
    """What is paid once in it."""
    crossings: tuple[Crossing, ...]


@dataclass(frozen=True)
class Schedule:
    """All orders of some months, what they cost, and what they do not mend."""

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
    def not_mended(self) -> list[Crossing]:
        """The limits that are exceeded all the same, each in the first month in which it is.

        What is lacking until an order of today is there is told by itself.
        """
        found: dict[tuple[str, str], Crossing] = {}
        waiting = {needed.name: until for needed, _, until in self.waits}
        for crossing in (one for month in self.months for one in month.crossings):
            if crossing.limit not in (_PORTS, _PORTS_AFTER) or crossing.month >= waiting.get(crossing.about, 0):
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


def schedule(described: Described, months: int = 24, level: float = 0.9, share: float = 0.0) -> Schedule:
    """The cheapest orders for so many months, this one among them; level: the confidence; share: see `grow`."""
    # What is reused goes on to the estates that this one is patched to.
    key = ("schedule", months, level, share)
    known = described.reused.get(key)
    if known is None or known[0] is not described:
        known = described.reused[key] = (described, _scheduled(described, months, level, share))
    found: Schedule = known[1]
    return found


def _scheduled(described: Described, months: int, level: float, share: float) -> Schedule:
    ahead, stand_ins = months_ahead(described, months, share), StandIns()
    needed = needed_by_month(ahead, level, stand_ins)
    buyers = [_buyer(described, one) for one in needed]
    terms = Terms(months, described.estate.targets.change_cost, _room(ahead[0]))
    orders = cheapest(buyers, terms)
    lacking = as_needed(buyers)
    waits = [*_waits(buyers)]
    due = [*_due(described, buyers, orders, {needed.key for needed, *_ in waits})]
    return Schedule(
        level,
        share,
        any(some is not None for one in needed for some in one.confidence),
        tuple(needed),
        tuple(due),
        cost_of(buyers, orders, terms),
        cost_of(buyers, cheapest(buyers, terms, at_once=True), terms),
        cost_of(buyers, lacking, terms),
        tuple(_too_many(buyers, lacking, terms)),
        tuple(_months(ahead, needed, orders, buyers, terms, stand_ins)),
        tuple(_too_many(buyers, orders, terms)),
        tuple(waits),
        tuple(_later(ahead, due)),
    )


def lead_of(described: Described, needed: Needed) -> int:
    """The days from an order until its addresses can be used: the provider's, then those of the slowest partner."""
    lead = described.estate.targets.lead_days
    return lead.addresses + max((lead.of_partner(one) for one in needed.partners), default=0)


def _buyer(described: Described, needed: Needed) -> Buyer:
    hours = Fraction(described.catalogue.hours_per_month)
    prices = {length: hour * hours for length, hour in prices_of(described, needed.key[0], blocks=True).items()}
    lead = lead_of(described, needed)
    first = next(month for month in range(10**6) if day_of(month) >= lead)
    return Buyer(needed, prices, first)


def _room(now: Evaluation) -> dict[str, int]:
    """By partner with a limit: the entries that its list has left."""
    return {one.destination: one.most - one.entries for one in now.plan.partners if one.most is not None and one.fixed}


def _too_many(buyers: Sequence[Buyer], orders: Sequence[Order], terms: Terms) -> Iterator[str]:
    """Partners whose lists are longer than they take, with the orders."""
    partners = {one.needed.key: one.needed.partners for one in buyers}
    for partner, room in terms.room.items():
        if sum(len(one.lengths) for one in orders if partner in partners[one.key]) > room:
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
        short = [one for one in range(min(buyer.first, len(needed.addresses))) if needed.wanted(one) > needed.has]
        if short:
            yield needed, short[0], buyer.first


def _months(
    ahead: Sequence[Evaluation],
    needed: Sequence[Needed],
    orders: Sequence[Order],
    buyers: Sequence[Buyer],
    terms: Terms,
    stand_ins: StandIns,
) -> Iterator[MonthThen]:
    """Each month evaluated with what has arrived by then."""
    owned = {one.key: [*one.owned] for one in needed if any(order.key == one.key for order in orders)}
    for number in gone_through(range(len(ahead)), "month with its orders"):
        arrived = [one for one in orders if one.month == number]
        for order in arrived:
            owned[order.key] += [stand_ins.block(length) for length in order.lengths]
        evaluation = ahead[number]
        there = {key: some for key, some in owned.items() if key[0] in evaluation.described.estate.exits}
        if there:
            patched = evaluation.described.patched(_listed(there), f"month {number} with its orders")
            evaluation = evaluate(patched, evaluation)
        held = replace(terms, months=number)
        once = cost_of(buyers, arrived, held)
        crossings = (*crossings_of(number, evaluation), *_not_met(number, evaluation, ahead[0]))
        yield MonthThen(number, evaluation, evaluation.bill.total, once, crossings)


def _not_met(number: int, evaluation: Evaluation, now: Evaluation) -> Iterator[Crossing]:
    """What an exit does not carry after a fault, and needs that flows break which they do not break today."""
    for one in evaluation.capacity.exits:
        after = one.after_fault
        if after is not None and not after.carries(one.addresses):
            needs = "no number suffices" if after.needed is None else f"it then needs {after.needed} addresses"
            yield Crossing(one.name, _PORTS_AFTER, number, f"{after.fault}: {needs}, and has {one.addresses}")
    already = {(one.flow, one.need) for one in now.broken}
    for broken in evaluation.broken:
        if broken.need != SURVIVES and (broken.flow, broken.need) not in already:
            yield Crossing(broken.flow, broken.need, number, broken.why)


def _listed(owned: Mapping[Key, Sequence[Prefix]]) -> dict[str, Any]:
    """The patch that lists what exits have; what a stand-in stands for is held, and paid at the price of its size."""
    exits: dict[str, dict[str, Any]] = {}
    held: dict[str, dict[str, str]] = {}
    for (name, toward), blocks in owned.items():
        held |= {f"block {one}": {"address": str(one)} for one in blocks if one.is_reserved}
        addresses = [str(address) for block in blocks for address in block]
        if toward:
            exits.setdefault(name, {}).setdefault("addresses_for", {})[toward] = addresses
        else:
            exits.setdefault(name, {}).update({"addresses": addresses, "at_least": None})
    return {"exits": exits, "public_addresses": held}


def _later(ahead: Sequence[Evaluation], due: Sequence[Due]) -> Iterator[Later]:
    """For each order the load below which it can wait, in the month in which it has to be decided."""
    for one in due:
        sized, then = one.needed.sized[one.order.month], ahead[one.order.month].described
        if sized is None:
            continue
        rooms = [sized, *([sized.after_fault.then] if sized.after_fault else [])]
        before = one.then - one.order.addresses
        grows = [growth_until(each.streams, each.assignment, each.how, before, each.target) for each in rooms]
        day = max(0, one.order_by)
        month = min(one.order.month, int(day / _DAYS))
        exit_, toward = one.needed.key
        demand = ahead[month].demand
        parts = parts_toward(demand, exit_, toward) if toward else demand.at_exit.get(exit_, ())
        planned = demand.load(parts).peak.concurrent
        known = [grow for grow in grows if grow is not None]
        times = (1 + min(known, default=-1.0)) / (1 + then.estate.targets.growth_margin)
        if planned and times > 0 and _does(then, sized, before, times * _JUST_BELOW):
            yield Later(one, day, planned, planned * times)


_JUST_BELOW = 0.999


def _does(then: Described, sized: ExitCapacity, addresses: int, times: float) -> bool:
    """Whether an exit does with so many addresses if all loads are so many times as large: other limits may bind."""
    patch = scaled_flows(then, dict.fromkeys(then.estate.flows, times))
    changed = then.patched({**patch, "exits": given([(sized, addresses)])}, "measured")
    one = evaluate(changed).capacity.of(sized.exit, sized.toward)
    return one is not None and one.fits and one.carries_faults
