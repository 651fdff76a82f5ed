"""What an option does where it is taken: what it lays on sites, what is metered of it, and what it shows.

All of it is read off an evaluated estate in which the option was made: the loads from its demand, by the limits and
ports that capacity knows; the volumes from its meters; what a destination sees from its paths.
"""

from collections.abc import Container, Hashable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property

import numpy as np

from fenrask.capacity import Each, Groups, HostsAsked, Present, Use, parts_toward, ports_asked, uses
from fenrask.charges import METERS, Charge, Flowing, Standing, least_month, set_up, standing_charges, upkeep_hours
from fenrask.demand import Demand, Numbers, Parts, Series
from fenrask.estate import Described, Offer, Ports
from fenrask.evaluation import NEEDS, Evaluation, Given, broken_needs, is_asked, most_entries
from fenrask.optimise.problem import Option, Site, Unit
from fenrask.prefixes import Prefix
from fenrask.routing import FlowPath

__all__ = ["Grounds", "Key", "Laid", "Metering", "Placed", "Tried", "identity", "sum_of", "tried_in"]

Key = tuple[str, Hashable]
"""The key of a limit, and what tells one of its pools from another."""


def identity(site: Site) -> Hashable:
    """What tells the exit of a site from others: an exit that exists is one, as it is or as a pair."""
    return site.existing or site


@dataclass(frozen=True)
class Placed:
    """The exit of a site, in an estate in which it is there."""

    described: Described
    name: str

    @property
    def offer(self) -> Offer | None:
        return self.described.offer_of(self.name)

    @property
    def region(self) -> str:
        return self.described.estate.region_of(self.described.estate.exits[self.name])

    @property
    def ports(self) -> Ports | None:
        """The ports of one of its addresses, where it gives out any."""
        exit_, offer = self.described.estate.exits[self.name], self.offer
        if offer is None or offer.ports is None or not exit_.translates or exit_.pool is not None:
            return None
        return offer.ports.with_nodes(exit_.units)

    @property
    def standing(self) -> Mapping[str, Standing]:
        """What it costs whatever it carries, by item of the bill."""
        return standing_charges(self.described, self.name)

    @property
    def upkeep_hours(self) -> float:
        """Hours of work a month."""
        return float(upkeep_hours(self.described, self.name))

    @property
    def set_up(self) -> Fraction:
        """What it costs once to put it up."""
        return set_up(self.described, self.name)

    @property
    def least_month(self) -> Fraction:
        """The least that it costs a month."""
        return least_month(self.described, self.name)


@dataclass(frozen=True, eq=False)
class OwnBlocks:
    """Hosts that have a block of ports each, and what they hold of one.

    hosts: how many; held: by transport protocol, what one of them holds through the day, and of this what may fill all
    ports.
    """

    hosts: float
    held: dict[str, tuple[Series, Series]]


@dataclass(frozen=True, eq=False)
class Laid:
    """What one option lays on one site."""

    series: dict[Key, tuple[float, Series]] = field(default_factory=dict)
    """What adds up, through the day: the capacity of the limit, and what of it is used, shape (n_times,)."""
    present: dict[Key, tuple[float, dict[Hashable, float]]] = field(default_factory=dict)
    """What counts once, whoever brings it: the capacity, and how much each member counts."""
    each: dict[Key, tuple[float, float]] = field(default_factory=dict)
    """What it has to keep to by itself: the capacity, and its most."""
    ports: dict[Hashable, dict[int, tuple[Series, Series]]] = field(default_factory=dict)
    """By pool of ports and place in the unit's subnets: held through the day, and of these what may fill all ports."""
    blocks: dict[str, OwnBlocks] = field(default_factory=dict)
    """Hosts that have a block of ports each, by workload and subnet."""

    def asked(self, pool: Hashable, fullest: float) -> Series:
        """What is asked of a pool's room; fullest: see `Asked.weighed`."""
        return sum_of(held - filling * (1 - fullest) for held, filling in self.ports[pool].values())

    @property
    def busiest(self) -> float:
        """The most that all pools of ports are asked for."""
        return sum(float(np.max(self.asked(pool, 1.0))) for pool in self.ports)


def sum_of(series: Iterator[Series]) -> Series:
    """Of series of the same times, or of one."""
    found: Series = np.zeros(1)
    for each in series:
        found = found + each
    return found


