"""The evaluation of an estate: each stage is computed when it is first asked for, then kept."""

from collections.abc import Container, Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property

from fenrask.addresses import AddressPlan, plan_addresses
from fenrask.capacity import Capacity, ExitCapacity, ExitLimits, LimitUse, capacity
from fenrask.charges import Bill, bill, upkeep_hours
from fenrask.demand import Demand, demand
from fenrask.estate import Described
from fenrask.evaluation.availability import down_minutes, flow_availability
from fenrask.evaluation.needs import SURVIVES, BrokenNeed, ByKind, Given, any_by_size, every_broken_need, in_the_mean
from fenrask.evaluation.surviving import Before, Survived, Surviving
from fenrask.routing import Paths, flow_paths

__all__ = ["Evaluation", "evaluate"]


@dataclass(frozen=True, eq=False)
class Evaluation:
    """An estate with all that follows from it, each thing in one place: what any command says is read off here."""

    described: Described
    like: "Evaluation | None" = None
    """An evaluation of nearly the same estate: exits that carry the same as there are not sized again."""
    asks_for_faults: bool = True
    """Whether it is looked at what flows are to survive; not of an estate after a fault."""
    flows: tuple[str, ...] | None = None
    """The flows whose paths are looked at, where these are not all: for what `breaks` says of them."""
    without_fault: "Evaluation | None" = None
    """Of an estate after a fault: the same before it."""

    @cached_property
    def paths(self) -> Paths:
        """Every flow's paths, there and back."""
        like, before = self.like, self.without_fault
        return flow_paths(self.described, self.flows, like.paths if like else None, before.paths if before else None)

    @cached_property
    def demand(self) -> Demand:
        """What the arriving flows put on each exit through the day."""
        return demand(self.paths, self.like.demand if self.like else None)

    @cached_property
    def capacity_now(self) -> Capacity:
        """Every exit against its limits, sized for what is there now where its addresses are `auto`."""
        return capacity(self.demand, [self.like.capacity_now] if self.like else ())

    @cached_property
    def surviving(self) -> Surviving:
        """The faults that flows are to survive, and the estate after each."""
        like = self.like.surviving if self.like is not None and self.like.asks_for_faults else None
        return Surviving(self.described, self._struck, lambda: self.capacity_now, like)

    def _struck(self, after: Described, like: "Evaluation | None", surviving: Sequence[str]) -> "Evaluation":
        """The evaluation of this estate after a fault, of which nothing is to survive another one.

        like: that of nearly the same estate after the same fault. surviving: the flows that are to survive it: where
        not all flows are looked at, exits are not, and nothing hangs on the others.
        """
        asked = {*surviving}
        flows = None if self.flows is None else tuple(name for name in self.flows if name in asked)
        return Evaluation(after, like or self, asks_for_faults=False, flows=flows, without_fault=self)

    @property
    def _after_faults(self) -> tuple[Survived, ...]:
        return self.surviving.faults if self.asks_for_faults else ()

    @cached_property
    def capacity(self) -> Capacity:
        """Every exit against its limits, sized for now and for the faults that flows on it are to survive."""
        if not self._after_faults:
            return self.capacity_now
        sized = capacity(self.demand, [self.capacity_now], self.surviving.needed)
        return sized.with_faults(self.surviving.tightest)

    @cached_property
    def plan(self) -> AddressPlan:
        """The addresses of every exit, and what partners must allow."""
        return plan_addresses(self.capacity)

    @cached_property
    def bill(self) -> Bill:
        """The month's bill."""
        return bill(self.paths, self.plan)

    @cached_property
    def broken(self) -> tuple[BrokenNeed, ...]:
        """Every need that a flow's paths do not meet, with the addresses as planned, or that a fault breaks."""
        if not self._after_faults:
            return self._broken_now
        return (*self._broken_now, *self.surviving.broken(self._before_faults, self.capacity))

    @cached_property
    def _broken_now(self) -> tuple[BrokenNeed, ...]:
        """The needs that are not met without any fault."""
        return tuple(every_broken_need(self.paths, self._given))

    @property
    def _given(self) -> Given:
        """What exits have, where any need hangs on it: else nothing has to be sized for it."""
        return Given(self.plan.entries, self.plan.in_use) if any_by_size(self.described.estate) else Given()

    @cached_property
    def _before_faults(self) -> Before:
        return Before(self.paths, _by_flow(self._broken_now), self._given)

    @cached_property
    def broken_by_flow(self) -> dict[str, list[BrokenNeed]]:
        """The needs that are not met, by flow."""
        return _by_flow(self.broken)

    @property
    def short(self) -> tuple[ExitLimits, ...]:
        """The exits that do not carry what they have to."""
        return tuple(one for one in self.capacity.every if not one.fits)

    @property
    def meets_all(self) -> bool:
        """Whether every flow arrives, every need is met and every exit carries its load."""
        # What paths alone rule out need not be sized.
        return not self.ruled_out and not self.broken and not self.short and not self.too_much_work

    @cached_property
    def ruled_out(self) -> bool:
        """Whether a need is broken with however few addresses, without any fault."""
        return any(True for _ in every_broken_need(self.paths))

    @property
    def too_much_work(self) -> str:
        """Why the work on self-run machines exceeds its target; empty where it does not."""
        most, hours = self.described.estate.targets.upkeep_hours_per_month, self.upkeep_hours
        if most is None or hours <= most:
            return ""
        return f"self-run machines take {hours:g} hours of work a month; the target is {most:g}"

    @property
    def flows_with_broken_needs(self) -> int:
        return len({one.flow for one in self.broken})

    @property
    def addresses(self) -> int:
        """Public addresses paid for: of exits, of hosts, and held ones."""
        return self.hosts_with_public + sum(one.bought for one in self.plan.exits) + self.plan.held_addresses

    @property
    def hosts_with_public(self) -> int:
        """Hosts that have a public address of their own."""
        return sum(one.hosts for one in self.described.estate.workloads.values() if one.public_address)

    @cached_property
    def down_minutes(self) -> dict[str, float]:
        """Minutes a month that each flow is expected to be down; empty where nothing promises anything."""
        described = self.described
        if not described.catalogue.promises_availability:
            return {}
        hours = float(described.catalogue.hours_per_month)
        return {flow: down_minutes(share, hours) for flow, share in flow_availability(self.paths).items()}

    @cached_property
    def broken_on_paths(self) -> frozenset[tuple[str, str]]:
        """Flows and the needs that their paths alone break, faults included: nothing is sized for it."""
        found = _by_flow(every_broken_need(self.paths))
        broken = {(flow, one.need) for flow, some in found.items() for one in some}
        cut_off = self.surviving.cut_off(Before(self.paths, found, Given())) if self._after_faults else ()
        return frozenset(broken | {(flow, SURVIVES) for flow in cut_off})

    def breaks(self, flow: str, subnets: Container[str]) -> frozenset[str]:
        """The needs that the paths of a flow's part from these subnets break by themselves, faults included.

        What is demanded of the flow in the mean is no need of a part, and how many addresses exits are given is not
        known.
        """
        needs = set(self.by_kind.broken(flow, subnets))
        if needs and not self.paths.is_whole(flow, subnets):
            needs = {one for one in needs if not in_the_mean(one)}
        if self.asks_for_faults and self.surviving.cuts_off(flow, subnets, self.paths, needs):
            needs.add(SURVIVES)
        return frozenset(needs)

    @cached_property
    def by_kind(self) -> ByKind:
        """The needs that parts of flows break on their paths."""
        return ByKind(self.paths)

    @property
    def upkeep_hours(self) -> float:
        """Hours of work a month on machines of one's own."""
        return float(sum(upkeep_hours(self.described, name) for name in self.described.estate.exits))

    @property
    def most_entries(self) -> int:
        """Entries of the longest allow-list that any partner needs for it."""
        return max((one.entries for one in self.plan.partners), default=0)

    @property
    def busiest(self) -> ExitCapacity | None:
        """The exit whose ports are nearest to running out; None where no exit translates."""
        used = [one for one in self.capacity.exits if one.ports]
        return min(
            used, key=lambda exit_capacity: exit_capacity.ports.headroom if exit_capacity.ports else 1.0, default=None
        )

    @cached_property
    def binding(self) -> tuple[str, LimitUse] | None:
        """The exit and the limit that is reached first when all loads grow by the same factor."""
        limits = [(one.name, limit) for one in self.capacity.every for limit in one.limits if limit.grows]
        return min(limits, key=lambda pair: pair[1].headroom, default=None)


def _by_flow(broken: Iterable[BrokenNeed]) -> dict[str, list[BrokenNeed]]:
    found: dict[str, list[BrokenNeed]] = {}
    for unmet in broken:
        found.setdefault(unmet.flow, []).append(unmet)
    return found


def evaluate(
    described: Described,
    like: Evaluation | None = None,
    asks_for_faults: bool = True,
    flows: tuple[str, ...] | None = None,
) -> Evaluation:
    """The evaluation of an estate as it is described; `like`: one of nearly the same, whose figures may still hold.

    asks_for_faults: whether it is looked at what flows are to survive. flows: see `Evaluation.flows`. The estate that
    is evaluated first is evaluated once: whoever asks for it again gets the same evaluation.
    """
    if like is not None or not asks_for_faults or flows is not None:
        return Evaluation(described, like, asks_for_faults, flows)
    first: Evaluation = described.reused.setdefault(_FIRST, Evaluation(described))
    return first if first.described is described else Evaluation(described)


_FIRST = "evaluation"
"""Under which the estate that was evaluated first is found among what is reused."""
