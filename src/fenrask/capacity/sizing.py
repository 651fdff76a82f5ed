"""Every translating exit against its limits: the addresses it needs, and what limits it first."""

from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from typing import Any

import numpy as np

from fenrask.capacity.assignments import ASSIGNMENTS, PortAssignment, PortUse, Stream
from fenrask.capacity.interfaces import HostLimits, host_limits
from fenrask.capacity.limits import OF_A_TUPLE, LimitUse, stated_limits
from fenrask.capacity.partners import AtPartner, at_partners
from fenrask.capacity.port_load import MANY, PortLoad
from fenrask.capacity.splitting import Split, split
from fenrask.capacity.streams import parts_toward, streams
from fenrask.demand import Demand, Numbers
from fenrask.estate import ExitModel, Offer, Ports
from fenrask.estate.models import Targets
from fenrask.units import clock_text, counted, figure, percent

__all__ = ["AfterFault", "Capacity", "ExitCapacity", "ExitLimits", "capacity", "given"]


def _label(exit_name: str, toward: str) -> str:
    return f"{exit_name} for {toward}" if toward else exit_name


@dataclass(frozen=True)
class ExitLimits:
    """One exit against the limits of its offer, the tightest first."""

    exit: str
    limits: tuple[LimitUse, ...]
    target: float
    """The largest share of new connections that may find no port."""
    basis: tuple[object, ...]
    """All that it was computed from."""
    after_faults: Mapping[str, LimitUse] = field(default_factory=dict, kw_only=True, compare=False)
    """By fault that flows on it are to survive: the limit that is then the tightest, ports and addresses apart."""

    @property
    def over_after_faults(self) -> Mapping[str, LimitUse]:
        """Of these the ones that it exceeds."""
        return {fault: one for fault, one in self.after_faults.items() if one.use > one.capacity}

    @property
    def carries_faults(self) -> bool:
        """Whether it carries its load after every fault that flows on it are to survive."""
        return not self.over_after_faults

    @property
    def most_over(self) -> tuple[str, LimitUse] | None:
        """The fault after which a limit is exceeded most, and that limit."""
        return min(self.over_after_faults.items(), key=lambda pair: pair[1].headroom, default=None)

    @property
    def name(self) -> str:
        """What it is called where it is shown."""
        return self.exit

    @property
    def blocking(self) -> float:
        """The share of new connections that find no port at the busiest moment."""
        return 0.0

    @property
    def tightest(self) -> LimitUse | None:
        return self.limits[0] if self.limits else None

    @property
    def enough_addresses(self) -> bool:
        return True

    @property
    def exceeded(self) -> tuple[LimitUse, ...]:
        """The limits that are exceeded, apart from the ports."""
        return tuple(limit for limit in self.limits if limit.use > limit.capacity and limit.limit != "ports")

    @property
    def of_load(self) -> tuple[LimitUse, ...]:
        """The limits on what it carries, whatever addresses it has: all but ports and addresses."""
        return tuple(limit for limit in self.limits if limit.limit not in ("ports", "addresses"))

    @property
    def overloaded_by(self) -> tuple[LimitUse, ...]:
        """Of these the ones that are exceeded."""
        return tuple(limit for limit in self.of_load if limit.use > limit.capacity)

    @property
    def fits(self) -> bool:
        """Whether the target of blocking is met and no limit is exceeded."""
        return self.enough_addresses and not self.exceeded

    @property
    def verdict(self) -> str:
        """One sentence: what it exceeds, or that it keeps to its limits."""
        if not self.exceeded:
            return f"{self.name} keeps to the limits of its offer"
        over = self.exceeded[0]
        if over.limit == "addresses":
            return f"{self.name} has {over.use:,.0f} addresses; its offer allows {over.capacity:,.0f}"
        whose = f"{over.of}'s" if over.of else "its"
        return (
            f"{self.name} exceeds {whose} limit of {figure(over.capacity)} {over.unit}: {figure(over.use)} at the peak"
        )