@dataclass(frozen=True)
class Metering:
    """A volume that a meter counts in a month, and what it is charged.

    by: the exit at which it is metered, of this offer; at: that over whose own volume its rate is summed, empty for
    all; both as `identity` says.
    """

    charge: Charge
    at: Hashable
    by: Hashable
    offer: str
    volume: float

    @property
    def pool(self) -> tuple[str, Hashable, Hashable]:
        """What the steps of its rate are summed over."""
        return (self.charge.item, self.charge.over, self.at)


@dataclass(frozen=True, eq=False)
class Tried:
    """What an option does, in an estate in which it is taken."""

    described: Described
    placed: dict[Site, Placed] = field(default_factory=dict)
    """The sites that it passes."""
    laid: dict[Site, Laid] = field(default_factory=dict)
    metered: list[Metering] = field(default_factory=list)
    shown: tuple[Site, ...] = ()
    """The sites whose addresses its destination sees, where its list has a maximum."""
    shown_hosts: tuple[Prefix, ...] = ()
    """The prefixes of hosts that it sees."""
    single: frozenset[str] = frozenset()
    """The needs that it meets only with one address at each site."""

    def at(self, instead: Mapping[Site, Site]) -> "Tried":
        """What the same option does at other sites that are like these, which are to be built."""

        def placed(key: Hashable) -> Hashable:
            return instead.get(key, key) if isinstance(key, Site) else key

        return replace(
            self,
            placed={instead.get(site, site): one for site, one in self.placed.items()},
            laid={instead.get(site, site): one for site, one in self.laid.items()},
            metered=[replace(one, at=placed(one.at), by=placed(one.by)) for one in self.metered],
            shown=tuple(instead.get(site, site) for site in self.shown),
        )


@dataclass
class Grounds:
    """What programmes are made of: the estate as it is, what each option does, and with which mix things come in."""

    current: Evaluation
    tried: Mapping[tuple[int, Option], Tried]
    inward: Evaluation

    @property
    def described(self) -> Described:
        return self.current.described

    @cached_property
    def exits(self) -> Container[str]:
        """The exits that exist."""
        return self.described.estate.exits.keys()

    @cached_property
    def coming_in(self) -> list[FlowPath]:
        """The paths of what comes in and arrives by exits that exist."""
        paths = (path for path in self.inward.paths.inward if path.example.verdict.arrives)
        return [path for path in paths if all(name in self.exits for name in path.example.exits)]

    @cached_property
    def metered_inward(self) -> list[Metering]:
        """What is metered of these, whatever is chosen."""
        return metered_inward(self.inward, self.exits, {}) if self.coming_in else []


class _Numbered:
    """The units of a wave, and the group of each path: of one of them, from one of its subnets."""

    def __init__(self, evaluation: Evaluation, taken: Mapping[int, Option], units: list[Unit]) -> None:
        paths = evaluation.paths
        estate, names = paths.described.estate, {name: number for number, name in enumerate(paths.flows)}
        subnets = {name: number for number, name in enumerate(estate.subnets)}
        self.groups: list[tuple[int, int]] = []
        # Groups have a flow or two mostly: lists are made sooner than arrays.
        keys, groups = list[int](), list[int]()
        for number in taken:
            flows = [names[flow] * len(subnets) for flow in units[number].flows if flow in names]
            for place, subnet in enumerate(units[number].subnets):
                keys += [flow + subnets[subnet] for flow in flows]
                groups += [len(self.groups)] * len(flows)
                self.groups.append((number, place))
        wanted, own = np.array(keys, dtype=np.intp), np.array(groups, dtype=np.intp)
        order = np.argsort(wanted)
        known, numbers = wanted[order], own[order]
        asked = paths.flow * len(subnets) + paths.pairs.subnet[paths.own]
        place_of = np.minimum(np.searchsorted(known, asked), max(0, known.size - 1))
        found = known[place_of] == asked if known.size else np.zeros(asked.size, dtype=bool)
        self.of_path: Numbers = np.where(found, numbers[place_of] if known.size else -1, -1)


