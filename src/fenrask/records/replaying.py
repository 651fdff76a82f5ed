"""One's own records sent through the ports of an estate's exits, exactly as they were, beside what the formulas say."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
from numpy.typing import NDArray

from fenrask.capacity import Capacity, ExitCapacity
from fenrask.capacity.assignments import View
from fenrask.capacity.assignments.pools import least
from fenrask.capacity.streams import parts_toward
from fenrask.demand import Numbers, Parts, Series
from fenrask.errors import NoAnswer
from fenrask.estate import Ending, Offer
from fenrask.records.batch import (
    CONTINUED,
    ENDING_NAMES,
    OPEN,
    UNKNOWN,
    Addresses,
    Batch,
)
from fenrask.records.matching import NONE, Pairs
from fenrask.records.measuring import Measured
from fenrask.teletraffic.backoff import FIRST_S, USUAL_RETRIES, Waits, waits_of
from fenrask.teletraffic.simulation import refused_of, tries_of
from fenrask.units import SECONDS_PER_DAY, percent

__all__ = ["Day", "Log", "Replayed", "Through", "log_of", "replayed", "unsaid"]

_UDP = 17
_ENDINGS: dict[int, Ending] = {
    # Where no record says how it ended, it counts as closed.
    UNKNOWN: "closed",
    CONTINUED: "closed",
    OPEN: "closed",
    **ENDING_NAMES,
}
_DAY = 86_400
_SPREAD = np.uint64(0x9E3779B97F4A7C15)


@dataclass(frozen=True)
class Log:
    """Connections in the order of their beginning; columns have shape (n_connections,), times are s since 1970.

    pair: number of subnet and destination; source, target: a number for each address; answered: whether any byte came
    back; ending: as in a batch.
    """

    begin_s: Series
    life_s: Series
    pair: NDArray[np.int64]
    source: NDArray[np.uint64]
    target: NDArray[np.uint64]
    port: NDArray[np.uint16]
    protocol: NDArray[np.uint8]
    ending: NDArray[np.uint8]
    answered: NDArray[np.bool_]

    def __len__(self) -> int:
        return int(self.begin_s.size)

    @property
    def own(self) -> NDArray[np.uint64]:
        """A number for each connection, of its ends and its beginning."""
        instant = np.round(self.begin_s * 1e6).astype(np.uint64)
        numbers: NDArray[np.uint64] = self.source * np.uint64(31) + self.target * np.uint64(7) + instant
        return numbers

    def some(self, rows: Numbers) -> "Log":
        """Some of them."""
        return Log(*(column[rows] for column in self.__dict__.values()))


def log_of(batches: Iterable[Batch], pairs: Pairs) -> Log:
    """The connections of records that belong to a pair of the estate; replies and sampled records are none."""
    found = [_of_batch(batch, pairs) for batch in batches if batch.sampled == 1]
    if not found:
        raise NoAnswer("no record of a connection, but samples at most", "Give records of connections.")
    columns = (np.concatenate(some) for some in zip(*(one.__dict__.values() for one in found), strict=True))
    whole = Log(*columns)
    return whole.some(np.argsort(whole.begin_s, kind="stable"))


def _of_batch(batch: Batch, pairs: Pairs) -> Log:
    matched = pairs.match(batch)
    rows = np.flatnonzero((matched.pair != NONE) & ~matched.is_reply)
    return Log(
        batch.start_s[rows],
        np.maximum(batch.end_s[rows] - batch.start_s[rows], 0.0),
        matched.pair[rows],
        _numbers(batch.source)[rows],
        _numbers(batch.target)[rows],
        batch.target_port[rows],
        batch.protocol[rows],
        batch.ending[rows],
        batch.bytes_in[rows] > 0,
    )


def _numbers(addresses: Addresses) -> NDArray[np.uint64]:
    """A number for each address; those of IPv6 by a hash of their 128 bits."""
    found = addresses.v4.astype(np.uint64)
    for row, number in addresses.v6:
        found[row] = (number ^ (number >> 61)) % (2**61 - 1) + 2**61
    return found


@dataclass(frozen=True)
class Through:
    """All connections of an exit through so many addresses: how many found no port."""

    addresses: int
    refused: int


@dataclass(frozen=True)
class Day:
    """One day of the records, in UTC."""

    date: str
    connections: int
    refused: int
    waits: Waits | None
    """What those of TCP feel that try again as hosts do; None where none is refused."""


@dataclass(frozen=True)
class Replayed:
    """One exit's connections through its ports.

    model: the share of a day's connections that the formulas say find no port, with the addresses in force; needed:
    the fewest addresses with which no more than the target's share of all connections is refused, None where none do.
    """

    exit: str
    connections: int
    through: tuple[Through, ...]
    days: tuple[Day, ...]
    addresses: int
    model: float
    model_needed: int | None
    needed: int | None
    not_counted: tuple[str, ...]

    @property
    def share(self) -> float:
        """The share refused with the addresses in force."""
        refused = next(one.refused for one in self.through if one.addresses == self.addresses)
        return refused / self.connections


def replayed(log: Log, capacity: Capacity, pairs: Pairs, exits: Sequence[str] = ()) -> Iterator[Replayed]:
    """Each exit that translates, or some by name, to which any connection belongs."""
    for exit_ in capacity.exits:
        if exits and exit_.exit not in exits:
            continue
        rows, divided = _of_exit(log, capacity, exit_, pairs)
        if rows.size:
            yield _replayed(log.some(rows), capacity, exit_, divided)


def _of_exit(log: Log, capacity: Capacity, exit_capacity: ExitCapacity, pairs: Pairs) -> tuple[Numbers, bool]:
    """The connections that pass an exit. Where a part of a pair's do, which they are is drawn by their addresses."""
    demand = capacity.demand
    paths, traffic, some = (
        demand.paths,
        demand.laid.traffic,
        parts_toward(demand, exit_capacity.exit, exit_capacity.toward),
    )
    if not some:
        return np.zeros(0, dtype=np.intp), False
    parts = Parts.of(some)
    number = {name: place for place, name in enumerate(demand.laid.subnets)}
    of_subnet = np.array([number[name] for name in pairs.subnets], dtype=np.intp)
    size = len(pairs.destinations)
    all_keys = paths.pairs.subnet[paths.own] * size + traffic.destination[paths.flow]
    keys = demand.laid.subnet[parts.rows] * size + parts.destination
    shape = len(of_subnet) * size
    whole = np.bincount(all_keys, weights=paths.pairs.share[paths.own], minlength=shape)
    here = np.bincount(keys, weights=demand.laid.share[parts.rows], minlength=shape)
    share = np.divide(here, whole, out=np.zeros(shape), where=whole > 0)
    # Pairs number subnets and destinations as the estate does.
    mine = share[of_subnet[log.pair // size] * size + log.pair % size]
    drawn = _even(log.source * np.uint64(31) + log.target)
    return np.flatnonzero(drawn < mine), bool(np.any((mine > 0) & (mine < 1 - 1e-9)))


def _even(numbers: NDArray[np.uint64]) -> Series:
    """A place in [0, 1) for each number, by a multiplicative hash (Knuth 1998)."""
    mixed = numbers * _SPREAD
    mixed ^= mixed >> np.uint64(29)
    places: Series = (mixed * _SPREAD >> np.uint64(11)).astype(np.float64) * 2.0**-53
    return places


def _replayed(log: Log, capacity: Capacity, exit_capacity: ExitCapacity, divided: bool) -> Replayed:
    offer = capacity.demand.paths.described.offer_of(exit_capacity.exit)
    assert offer is not None
    holds = log.life_s + _delays(log, offer)
    known: dict[int, NDArray[np.bool_]] = {}
    pools = _pools(log, exit_capacity.assignment.view)

    def refused(addresses: int) -> NDArray[np.bool_]:
        if addresses not in known:
            known[addresses] = _refused(log, holds, pools, exit_capacity, addresses)
        return known[addresses]

    allowed = exit_capacity.target * len(log)
    most = max(2 * (exit_capacity.needed or 1), exit_capacity.addresses, _MOST)
    enough = bool(refused(most).sum() <= allowed)
    needed = least(lambda addresses: refused(min(addresses, most)).sum() <= allowed) if enough else None
    told = {
        exit_capacity.addresses,
        *(() if exit_capacity.needed is None else (exit_capacity.needed,)),
        *(() if needed is None else (needed,)),
    }
    told |= {needed - 1} if needed and needed > 1 else set()
    for addresses in sorted(told):
        refused(addresses)
    parts = parts_toward(capacity.demand, exit_capacity.exit, exit_capacity.toward)
    a_day = float(np.mean(capacity.demand.load(parts).new_per_s)) * SECONDS_PER_DAY
    return Replayed(
        exit=exit_capacity.name,
        connections=len(log),
        through=tuple(Through(addresses, int(refused(addresses).sum())) for addresses in sorted(told)),
        days=tuple(
            _days(
                log,
                refused(exit_capacity.addresses),
                lambda: _tries(log, holds, pools, exit_capacity, exit_capacity.addresses),
            )
        ),
        addresses=exit_capacity.addresses,
        model=exit_capacity.ports.blocked_per_day / a_day if exit_capacity.ports and a_day else 0.0,
        model_needed=exit_capacity.needed,
        needed=needed,
        not_counted=tuple(_not_counted(exit_capacity, divided)),
    )


_MOST = 256
"""More addresses than this are tried only where the formulas ask for more."""


def _days(log: Log, refused: NDArray[np.bool_], again: Callable[[], NDArray[np.int8]]) -> Iterator[Day]:
    """again: at which try each is served; -1 for none."""
    days, is_tcp = (log.begin_s // _DAY).astype(np.int64), log.protocol != _UDP
    tries = again() if np.any(refused & is_tcp) else np.zeros(len(log), dtype=np.int8)
    numbers, back = np.unique(days, return_inverse=True)
    lost = np.bincount(back, weights=refused, minlength=numbers.size)
    for number, connections, some in zip(numbers.tolist(), np.bincount(back).tolist(), lost.tolist(), strict=True):
        of_day = tries[(days == number) & is_tcp]
        served = np.bincount(np.where(of_day < 0, USUAL_RETRIES + 1, of_day), minlength=USUAL_RETRIES + 2)
        dropped = 1 - served[0] / max(1, of_day.size)
        felt = waits_of(served.astype(np.float64).tolist(), float(dropped)) if dropped else None
        yield Day(datetime.fromtimestamp(number * _DAY, UTC).date().isoformat(), connections, int(some), felt)


def _not_counted(exit_capacity: ExitCapacity, divided: bool) -> Iterator[str]:
    if divided:
        yield "which connections of a flow that is divided take this exit: they are drawn by their addresses"
    if exit_capacity.how.search_tries is not None:
        yield "a search for a free port that gives up early"
    yield from exit_capacity.assignment.not_replayed()


def _delays(log: Log, offer: Offer) -> Series:
    """How long each port stays taken after its connection's end, s; what is given out again early, not at all."""
    found = np.zeros(len(log))
    assert offer.ports is not None
    udp = log.protocol == _UDP
    ways: list[tuple[NDArray[np.bool_], Ending]] = [
        (udp & log.answered, "udp_answered"),
        (udp & ~log.answered, "udp_one_way"),
        *(((udp == ending.startswith("udp")) & (log.ending == code), ending) for code, ending in _ENDINGS.items()),
    ]
    drawn = _even(log.own)
    for rows, ending in ways:
        early = offer.ports.early_reuse(ending)
        found[rows] = np.where(drawn[rows] < early, 0.0, offer.mapping_timeout_s.after(ending))
    return found


def _pools(log: Log, view: View) -> tuple[Numbers, int]:
    """The number of each connection's pool, were the ports not cut further, and how many pools there are."""
    keys = log.protocol.astype(np.uint64)
    if view == "tuples":
        # Ports and protocols fit below the addresses' numbers.
        keys = (log.target * np.uint64(65_536) + log.port) * np.uint64(256) + keys
    elif view == "hosts":
        keys = log.source * np.uint64(256) + keys
    numbers, pool = np.unique(keys, return_inverse=True)
    return pool.astype(np.intp), int(numbers.size)


def _refused(
    log: Log, holds: Series, pools: tuple[Numbers, int], exit_capacity: ExitCapacity, addresses: int
) -> NDArray[np.bool_]:
    """Whether each connection finds no port among so many addresses."""
    found = np.zeros(len(log), dtype=np.bool_)
    for rows, ports in _short(log, pools, exit_capacity, addresses):
        found[rows] = refused_of(log.begin_s[rows], holds[rows], ports)
    return found


def _tries(
    log: Log, holds: Series, pools: tuple[Numbers, int], exit_capacity: ExitCapacity, addresses: int
) -> NDArray[np.int8]:
    """At which try each connection finds a port among so many addresses, as hosts try; -1 for none."""
    found = np.zeros(len(log), dtype=np.int8)
    for rows, ports in _short(log, pools, exit_capacity, addresses):
        found[rows] = tries_of(log.begin_s[rows], holds[rows], ports, USUAL_RETRIES, FIRST_S)
    return found


def _short(
    log: Log, pools: tuple[Numbers, int], exit_capacity: ExitCapacity, addresses: int
) -> Iterator[tuple[Numbers | slice, int]]:
    """Each pool that has fewer ports than connections: these, in order, and the ports."""
    stream = max(exit_capacity.streams, key=lambda each: each.busiest)
    division = exit_capacity.assignment.division(stream, addresses, exit_capacity.how)
    (group, number), cells = pools, 1
    if division.tied_cells > 1:
        group, cells = group + number * (_even(log.source) * division.tied_cells).astype(np.intp), division.tied_cells
    if division.even_cells > 1:
        drawn = (_even(log.own + np.uint64(1)) * division.even_cells).astype(np.intp)
        group, cells = group + number * cells * drawn, cells * division.even_cells
    ports = np.full(number * cells, division.ports)
    if exit_capacity.assignment.view == "hosts":
        # Blocks go to the hosts that come first; what is left over gets none.
        room = int(exit_capacity.assignment.room(addresses, exit_capacity.how, exit_capacity.target))
        _, first, host = np.unique(log.source, return_index=True, return_inverse=True)
        ports[group[(np.argsort(np.argsort(first)) >= room)[host]]] = 0
    sizes = np.bincount(group, minlength=ports.size)
    # A pool with a port for each connection refuses none.
    short = np.flatnonzero(sizes > ports)
    if short.size == 1 and sizes[short[0]] == len(log):
        yield slice(None), int(ports[short[0]])
        return
    order = np.argsort(group, kind="stable")
    ends = np.cumsum(sizes)
    for each in short.tolist():
        yield order[ends[each] - sizes[each] : ends[each]], int(ports[each])


def unsaid(capacity: Capacity, found: Sequence[Measured]) -> dict[str, str]:
    """By exit: how its recorded connections come unevenly in a way that its flows do not say, in words."""
    traffic, told = capacity.demand.laid.traffic, dict[str, str]()
    for exit_ in capacity.exits:
        some_parts = parts_toward(capacity.demand, exit_.exit, exit_.toward)
        if not some_parts:
            continue
        parts = Parts.of(some_parts)
        rows = parts.flow
        stated = {
            "batch": float(traffic.batch[rows].max()),
            "rate": float(traffic.rate_cv[rows].max()),
            "days": float(traffic.day_cv[rows].max()),
        }
        keys = {(part.subnet, part.destination) for part in parts}
        some = [each for each in found if (each.subnet, each.destination) in keys]
        top = max(some, key=lambda each: each.concurrent_peak, default=None)
        if top is None:
            continue
        batch = (1 + top.dispersion.burstiness) / 2
        words = {
            f"the rate varies by {percent(top.dispersion.rate_cv)} within the hour": top.dispersion.rate_cv
            > _MORE * stated["rate"] + _LITTLE,
            f"{batch:.3g} connections come at once in the mean": batch > _MORE * stated["batch"] + _LITTLE,
            f"days vary by {percent(top.days.cv)}": top.days.cv > _MORE * stated["days"] + _LITTLE,
        }
        told[exit_.exit] = ", ".join(each for each, holds in words.items() if holds)
    return told


_MORE, _LITTLE = 1.2, 0.02
"""What records show is unsaid where it is so many times what flows say, and not next to nothing."""