@dataclass(frozen=True)
class AfterFault:
    """What an exit needs after the fault that asks for most of it, of those that flows on it are to survive."""

    fault: str
    needed: int | None
    """The fewest addresses that then meet the target; None where no number suffices."""
    then: "ExitCapacity" = field(compare=False, repr=False)
    """The exit after that fault."""

    def carries(self, addresses: int) -> bool:
        """Whether so many addresses then meet the target."""
        return self.then.carries(addresses)


@dataclass(frozen=True)
class ExitCapacity(ExitLimits):
    """One translating exit: addresses in force and needed, its ports, and its limits.

    Where a destination sees addresses that no other does, these are one of their own, with their ports alone.
    """

    stated: bool
    """Whether the number of addresses was stated; else the tool chose the least that serves."""
    addresses: int
    needed_now: int | None
    """The fewest addresses for the load of today; None where no number suffices."""
    needed: int | None
    """The fewest with the margin for growth that the targets ask for; None where no number suffices."""
    most_addresses: int | None
    load: PortLoad = field(repr=False)
    """What competes for its ports, and how its offer hands them out."""
    ports: PortUse | None
    toward: str = ""
    """The destination that alone sees these addresses; empty for those that others see."""
    after_fault: AfterFault | None = None
    """None where no flow on it is to survive anything, or no fault leaves anything on it."""
    beside: int = 0
    """How many other addresses its exit has, which others see, or may have at least."""
    by_load: tuple[LimitUse, ...] = field(default=(), compare=False, repr=False)
    """The limits that its offer states, whatever addresses it has."""
    divide: Callable[[], Split | None] = field(default=lambda: None, compare=False, repr=False)
    """Works out `split`, when it is asked for."""

    @property
    def name(self) -> str:
        return _label(self.exit, self.toward)

    @property
    def streams(self) -> Sequence[Stream]:
        return self.load.streams

    @property
    def assignment(self) -> PortAssignment:
        return self.load.assignment

    @property
    def how(self) -> Ports:
        """How its offer hands out ports."""
        return self.load.ports

    def with_addresses(self, stated: int | str, at_least: int | None = None) -> dict[str, Any]:
        """What a patch of its exit says to give it so many addresses, or `auto`, and then at least so many."""
        if self.toward:
            return {"addresses_for": {self.toward: stated if at_least is None else at_least}}
        return {"addresses": stated} if at_least is None else {"addresses": stated, "at_least": at_least}

    @cached_property
    def split(self) -> Split | None:
        """How its subnets can be divided over more gateways, where one does not carry them."""
        return self.divide()

    @property
    def blocking(self) -> float:
        return self.ports.blocking if self.ports else 0.0

    @property
    def most_needed(self) -> int | None:
        """The addresses that it needs now and after the worst fault that it is to carry; None where none suffice."""
        after = self.after_fault
        if self.needed is None or (after is not None and after.needed is None):
            return None
        return self.needed if after is None or after.needed is None else max(self.needed, after.needed)

    @property
    def enough_after_faults(self) -> bool:
        """Whether its addresses meet the target after every fault that flows on it are to survive."""
        return self.after_fault is None or self.after_fault.carries(self.addresses)

    @property
    def carries_faults(self) -> bool:
        """Whether it carries its load after every fault that flows on it are to survive."""
        return self.enough_after_faults and super().carries_faults

    @property
    def given(self) -> int | None:
        """The number of addresses that was stated; None where it was sized."""
        return self.addresses if self.stated else None

    @property
    def port_limit(self) -> LimitUse:
        return next(limit for limit in self.limits if limit.limit == "ports")

    @property
    def enough_addresses(self) -> bool:
        """Whether the target is met; of an exit that is given its addresses, with the growth it must carry too."""
        given = self.stated or (self.needed is not None and self.addresses >= self.needed)
        worst = max(self.blocking, self.ports.worst) if self.ports else 0.0
        return worst <= self.target and self.addresses >= 1 and given

    def carries(self, addresses: int) -> bool:
        """Whether the target were met, had it this many addresses: as `blocking_with` says, but quicker."""
        if self.needed is not None and addresses >= self.needed:
            return True
        return self.load.carries(addresses)

    def blocking_with(self, addresses: int) -> float:
        """The blocking at the busiest moment, had it this many addresses."""
        use = self.load.use(addresses)
        return use.blocking if use else 0.0

    @property
    def verdict(self) -> str:
        """One sentence: what it needs, has, and what runs out when."""
        if not self.enough_addresses and self.ports:
            return f"{self._need}: {self._runs_out(self.ports)}"
        return super().verdict if self.exceeded else self._need

    @property
    def _need(self) -> str:
        has = f"{'has' if self.stated else 'is given'} {self.addresses}"
        if self.needed is None:
            return f"{self.name} {has}, and no number of addresses suffices"
        most = self.most_addresses
        limit = f", but its offer leaves {most} beside the others" if self.beside else f", but its offer allows {most}"
        limit = limit if most is not None and self.needed > most else ""
        today = f" ({self.needed_now} today)" if self.needed_now != self.needed else ""
        short = limit or self.needed > self.addresses
        return f"{self.name} needs {counted(self.needed, 'address', 'addresses')}{today}{limit}" + (
            f"; it {has}" if short else f" and {has}"
        )

    def _runs_out(self, ports: PortUse) -> str:
        when = "all day"
        if ports.begins_s is not None:
            begins, worst = clock_text(ports.begins_s), clock_text(ports.time_s)
            when = f"at {worst}" if begins == worst else f"from {begins}, worst at {worst}"
        profile = f" ({ports.profile})" if ports.profile else ""
        share = f"{'up to ' if ports.at_most else ''}{percent(ports.blocking)}"
        what = "SYNs find" if ports.retries else "new connections fail:"
        without = f"; {ports.without}" if ports.without else ""
        return f"ports for {ports.binding} run out {when}{profile}; {share} of {what} no free port{without}"

    @property
    def felt(self) -> str:
        """What senders feel whose SYN is dropped and sent again, in a sentence; empty where ports do not run out."""
        felt = self.ports.waits if self.ports else None
        if felt is None or self.how.refusal != "dropped" or self.enough_addresses:
            return ""
        tries = f"where SYNs are sent again {felt.retries} times, {percent(felt.dropped)} of the first are dropped,"
        if self.ports and self.ports.retries:
            tries = f"after {counted(felt.retries, 'retry', 'retries')}"
        return (
            f"{self.name}: {tries} {percent(felt.lost)} of connections are lost for good, and the others wait "
            f"{figure(round(felt.mean_s, 1))} s on average (95%: up to {figure(felt.p95_s)} s)."
        )


