"""Ports are running out now: who takes them, in what state, and the quickest relief, from a connection table."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from math import ceil, floor
from typing import Any

from fenrask.capacity import ASSIGNMENTS
from fenrask.designs.endpoints import ROUTED
from fenrask.estate import Described, Offer, Onward, Ports
from fenrask.estate.suggestions import some
from fenrask.evaluation import Evaluation, evaluate, quiet_through, tried
from fenrask.prefixes import Address, parse_address
from fenrask.records.readers.entries import Entry
from fenrask.routing import trace_from
from fenrask.units import counted

__all__ = ["Relief", "Remedy", "Taken", "Use", "relief_of", "relieve", "use_of"]

_SPARE = 0.8
"""How full the ports may be after a remedy."""
_WAITING = frozenset({"TIME_WAIT", "CLOSE", "FIN_WAIT", "LAST_ACK", "CLOSE_WAIT"})
_IDLE_S = 60


@dataclass(frozen=True)
class Taken:
    """The ports that one subnet takes toward one destination, by what their connections do."""

    subnet: str
    destination: str
    live: int
    """Open, and heard of within a minute, as far as the table tells."""
    idle: int
    """Open, and silent for longer."""
    waiting: int
    """Ended, and waiting out a timeout."""

    @property
    def ports(self) -> int:
        return self.live + self.idle + self.waiting


@dataclass(frozen=True)
class Remedy:
    """Something that relieves the ports: in how many minutes, how many it frees or adds, its cost, its lasting."""

    what: str
    minutes: int
    ports: int
    """Freed of what is taken now, or added."""
    month: Fraction | None
    """Money a month more; None where it was not worked out."""
    lasts: str
    how: str
    """What to do: a patch of the estate where there is one."""


@dataclass(frozen=True)
class Relief:
    """One exit now."""

    exit: str
    taken: tuple[Taken, ...]
    busiest: str
    """The destination address, port and protocol toward which most ports are taken; or the host, by `is_block`."""
    is_block: bool
    """Whether hosts have ports of their own."""
    in_use: int
    """Ports in use of the pool that is fullest."""
    ports: int
    """The ports of that pool."""
    remedies: tuple[Remedy, ...]
    unmatched: int
    """Entries of no subnet of ours."""


@dataclass(frozen=True)
class Use:
    """What an exit's ports are taken by at a moment."""

    taken: tuple[Taken, ...]
    full: "_Full"
    busiest: str
    unmatched: int

    @property
    def share(self) -> float:
        """How full the fullest pool is."""
        return self.full.in_use / self.full.size if self.full.size else 0.0


def relieve(described: Described, exit_name: str, entries: Sequence[Entry]) -> Relief:
    """What takes an exit's ports by its connection table, and what relieves it, the quickest first."""
    evaluation = evaluate(described)
    return relief_of(evaluation, exit_name, use_of(evaluation, exit_name, entries))


def relief_of(evaluation: Evaluation, exit_name: str, use: Use) -> Relief:
    """The same, of what was looked at already."""
    offer = evaluation.described.offer_of(exit_name)
    assert offer is not None
    remedies = sorted(_remedies(evaluation, use.full, offer, use.taken), key=lambda remedy: remedy.minutes)
    full = use.full
    return Relief(
        exit_name, use.taken, use.busiest, full.is_block, full.in_use, full.size, tuple(remedies), use.unmatched
    )


