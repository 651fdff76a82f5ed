"""What a translator host of the team's own has to be told, so that it does as planned."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import islice

import numpy as np

from fenrask.capacity.sizing import Capacity, ExitCapacity
from fenrask.demand import Parts, ended_by
from fenrask.estate import LAST_PORT, Estate, Offer
from fenrask.prefixes import Prefix

__all__ = ["Forwarded", "Translator", "translators"]

_LEAST_TABLE = 262_144
"""What a kernel of today has by itself, where the machine has 4 GiB and more: a plan never takes any away."""
_SPARE = 1.5
"""The table holds so many times what is held at the busiest moment, at least."""


@dataclass(frozen=True)
class Forwarded:
    """A port at one of a host's addresses that it forwards to hosts of a workload, each in turn.

    place: the number of the address. hosts: their addresses; `are_known`: whether they are those that there are, and
    not the first ones of the subnets. rewrites_source: whether hosts see the translator's own address.
    """

    name: str
    place: int
    port: int
    protocol: str
    to: str
    host_port: int
    hosts: tuple[str, ...]
    are_known: bool
    rewrites_source: bool


@dataclass(frozen=True)
class OwnSource:
    """Addresses that one destination alone sees: as listed, or empty and then `number` of them."""

    destination: str
    prefixes: tuple[Prefix, ...]
    port: int | None
    protocol: str
    addresses: tuple[str, ...]
    number: int


@dataclass(frozen=True)
class Translator:
    """One translator host: its addresses, ports, timers, s, and the connections that its table has to hold.

    addresses: as listed; empty where they are not known yet, then `number` of them. choice: which address a connection
    takes its port from. sources: the subnets that it serves. blocks: by host, where each has its own, the place of its
    address, and its first and last port.
    """

    exit: str
    addresses: tuple[str, ...]
    number: int
    first_port: int
    last_port: int
    choice: str
    sources: tuple[Prefix, ...]
    timers_s: Mapping[str, float]
    udp_timers_s: Mapping[str, float]
    table: int
    blocks: Mapping[str, tuple[int, int, int]]
    not_counted: tuple[str, ...] = ()
    forwarded: tuple[Forwarded, ...] = ()
    own: tuple[OwnSource, ...] = ()
    """The addresses that destinations alone see."""


def translators(capacity: Capacity) -> Iterator[Translator]:
    """Every translator host of an estate, in its order."""
    described = capacity.demand.paths.described
    for exit_capacity in capacity.exits:
        exit_, offer = described.estate.exits[exit_capacity.exit], described.offer_of(exit_capacity.exit)
        if exit_.self_run and offer is not None and not exit_capacity.toward:
            yield _translator(capacity, exit_capacity, offer)


def _translator(capacity: Capacity, exit_capacity: ExitCapacity, offer: Offer) -> Translator:
    described = capacity.demand.paths.described
    estate, ports = described.estate, exit_capacity.how
    parts = capacity.demand.at_exit.get(exit_capacity.exit, ())
    outward = Parts.of(parts).outward if parts else ()
    sources = tuple(estate.subnets[name].prefix for name in dict.fromkeys(part.subnet for part in outward))
    busiest = _entries(capacity, Parts.of(parts)) if parts else 0.0
    in_kernel = exit_capacity.assignment.in_kernel(ports, sources, exit_capacity.addresses)
    not_counted = [*in_kernel.not_counted]
    if ports.address_choice == "any-free" and exit_capacity.addresses > 1:
        not_counted.append("any free address: the kernel ties a host and a destination to one")
    own = tuple(_own(capacity, estate, exit_capacity.exit))
    not_counted += [
        f"{each.destination} has addresses of its own, and which it has is not known: put them in"
        for each in own
        if not each.prefixes
    ]
    if own and in_kernel.blocks:
        not_counted.append("addresses of single destinations: hosts have no blocks of theirs there")
    mapping_timeout = offer.mapping_timeout_s
    return Translator(
        exit=exit_capacity.exit,
        addresses=tuple(map(str, estate.exits[exit_capacity.exit].listed_addresses)),
        number=max(1, exit_capacity.addresses),
        first_port=max(1, LAST_PORT + 1 - ports.per_address),
        last_port=LAST_PORT,
        choice=ports.address_choice,
        sources=sources,
        timers_s={
            "established": mapping_timeout.after("idle"),
            "time_wait": mapping_timeout.after("closed"),
            "close": mapping_timeout.after("reset"),
            # What the offer does not tell stays as the kernel has it.
            "fin_wait": mapping_timeout.stated("half_closed") or 0.0,
            "close_wait": mapping_timeout.stated("half_closed") or 0.0,
            "syn_sent": mapping_timeout.stated("unanswered") or 0.0,
        },
        udp_timers_s={
            "unreplied": mapping_timeout.after("udp_one_way"),
            "replied": mapping_timeout.after("udp_answered"),
        },
        table=max(_LEAST_TABLE, 1 << int(np.ceil(np.log2(max(1.0, busiest * _SPARE))))),
        blocks=in_kernel.blocks,
        not_counted=tuple(not_counted),
        forwarded=tuple(_forwarded(estate, exit_capacity.exit, max(1, exit_capacity.addresses))),
        own=own,
    )


def _own(capacity: Capacity, estate: Estate, name: str) -> Iterator[OwnSource]:
    for to in estate.exits[name].own_addresses:
        sized, stated = capacity.of(name, to), estate.destinations[to]
        prefixes = tuple(one for one in stated.prefixes if one.version == 4)
        listed = tuple(map(str, estate.exits[name].listed_toward(to)))
        yield OwnSource(to, prefixes, stated.port, stated.protocol, listed, max(1, sized.addresses if sized else 1))


def _forwarded(estate: Estate, name: str, shared: int) -> Iterator[Forwarded]:
    exit_ = estate.exits[name]
    # Places are counted over those that many see, and then over those of each destination.
    listed = [*(exit_.listed_addresses or [None] * shared)]
    for to in exit_.own_addresses:
        listed += exit_.listed_toward(to) or [None] * (exit_.stated_toward(to) or 1)
    for key, published in exit_.published.items():
        place = listed.index(published.address) if published.address in listed else 0
        hosts, are_known = _hosts(estate, published.to)
        yield Forwarded(
            key,
            place,
            published.port,
            published.protocol,
            published.to,
            published.host_port,
            hosts,
            are_known,
            published.rewrites_source,
        )


def _hosts(estate: Estate, workload: str) -> tuple[tuple[str, ...], bool]:
    """The IPv4 addresses of a workload's hosts, and whether these are all that its subnets have for them."""
    stated, found, whole = estate.workloads[workload], list[str](), 0
    for subnet, share in estate.host_shares(workload).items():
        blocks = estate.host_blocks(workload, subnet, 4)
        size = sum(block.size for block in blocks)
        wanted, whole = min(size, round(stated.hosts * share)), whole + size
        every = (block.address + number for block in blocks for number in range(block.size))
        found += [str(address) for address in islice(every, wanted)]
    return tuple(found), whole == stated.hosts


def _entries(capacity: Capacity, parts: Parts) -> float:
    """The most entries in the table at once, in the mean: of connections, and of ended ones until their timers end."""
    group = np.zeros(len(parts), dtype=np.intp)
    return float(np.max(capacity.demand.load(parts).concurrent + ended_by(parts, group, 1)[0]))