def given(numbers: Iterable[tuple[ExitCapacity, int]]) -> dict[str, dict[str, Any]]:
    """What a patch says of `exits` to give each so many addresses."""
    found: dict[str, dict[str, Any]] = {}
    for exit_capacity, number in numbers:
        stated, before = exit_capacity.with_addresses(number), found.setdefault(exit_capacity.exit, {})
        if exit_capacity.toward:
            before.setdefault("addresses_for", {}).update(stated["addresses_for"])
        else:
            before.update(stated)
    return found


@dataclass(frozen=True)
class Capacity:
    """All exits of an estate that have something to run out of."""

    demand: Demand
    exits: tuple[ExitCapacity, ...]
    """Those that translate; after each, what destinations alone see of it."""
    others: tuple[ExitLimits, ...]
    """Those that do not, and whose offers have limits: hubs, lines, endpoints, inspection without translation."""

    @property
    def every(self) -> tuple[ExitLimits, ...]:
        return (*self.exits, *self.others)

    @cached_property
    def hosts(self) -> tuple[HostLimits, ...]:
        """The hosts of workloads that state what their interfaces take."""
        return tuple(host_limits(self.demand))

    @property
    def of_busy_day(self) -> bool:
        """Whether the figures are of a day that is busier than the mean one."""
        return self.demand.laid.level is not None

    def with_faults(self, limits: Mapping[str, Mapping[str, LimitUse]]) -> "Capacity":
        """The same with the limits of exits that are tightest after faults, by what exits are called and by fault."""
        nothing: Mapping[str, LimitUse] = {}
        return replace(
            self,
            exits=tuple(replace(one, after_faults=limits.get(one.name, nothing)) for one in self.exits),
            others=tuple(replace(one, after_faults=limits.get(one.name, nothing)) for one in self.others),
        )

    @property
    def fits(self) -> bool:
        return all(one.fits for one in self.every)

    def of(self, exit_name: str, toward: str = "") -> ExitCapacity | None:
        """The translating exit of a name, and of it what one destination alone sees."""
        return next((one for one in self.exits if one.exit == exit_name and one.toward == toward), None)

    def limits_of(self, exit_name: str) -> ExitLimits | None:
        """The exit of a name, translating or not, or what a destination alone sees of one, by what it is called."""
        return next((one for one in self.every if one.name == exit_name), None)