def use_of(evaluation: Evaluation, exit_name: str, entries: Sequence[Entry]) -> Use:
    """Who takes an exit's ports by its connection table, and how full its fullest pool is."""
    described = evaluation.described
    own = list(entries)
    offer = described.offer_of(exit_name)
    assert offer is not None and offer.ports is not None
    listed = {str(one).encode() for one in described.estate.exits[exit_name].every_listed}
    if listed:
        outsides = {one.outside for one in own if one.outside} - listed
        # Addresses may be written in more than one way.
        others = {text for text in outsides if str(parse_address(text.decode())).encode() not in listed}
        own = [one for one in own if one.outside not in others]
    counts: dict[tuple[str, str], list[int]] = {}
    matched = list[Entry]()
    owners: dict[tuple[bytes, bytes, int], tuple[str, str]] = {}
    for entry in own:
        ends = (entry.source, entry.target, entry.target_port)
        if ends not in owners:
            owners[ends] = _owner(described, entry)
        subnet, destination = owners[ends]
        if not subnet:
            continue
        matched.append(entry)
        counts.setdefault((subnet, destination), [0, 0, 0])[_state(entry, offer)] += 1
    taken = tuple(
        sorted((Taken(*pair, *numbers) for pair, numbers in counts.items()), key=lambda taken_by: -taken_by.ports)
    )
    ports, exit_ = offer.ports.with_nodes(described.estate.exits[exit_name].units), described.estate.exits[exit_name]
    pools = dict[tuple[str, str], int]()
    for entry in matched:
        toward = ""
        if exit_.own_addresses:
            toward = exit_.toward(_named(described, parse_address(entry.target.decode()), entry.target_port))
        where = _pool(entry, ports)
        pools[toward, where] = pools.get((toward, where), 0) + 1
    addresses = {
        toward: max(1, sized.addresses if sized else 1)
        for toward in ("", *exit_.own_addresses)
        for sized in (evaluation.capacity.of(exit_name, toward),)
    }
    own_block = ports.host_block is not None
    busiest = max(pools, key=lambda pool: pools[pool] / addresses[pool[0]], default=("", ""))
    held = addresses[busiest[0]]
    # A host with a block has no more ports than that, however many addresses there are.
    size = ports.largest_block if own_block else held * ports.per_address
    full = _Full(exit_name, busiest[0], pools.get(busiest, 0), held, ports.per_address, size, own_block)
    return Use(taken, full, busiest[1], len(own) - len(matched))


def _pool(entry: Entry, ports: Ports) -> str:
    """The ports that an entry takes one of: toward its destination's address, of its host's block, or of all."""
    protocol = "udp" if entry.protocol == 17 else "tcp"
    view = ASSIGNMENTS[ports.assignment].view
    if view == "tuples":
        return f"{entry.target.decode()}:{entry.target_port}/{protocol}"
    return f"{entry.source.decode()}/{protocol}" if view == "hosts" else f"all destinations/{protocol}"


@dataclass(frozen=True)
class _Full:
    """The fullest pool of an exit: the destination that alone sees its addresses (or empty), and its ports.

    each: ports of an address; size: those of the pool; is_block: whether it is one host's alone.
    """

    exit: str
    toward: str
    in_use: int
    addresses: int
    each: int
    size: int
    is_block: bool


def _owner(described: Described, entry: Entry) -> tuple[str, str]:
    estate = described.estate
    try:
        inner, outer = parse_address(entry.source.decode()), parse_address(entry.target.decode())
    except ValueError:
        return "", ""
    held = estate.subnets_at(inner)
    if len(held) != 1:
        return "", ""
    return held[0], _named(described, outer, entry.target_port) or f"{outer}:{entry.target_port}"


def _named(described: Described, outer: Address, port: int) -> str:
    """The destination that has an address and a port; empty where none has."""
    for name, destination in described.estate.destinations.items():
        if destination.port in (None, port) and any(outer in prefix for prefix in destination.prefixes):
            return name
    return ""


def _state(entry: Entry, offer: Offer) -> int:
    """0 live, 1 idle, 2 waiting."""
    if entry.state in _WAITING:
        return 2
    whole = offer.mapping_timeout_s.after("udp_answered" if entry.protocol == 17 else "idle")
    silent = whole - entry.seconds_left if entry.seconds_left is not None else 0
    return 1 if silent > _IDLE_S else 0