def tried_in(
    evaluation: Evaluation, sites: Mapping[str, Site], taken: Mapping[int, Option], units: list[Unit]
) -> dict[tuple[int, Option], Tried]:
    """What each option of an evaluated estate does there; sites: by the names of their exits."""
    if not taken:
        return {}
    numbered = _Numbered(evaluation, taken, units)
    described = evaluation.described
    placed = {
        site: Placed(described, name)
        for name, site in sites.items()
        if name in described.estate.exits and described.offer_of(name) is not None
    }
    of_number = {}
    for number, option in taken.items():
        passed = [sites[name] for name in _passed(evaluation, units[number]) if name in sites]
        own = dict.fromkeys((*option.distinct, *option.before, *passed))
        at = {site: placed[site] for site in own if site in placed}
        of_number[number] = Tried(described, at, {}, [], *_shown(evaluation, units[number], sites))
    _lay(evaluation, sites, numbered, of_number)
    flowing = Flowing.of(evaluation.paths)
    group = numbered.of_path[flowing.path]
    rows = np.flatnonzero(group >= 0)
    owner = np.array([number for number, _ in numbered.groups], dtype=np.intp)[group[rows]]
    for number, metering in _metered(described, flowing, rows, owner, sites):
        of_number[number].metered.append(metering)
    return {(number, option): of_number[number] for number, option in taken.items()}


def _passed(evaluation: Evaluation, unit: Unit) -> list[str]:
    """The exits on a unit's paths, each once."""
    each = (evaluation.paths.exits_from(flow, unit.subnets) for flow in unit.examples)
    return list(dict.fromkeys(name for some in each for name in some))


def metered_inward(evaluation: Evaluation, exits: Container[str], sites: Mapping[str, Site]) -> list[Metering]:
    """What is metered of all that comes in by exits of these, all together."""
    paths, flowing = evaluation.paths, Flowing.of(evaluation.paths)
    counts = [
        one.box.trace.inward is not None and all(name in exits for name in one.box.trace.exits)
        for one in paths.pairs.kinds
    ]
    of_path = paths.pairs.of_rows(counts, bool)[paths.own]
    rows = np.flatnonzero(of_path[flowing.path])
    return [one for _, one in _metered(evaluation.described, flowing, rows, np.zeros_like(rows), sites)]


def _metered(
    described: Described, flowing: Flowing, rows: Numbers, owner: Numbers, sites: Mapping[str, Site]
) -> Iterator[tuple[int, Metering]]:
    """What is metered in some rows, by whose it is, shape (n_rows,)."""
    shape = (int(owner.max(initial=0)) + 1, len(flowing.places) or 1, len(flowing.users.exits) or 1)
    keys = np.ravel_multi_index((owner, flowing.place[rows], flowing.exit[rows]), shape)
    distinct, back = np.unique(keys, return_inverse=True)
    each = np.stack(np.unravel_index(distinct, shape))
    volumes = np.bincount(back.ravel(), weights=(flowing.amounts[rows] / flowing.denominator).astype(np.float64))
    charges: dict[tuple[int, int], tuple[Charge, Hashable, Hashable, str]] = {}

    def named(name: str) -> Hashable:
        return identity(sites[name]) if name in sites else name

    for (number, place, exit_), volume in zip(each.T.tolist(), volumes.tolist(), strict=True):
        if (place, exit_) not in charges:
            (meter, at), name = flowing.places[place], flowing.users.exits[exit_]
            charge = METERS[meter].charge(described, at, name)
            offer = described.estate.exits[name].offer_name if name else ""
            charges[place, exit_] = charge, named(charge.exit), named(name), offer or ""
        if charges[place, exit_][0].rate:
            yield number, Metering(*charges[place, exit_], volume)


def _lay(
    evaluation: Evaluation, sites: Mapping[str, Site], numbered: "_Numbered", of_number: Mapping[int, Tried]
) -> None:
    """What units lay on the exits of sites."""
    demand, described = evaluation.demand, evaluation.described
    for name, every in demand.at_exit.items():
        group = numbered.of_path[demand.laid.path[every.rows]]
        rows = np.flatnonzero(group >= 0)
        site, offer = sites.get(name), described.offer_of(name)
        if not rows.size or site is None or offer is None:
            continue
        present, local = np.unique(group[rows], return_inverse=True)
        some = Groups(Parts(demand.laid, every.rows[rows]), local, present.size, in_the_mean=True)
        owners = [numbered.groups[number] for number in present.tolist()]
        for number in dict.fromkeys(number for number, _ in owners):
            of_number[number].laid.setdefault(site, Laid())
        laid = [of_number[number].laid[site] for number, _ in owners]
        nodes = described.estate.exits[name].units
        for key, capacity, use in uses(demand, name, some, offer, nodes):
            _add_use(laid, (key, use.key), capacity, use)
        _lay_ports(demand, Placed(described, name), some, laid, [place for _, place in owners])