_Before = dict[str, list[ExitLimits]]
"""What is known of exits, by what they are called."""


def capacity(
    demand: Demand,
    known: Iterable[Capacity] = (),
    after_faults: Mapping[tuple[str, str], AfterFault] | None = None,
    only: Container[str] | None = None,
) -> Capacity:
    """Size and judge every exit that has an offer with ports or limits, in the estate's order, on the busy day.

    only: the exits to look at; then what their ports do through the day is left aside: addresses and limits alone.

    after_faults: what exits need then, by exit and the destination that alone sees its addresses (or empty); where the
    number is not stated, they are given as many.

    `addresses: auto` becomes the least number that meets the target of blocking, and one where there is no load; a
    stated number is judged as it is. What one that is `known` says of an exit with the same load and offer is taken.
    """
    demand = demand.on_busy_day
    described = demand.paths.described
    before: _Before = {}
    for each in known:
        for exit_limits in each.every:
            before.setdefault(exit_limits.name, []).append(exit_limits)
    found: list[ExitCapacity] = []
    others: list[ExitLimits] = []
    ids = _numbers(demand, demand.laid.traffic.names), _numbers(demand, demand.laid.subnets)
    for name, exit_ in described.estate.exits.items():
        offer = described.limits_of(name)
        if offer is None or (only is not None and name not in only):
            continue
        basis = _basis(demand, name, offer, ids)
        translates = exit_.translates and offer.ports is not None
        if translates:
            # Each has to leave the others what they are given, or one.
            stated = {toward: exit_.stated_toward(toward) or 1 for toward in ("", *exit_.own_addresses)}
            after, least_of_all = after_faults or {}, sum(stated.values())
            own = [
                _Side(demand, name, toward, offer, least_of_all - stated[toward], after.get((name, toward)))
                for toward in exit_.own_addresses
            ]
            sized = [_sized(each, basis, before, only is None) for each in own]
            beside = sum(one.addresses for one in sized)
            shared = _Side(demand, name, "", offer, beside, after.get((name, "")))
            found += [_sized(shared, basis, before, only is None), *sized]
            continue
        same = next((one for one in before.get(name, ()) if one.basis == basis), None)
        if same is not None:
            others.append(same)
        elif limits := stated_limits(demand, name, demand.at_exit.get(name, ()), offer, exit_.units):
            if exit_.limited_beyond is not None:
                limits = [_beyond(limit, exit_.party or "the third party") for limit in limits]
            limits.sort(key=lambda limit: limit.headroom)
            others.append(ExitLimits(name, tuple(limits), described.estate.targets.blocking, basis))
    return Capacity(demand, tuple(found), tuple(others))


def _beyond(limit: LimitUse, party: str) -> LimitUse:
    """A limit of a line, whose connections toward one destination its other end translates."""
    if limit.limit != OF_A_TUPLE:
        return limit
    return replace(limit, limit=f"translated ports at {party}", of=party)