def _remedies(evaluation: Evaluation, full: _Full, offer: Offer, taken: Sequence[Taken]) -> Iterator[Remedy]:
    yield from _shorter(evaluation, full.exit, offer, taken)
    yield from _pooling(taken)
    yield from _more_addresses(evaluation, full, offer)
    yield from _endpoint(evaluation, taken)
    yield from _apart(evaluation, full.exit, taken)


def _shorter(evaluation: Evaluation, name: str, offer: Offer, taken: Sequence[Taken]) -> Iterator[Remedy]:
    """A shorter timeout frees what waits for nothing: at once for what is set down now, within it for the rest.

    Never so short that connections end which flows keep quiet for longer.
    """
    quiet_s, flows = _longest_quiet(evaluation, name)
    for ending, kind in (("idle", "idle"), ("closed", "waiting")):
        bounds, number = offer.mapping_timeout_s.bounds(ending), sum(getattr(one, kind) for one in taken)
        if bounds is None or not number:
            continue
        seconds = max(bounds.min, floor(quiet_s) + 1.0) if ending == "idle" and quiet_s else bounds.min
        if seconds >= bounds.default:
            continue
        month = _month(evaluation, {"exits": {name: {"mapping_timeout_s": {ending: seconds}}}})
        if month is None:
            continue
        freed = int(number * (1 - seconds / bounds.default))
        how = f"exits: {{{name}: {{mapping_timeout_s: {{{ending}: {seconds:g}}}}}}}"
        if seconds > bounds.min:
            how += f"; no shorter, since {some(flows)} may be quiet for {quiet_s:g} s"
        what = f"shorten the {ending} timeout to {seconds:g} s"
        yield Remedy(what, max(1, ceil(seconds / 60)), freed, month, "for good", how)


def _longest_quiet(evaluation: Evaluation, name: str) -> tuple[float, list[str]]:
    """How long a connection through an exit may be quiet and is used again, s, and whose; 0 where nothing says so."""
    found = quiet_through(evaluation.paths, name)
    most = max(found.values(), default=0.0)
    return most, [flow for flow, quiet in found.items() if quiet == most]


