"""Every flow's ways out, subnet by subnet: what demand, capacity and charges are computed on."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described, Destination, Estate
from fenrask.estate.suggestions import nearest
from fenrask.prefixes import Address, Prefix, PrefixTable, fewest_prefixes, parse_address
from fenrask.routing.filters import Filters
from fenrask.routing.inward import Opening, openings
from fenrask.routing.packets import Packet, Trace
from fenrask.routing.tables import Routes, SubnetTable
from fenrask.routing.tracing import Tracer

__all__ = ["FlowPath", "Paths", "effective_routes", "flow_paths", "trace_from", "traces_to"]


@dataclass(frozen=True)
class FlowPath:
    """The part of a flow that leaves one subnet by one walk.

    `share` is this part of the whole flow: hosts are spread evenly over the workload's subnets, and
    connections over the destination's prefixes. `reach` is the part of the destination that this walk
    leads to.
    """

    flow: str
    subnet: str
    trace: Trace
    share: Fraction
    reach: Fraction


@dataclass(frozen=True)
class Paths:
    """All ways of an estate, in the order of its flows."""

    described: Described
    routes: Routes
    paths: tuple[FlowPath, ...]

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
        """The arriving ways to each destination, whichever flow they belong to."""
        found: dict[str, list[FlowPath]] = {name: [] for name in self.described.estate.destinations}
        for path in self.paths:
            if path.trace.verdict.arrives:
                found[self.described.estate.flows[path.flow].to].append(path)
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
        sources = (path.trace.source for path in self.by_destination[destination])
        return {one.exit: one.prefix for one in sources if one.kind == "exit" and one.prefix is not None}

    @cached_property
    def _seen_by(self) -> dict[str, tuple[list[str], bool, tuple[Prefix, ...]]]:
        found = {}
        for name, paths in self.by_destination.items():
            sources = [path.trace.source for path in paths]
            exits = {source.exit for source in sources if source.kind == "exit" and source.prefix is None}
            hosts = {source.prefix for source in sources if source.kind == "host-public"}
            v6 = [prefix for prefix in hosts if prefix is not None and prefix.version == 6]
            found[name] = (sorted(exits), len(hosts) > len(v6), fewest_prefixes(v6))
        return found


def flow_paths(described: Described, flows: Iterable[str] | None = None) -> Paths:
    """Trace every flow, or some by name, from every subnet of its workload; equal traces are traced once."""
    tracer = Tracer(described)
    known: dict[tuple[str, str, bool, str], tuple[tuple[Trace, Fraction], ...]] = {}
    paths: list[FlowPath] = []
    for name in described.estate.flows if flows is None else flows:
        flow = described.estate.flows[name]
        workload = described.estate.workloads[flow.from_]
        for subnet in workload.subnets:
            # Only a workload that filters makes its packets unlike those of others.
            filtering = flow.from_ if workload.filters else ""
            key = (subnet, flow.to, workload.public_address, filtering)
            if key not in known:
                known[key] = tuple(traces_to(tracer, subnet, flow.to, workload.public_address, filtering or None))
            parts = len(workload.subnets)
            paths += [
                FlowPath(name, subnet, one, share if parts == 1 else share / parts, share) for one, share in known[key]
            ]
    return Paths(described, tracer.routes, tuple(paths))


def trace_from(
    described: Described, subnet: str, target: str, public_host: bool = False, workload: str | None = None
) -> list[tuple[Trace, Fraction]]:
    """The paths from a subnet (or a host's address) to a destination's name or an address, each with its share.

    `workload` says whose filters count; default: that of the only workload in the subnet. UnusableInput for a subnet
    or a target that is not known.
    """
    estate = described.estate
    problems = []
    subnet = _subnet_of_host(estate, subnet)
    if subnet not in estate.subnets:
        problems.append(Problem(Place(path="SUBNET"), repr(subnet), "a subnet", nearest(subnet, estate.subnets)))
    address = None
    if target not in estate.destinations:
        try:
            address = parse_address(target)
        except ValueError:
            remedy = nearest(target, estate.destinations)
            expected = "a destination's name, or an address"
            problems.append(Problem(Place(path="DESTINATION"), repr(target), expected, remedy))
    if problems:
        raise UnusableInput(problems)
    tracer = Tracer(described)
    hosts = [name for name, one in estate.workloads.items() if subnet in one.subnets]
    workload = workload or (hosts[0] if len(hosts) == 1 else None)
    if address is None:
        return list(traces_to(tracer, subnet, target, public_host, workload))
    holding = PrefixTable((p, name) for name, one in estate.destinations.items() for p in one.prefixes)
    found = holding.match(address)
    filters = Filters(estate)
    traces = tracer.traces(subnet, Packet(address, found[1] if found else None, public_host))
    return [(filters.passed(trace, workload), share) for trace, share in traces]


def _subnet_of_host(estate: Estate, stated: str) -> str:
    """A subnet's name as it is; for a host's address the subnet that it lies in."""
    if stated in estate.subnets:
        return stated
    try:
        found = estate.subnet_table.match(parse_address(stated))
    except ValueError:
        found = None
    return found[1] if found else stated


def effective_routes(described: Described, subnet: str) -> SubnetTable:
    """All routes that hold in a subnet, or for a host's address; UnusableInput for one that is not known."""
    subnet = _subnet_of_host(described.estate, subnet)
    if subnet not in described.estate.subnets:
        remedy = nearest(subnet, described.estate.subnets)
        raise UnusableInput([Problem(Place(path="SUBNET"), repr(subnet), "a subnet", remedy)])
    return Routes(described).of(subnet)


def traces_to(
    tracer: Tracer, subnet: str, to: str, public_host: bool, workload: str | None = None
) -> list[tuple[Trace, Fraction]]:
    """The distinct paths to a destination with the share of its prefixes that each serves, past all filters."""
    found = _unfiltered(tracer, subnet, to, public_host)
    if not tracer.estate.has_filters:
        return found
    filters = Filters(tracer.estate)
    return [(filters.passed(trace, workload), share) for trace, share in found]


def _unfiltered(tracer: Tracer, subnet: str, to: str, public_host: bool) -> list[tuple[Trace, Fraction]]:
    if not tracer.estate.destinations[to].prefixes:
        return tracer.traces_by_name(subnet, to, public_host)
    targets = list(_targets(tracer.routes, subnet, tracer.estate.destinations[to]))
    found = [
        (trace, part if share == 1 else share * part)
        for address, share in targets
        for trace, part in tracer.traces(subnet, Packet(address, to, public_host))
    ]
    if len(found) == 1:
        return found
    merged: dict[tuple[object, ...], tuple[Trace, Fraction]] = {}
    for trace, share in found:
        first, sum_of_shares = merged.get((trace.verdict, trace.exits), (trace, Fraction(0)))
        merged[trace.verdict, trace.exits] = (first, sum_of_shares + share)
    return list(merged.values())


def _targets(routes: Routes, subnet: str, destination: Destination) -> Iterator[tuple[Address, Fraction]]:
    """One address for each part of the destination that may go its own way, with its share.

    A prefix counts as much as any other of the destination; inside it, a part that a more specific route
    takes, in the subnet's own table or in one further on, counts by its size.
    """
    table = routes.of(subnet)
    versions = {prefix.version for prefix in routes.estate.subnets[subnet].prefixes}
    # A host asks for addresses of a family that it has; where the destination has none, it is mapped or lost.
    prefixes = [one for one in destination.prefixes if one.version in versions] or [*destination.prefixes]
    of_prefix = Fraction(1, len(prefixes))
    for prefix in prefixes:
        if held := routes.estate.subnets_inside(prefix):
            # Hosts are where subnets are: the rest of an own range is nobody's.
            size = sum(one.num_addresses for one in held)
            yield from ((one.network_address, of_prefix * one.num_addresses / size) for one in held)
            continue
        parts = [*table.inside(prefix), *routes.beyond.inside(prefix)]
        if not parts:
            yield prefix.network_address, of_prefix
            continue
        for low, high in _pieces(prefix, parts):
            yield prefix[low], of_prefix * (high - low) / prefix.num_addresses


def _pieces(prefix: Prefix, parts: list[Prefix]) -> Iterator[tuple[int, int]]:
    """Cut a prefix at the edges of its parts: half-open ranges of offsets."""
    first = int(prefix.network_address)
    edges = {0, prefix.num_addresses}
    for part in parts:
        edges |= {int(part.network_address) - first, int(part.broadcast_address) - first + 1}
    ordered = sorted(edges)
    yield from zip(ordered, ordered[1:], strict=False)