def _basis(demand: Demand, name: str, offer: Offer, ids: tuple[Numbers, Numbers]) -> tuple[object, ...]:
    """What the figures of an exit follow from, but for its number of addresses.

    Itself, its offer, the targets, and what each part brings. ids: see `_numbers`, of flows and of subnets.
    """
    estate = demand.paths.described.estate
    exit_ = estate.exits[name].without_number()
    laid, some = demand.laid, demand.at_exit.get(name)
    if some is None:
        return (exit_, offer, estate.targets, demand.hours)
    traffic, rows = laid.traffic, some.rows
    columns = (
        laid.share[rows],
        laid.reach[rows],
        laid.hosts[rows],
        some.rate_per_s,
        some.persistent,
        *(column[some.curve] for column in (laid.curves.profile, laid.curves.family, laid.curves.duration_s)),
        *(column[some.flow] for column in (traffic.burstiness, traffic.retry_share, traffic.max_open)),
        *(
            column[some.flow]
            for column in (
                traffic.every_s,
                traffic.at_s,
                traffic.job_share,
                traffic.spread_s,
                traffic.retries,
                traffic.batch,
                traffic.rate_cv,
                traffic.rate_steady_s,
                traffic.day_cv,
            )
        ),
        *(
            column[some.flow]
            for column in (traffic.on_wire.packets_per_s, traffic.on_wire.bytes_per_s, traffic.one_source)
        ),
        *(column[rows] for column in (laid.asked_profile, laid.chance, laid.wire_out_per_s, laid.packets_per_s)),
    )
    columns = (*columns, *(column[some.flow] for column in traffic.ephemeral))
    names = (ids[0][some.flow], ids[1][laid.subnet[rows]])
    to = [estate.remotes[traffic.destinations[number]] for number in dict.fromkeys(some.destination.tolist())]
    whole = tuple(column.tobytes() for column in (*columns, *names))
    return (exit_, offer, estate.targets, demand.hours, whole, tuple(to))


_NAMES = "names"
"""Under which the numbers of names are found among what is reused."""


def _numbers(demand: Demand, names: tuple[str, ...]) -> Numbers:
    """A number for each name, the same in all estates that were patched from one."""
    known: dict[str, int] = demand.paths.described.reused.setdefault(_NAMES, {})
    numbers: Numbers = np.array([known.setdefault(name, len(known)) for name in names], dtype=np.intp)
    return numbers


@dataclass(frozen=True)
class _Side:
    """A translating exit as all see it, or as one destination alone does, which is to be sized.

    toward: the destination that alone sees its addresses, empty for the rest; beside: how many the others have, or
    may have at least.
    """

    demand: Demand
    name: str
    toward: str
    offer: Offer
    beside: int
    after: AfterFault | None

    @property
    def exit(self) -> ExitModel:
        return self.demand.paths.described.estate.exits[self.name]

    @property
    def targets(self) -> Targets:
        return self.demand.paths.described.estate.targets

    @property
    def label(self) -> str:
        """What it is called where it is shown."""
        return _label(self.name, self.toward)

    @property
    def stated(self) -> int | None:
        """The number of addresses that is stated, or that its pool has; None where it is to be sized."""
        pool = self.exit.pool
        return self.exit.stated_toward(self.toward) if pool is None else min(pool.num_addresses, MANY)

    @property
    def most(self) -> int | None:
        """How many addresses its offer leaves it; None for any number."""
        allowed = self.offer.limits.addresses
        return None if allowed is None else max(1, allowed - self.beside)

    @cached_property
    def ports(self) -> Ports:
        assert self.offer.ports is not None
        return self.offer.ports.with_nodes(self.exit.units)

    def load(self, same_load: ExitCapacity | None) -> PortLoad:
        """What competes for its ports; as it is known where the load is the same."""
        if same_load is not None:
            return same_load.load
        assignment = ASSIGNMENTS[self.ports.assignment]
        offered = streams(self.demand, self.name, assignment.view, toward=self.toward)
        return PortLoad(offered, assignment, self.ports, self.targets.blocking)

    def addresses(self, load: PortLoad, needed: int | None) -> int:
        """How many it has: as stated, else as many as are needed, also after the worst fault, if its offer has them."""
        stated, most = self.stated, self.most
        if stated is not None:
            # What a private pool has beyond the limit is not used.
            return stated if most is None or self.exit.pool is None else min(stated, most)
        wanted = needed or load.as_good_as_any(most)
        wanted = wanted if self.toward else max(wanted, self.exit.least_addresses)
        wanted = max(wanted, (self.after.needed or 0) if self.after else 0)
        return wanted if most is None else min(wanted, most)

    def of_addresses(self, load: PortLoad, addresses: int) -> Iterator[LimitUse]:
        """How many addresses its offer allows, as a limit."""
        allowed, pool = self.offer.limits.addresses, self.exit.pool
        if allowed is not None and not self.toward:
            held = addresses + self.beside if pool is None else pool.num_addresses
            grow = partial(load.growth_until, self.most or 1)
            yield LimitUse("addresses", "addresses", held, allowed, grows=False, grow=grow)

    def by_load(self, same_load: ExitCapacity | None) -> tuple[LimitUse, ...]:
        """The limits that its offer states, whatever addresses it has."""
        if same_load is not None:
            return same_load.by_load
        if self.toward:
            return ()
        nodes = self.ports.stated_nodes or self.exit.units
        return tuple(stated_limits(self.demand, self.name, self.demand.at_exit.get(self.name, ()), self.offer, nodes))