def _pooling(taken: Sequence[Taken]) -> Iterator[Remedy]:
    """Connections kept and used again leave none to wait."""
    most = max(taken, key=lambda taken_by: taken_by.waiting, default=None)
    if most is not None and most.waiting > most.live:
        what = f"keep connections of {most.subnet} to {most.destination} open and use them again (pooling, keep-alive)"
        how = f"at the clients in {most.subnet}; ten requests a connection leave a tenth of the ports waiting"
        yield Remedy(what, 60, most.waiting * 9 // 10, Fraction(0), "for good", how)


def _more_addresses(evaluation: Evaluation, full: _Full, offer: Offer) -> Iterator[Remedy]:
    sized = evaluation.capacity.of(full.exit, full.toward)
    if full.is_block:
        # More addresses are more blocks: hosts that have none get one, and those whose block is full get no more.
        more = (sized.needed or 0) - full.addresses if sized is not None else 0
    else:
        needed = ceil(full.in_use / (full.each * _SPARE)) if full.in_use else 1
        more = max(1, needed - full.addresses)
    most, has = offer.limits.addresses, sum(one.addresses for one in evaluation.capacity.exits if one.exit == full.exit)
    if most is not None and has + more > most:
        more = most - has
    then = full.addresses + more
    if more <= 0 or sized is None:
        return
    stated = sized.with_addresses("auto", then)
    month = _month(evaluation, {"exits": {full.exit: stated}})
    if month is None:
        return
    grows = full.each * then / full.in_use - 1 if full.in_use else 0.0
    at_least = f"addresses: auto, at_least: {then}"
    keys = f"addresses_for: {{{full.toward}: {then}}}" if full.toward else at_least
    how = f"exits: {{{full.exit}: {{{keys}}}}}; tell the partners that allow-list it"
    lasts = f"until the load has grown by {grows:.0%}" if grows > 0 else "not enough by itself"
    if full.is_block:
        lasts = "for hosts without a block; a block that is full gets no more ports"
    whose = f" for {full.toward}" if full.toward else ""
    yield Remedy(f"add {counted(more, 'address', 'addresses')}{whose}", 5, more * full.each, month, lasts, how)


def _endpoint(evaluation: Evaluation, taken: Sequence[Taken]) -> Iterator[Remedy]:
    """A private endpoint takes a service's traffic off the translator altogether."""
    described = evaluation.described
    for taken_by in taken:
        stated = described.estate.destinations.get(taken_by.destination)
        if stated is None or not stated.service:
            continue
        network, table = described.estate.subnets[taken_by.subnet].network, described.estate.table_of(taken_by.subnet)
        offers = [
            key
            for key, offer in described.catalogue.offers.items()
            if offer.kind == ROUTED and offer.leads_to(taken_by.destination)
        ]
        if not offers or table is None or not described.estate.endpoint_reaches(network, taken_by.destination):
            continue
        name = f"to-{taken_by.destination}-{network}"
        endpoint = {
            "kind": ROUTED,
            "offer": offers[0],
            "network": network,
            "destination": taken_by.destination,
        }
        patch = {
            "exits": {name: {**endpoint, "access": "listed"}},
            "route_tables": {table: {taken_by.destination: name}},
        }
        month = _month(evaluation, patch)
        if month is None or not _leaves_privately(evaluation, patch, taken_by):
            continue
        what = f"route {taken_by.destination} from {taken_by.subnet} to a private endpoint"
        how = f"exits: {{{name}: ...}}, route_tables: {{{table}: {{{taken_by.destination}: {name}}}}}"
        yield Remedy(what, 15, taken_by.ports, month, "for good", how)
        return


def _leaves_privately(evaluation: Evaluation, patch: dict[str, Any], taken: Taken) -> bool:
    traces = trace_from(evaluation.described.patched(patch, "relief"), taken.subnet, taken.destination)
    return all(trace.verdict.arrives and trace.onward is Onward.SERVICE for trace, _ in traces)


def _apart(evaluation: Evaluation, name: str, taken: Sequence[Taken]) -> Iterator[Remedy]:
    """A second exit of the same offer for the subnet that takes most."""
    by_subnet: dict[str, int] = {}
    for taken_by in taken:
        by_subnet[taken_by.subnet] = by_subnet.get(taken_by.subnet, 0) + taken_by.ports
    if len(by_subnet) < 2:
        return
    described = evaluation.described
    subnet = max(by_subnet, key=lambda key: by_subnet[key])
    data = dict(described.data["exits"][name])
    data |= {"addresses": "auto"}
    # Its other addresses stay its own.
    data = {key: value for key, value in data.items() if key not in ("at_least", "addresses_for")}
    table = described.estate.table_of(subnet)
    written = dict(described.data.get("route_tables", {}).get(table, {}))
    routes = {key: f"{name}-2" if value == name else value for key, value in written.items()}
    patch = {
        "exits": {f"{name}-2": data},
        "route_tables": {f"{subnet}-apart": routes},
        "subnets": {subnet: {"routes": f"{subnet}-apart"}},
    }
    month = _month(evaluation, patch)
    if month is not None:
        how = f"a second exit like {name}, a table of its own for {subnet} (connections open now break)"
        yield Remedy(f"split {subnet} off to a second exit", 30, by_subnet[subnet], month, "for good", how)


def _month(evaluation: Evaluation, patch: dict[str, Any]) -> Fraction | None:
    """What a patch costs more a month, evaluated like any estate; None where it does harm, or cannot be made."""
    after = tried(evaluation, patch, "relief")
    return None if after is None else after.bill.total - evaluation.bill.total