def _add_use(laid: list[Laid], key: Key, capacity: float, use: Use | Present | Each) -> None:
    """The use of each group to what is laid by it."""
    for row, lies in enumerate(laid):
        if isinstance(use, Use):
            before = lies.series[key][1] if key in lies.series else 0.0
            lies.series[key] = (capacity, use.series[row] + before)
        elif isinstance(use, Present):
            members = lies.present.setdefault(key, (capacity, {}))[1]
            members |= {use.members[place]: float(use.amount[place]) for place in np.flatnonzero(use.there[row])}
        else:
            before = lies.each[key][1] if key in lies.each else 0.0
            lies.each[key] = (capacity, max(before, float(use.most[row])))


def _lay_ports(demand: Demand, placed: Placed, some: Groups, laid: list[Laid], places: list[int]) -> None:
    """What groups ask of the ports that all destinations share."""
    ports = placed.ports
    if ports is None:
        return
    shared = parts_toward(demand, placed.name)
    rows = np.flatnonzero(np.isin(some.parts.rows, Parts.of(shared).rows)) if shared else np.zeros(0, dtype=np.intp)
    if not rows.size:
        return
    toward = Groups(Parts(some.parts.laid, some.parts.rows[rows]), some.group[rows], some.count, in_the_mean=True)
    for asked in ports_asked(demand, placed.name, toward, ports):
        if isinstance(asked, HostsAsked):
            _lay_blocks(asked, laid)
            continue
        filling = np.broadcast_to(asked.filling, asked.held.shape)
        for number, row in enumerate(asked.groups.tolist()):
            laid[row].ports.setdefault(asked.pool.key, {})[places[row]] = (asked.held[number], filling[number])


def _lay_blocks(asked: HostsAsked, laid: list[Laid]) -> None:
    """Hosts with blocks of their own: a workload in a subnet is of one group of a unit."""
    hosts = asked.hosts
    for row, lies in enumerate(laid):
        for place in np.flatnonzero(hosts.there[row]).tolist():
            lies.blocks[str(hosts.members[place])] = OwnBlocks(float(hosts.amount[place]), {})
    for each in asked.of_one:
        filling = np.broadcast_to(each.filling, each.held.shape)
        for number, row in enumerate(each.groups.tolist()):
            laid[row].blocks[each.pool.label].held[each.pool.protocol] = (each.held[number], filling[number])


_Shown = tuple[tuple[Site, ...], tuple[Prefix, ...], frozenset[str]]


def _shown(evaluation: Evaluation, unit: Unit, sites: Mapping[str, Site]) -> _Shown:
    """What a destination sees of a unit, where its list has a maximum; and which needs hold with one address alone."""
    if not any(one.by_size and is_asked(name, unit.needs) for name, one in NEEDS.items()):
        return (), (), frozenset()
    paths, exits, hosts = evaluation.paths, dict[Site, None](), dict[Prefix, None]()
    # What a list takes is a row of its own: see `add_partners`.
    by_number = any(
        one.by_size and one.most_entries(unit.needs) is None and is_asked(name, unit.needs)
        for name, one in NEEDS.items()
    )
    single = set[str]()
    for flow in unit.examples:
        for path in paths.by_flow[flow] if most_entries(unit.needs) is not None else ():
            source = path.example.source
            if unit.holds(path) and path.example.verdict.arrives:
                if source.kind == "exit" and source.prefix is None and source.exit in sites:
                    exits[sites[source.exit]] = None
                elif source.kind == "host-public" and path.trace.source.prefix is not None:
                    hosts[path.trace.source.prefix] = None
        if by_number:
            few, many = (_broken_with(evaluation, flow, unit, number) for number in (1, 2))
            single |= many - few
    return tuple(exits), tuple(hosts), frozenset(single)


def _broken_with(evaluation: Evaluation, flow: str, unit: Unit, number: int) -> set[str]:
    """The needs that hang on how many addresses each exit has, but not on entries, broken with this number."""
    paths, exits = evaluation.paths, evaluation.described.estate.exits
    entries = {(name, toward): 1 for name, one in exits.items() for toward in ("", *one.own_addresses)}
    given = Given(entries, dict.fromkeys(entries, number))
    broken = broken_needs(paths, flow, given, frozenset(unit.subnets))
    return {one.need for one in broken if one.need in NEEDS and NEEDS[one.need].by_size}
