"""What a change of an estate leaves as it was: paths that meet nothing that changed are those traced before.

A path follows from the tables and exits that it meets, there and back, and from its own workload and classes. A change
of networks, subnets, destinations, filters or offers, or of an exit that others hear of, may touch any path.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from fenrask.estate import Described, Estate, Origin
from fenrask.prefixes import Address
from fenrask.routing.packets import Trace
from fenrask.routing.tracing import Tracer

__all__ = ["Changes", "Met", "changes", "met_by"]


@dataclass(frozen=True)
class Met:
    """The exits that paths meet, or are sent to, and the tables that they ask, there and back."""

    exits: frozenset[str]
    tables: frozenset[str]


@dataclass(frozen=True)
class Changes:
    """The exits, tables, workloads and names in which two estates differ; all else is the same in both."""

    exits: frozenset[str]
    tables: frozenset[str]
    workloads: frozenset[str]
    moved: frozenset[str]
    """Those of them that differ in their subnets alone."""
    remotes: frozenset[str]
    """The destinations whose names may lead elsewhere."""
    of_loads: bool
    """Whether nothing else differs than loads, and how many hosts there are."""

    @property
    def touches_routes(self) -> bool:
        """Whether any exit or table differs."""
        return bool(self.exits or self.tables)

    def touch(self, met: Met) -> bool:
        """Whether paths that meet these may be others than before."""
        return not (self.exits.isdisjoint(met.exits) and self.tables.isdisjoint(met.tables))


def changes(before: Described, after: Described) -> Changes | None:
    """In what two estates differ; None where any path may be another."""
    old, new = before.estate, after.estate
    if before.catalogue is not after.catalogue or not all(
        _is_same(old, new, section) for section in ("networks", "subnets", "destinations")
    ):
        return None
    exits = {name for name in _differing(old, new, "exits") if not _routes_alike(old, new, name)}
    workloads = {name for name in _differing(old, new, "workloads") if _sends(old, name) != _sends(new, name)}
    models = [one.exits[name] for one in (old, new) for name in exits if name in one.exits]
    named = [one.carries for one in models if one.found_by_name]
    heard_of = any(one.is_heard_of for one in models) or None in named
    if heard_of or (workloads and (old.filters or new.filters or _lists_workloads(old) or _lists_workloads(new))):
        return None
    if _are_asked_otherwise(new, [entry for one in (old, new) for entry in _named_entries(one, exits)]):
        return None
    tables = {name for name in {*old.route_tables, *new.route_tables} if _table(old, name) != _table(new, name)}
    failed = (before.failed.keys() ^ after.failed.keys()) | (before.resting ^ after.resting)
    if (exits | failed) & _learned_from(old) | (exits | failed) & _learned_from(new):
        return None
    remotes = frozenset(name for carried in named for name in carried or ())
    moved = frozenset(name for name in workloads if (_sends(old, name) or (0,))[1:] == (_sends(new, name) or (1,))[1:])
    of_loads = not (tables or workloads or failed or _differing(old, new, "exits")) and old.remotes == new.remotes
    return Changes(frozenset(exits | failed), frozenset(tables), frozenset(workloads), moved, remotes, of_loads)


def _named_entries(estate: Estate, exits: Iterable[str]) -> Iterator[Address]:
    """Where those of some exits are entered that rules mean by the name of what they reach."""
    ruled = {*estate.named_addresses.names}
    for exit_ in (estate.exits[name] for name in exits if name in estate.exits):
        if exit_.found_by_name and not ruled.isdisjoint(exit_.carries or ()):
            yield from estate.entries_of(exit_)


def _are_asked_otherwise(estate: Estate, entries: Sequence[Address]) -> bool:
    """Whether any of these addresses is also one of a destination's own."""
    prefixes = [prefix for one in estate.destinations.values() for prefix in one.prefixes] if entries else []
    return any(entry in prefix for prefix in prefixes for entry in entries)


def _routes_alike(old: Estate, new: Estate, name: str) -> bool:
    """Whether an exit differs in its number of addresses alone: that changes no path."""
    before, after = old.exits.get(name), new.exits.get(name)
    if before is None or after is None or before.listed_addresses or after.listed_addresses:
        return False
    return type(before) is type(after) and before.without_number() == after.without_number()


def _learned_from(estate: Estate) -> set[str]:
    """The exits that stated routes which are no static ones name: such a route comes and goes with sessions."""
    return {
        route.exit
        for table in estate.route_tables.values()
        for value in table.values()
        if not isinstance(value, str)
        for route in (value if isinstance(value, tuple) else (value,))
        if route.rank is not Origin.STATIC
    }


def _lists_workloads(estate: Estate) -> bool:
    return any(one.lets_in is not None for one in estate.exits.values())


def _sends(estate: Estate, name: str) -> tuple[Any, ...] | None:
    """Where a workload's hosts are, and what is theirs on the path; how many there are changes no path."""
    workload = estate.workloads.get(name)
    return (
        None
        if workload is None
        else (workload.subnets, workload.hosts_in, workload.public_address, workload.filters, workload.ipv6_share)
    )


def _table(estate: Estate, name: str) -> Mapping[str, Any] | None:
    return estate.route_tables.get(name)


def _is_same(old: Estate, new: Estate, section: str) -> bool:
    """Whether a section has the same entries in the same order: rows of paths count them."""
    first, second = getattr(old, section), getattr(new, section)
    return first is second or ([*first] == [*second] and not _differing(old, new, section))


def _differing(old: Estate, new: Estate, section: str) -> set[str]:
    """The entries of a section that are other ones in both; values that no patch names stay the very same."""
    first, second = getattr(old, section), getattr(new, section)
    if first is second:
        return set()
    each = ((name, first.get(name), second.get(name)) for name in {**first, **second})
    return {name for name, one, other in each if one is not other and one != other}


def met_by(tracer: Tracer, traces: Iterable[Trace]) -> Met:
    """What traces met on their paths and return paths, after the table of the subnet that they are from."""
    each = [_met_by(tracer, one) for one in traces]
    return Met(frozenset().union(*(one.exits for one in each)), frozenset().union(*(one.tables for one in each)))


def _met_by(tracer: Tracer, trace: Trace) -> Met:
    estate = tracer.estate
    hops = (*trace.hops, *trace.back)
    exits = {hop.exit for hop in hops} | {hop.via for hop in hops}
    exits |= {hop.subnet for hop in hops if hop.subnet in estate.exits}
    places = {trace.there, *(hop.subnet for hop in (*trace.hops[1:], *trace.back))} & estate.subnets.keys()
    places |= {name for exit_name in exits & estate.exits.keys() for name in estate.exits[exit_name].in_subnets[:1]}
    tables = {estate.table_of(place) or "" for place in places}
    for name in exits & estate.exits.keys():
        tables |= estate.exits[name].tables
    return Met(frozenset(exits), frozenset(tables))
