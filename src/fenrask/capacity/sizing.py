"""Every translating exit against its limits: the addresses it needs, and what limits it first."""

from collections.abc import Callable, Container, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from typing import Any

import numpy as np

from fenrask.capacity.assignments import ASSIGNMENTS, PortAssignment, PortUse, Stream
from fenrask.capacity.assignments.pools import hardest, least
from fenrask.capacity.interfaces import HostLimits, host_limits
from fenrask.capacity.limits import OF_A_TUPLE, LimitUse, stated_limits
from fenrask.capacity.partners import AtPartner, at_partners
from fenrask.capacity.splitting import Split, split
from fenrask.capacity.streams import parts_toward, streams
from fenrask.demand import Demand, Numbers
from fenrask.estate import Offer, Ports
from fenrask.estate.models import Targets
from fenrask.units import clock_text, counted, figure, percent

__all__ = ["AfterFault", "Capacity", "ExitCapacity", "ExitLimits", "capacity", "given"]

_MANY = 65_536
"""As many addresses as anyone might give an exit without a limit."""


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
    assignment: PortAssignment
    how: Ports
    """How its offer hands out ports."""
    streams: tuple[Stream, ...]
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
        return f"{self.exit} for {self.toward}" if self.toward else self.exit

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
        return self.assignment.carries(self.streams, addresses, self.how, self.target, 1.0)

    def blocking_with(self, addresses: int) -> float:
        """The blocking at the busiest moment, had it this many addresses."""
        use = self.assignment.use(self.streams, addresses, self.how, self.target)
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
            least_of_all = sum(stated.values())
            after = after_faults or {}
            own = [
                _sized(demand, name, toward, offer, basis, before, least_of_all - stated[toward], after, only is None)
                for toward in exit_.own_addresses
            ]
            beside = sum(one.addresses for one in own)
            found += [_sized(demand, name, "", offer, basis, before, beside, after, only is None), *own]
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


def _sized(
    demand: Demand,
    name: str,
    toward: str,
    offer: Offer,
    basis: tuple[object, ...],
    before: "_Before",
    beside: int,
    after_faults: Mapping[tuple[str, str], AfterFault],
    through_the_day: bool,
) -> ExitCapacity:
    """A translating exit, or of it what one destination alone sees; what is known `before` is taken as it is."""
    exit_ = demand.paths.described.estate.exits[name]
    assert offer.ports is not None
    stated = exit_.stated_toward(toward) if exit_.pool is None else min(exit_.pool.num_addresses, _MANY)
    after, same_load = after_faults.get((name, toward)), None
    for same in before.get(f"{name} for {toward}" if toward else name, ()):
        if not isinstance(same, ExitCapacity) or (same.toward, same.beside, same.basis) != (toward, beside, basis):
            continue
        same_load = same_load or same
        if stated not in (same.given, same.addresses):
            continue
        least = {(one.needed or 0) if one else 0 for one in (after, same.after_fault)}
        if stated is not None or len(least) == 1 or max(least) <= (same.needed or 0):
            return replace(same, stated=stated is not None, after_fault=after)
    ports = ports_of(offer.ports, exit_.units)
    found = _exit(demand, name, toward, offer, ports, stated, beside, after, same_load, through_the_day)
    return replace(found, basis=basis)


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


def ports_of(ports: Ports, nodes: int) -> Ports:
    """An offer's ports at an exit with so many nodes."""
    return ports.with_nodes(nodes)


