"""Every flow's paths, subnet by subnet: what demand, capacity and charges are computed on."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from fractions import Fraction
from functools import cached_property, partial

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described, Estate
from fenrask.estate.suggestions import nearest
from fenrask.prefixes import Address, Prefix, fewest_prefixes, parse_address
from fenrask.routing.inward import Opening, openings
from fenrask.routing.packets import Trace
from fenrask.routing.portions import Sending, boxes_of, made, product, traces_to
from fenrask.routing.reuse import Met, changes, met_by
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
    make: Callable[[], Trace] | None = field(default=None, compare=False, repr=False)

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
        return "" if self.hosts == 1 and self.reach == 1 else self.trace.part


@dataclass(frozen=True, slots=True)
class FlowPath:
    """The part of a flow whose packets leave one subnet by one path."""

    flow: str
    own: SubnetPath

    @property
    def subnet(self) -> str:
        return self.own.subnet

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


@dataclass(frozen=True)
class Paths:
    """All ways of an estate, in the order of its flows."""

    described: Described
    routes: Routes
    paths: tuple[FlowPath, ...]
    traced: "Traced | None" = field(default=None, compare=False, repr=False)
    """What a patched estate may take over of them; None where not all flows were traced."""

    @cached_property
    def by_flow(self) -> dict[str, list[FlowPath]]:
        """The ways of each flow."""
        found: dict[str, list[FlowPath]] = {name: [] for name in self.described.estate.flows}
        for path in self.paths:
            found[path.flow].append(path)
        return found

    @cached_property
    def openings(self) -> dict[str, list[Opening]]:
        """Who could open connections inward, by subnet with hosts."""
        found: dict[str, list[Opening]] = {}
        for one in openings(Tracer(self.described)):
            found.setdefault(one.subnet, []).append(one)
        return found

    @cached_property
    def by_destination(self) -> dict[str, list[FlowPath]]:
        """The arriving paths to each destination, whichever flow they belong to."""
        flows = self.described.estate.flows
        found: dict[str, list[FlowPath]] = {name: [] for name in self.described.estate.destinations}
        for path in self.paths:
            if path.example.verdict.arrives:
                found[flows[path.flow].to].append(path)
        return found

    def sources_at(self, destination: str) -> list[str]:
        """The translating exits whose addresses a destination sees, in order of name."""
        return self._seen_by[destination][0]

    def sees_hosts(self, destination: str) -> bool:
        """Whether a destination sees hosts' own public addresses, of which each is one of its kind."""
        return self._seen_by[destination][1]

    def host_prefixes_at(self, destination: str) -> tuple[Prefix, ...]:
        """The IPv6 prefixes of hosts whose own addresses a destination sees, as few as can be."""
        return self._seen_by[destination][2]

    def pools_at(self, destination: str) -> dict[str, Prefix]:
        """The private pools that a destination sees, by the exit that rewrites to them."""
        sources = (path.example.source for path in self.by_destination[destination])
        return {one.exit: one.prefix for one in sources if one.kind == "exit" and one.prefix is not None}

    @cached_property
    def _seen_by(self) -> dict[str, tuple[list[str], bool, tuple[Prefix, ...]]]:
        found = {}
        for name, paths in self.by_destination.items():
            sources = [path.example.source for path in paths]
            exits = {source.exit for source in sources if source.kind == "exit" and source.prefix is None}
            hosts = {path.trace.source.prefix for path in paths if path.example.source.kind == "host-public"}
            v6 = [prefix for prefix in hosts if prefix is not None and prefix.version == 6]
            found[name] = (sorted(exits), len(hosts) > len(v6), fewest_prefixes(v6))
        return found


_TRACED = "traced"
"""Under which the first estate that was traced whole is found among what is reused."""