def _sized(side: _Side, basis: tuple[object, ...], before: _Before, through_the_day: bool) -> ExitCapacity:
    """A translating exit, or of it what one destination alone sees; what is known `before` is taken as it is."""
    stated, same_load = side.stated, None
    for same in before.get(side.label, ()):
        known = (same.toward, same.beside, same.basis) if isinstance(same, ExitCapacity) else None
        if not isinstance(same, ExitCapacity) or known != (side.toward, side.beside, basis):
            continue
        same_load = same_load or same
        if stated not in (same.given, same.addresses):
            continue
        least = {(one.needed or 0) if one else 0 for one in (side.after, same.after_fault)}
        if stated is not None or len(least) == 1 or max(least) <= (same.needed or 0):
            return replace(same, stated=stated is not None, after_fault=side.after)
    return replace(_anew(side, same_load, through_the_day), basis=basis)


def _anew(side: _Side, same_load: ExitCapacity | None, through_the_day: bool) -> ExitCapacity:
    """same_load: the exit under the same load with another number of addresses, where that is known."""
    demand, load = side.demand, side.load(same_load)
    at_each = [*at_partners(demand, side.name, parts_toward(demand, side.name, side.toward))]
    if same_load is not None:
        now, needed = same_load.needed_now, same_load.needed
    else:
        now, needed = _needed(load, side.targets, at_each)
    addresses, by_load = side.addresses(load, needed), side.by_load(same_load)
    use = load.use(addresses) if through_the_day else None
    limits = [load.limit(addresses, use)] if through_the_day else []
    limits += [*side.of_addresses(load, addresses), *by_load, *(one.with_addresses(addresses) for one in at_each)]
    limits.sort(key=lambda limit: limit.headroom)
    sized = ExitCapacity(
        exit=side.name,
        stated=side.stated is not None,
        addresses=addresses,
        needed_now=now,
        needed=needed,
        most_addresses=side.most,
        load=load,
        ports=use,
        limits=tuple(limits),
        target=side.targets.blocking,
        basis=(),
        toward=side.toward,
        after_fault=side.after,
        beside=side.beside,
        by_load=by_load,
    )
    too_much = needed is None or (side.most is not None and needed > side.most) or bool(sized.overloaded_by)
    # What one destination alone sees is not divided: over other gateways it would see their addresses.
    if not too_much or not demand.at_exit.get(side.name, ()) or side.exit.own_addresses:
        return sized
    return replace(sized, divide=partial(split, demand, side.name, side.offer, load))


def _needed(load: PortLoad, targets: Targets, at_each: Sequence[AtPartner]) -> tuple[int | None, int | None]:
    """The fewest addresses for the load of today, and with the margin for growth; None where no number suffices."""
    now = load.least_addresses()
    needed = load.scaled(1 + targets.growth_margin).least_addresses() if targets.growth_margin else now
    # Partners may take so much from one address that ports would do with fewer.
    first, second = (
        None if number is None else max([1, number, *(one.addresses(growth) for one in at_each)])
        for number, growth in ((now, 0.0), (needed, targets.growth_margin))
    )
    return first, second
