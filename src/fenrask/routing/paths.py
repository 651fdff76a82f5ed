"""Every flow's paths, subnet by subnet: what demand, capacity and charges are computed on."""

from collections import defaultdict
from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from functools import cached_property, partial
from typing import overload

import numpy as np
from numpy.typing import NDArray

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described, Estate
from fenrask.estate.suggestions import nearest
from fenrask.estate.traffic import Numbers
from fenrask.prefixes import Address, Prefix, fewest_prefixes, parse_address
from fenrask.routing.inward import Openings
from fenrask.routing.packets import Trace
from fenrask.routing.pairs import Pairs, repeated
from fenrask.routing.portions import Sending, made, traces_to
from fenrask.routing.tables import Routes, SubnetTable
from fenrask.routing.tracing import Tracer

__all__ = ["FlowPath", "Paths", "SubnetPath", "effective_routes", "flow_paths", "trace_from"]


@dataclass(frozen=True)
class SubnetPath:
    """Packets of a workload that leave one subnet for a destination by one path: the same for all flows of the two.

    `share` is this part of a whole flow; `within`, of what leaves the subnet; `hosts`, of the subnet's hosts; `reach`,
    of the destination's addresses and names. Hosts are spread evenly over the usable addresses of the workload's
    subnets, and connections over the addresses and names of the destination.
    """

    subnet: str
    example: Trace
    """A trace whose verdict, exits and zones are theirs, though hosts, addresses and first table may be others'."""
    share: Fraction = Fraction(1)
    within: Fraction = Fraction(1)
    hosts: Fraction = Fraction(1)
    reach: Fraction = Fraction(1)
    is_all: bool = True
    """Whether these are all packets from the subnet to the destination."""
    make: Callable[[], Trace] | None = field(default=None, compare=False, repr=False)
    workload: str = ""
    to: str = ""
    """The destination."""

    @cached_property
    def trace(self) -> Trace:
        """Their own trace, which says in its `portion` which packets take it."""
        return self.example if self.make is None else self.make()

    @cached_property
    def part(self) -> float:
        """`share` as a float."""
        return float(self.share)

    @cached_property
    def words(self) -> str:
        """Which packets these are, in words; empty for all from the subnet to the destination."""
        return "" if self.is_all else self.trace.part


@dataclass(frozen=True, slots=True)
class FlowPath:
    """The part of a flow whose packets leave one subnet by one path."""

    flow: str
    own: SubnetPath

    @property
    def subnet(self) -> str:
        return self.own.subnet

    @property
    def workload(self) -> str:
        """The workload that it is from."""
        return self.own.workload

    @property
    def to(self) -> str:
        """The destination."""
        return self.own.to

    @property
    def trace(self) -> Trace:
        """The trace of these packets; `example` is known sooner, where only verdict, exits and zones are asked for."""
        return self.own.trace

    @property
    def example(self) -> Trace:
        return self.own.example

    @property
    def words(self) -> str:
        """Which packets these are, in words; empty for all from the subnet to the destination."""
        return self.own.words

    @property
    def share(self) -> Fraction:
        """This part of the whole flow."""
        return self.own.share

    @property
    def within(self) -> Fraction:
        """The share of what the flow sends from the subnet."""
        return self.own.within

    @property
    def reach(self) -> Fraction:
        """The share of the destination's addresses and names that this path is to."""
        return self.own.reach


class _Rows(Sequence[FlowPath]):
    """Some rows of the paths of flows, each made as it is asked for."""

    def __init__(self, paths: "Paths", rows: range | Sequence[int]) -> None:
        self._paths, self._rows = paths, rows

    def __len__(self) -> int:
        return len(self._rows)

    @overload
    def __getitem__(self, place: int) -> FlowPath: ...
    @overload
    def __getitem__(self, place: slice) -> "_Rows": ...
    def __getitem__(self, place: int | slice) -> "FlowPath | _Rows":
        if isinstance(place, slice):
            return _Rows(self._paths, self._rows[place])
        return self._paths.path(self._rows[place])

    def __iter__(self) -> Iterator[FlowPath]:
        return map(self._paths.path, self._rows)