@dataclass(frozen=True)
class Traced:
    """An estate with the paths of its pairs of workload and destination, and what each pair's paths met."""

    described: Described
    tracer: Tracer
    pairs: dict[tuple[str, str], list[SubnetPath]]

    @cached_property
    def met(self) -> dict[tuple[str, str], Met]:
        """What the paths of each pair met."""
        known: dict[int, Met] = {}
        for owns in self.pairs.values():
            for own in owns:
                if id(own.example) not in known:
                    known[id(own.example)] = met_by(self.tracer, own.example)
        tables = {
            name: Met(frozenset(), frozenset((table or "",)))
            for name, table in ((name, self.described.estate.table_of(name)) for name in self.described.estate.subnets)
        }
        return {
            pair: Met.joined(met for own in owns for met in (known[id(own.example)], tables[own.subnet]))
            for pair, owns in self.pairs.items()
        }

    def still(self, tracer: Tracer) -> Callable[[tuple[str, str]], list[SubnetPath] | None]:
        """For a pair: its paths, if they are the same in another estate, which this tracer is of; else None.

        What no packet of a pair meets makes no difference to it, even where it divides its addresses.
        """
        changed = changes(self.described, tracer.described)
        if changed is None:
            return lambda pair: None
        met = self.met

        def kept(pair: tuple[str, str]) -> list[SubnetPath] | None:
            owns = self.pairs.get(pair)
            # Whether all public addresses go one path, where only names are known, hangs on tables that nobody meets.
            by_names = changed.touches_routes and not tracer.estate.destinations[pair[1]].prefixes
            return None if owns is None or by_names or changed.touch(pair[0], met[pair]) else owns

        return kept


def flow_paths(described: Described, flows: Iterable[str] | None = None, like: Paths | None = None) -> Paths:
    """Trace every flow, or some by name, from every subnet of its workload; each class of packets is traced once.

    Of an estate that was patched from one that was traced before, only what the patch may touch is traced again;
    `like`: the paths of that one; default: of the first that was traced.
    """
    tracer, estate = Tracer(described), described.estate
    before = like.traced if like is not None else described.reused.get(_TRACED)
    kept = before.still(tracer) if before is not None and before.described is not described else None
    known: dict[tuple[str, str], list[SubnetPath]] = {}
    paths: list[FlowPath] = []
    for name in estate.flows if flows is None else flows:
        flow = estate.flows[name]
        key = (flow.from_, flow.to)
        if key not in known:
            owns = kept(key) if kept is not None else None
            known[key] = list(_subnet_paths(tracer, *key)) if owns is None else owns
        paths += [FlowPath(name, one) for one in known[key]]
    traced = Traced(described, tracer, known) if flows is None else None
    if traced is not None:
        described.reused.setdefault(_TRACED, traced)
    return Paths(described, tracer.routes, tuple(paths), traced)


def _subnet_paths(tracer: Tracer, workload: str, to: str) -> Iterator[SubnetPath]:
    public = tracer.estate.workloads[workload].public_address
    for subnet, part in tracer.estate.host_shares(workload).items():
        sending = Sending(subnet, to, public, workload)
        for box in boxes_of(tracer, sending) if part else ():
            share = product(part, box.within)
            make = partial(made, tracer, sending, box)
            yield SubnetPath(subnet, box.trace, share, box.within, box.hosts, box.reach, make)


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
    return list(traces_to(Tracer(described), subnet, address or target, public_host, workload, host))


def _parsed(text: str) -> Address | None:
    try:
        return parse_address(text)
    except ValueError:
        return None


def _subnet_of_host(estate: Estate, stated: str) -> str:
    """A subnet's name as it is; for a host's address the subnet that it lies in."""
    address = None if stated in estate.subnets else _parsed(stated)
    found = None if address is None else estate.subnet_table.match(address)
    return found[1] if found else stated


def effective_routes(described: Described, subnet: str) -> SubnetTable:
    """All routes that hold in a subnet, or for a host's address; UnusableInput for one that is not known."""
    subnet = _subnet_of_host(described.estate, subnet)
    if subnet not in described.estate.subnets:
        remedy = nearest(subnet, described.estate.subnets)
        raise UnusableInput([Problem(Place(path="SUBNET"), repr(subnet), "a subnet", remedy)])
    return Routes(described).of(subnet)