def _exit(
    demand: Demand,
    name: str,
    toward: str,
    offer: Offer,
    ports: Ports,
    stated: int | None,
    beside: int,
    after: AfterFault | None,
    same_load: ExitCapacity | None,
    through_the_day: bool,
) -> ExitCapacity:
    """same_load: the exit under the same load with another number of addresses, where that is known."""
    exit_ = demand.paths.described.estate.exits[name]
    parts = demand.at_exit.get(name, ())
    targets = demand.paths.described.estate.targets
    assignment = ASSIGNMENTS[ports.assignment]
    at_each = [*at_partners(demand, name, parts_toward(demand, name, toward))]
    if same_load is not None:
        offered, now, needed = same_load.streams, same_load.needed_now, same_load.needed
    else:
        offered = streams(demand, name, assignment.view, toward=toward)
        now, needed = _needed(offered, assignment, ports, targets, at_each)
    allowed, pool = offer.limits.addresses, exit_.pool
    most = None if allowed is None else max(1, allowed - beside)
    # What a private pool has beyond the limit is not used.
    addresses = stated if stated is None or most is None or pool is None else min(stated, most)
    if addresses is None:
        wanted = needed or _as_good_as_any(offered, assignment, ports, most, targets.blocking)
        wanted = wanted if toward else max(wanted, exit_.least_addresses)
        wanted = max(wanted, (after.needed or 0) if after else 0)
        addresses = wanted if most is None else min(wanted, most)
    use = assignment.use(offered, addresses, ports, targets.blocking) if through_the_day else None
    limits = [_ports(offered, use, assignment, ports, addresses, targets.blocking)] if through_the_day else []
    if allowed is not None and not toward:
        grow = partial(growth_until, offered, assignment, ports, most or 1, targets.blocking)
        held = addresses + beside if pool is None else pool.num_addresses
        limits.append(LimitUse("addresses", "addresses", held, allowed, grows=False, grow=grow))
    by_load = same_load.by_load if same_load is not None else ()
    if not toward and same_load is None:
        by_load = tuple(stated_limits(demand, name, parts, offer, ports.stated_nodes or exit_.units))
    limits += by_load
    limits += [one.with_addresses(addresses) for one in at_each]
    limits.sort(key=lambda limit: limit.headroom)
    sized = ExitCapacity(
        exit=name,
        stated=stated is not None,
        addresses=addresses,
        needed_now=now,
        needed=needed,
        most_addresses=most,
        assignment=assignment,
        how=ports,
        streams=offered,
        ports=use,
        limits=tuple(limits),
        target=targets.blocking,
        basis=(),
        toward=toward,
        after_fault=after,
        beside=beside,
        by_load=by_load,
    )
    too_much = needed is None or (most is not None and needed > most) or bool(sized.overloaded_by)
    # What one destination alone sees is not divided: over other gateways it would see their addresses.
    if not too_much or not parts or exit_.own_addresses:
        return sized
    return replace(sized, divide=partial(split, demand, name, offer, ports, offered))


def _needed(
    offered: Sequence[Stream],
    assignment: PortAssignment,
    ports: Ports,
    targets: Targets,
    at_each: Sequence[AtPartner],
) -> tuple[int | None, int | None]:
    """The fewest addresses for the load of today, and with the margin for growth; None where no number suffices."""
    now = assignment.least_addresses(offered, ports, targets.blocking)
    grown = [one.scaled(1 + targets.growth_margin) for one in offered] if targets.growth_margin else offered
    needed = assignment.least_addresses(grown, ports, targets.blocking) if targets.growth_margin else now
    # Partners may take so much from one address that ports would do with fewer.
    first, second = (
        None if number is None else max([1, number, *(one.addresses(growth) for one in at_each)])
        for number, growth in ((now, 0.0), (needed, targets.growth_margin))
    )
    return first, second


_HARDLY = 1.01


def _as_good_as_any(
    offered: Sequence[Stream], assignment: PortAssignment, ports: Ports, most: int | None, target: float
) -> int:
    """Where no number of addresses suffices: the fewest whose blocking is hardly above that of many."""

    use = assignment.use(offered, most or _MANY, ports, target)
    near = (use.blocking if use else 0.0) * _HARDLY
    if near >= 1:
        return 1
    return least(lambda addresses: assignment.carries(offered, addresses, ports, near, 1.0)) or most or 1


def _ports(
    offered: Sequence[Stream],
    use: PortUse | None,
    assignment: PortAssignment,
    ports: Ports,
    addresses: int,
    target: float,
) -> LimitUse:
    """The ports as a limit: of the pool that binds."""
    if use is None:
        return LimitUse("ports", "ports", 0.0, addresses * ports.per_address, "no load")
    when = "" if use.level else f" at {clock_text(use.time_s)}"
    grow = partial(growth_until, offered, assignment, ports, addresses, target)
    detail = "; ".join(filter(None, (f"{use.binding}{when}", use.varies)))
    return LimitUse("ports", use.pool, use.concurrent, use.capacity, detail, grow=grow)


_ANY_LOAD = 1e5
"""More times the load than anyone plans for."""


def growth_until(
    offered: Sequence[Stream], assignment: PortAssignment, ports: Ports, addresses: int, target: float
) -> float | None:
    """The share that the load may grow by before so many addresses no longer do; None for no load, or no such share.

    By Erlang's inverse where it alone tells what is refused, else by halving.
    """
    busy = [one for one in offered if one.busiest > 0]
    if not busy:
        return None
    if assignment.adds_up(busy, ports):
        top = max(busy, key=lambda stream: stream.busiest)
        return assignment.room(addresses, ports, target) / top.load.peak.concurrent - 1

    busy = hardest(busy) if assignment.view != "hosts" else busy
    low, high = 0.0, 1.0
    while assignment.carries(busy, addresses, ports, target, high):
        if high > _ANY_LOAD:
            # Hosts' own limits keep it from growing.
            return None
        low, high = high, 2 * high
    for _ in range(20):
        middle = (low + high) / 2
        low, high = (middle, high) if assignment.carries(busy, addresses, ports, target, middle) else (low, middle)
    return low - 1