class _ByFlow(Mapping[str, _Rows]):
    """The paths of each flow."""

    def __init__(self, paths: "Paths") -> None:
        self._paths, self._number = paths, paths.number

    def __getitem__(self, flow: str) -> _Rows:
        first, last = self._paths.first[self._number[flow] : self._number[flow] + 2].tolist()
        return _Rows(self._paths, range(first, last))

    def __iter__(self) -> Iterator[str]:
        return iter(self._number)

    def __len__(self) -> int:
        return len(self._number)


@dataclass(frozen=True, eq=False)
class Paths:
    """All paths of some flows of an estate, in their order, as columns; a `FlowPath` is made as it is asked for.

    pair: the pair of each flow, shape (n_flows,).
    """

    described: Described
    pairs: Pairs
    flows: tuple[str, ...]
    pair: Numbers

    @cached_property
    def number(self) -> Mapping[str, int]:
        """The number of each flow, by name."""
        traffic = self.described.traffic
        if self.flows is traffic.names:
            return traffic.number
        return {name: number for number, name in enumerate(self.flows)}

    @cached_property
    def rows(self) -> Numbers:
        """The row of each flow in the estate's traffic."""
        traffic = self.described.traffic
        if self.flows is traffic.names:
            return np.arange(len(self.flows))
        return np.array([traffic.number[name] for name in self.flows], dtype=np.intp)

    @cached_property
    def first(self) -> Numbers:
        """Where the paths of each flow begin, and the end, shape (n_flows + 1,)."""
        counts = np.diff(self.pairs.first)[self.pair]
        return np.concatenate((np.zeros(1, dtype=np.intp), np.cumsum(counts)))

    @cached_property
    def flow(self) -> Numbers:
        """The number of each path's flow, into `flows`, shape (n_paths,)."""
        return np.repeat(np.arange(self.pair.size), np.diff(self.first))

    @cached_property
    def own(self) -> Numbers:
        """The row of `pairs` of each path, shape (n_paths,)."""
        return repeated(self.pairs.first[self.pair], np.diff(self.first))

    @property
    def routes(self) -> Routes:
        """The tables of the estate."""
        return self.pairs.tracer.routes

    @property
    def paths(self) -> Sequence[FlowPath]:
        """All of them."""
        return _Rows(self, range(self.flow.size))

    @cached_property
    def by_flow(self) -> Mapping[str, Sequence[FlowPath]]:
        """The paths of each flow."""
        return _ByFlow(self)

    @cached_property
    def arrives(self) -> NDArray[np.bool_]:
        """Whether each path arrives, shape (n_paths,)."""
        arrives: NDArray[np.bool_] = self._own_arrives[self.own]
        return arrives

    @cached_property
    def _own_arrives(self) -> NDArray[np.bool_]:
        return self.pairs.of_rows([one.box.trace.verdict.arrives for one in self.pairs.kinds], bool)

    def not_plain(self) -> list[int]:
        """The numbers of flows that do not arrive whole, or of whose paths anything is demanded or known."""
        estate, pairs = self.described.estate, self.pairs
        lost = np.bincount(pairs.pair[~self._own_arrives], minlength=pairs.workload.size) > 0
        demanding = [name in estate.demanding[0] for name in estate.workloads]
        asking = [name in estate.demanding[1] or bool(one.allowed) for name, one in estate.remotes.items()]
        lost |= np.array(demanding, dtype=bool)[pairs.workload] | np.array(asking, dtype=bool)[pairs.to]
        return [*map(int, np.flatnonzero(lost[self.pair]))]

    def kinds_of(self, flow: str, subnets: Container[str]) -> tuple[int, ...]:
        """The numbers of the kinds, into `pairs.kinds`, of the paths of a flow from some subnets."""
        numbers, first, own, kinds, names = self._as_lists
        number = numbers[flow]
        rows = own[first[number] : first[number + 1]]
        return tuple(kinds[row] for row in rows if names[row] in subnets)

    def is_whole(self, flow: str, subnets: Container[str]) -> bool:
        """Whether a flow has no path from any other subnet than these."""
        numbers, first, own, _, names = self._as_lists
        number = numbers[flow]
        return all(names[row] in subnets for row in own[first[number] : first[number + 1]])

    def exits_from(self, flow: str, subnets: Container[str]) -> tuple[str, ...]:
        """The exits on the paths of a flow from some subnets, each once, in their order."""
        traces = (self.pairs.kinds[kind].box.trace for kind in dict.fromkeys(self.kinds_of(flow, subnets)))
        return tuple(dict.fromkeys(name for trace in traces for name in trace.exits))

    @cached_property
    def _as_lists(self) -> tuple[Mapping[str, int], list[int], list[int], list[int], list[str]]:
        """Numbers of flows, their first paths, the row of each path; by row, its kind and its subnet."""
        subnets = self._names[2]
        names = [subnets[number] for number in self.pairs.subnet.tolist()]
        return self.number, self.first.tolist(), self._own_of, self.pairs.kind.tolist(), names

    @property
    def lost(self) -> Sequence[FlowPath]:
        """The paths that do not arrive."""
        return _Rows(self, np.flatnonzero(~self.arrives).tolist())

    @cached_property
    def lost_shares(self) -> dict[tuple[str, str], Fraction]:
        """The share of each flow from each subnet that does not arrive, where any does not."""
        each = [[(subnet, one[0]) for subnet, one in self.lost_between.get(ends, {}).items()] for ends in self.ends]
        both = zip(self.flows, self.pair.tolist(), strict=True)
        return {(flow, subnet): share for flow, pair in both for subnet, share in each[pair]}

    @cached_property
    def ends(self) -> list[tuple[str, str]]:
        """The workload and the other end of each pair."""
        names = zip(self.pairs.workload.tolist(), self.pairs.to.tolist(), strict=True)
        return [(self._names[0][workload], self._names[1][to]) for workload, to in names]

    @cached_property
    def flow_between(self) -> dict[tuple[str, str], str]:
        """The first flow of each pair: flows of one have the same paths."""
        pair, first = np.unique(self.pair, return_index=True)
        return {self.ends[one]: self.flows[row] for one, row in zip(pair.tolist(), first.tolist(), strict=True)}

    @cached_property
    def exits_between(self) -> dict[tuple[str, str], frozenset[str]]:
        """By pair: the exits that it passes where it arrives."""
        passed = [frozenset(one.box.trace.exits) for one in self.pairs.kinds]
        found = dict.fromkeys(self.ends, frozenset[str]())
        rows = np.flatnonzero(self._own_arrives)
        for pair, kind in zip(self.pairs.pair[rows].tolist(), self.pairs.kind[rows].tolist(), strict=True):
            found[self.ends[pair]] |= passed[kind]
        return found

    @cached_property
    def lost_between(self) -> dict[tuple[str, str], dict[str, tuple[Fraction, SubnetPath]]]:
        """By pair and subnet: the share of its traffic that does not arrive, where any does not; an example of it."""
        found: dict[tuple[str, str], dict[str, tuple[Fraction, SubnetPath]]] = {}
        for path in self.lost_owns:
            by_subnet = found.setdefault((path.workload, path.to), {})
            share, example = by_subnet.get(path.subnet, (Fraction(0), path))
            by_subnet[path.subnet] = (share + path.within, example)
        return found

    @property
    def owns(self) -> Iterator[SubnetPath]:
        """The paths of all pairs, whichever flows they have."""
        return map(self.own_path, range(self.pairs.kind.size))

    @cached_property
    def works_from(self) -> dict[str, frozenset[str]]:
        """The subnets from which each flow arrives, in part or whole."""
        found: list[set[str]] = [set() for _ in range(self.pairs.workload.size)]
        for row in np.flatnonzero(self._own_arrives).tolist():
            found[self.pairs.pair[row]].add(self._names[2][self.pairs.subnet[row]])
        each = [frozenset(one) for one in found]
        return {flow: each[pair] for flow, pair in zip(self.flows, self.pair.tolist(), strict=True)}

    @property
    def lost_owns(self) -> Iterator[SubnetPath]:
        """The paths of pairs that do not arrive, whichever flows they have."""
        return map(self.own_path, np.flatnonzero(~self._own_arrives).tolist())

    def flows_between(self, pairs: Container[tuple[str, str]]) -> Iterator[tuple[str, tuple[str, str]]]:
        """The flows of some pairs of workload and destination, each with its pair."""
        wanted = np.array([one in pairs for one in self.ends], dtype=bool)
        for number in np.flatnonzero(wanted[self.pair]).tolist():
            yield self.flows[number], self.ends[self.pair[number]]

    def to(self, destinations: Iterable[str]) -> Sequence[FlowPath]:
        """The paths to some destinations."""
        named = {*destinations}
        each = np.array([name in named for name in self._names[1]], dtype=bool)
        return _Rows(self, np.flatnonzero(each[self.pairs.to[self.pairs.pair[self.own]]]).tolist())

    def where(self, holds: Callable[[Trace], bool]) -> Sequence[FlowPath]:
        """The paths outward whose examples are such."""
        each = self.pairs.of_rows(
            [one.box.trace.inward is None and holds(one.box.trace) for one in self.pairs.kinds], bool
        )
        return _Rows(self, np.flatnonzero(each[self.own]).tolist())

    @cached_property
    def inward(self) -> Sequence[FlowPath]:
        """The paths of flows whose connections the other end opens."""
        each = self.pairs.of_rows([one.box.trace.inward is not None for one in self.pairs.kinds], bool)
        return _Rows(self, np.flatnonzero(each[self.own]).tolist())

    @property
    def after_loss(self) -> Sequence[FlowPath]:
        """The paths of what asked for another IP version before and lost it."""
        each = self.pairs.of_rows([bool(one.box.lost_before) for one in self.pairs.kinds], bool)
        return _Rows(self, np.flatnonzero(each[self.own]).tolist())

    @property
    def standing_by(self) -> frozenset[str]:
        """The exits that flows would pass by another IP version, were theirs lost."""
        return frozenset(name for one in self.pairs.kinds for trace in one.box.standing_by for name in trace.exits)

    @cached_property
    def _standing_at(self) -> dict[str, list[Trace]]:
        """By destination: what stands by for what goes there."""
        found = defaultdict[str, list[Trace]](list)
        pairs = self.pairs
        standing = pairs.of_rows([bool(one.box.standing_by) for one in pairs.kinds], bool)
        rows = np.flatnonzero(standing)
        to, kind = pairs.to[pairs.pair[rows]], pairs.kind[rows]
        for place, number in sorted({*zip(to.tolist(), kind.tolist(), strict=True)}):
            found[self._names[1][place]] += pairs.kinds[number].box.standing_by
        return found

    @cached_property
    def inward_exits(self) -> frozenset[str]:
        """The exits that what comes in passes, or its replies do, where it arrives."""
        arriving = [path.example for path in self.inward if path.example.verdict.arrives]
        passed = {hop.exit for trace in arriving for hop in (*trace.hops, *trace.back)}
        return frozenset(passed & self.described.estate.exits.keys())

    def first_of_each(self, holds: Callable[[Trace], bool]) -> Sequence[FlowPath]:
        """The first path outward of each kind from each subnet, of those whose examples are such."""
        kinds, subnets = self.pairs.kind[self.own], self.pairs.subnet[self.own]
        wanted = [one.inward is None and holds(one) for one in self.examples]
        rows = np.flatnonzero(np.array(wanted, dtype=bool)[kinds])
        _, first = np.unique(kinds[rows] * len(self._names[2]) + subnets[rows], return_index=True)
        return _Rows(self, rows[np.sort(first)].tolist())

    @property
    def examples(self) -> Iterator[Trace]:
        """An example of every kind of path that there is."""
        return (one.box.trace for one in self.pairs.kinds)

    def path(self, row: int) -> FlowPath:
        """The path of a row."""
        return FlowPath(self.flows[self._flow_of[row]], self.own_path(self._own_of[row]))

    @cached_property
    def _flow_of(self) -> list[int]:
        found: list[int] = self.flow.tolist()
        return found

    @cached_property
    def _own_of(self) -> list[int]:
        found: list[int] = self.own.tolist()
        return found

    @cached_property
    def _names(self) -> tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...]]:
        estate = self.described.estate
        return tuple(estate.workloads), tuple(estate.remotes), tuple(estate.subnets)

    @cached_property
    def _numbers(self) -> tuple[list[int], list[int], list[int], list[int], list[int]]:
        """By row of `pairs` the kind and the pair, by pair the workload and where to, by row the subnet: as lists."""
        pairs = self.pairs
        return (
            pairs.kind.tolist(), pairs.pair.tolist(), pairs.workload.tolist(), pairs.to.tolist(), pairs.subnet.tolist()
        )  # fmt: skip

    @cached_property
    def _made(self) -> list[SubnetPath | None]:
        return [None] * self.pairs.kind.size

    def own_path(self, row: int) -> SubnetPath:
        """The path of a row of `pairs`: always the same value."""
        known = self._made[row]
        if known is None:
            (kinds, own, of_workload, of_to, of_subnet), (workloads, tos, subnets) = self._numbers, self._names
            kind, pair = self.pairs.kinds[kinds[row]], own[row]
            workload, subnet = workloads[of_workload[pair]], subnets[of_subnet[row]]
            public = self.described.estate.workloads[workload].public_address
            to, box = tos[of_to[pair]], kind.box
            make = None
            if box.trace.inward is None:
                make = partial(made, kind.tracer, Sending(subnet, to, public, workload), box)
            is_all = box.is_all and (box.trace.inward is None or box.trace.portion.is_all)
            shares = (kind.share, box.within, box.hosts, box.reach, is_all)
            known = SubnetPath(subnet, box.trace, *shares, make, workload, to)
            self._made[row] = known
        return known

    @cached_property
    def openings(self) -> Openings:
        """Who could open connections inward."""
        return Openings(Tracer(self.described))

    @cached_property
    def _arriving(self) -> dict[str, list[SubnetPath]]:
        """By destination: a path of each kind that arrives there; of those that show hosts, one for each subnet."""
        pairs = self.pairs
        shows = pairs.of_rows([one.source.kind == "host-public" for one in self.examples], bool)
        to, place = pairs.to[pairs.pair], np.where(shows, pairs.subnet + 1, 0)
        rows = np.flatnonzero(self._own_arrives)
        keys = (to * (len(self._names[2]) + 1) + place) * len(pairs.kinds) + pairs.kind
        _, first = np.unique(keys[rows], return_index=True)
        found: dict[str, list[SubnetPath]] = {name: [] for name in self._names[1]}
        for row in rows[np.sort(first)].tolist():
            found[self._names[1][to[row]]].append(self.own_path(row))
        return found

    def is_reached(self, destination: str) -> bool:
        """Whether any flow arrives at a destination, in part or whole."""
        return bool(self._arriving[destination])

    @cached_property
    def demanding_at(self) -> dict[str, list[str]]:
        """By destination: the workloads with needs of their own whose flows arrive there, in part or whole."""
        pairs = self.pairs
        demanding = np.array([name in self.described.estate.demanding[0] for name in self._names[0]], dtype=bool)
        arriving = np.unique(pairs.pair[self._own_arrives])
        found: dict[str, list[str]] = {name: [] for name in self._names[1]}
        for pair in arriving[demanding[pairs.workload[arriving]]].tolist():
            found[self._names[1][pairs.to[pair]]].append(self._names[0][pairs.workload[pair]])
        return found

    def sources_at(self, destination: str) -> list[str]:
        """The translating exits whose addresses a destination sees or may see, in order of name.

        It may see those that stand by for what goes there by another IP version.
        """
        return self._seen_by[destination][0]

    def stands_by(self, exit_name: str, destination: str) -> bool:
        """Whether a destination sees an exit's addresses only where what goes there by another IP version is lost."""
        return all(path.example.source.exit != exit_name for path in self._arriving[destination])

    def sees_hosts(self, destination: str) -> bool:
        """Whether a destination sees hosts' own public addresses, of which each is one of its kind."""
        return self._seen_by[destination][1]

    def host_prefixes_at(self, destination: str) -> tuple[Prefix, ...]:
        """The IPv6 prefixes of hosts whose own addresses a destination sees, as few as can be."""
        return self._seen_by[destination][2]

    def pools_at(self, destination: str) -> dict[str, Prefix]:
        """The private pools that a destination sees, by the exit that rewrites to them."""
        sources = (path.example.source for path in self._arriving[destination])
        return {one.exit: one.prefix for one in sources if one.kind == "exit" and one.prefix is not None}

    @cached_property
    def _seen_by(self) -> dict[str, tuple[list[str], bool, tuple[Prefix, ...]]]:
        found = {}
        for name, paths in self._arriving.items():
            standing = [trace.source for trace in self._standing_at.get(name, ())]
            sources = [*(path.example.source for path in paths), *standing]
            exits = {source.exit for source in sources if source.kind == "exit" and source.prefix is None}
            hosts = {path.trace.source.prefix for path in paths if path.example.source.kind == "host-public"}
            hosts |= {source.prefix for source in standing if source.kind == "host-public"}
            v6 = [prefix for prefix in hosts if prefix is not None and prefix.version == 6]
            found[name] = (sorted(exits), len(hosts) > len(v6), fewest_prefixes(v6))
        return found


