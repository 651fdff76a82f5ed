"""One design sized, then priced, then judged against every need."""

from dataclasses import dataclass
from functools import cached_property

from fenrask.addresses import AddressPlan, plan_addresses
from fenrask.capacity import Capacity, ExitCapacity, LimitUse, capacity
from fenrask.charges import Bill, bill
from fenrask.demand import Demand, demand
from fenrask.estate import Described
from fenrask.routing import BrokenNeed, Ways, broken_needs, flow_ways

__all__ = ["Judged", "judge"]


@dataclass(frozen=True)
class Judged:
    """An estate with all that follows from it. `broken` holds needs that flows' ways do not meet."""

    described: Described
    ways: Ways
    demand: Demand
    capacity: Capacity
    plan: AddressPlan
    bill: Bill
    broken: tuple[BrokenNeed, ...]

    @property
    def short(self) -> tuple[ExitCapacity, ...]:
        """The exits that do not carry what they have to."""
        return tuple(one for one in self.capacity.exits if not one.fits)

    @property
    def meets_all(self) -> bool:
        return not self.broken and not self.short

    @property
    def flows_with_broken_needs(self) -> int:
        return len({one.flow for one in self.broken})

    @property
    def addresses(self) -> int:
        """Public addresses paid for, hosts' own included."""
        return self.hosts_with_public + sum(one.bought for one in self.plan.exits)

    @property
    def hosts_with_public(self) -> int:
        """Hosts that have a public address of their own."""
        return sum(one.hosts for one in self.described.estate.workloads.values() if one.public_address)

    @property
    def upkeep_hours(self) -> float:
        """Hours of work a month on machines of one's own."""
        exits = self.described.estate.exits
        offers = {name: self.described.offer_of(name) for name in exits}
        hours = [exits[name].units * one.upkeep_hours for name, one in offers.items() if one is not None]
        return float(sum(hours))

    @property
    def most_entries(self) -> int:
        """Entries of the longest allow-list that any partner needs for it."""
        return max((one.entries for one in self.plan.partners), default=0)

    @property
    def busiest(self) -> ExitCapacity | None:
        """The exit whose ports are nearest to running out; None where no exit translates."""
        used = [one for one in self.capacity.exits if one.ports]
        return min(used, key=lambda one: one.ports.headroom if one.ports else 1.0, default=None)

    @cached_property
    def binding(self) -> tuple[str, LimitUse] | None:
        """The exit and the limit that is reached first when all loads grow alike."""
        limits = [(one.exit, limit) for one in self.capacity.exits for limit in one.limits if limit.grows]
        return min(limits, key=lambda pair: pair[1].headroom, default=None)


def judge(described: Described) -> Judged:
    """Walk, load, size, buy and price an estate as it is described, and judge its flows' needs."""
    ways = flow_ways(described)
    load = demand(ways)
    sized = capacity(load)
    plan = plan_addresses(sized)
    broken = [one for flow in described.estate.flows for one in broken_needs(ways, flow, plan.entries, plan.in_use)]
    return Judged(described, ways, load, sized, plan, bill(ways, plan), tuple(broken))
