"""Each order with the latest day for it, from today."""

from collections.abc import Container, Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction

from fenrask.estate import Described
from fenrask.what_if.schedule.needed import Key, Needed
from fenrask.what_if.schedule.orders import Buyer, Order
from fenrask.what_if.schedule.when import Months

__all__ = ["Due", "due_of", "lead_of"]


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


def lead_of(described: Described, needed: Needed) -> int:
    """The days from an order until its addresses can be used: the provider's, then those of the slowest partner."""
    lead = described.estate.targets.lead_days
    return lead.addresses + max((lead.of_partner(one) for one in needed.partners), default=0)


def due_of(
    described: Described, months: Months, buyers: Sequence[Buyer], orders: Sequence[Order], waiting: Container[Key]
) -> Iterator[Due]:
    """Each order with its day; those that are waited for are due today."""
    known = {one.needed.key: one for one in buyers}
    has = {key: one.needed.has for key, one in known.items()}
    for order in orders:
        buyer = known[order.key]
        has[order.key] += order.addresses
        lead = lead_of(described, buyer.needed)
        is_late = order.key in waiting and order.month == buyer.first
        by = 0 if is_late else months.begin(order.month) - lead
        amount = sum((buyer.prices[length] for length in order.lengths), Fraction(0))
        yield Due(order, buyer.needed, by, by + lead, has[order.key], amount)