_TRACED = "traced"
"""Under which the first estate that was traced whole is found among what is reused."""


def flow_paths(
    described: Described, flows: Iterable[str] | None = None, like: Paths | None = None, beside: Paths | None = None
) -> Paths:
    """Trace every flow, or some by name, from every subnet of its workload; each class of packets is traced once.

    Of an estate that was patched from one that was traced before, only what the patch may touch is traced again;
    `like`: the paths of that one; default: of the first that was traced. `beside`: those of another one, for the rest.
    """
    traffic = described.traffic
    names = traffic.names if flows is None else tuple(flows)
    rows = slice(None) if flows is None else np.array([traffic.number[name] for name in names], dtype=np.intp)
    width = len(traffic.destinations) or 1
    keys, pair = np.unique(traffic.workload[rows] * width + traffic.destination[rows], return_inverse=True)
    before = like.pairs if like is not None else described.reused.get(_TRACED)
    before = before if before is not None and before.described is not described else None
    pairs = Pairs.of(described, keys // width, keys % width, before, beside.pairs if beside else None)
    if flows is None:
        described.reused.setdefault(_TRACED, pairs)
    return Paths(described, pairs, names, pair)


def trace_from(
    described: Described, subnet: str, target: str, public_host: bool = False, workload: str | None = None
) -> list[tuple[Trace, Fraction]]:
    """The paths from a subnet (or a host's address) to a destination's name or an address, each with its share.

    `workload` says whose hosts and filters count; default: the only workload in the subnet, if there is one.
    UnusableInput for a subnet or a target that is not known.
    """
    estate = described.estate
    host = None if subnet in estate.subnets else _parsed(subnet)
    subnet = _subnet_of_host(estate, subnet)
    problems = []
    if subnet not in estate.subnets:
        problems.append(Problem(Place(path="SUBNET"), repr(subnet), "a subnet", nearest(subnet, estate.subnets)))
    address = None if target in estate.destinations else _parsed(target)
    if target not in estate.destinations and address is None:
        expected, remedy = "a destination's name, or an address", nearest(target, estate.destinations)
        problems.append(Problem(Place(path="DESTINATION"), repr(target), expected, remedy))
    if problems:
        raise UnusableInput(problems)
    hosts = [name for name, one in estate.workloads.items() if subnet in one.subnets]
    workload = workload or (hosts[0] if len(hosts) == 1 else None)
    return list(traces_to(Tracer(described), Sending(subnet, address or target, public_host, workload, host)))


def _parsed(text: str) -> Address | None:
    try:
        return parse_address(text)
    except ValueError:
        return None


def _subnet_of_host(estate: Estate, stated: str) -> str:
    """A subnet's name as it is; for a host's address the subnet that it lies in."""
    address = None if stated in estate.subnets else _parsed(stated)
    found = () if address is None else estate.subnets_at(address)
    if len(found) > 1:
        several = f"{stated}, an address of {' and '.join(found)}"
        raise UnusableInput([Problem(Place(path="SUBNET"), several, "one of these subnets", "Name the subnet.")])
    return found[0] if found else stated


def effective_routes(described: Described, subnet: str) -> SubnetTable:
    """All routes that hold in a subnet, or for a host's address; UnusableInput for one that is not known."""
    subnet = _subnet_of_host(described.estate, subnet)
    if subnet not in described.estate.subnets:
        remedy = nearest(subnet, described.estate.subnets)
        raise UnusableInput([Problem(Place(path="SUBNET"), repr(subnet), "a subnet", remedy)])
    return Routes(described).of(subnet)
