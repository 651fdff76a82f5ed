"""The refused share of one pool of ports: which formula holds, and what a hash does that splits the pool.

A port is a server and a connection a call: Erlang's formula (Erlang 1917) at the mean held at that moment
(the modified offered load: Jagerman 1975; Massey & Whitt 1994). Bursty arrivals are Hayward's case, hosts
that open a maximum number of connections truncated Poisson laws, a limited search is a birth-death chain, and refused
connections that come again raise the load (a fixed point).

Where a hash ties each host to one of several cells (an address, a node), a cell has its own ports, and a
host meets there those others that the hash sent to it: Binomial(hosts - 1, 1 / cells) of them.
"""

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from fenrask.capacity.assignments.contract import Division, PortUse, Stream, Streams
from fenrask.demand import POINTS_PER_STEP, Series
from fenrask.errors import NoAnswer
from fenrask.teletraffic import (
    PortsKept,
    batches_b,
    capped_hosts,
    capped_peakedness,
    erlang_b,
    erlangs_for,
    hayward_b,
    limited_search_b,
    ports_for,
    size_of_law,
    with_retries,
)
from fenrask.teletraffic.backoff import USUAL_RETRIES, Full, Waits, tried_again, waits
from fenrask.teletraffic.bursts import excess
from fenrask.teletraffic.fixed_points import where_equal
from fenrask.teletraffic.variation import varying
from fenrask.units import SECONDS_PER_DAY, percent

__all__ = ["blocking", "busiest_use", "greatest_load", "hardest", "least", "least_for", "suffices", "turned_away"]

MOST = 2**20
"""More addresses than this are no answer."""
_NOTHING = 700.0
_TAIL = 1e-18


def blocking(concurrent: Series, stream: Stream, division: Division, search_tries: int | None) -> Series:
    """The share of new connections refused where so many would be held; held of shape (n,).

    Where the level of the load varies, it is averaged over the connections of all levels. The load is even over
    `even_cells`; over `tied_cells` it is as a hash of hosts has it, averaged over
    connections.
    """
    always_open = stream.load.persistent
    if stream.level_cv:
        steady = replace(stream, level_cv=0.0)
        moving = np.maximum(concurrent - always_open, 0.0)
        return varying(
            lambda held: blocking(always_open + held, steady, division, search_tries), moving, stream.level_cv
        )
    if stream.jobs[0]:
        return _at_a_start(concurrent, stream, division, search_tries)
    if stream.retries:
        return _tried_again(concurrent, stream, division, search_tries)[0]
    if stream.is_limited:
        return _behind_hosts(concurrent, stream, division, search_tries)[1]
    if always_open:
        # They take their ports for good; what arrives meets the rest.
        concurrent = np.maximum(concurrent - always_open, 0.0)
    each = concurrent / division.even_cells
    if division.even_cells > 1 and stream.peakedness != 1.0:
        # A random part of a bursty stream is less bursty.
        stream = replace(stream, peakedness=1 + (stream.peakedness - 1) / division.even_cells)
    if division.tied_cells == 1 and division.even_cells > 1 and always_open:
        return _beside_always_open(each, stream, division, search_tries)
    if division.tied_cells == 1:
        free = np.full(each.shape, float(division.free(always_open)))
        blocked = _loss(free, each, stream, search_tries)
        return _with_always_open(blocked, each, division.ports, always_open / division.even_cells)
    others, chance = _companions(stream.hosts, division.tied_cells)
    together = (1 + others) / _whole(stream.hosts)
    load = each[:, None] * together
    own = always_open / division.even_cells * together
    free = np.broadcast_to(np.maximum(division.ports - np.round(own), 0.0), load.shape)
    blocked = _loss(free.ravel(), load.ravel(), stream, search_tries).reshape(load.shape)
    result: Series = _with_always_open(blocked, load, division.ports, np.broadcast_to(own, load.shape)) @ chance
    return result


def _beside_always_open(each: Series, stream: Stream, division: Division, search_tries: int | None) -> Series:
    """The share refused at nodes to which a hash sends each connection, of those that are always open, too.

    A node has Binomial(P, 1 / n) of these, averaged over: what arrives is sent to any node, and meets the ports that
    they leave there. Where nothing arrives, it is the share of the always open ones for which their node has no port.
    each: what arrives at a node in the mean, shape (n,).
    """
    open_here, chance = _companions(stream.load.persistent + 1, division.even_cells)
    load = np.broadcast_to(each[:, None], (each.size, open_here.size))
    free = np.broadcast_to(np.maximum(division.ports - open_here, 0.0), load.shape)
    blocked = _loss(free.ravel(), load.ravel(), stream, search_tries).reshape(load.shape) @ chance
    without = float(np.maximum(open_here - division.ports, 0.0) @ chance) * division.even_cells
    found: Series = np.where(each > 0, blocked, without / stream.load.persistent)
    return found


def _at_a_start(concurrent: Series, stream: Stream, division: Division, search_tries: int | None) -> Series:
    """The share refused when synchronised jobs start: of their own connections, and of others while these are held.

    Their number is certain: with what else is held by chance it passes the ports by E (D + Y - c)+, Y Poisson; the
    others meet the ports that those of them leave which find one. A hash of hosts makes it chance which of them meet.
    """
    plain, always_open = replace(stream, jobs=(0.0, 0.0, 0.0)), stream.load.persistent
    certain, chance = stream.at_worst(np.maximum(concurrent - always_open, 0.0))
    if division.tied_cells > 1:
        return blocking(always_open + certain + chance, plain, division, search_tries)
    cells = division.even_cells
    # A random part of them at each node is less certain.
    certain, chance = certain / cells / cells, (chance + certain * (1 - 1 / cells)) / cells
    ports = division.ports - always_open / cells
    short = excess(ports - certain, chance)
    own = np.where(certain > 0, np.minimum(1.0, short / np.maximum(certain, 1e-300)), 0.0)
    others = _loss(np.floor(np.maximum(ports - certain * (1 - own), 0.0)), chance, plain, search_tries)
    # As many of the others as are held in the mean begin while the job's connections are.
    beside = np.maximum(concurrent - always_open, 0.0) * (1 - stream.jobs[0]) / cells
    total = certain + beside
    result: Series = np.where(total > 0, (own * certain + others * beside) / np.maximum(total, 1e-300), 0.0)
    return result


def _tried_again(
    concurrent: Series, stream: Stream, division: Division, search_tries: int | None
) -> tuple[Series, Series]:
    """The share of connections whose first try finds no port, and that of each later try after it."""
    once, always_open = replace(stream, retries=0), stream.load.persistent

    def refused(moving: Series) -> Series:
        return blocking(always_open + moving, once, division, search_tries)

    moving, servers = np.maximum(concurrent - always_open, 0.0), max(0.0, division.capacity - always_open)
    if not np.any(refused(moving) > 0):
        return np.zeros(moving.shape), np.zeros(moving.shape)
    peakedness = stream.peakedness + float(np.max(moving)) / division.even_cells * stream.fast_cv**2
    lump = max(1.0, peakedness) * division.even_cells
    return tried_again(moving, Full(servers, refused, lump), stream.hold_s, stream.retries)


def _behind_hosts(
    concurrent: Series, stream: Stream, division: Division, search_tries: int | None
) -> tuple[Series, Series]:
    """What hosts do not open, by their own limit, and what is refused of the rest, which the hosts offer to the ports.

    A host has a connections open in the mean where none is refused, and opens no more than m: it turns away Erlang's
    B(m, a (1 - b)) where the ports refuse b of what it opens; these are offered the rest for as long as they are kept.
    b is where both agree. So with the ports that a host has of its own toward a destination, which stay taken there for
    a time of their own. Summed host by host where that can be; but where ports are kept after connections, much refused
    makes hosts open as if there were no limit: the lesser of both is near.
    """
    distinct, where = np.unique(concurrent, return_inverse=True)
    at_host, refused = _behind_hosts_at(distinct, stream, division, search_tries)
    return at_host[where], refused[where]


def _behind_hosts_at(
    concurrent: Series, stream: Stream, division: Division, search_tries: int | None
) -> tuple[Series, Series]:
    """The same of means that differ."""
    if (exact := _thinned(concurrent, stream, division, search_tries)) is not None:
        return exact
    summed = _truncated(concurrent, stream, division, search_tries)
    if summed is not None:
        return summed
    always_open = stream.load.persistent
    moving, most = np.maximum(concurrent - always_open, 0.0), stream.open_at_most
    free = replace(stream, sources=None, own_ports=(0.0, 0.0))
    limits = [stream.own_ports] if stream.own_ports[0] else []
    if stream.is_capped:
        limits.append((most, most * stream.open_share / max(stream.sources or 0.0, 1e-300)))
        if _is_summed(stream, search_tries):
            # Hosts with limits hold less unevenly than independent connections would; in between where much is refused.
            top = float(np.max(moving)) * limits[-1][1]
            even = float(capped_peakedness(max(1, round(most)), top, stream.keeps_after))
            free = replace(free, peakedness=(1 + even) / 2 if stream.keeps_after else even)

    def both(refused: Series) -> tuple[Series, Series]:
        opened = np.ones(moving.shape)
        for number, each in limits:
            opened = opened * (1 - np.asarray(erlang_b(number, each * moving * opened * (1 - refused))))
        at_host = 1 - opened
        return at_host, blocking(always_open + moving * (1 - at_host), free, division, search_tries)

    refused = where_equal(lambda share: both(share)[1], moving.shape)
    return both(refused)[0], refused


_MOST_OF_A_HOST, _MOST_OF_A_CELL = 400, 2**15
"""Up to this number of ports of a host, kept ones among them, its whole law is summed; else its mean and variance."""
_RARE = 1e-13
"""Cells that a host is in with less than this chance are as if nothing were refused there."""
_MOST_SUMMED, _ROUNDS = 2**22, 3
"""Numbers that are transformed for a stream's whole day, at most; and how often about, where two limits meet."""


def _is_summed(stream: Stream, search_tries: int | None) -> bool:
    """Whether nothing but hosts' limits on open connections makes a stream other than independent ones."""
    other = stream.own_ports[0] or stream.is_bursty or stream.retry_share or search_tries is not None
    return not other and stream.sources is not None and stream.open_share > 0


def _truncated(
    concurrent: Series, stream: Stream, division: Division, search_tries: int | None
) -> tuple[Series, Series] | None:
    """The same host by host, as truncated Poisson laws that the ports of a cell cut off (see `capped_hosts_b`).

    None where that is too much to sum. Which hosts share a cell is averaged over, as is how many connections that are
    always open take ports of a node.
    """
    if not _is_summed(stream, search_tries):
        return None
    most, after = max(1, round(stream.open_at_most)), stream.keeps_after
    hosts = max(1, round((stream.sources or 0.0) / stream.open_at_most))
    always_open = stream.load.persistent
    moving = np.maximum(concurrent - always_open, 0.0)
    loads, where = np.unique(moving * stream.open_share / hosts, return_inverse=True)
    cells = _shared_with(hosts, always_open, division)
    at_host, shares = np.asarray(erlang_b(most, loads)), np.zeros(loads.shape)
    # Independent connections would be held less evenly: where they find ports, so do these.
    plain, each = replace(stream, sources=None), loads * (1 + after) / division.even_cells
    refusing = [_may_refuse(np.full(loads.shape, float(free)), each * there, plain, None) for free, there, _ in cells]
    live = np.any(refusing, axis=0)
    if live.any():
        size = size_of_law(most, float(loads[-1]), after)
        looks = np.count_nonzero(live) * (_ROUNDS if after or division.even_cells > 1 else 1)
        near = after or division.even_cells > 1
        if near and (size > _MOST_OF_A_HOST or max(there for _, there, _ in cells) * size > _MOST_OF_A_CELL):
            return None
        if sum(there * size for _, there, _ in cells) * looks > _MOST_SUMMED:
            return None
        opened, refused, back = np.zeros(loads[live].shape), np.zeros(loads[live].shape), np.zeros(loads[live].shape)
        for (free, there, chance), here in zip(cells, refusing, strict=True):
            own, none = at_host[live], np.zeros(loads[live].shape)
            if np.any(here) and chance > _RARE:
                capped = capped_hosts(free, there, most, loads[here], PortsKept(after, division.even_cells))
                own[here[live]], none[here[live]] = capped.held_back, capped.refused
            back, opened = back + chance * own, opened + chance * (1 - own)
            refused = refused + chance * (1 - own) * none
        at_host[live], shares[live] = back, refused / opened
    shares = _with_always_open(shares, loads, division.capacity, always_open)
    return at_host[where], shares[where]


def _shared_with(hosts: int, always_open: float, division: Division) -> list[tuple[int, int, float]]:
    """The ports that are free in a cell, or a node, the hosts there, and the chance that a host meets these."""
    even = division.even_cells
    if division.tied_cells > 1:
        others, chance = _companions(hosts, division.tied_cells)
        own = np.round(always_open * (1 + others) / hosts / even)
        free = np.maximum(division.ports - own, 0.0).astype(np.int64).tolist()
        return [*zip(free, (1 + others).astype(np.int64).tolist(), chance.tolist(), strict=True)]
    if even > 1 and always_open:
        here, chance = _companions(always_open + 1, even)
        free = np.maximum(division.ports - here, 0.0).astype(np.int64).tolist()
        return [(each, hosts, share) for each, share in zip(free, chance.tolist(), strict=True)]
    return [(int(division.free(always_open)), hosts, 1.0)]


_COUNTED_HOSTS = 2000
"""Up to this many hosts of one connection each the states of all nodes are summed exactly."""


def _thinned(
    concurrent: Series, stream: Stream, division: Division, search_tries: int | None
) -> tuple[Series, Series] | None:
    """The same exactly for hosts of one connection each, where a hash sends each connection to one of several nodes.

    A host that is not busy sends its next connection to any node: the states k1..kn of the nodes have the product form
    N! / ((N - sum k)! k1! .. kn!) (e / n)^(sum k), ki at most the ports of a node (Kelly 1979), with e the load of an
    idle host. A connection meets the state that N - 1 hosts leave. None where hosts may open more, or are too many.
    """
    total = round(stream.sources or 0.0)
    plain = not (stream.own_ports[0] or stream.is_bursty or stream.retry_share or search_tries is not None)
    one_each = round(stream.open_at_most) == 1 and not stream.keeps_after
    if division.even_cells == 1 or division.tied_cells > 1 or not (plain and one_each) or total > _COUNTED_HOSTS:
        return None
    nodes, always_open = division.even_cells, stream.load.persistent
    moving = np.maximum(concurrent - always_open, 0.0)
    wanted, ports = moving / max(total, 1), division.free(always_open)
    blocked = np.array([_product_form(total, float(each / (1 + each)), nodes, ports) for each in wanted])
    busy = wanted * (1 - blocked)
    return busy / (1 + busy), _with_always_open(blocked, moving, division.ports, always_open / nodes)


@lru_cache(maxsize=4096)
def _product_form(sources: int, busy: float, nodes: int, ports: int) -> float:
    """The share of arriving connections that find the node full that a hash sends them to."""
    if not busy or sources <= 0:
        return 0.0
    if not ports:
        return 1.0
    others = sources - 1
    log_load = np.log(busy / (1 - busy) / nodes)
    k = np.arange(min(ports, others) + 1)
    log_factorial = np.concatenate([[0.0], np.cumsum(np.log(np.arange(1, others + 1)))])
    # Terms scaled by their largest, so that neither sums nor products leave the range of floats.
    terms = np.exp(k * log_load - log_factorial[k] - np.max(k * log_load - log_factorial[k]))
    rest = np.ones(1)
    for _ in range(nodes - 1):
        rest = np.convolve(rest, terms)[: others + 1]
        rest /= np.max(rest)
    everything = np.convolve(rest, terms)[: others + 1]
    full = np.zeros(everything.size)
    if terms.size > ports:
        tail = rest[: everything.size - ports] * terms[ports]
        full[ports : ports + tail.size] = tail
    # The idle ones of the other sources can be chosen in N! / (N - m)! ways.
    m = np.arange(everything.size)
    ways = -log_factorial[others - m]
    ways = np.exp(ways - np.max(np.where(everything > 0, ways + np.log(np.maximum(everything, 1e-300)), -np.inf)))
    whole = float(np.dot(everything, ways))
    return float(np.dot(full, ways)) / whole if whole else 0.0


def turned_away(concurrent: Series, stream: Stream, division: Division, search_tries: int | None) -> Series:
    """The share of connections that hosts do not open, by limits of their own, at means held of shape (n,)."""
    if not stream.is_limited:
        return np.zeros(concurrent.shape)
    return _behind_hosts(concurrent, replace(stream, level_cv=0.0, retries=0), division, search_tries)[0]


def _with_always_open(blocked: Series, load: Series, ports: int, always_open: float | Series) -> Series:
    """Where nothing arrives: the share of the connections that are always open for which there is no port."""
    if not np.any(always_open):
        return blocked
    missing = np.maximum(always_open - ports, 0.0) / np.maximum(always_open, 1e-300)
    return np.where(load > 0, blocked, missing)


def _whole(hosts: float) -> int:
    return max(1, round(hosts))


def _companions(hosts: float, cells: int) -> tuple[Series, Series]:
    """How many other hosts may share a host's cell, and the chance of each: Binomial(hosts - 1, 1 / cells)."""
    others = _whole(hosts) - 1
    mean = others / cells
    spread = 10 * np.sqrt(mean) + 40
    low, high = max(0, int(mean - spread)), min(others, int(mean + spread))
    k: Series = np.arange(low, high + 1, dtype=np.float64)
    # Ratios of neighbouring terms, summed in logs from the first one that is kept.
    step = np.log(np.maximum(others - k[1:] + 1, 1.0)) - np.log(k[1:]) - np.log(cells - 1.0)
    log_p = np.concatenate([[0.0], np.cumsum(step)])
    weight = np.exp(log_p - np.max(log_p))
    keep = weight > _TAIL
    return k[keep], weight[keep] / np.sum(weight[keep])


def _loss(ports: Series, concurrent: Series, stream: Stream, tries: int | None) -> Series:
    """The formula that holds for this stream, on pools of so many free ports each, shape (n,)."""

    def formula(c: Series, a: Series) -> Series:
        result = _in_bursts(c, a, stream) if stream.is_bursty else np.asarray(erlang_b(c, a))
        if tries is not None:
            # No search finds more than there is: the worse of both holds where arrivals are bursty too.
            result = np.maximum(result, limited_search_b(c, a, np.minimum(tries, c)))
        return result

    blocked = np.zeros(concurrent.shape)
    live = _may_refuse(ports, concurrent, stream, tries)
    none = (ports <= 0) & (concurrent > 0)
    blocked[none] = 1.0
    live &= ~none
    if not live.any():
        return blocked
    c = ports[live]
    if stream.retry_share:
        try:
            blocked[live] = with_retries(c, concurrent[live], stream.retry_share, formula).blocking
        except NoAnswer:
            blocked[live] = 1.0
    else:
        blocked[live] = formula(c, concurrent[live])
    return blocked


def _in_bursts(c: Series, a: Series, stream: Stream) -> Series:
    """The share refused of bursty load: of batches by what they share of their holds, else by Hayward.

    What varies fast adds the variance of the mean, (a cv)^2, to that of `a` connections.
    """
    peakedness = stream.peakedness + a * stream.fast_cv**2
    if stream.peakedness > 1.0 and stream.overlap:
        return np.asarray(batches_b(c, a, peakedness, stream.overlap))
    return np.asarray(hayward_b(c, a, peakedness))


def _may_refuse(ports: Series, concurrent: Series, stream: Stream, tries: int | None) -> NDArray[np.bool_]:
    """Where there is more to refuse than 1e-300: p(c; a) <= e^(-c (r - 1 - log r)), r = a / c < 1 (Chernoff)."""
    live: NDArray[np.bool_] = concurrent > 0
    if tries is None and stream.peakedness <= 1.0 and not stream.fast_cv and not stream.retry_share:
        # Without ports any ratio above 1 does: none that is too large for a number.
        ratio = np.where(live, concurrent, 1.0) / np.maximum(ports, 1e-100)
        live = live & ((ratio >= 1) | (ports * (ratio - 1 - np.log(ratio)) < _NOTHING))
    return live


def _through_the_day(stream: Stream, division: Division, search_tries: int | None) -> Series:
    """The refused share at every time of the day or week, shape (n_times,)."""
    concurrent = stream.load.concurrent
    always_open = stream.load.persistent
    most_of_a_cell = np.array([(stream.busiest - always_open) / division.even_cells])
    free = np.array([float(division.free(always_open))])
    if not always_open and stream.is_even and not _may_refuse(free, most_of_a_cell, stream, search_tries)[0]:
        return np.zeros(concurrent.size)
    if stream.load.is_level:
        return np.full(concurrent.size, blocking(concurrent[:1], stream, division, search_tries)[0])
    return blocking(concurrent, stream, division, search_tries)


def _refused_a_day(stream: Stream, blocked: Series) -> float:
    """Connections refused in a mean day, of all pools like this one."""
    if not blocked.any():
        return 0.0
    by_quarter = (blocked + np.roll(blocked, -1)) / 2
    by_step, step_s = by_quarter.reshape(-1, POINTS_PER_STEP).mean(axis=1), stream.load.curves.step_s
    days: float = by_step.size * step_s / SECONDS_PER_DAY
    refused_per_s = float(np.dot(stream.load.new_per_s, by_step))
    return refused_per_s * step_s * stream.copies / days


_NEAR = 0.98
_LOOKED_AT = 6


def busiest_use(
    streams: Streams,
    divide: Callable[[Stream], Division],
    search_tries: int | None,
    target: float,
    words: Callable[[Stream, Division], tuple[str, str, str]],
) -> PortUse | None:
    """The use of the pool that refuses most at its busiest; `words` says pool, who suffers, and a detail."""
    if not streams:
        return None
    days = [_through_the_day(one, divide(one), search_tries) for one in streams]

    def at_peak(number: int) -> tuple[float, float]:
        stream, division = streams[number], divide(streams[number])
        share = blocking(np.array([stream.load.peak.concurrent]), stream, division, search_tries)[0]
        return float(share), stream.load.peak.concurrent / max(1, division.capacity)

    best = max(_nearly_worst(streams, divide, days), key=at_peak)
    stream, division, peak = streams[best], divide(streams[best]), streams[best].load.peak
    at_host = float(turned_away(np.array([peak.concurrent]), stream, division, search_tries)[0])
    pool, suffers, detail = words(stream, division)
    varied = float(np.hypot(stream.level_cv, stream.fast_cv))
    varies = f"load varies by {percent(varied)} within the hour" if varied else ""
    return PortUse(
        binding=stream.label,
        pool=pool,
        suffers=suffers,
        time_s=peak.time_s,
        concurrent=stream.load.persistent
        + float(np.sum(stream.at_worst(np.array([peak.concurrent - stream.load.persistent])))) * (1 - at_host),
        at_host=at_host,
        retries=stream.retries,
        feel=lambda: _waits(stream, division, search_tries, at_peak(best)[0]),
        capacity=division.capacity,
        blocking=at_peak(best)[0],
        blocked=days[best],
        blocked_per_day=sum(_refused_a_day(one, day) for one, day in zip(streams, days, strict=True)),
        begins_s=_begins(
            stream, days[best], lambda concurrent: blocking(concurrent, stream, division, search_tries) > target
        ),
        lag_s=peak.lag_s,
        level=stream.load.is_level,
        profile=stream.profile,
        detail="; ".join(filter(None, (detail, varies))),
        varies=varies,
        hashed=division.tied_cells > 1,
    )


def _nearly_worst(streams: Streams, divide: Callable[[Stream], Division], days: Sequence[Series]) -> list[int]:
    """The numbers of the streams that refuse most through the day, or are the fullest, and of those that come near."""
    worst = [
        (float(np.max(day)), one.busiest / max(1, divide(one).capacity)) for one, day in zip(streams, days, strict=True)
    ]
    order = sorted(range(len(streams)), key=lambda number: worst[number], reverse=True)
    first = worst[order[0]]
    return [
        number
        for number in order[:_LOOKED_AT]
        if worst[number][0] >= _NEAR * first[0] and (first[0] > 0 or worst[number][1] >= _NEAR * first[1])
    ]


def _waits(stream: Stream, division: Division, search_tries: int | None, refused: float) -> Waits | None:
    """What senders feel at the busiest moment: with the retries that their flows say, else with those of hosts."""
    if not refused or stream.protocol != "tcp" or stream.jobs[0]:
        return None
    usual = replace(stream, retries=stream.retries or USUAL_RETRIES, retry_share=0.0, level_cv=0.0)
    first, later = _tried_again(np.array([stream.load.peak.concurrent]), usual, division, search_tries)
    return waits(float(first[0]), float(later[0]), usual.retries)


def _begins(stream: Stream, blocked: Series, is_over: Callable[[Series], NDArray[np.bool_]]) -> float | None:
    """When too much is first refused on the way to the busiest moment; None where that is never or always."""
    load, step = stream.load, stream.load.curves.step_s / POINTS_PER_STEP
    over = is_over(load.concurrent) if blocked.any() else np.zeros(blocked.size, dtype=bool)
    if load.is_level or over.all() or not is_over(np.array([load.peak.concurrent]))[0]:
        return None
    low, high = load.peak.time_s // step * step, load.peak.time_s
    while over[int(low / step) % over.size]:
        low, high = low - step, low
    for _ in range(3):
        times = np.linspace(low, high, 17)
        first = int(np.argmax(is_over(load.concurrent_at(times))))
        low, high = float(times[max(0, first - 1)]), float(times[first])
    return high % (over.size * step)


def least_for(
    streams: Streams,
    divide: Callable[[Stream, int], Division],
    search_tries: int | None,
    target: float,
) -> int | None:
    """The fewest addresses with which no stream is refused more than `target` at its peak; None if none do."""
    plain: list[Stream] = []
    others: list[Stream] = []
    for asked in streams:
        erlang = asked.is_plain and search_tries is None and divide(asked, 2).tied_cells == 1
        (plain if erlang else others).append(asked)
    needed = _least_of_plain(plain, divide, target)
    if needed > MOST:
        return None
    hashed = any(divide(one, 2).tied_cells > 1 for one in others)
    for asked in hardest([one for one in others if one.busiest > 0], hashed):
        if divide(asked, 2).tied_cells == 1:
            asked = asked.at_target(target)
        peak = np.array([asked.load.peak.concurrent])

        def meets(addresses: int, stream: Stream = asked, peak: Series = peak) -> bool:
            return bool(blocking(peak, stream, divide(stream, addresses), search_tries)[0] <= target)

        found = least(meets, needed)
        if found is None:
            return None
        needed = max(needed, found)
    return needed


def _least_of_plain(streams: list[Stream], divide: Callable[[Stream, int], Division], target: float) -> int:
    """By Erlang's inverse on the busiest: only those that come near it on the grid are looked at closely."""
    top = max((one.busiest for one in streams), default=0.0)
    if top <= 0:
        return 0
    near = sorted((one for one in streams if one.busiest >= _NEAR * top), key=lambda stream: -stream.busiest)[
        :_LOOKED_AT
    ]
    stream = max(near, key=lambda stream: stream.load.peak.concurrent)
    division = divide(stream, 1)
    # What is carried never exceeds the ports, so that a load far beyond them needs no closer look.
    if not division.ports or stream.load.peak.concurrent * (1 - target) > MOST * division.ports * division.even_cells:
        return MOST + 1
    ports = int(ports_for(stream.load.peak.concurrent / division.even_cells, target))
    return -(-ports // division.ports)


def least(meets: Callable[[int], bool], start: int = 1) -> int | None:
    """The fewest, at least 1, that meet a condition which more never break; None beyond `MOST`."""
    low, high = 0, max(1, start)
    while not meets(high):
        low, high = high, 2 * high
        if high > MOST:
            return None
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if meets(middle) else (middle, high)
    return high


def hardest(streams: Streams, hashed: bool) -> list[Stream]:
    """Those that no other surpasses in every way: what they need, the others do not exceed.

    hashed: whether a hash of hosts sends connections to their ports, so that it counts how many hosts there are.
    """
    kept = list[Stream]()
    for stream in sorted(streams, key=lambda stream: stream.load.peak.concurrent, reverse=True):
        if not any(_surpasses(other, stream, hashed) for other in kept):
            kept.append(stream)
    return kept


def _surpasses(stream: Stream, other: Stream, hashed: bool) -> bool:
    """Whether a stream loses at least as much as another, whatever the ports."""
    free, peak, least = _is_free(stream) and _is_free(other), stream.load.peak.concurrent, other.load.peak.concurrent
    return (
        (free or (_limits(stream) == _limits(other) and peak == least))
        and peak - stream.load.persistent >= least - other.load.persistent
        and _is_as_hard(stream, other, hashed)
    )


def _is_free(stream: Stream) -> bool:
    """Whether no limit of hosts' own holds anything back."""
    return stream.sources is None and not stream.own_ports[0]


def _is_as_hard(stream: Stream, other: Stream, hashed: bool) -> bool:
    """Whether a stream is at least as hard to carry as another of equal moving load."""
    return (
        stream.load.persistent >= other.load.persistent
        and stream.peakedness >= other.peakedness
        and stream.level_cv >= other.level_cv
        and stream.fast_cv >= other.fast_cv
        and stream.jobs == other.jobs
        and stream.retry_share >= other.retry_share
        and stream.retries >= other.retries
        and stream.tied >= other.tied
        and (not (hashed or stream.tied) or _is_as_uneven(stream, other))
    )


def _is_as_uneven(stream: Stream, other: Stream) -> bool:
    """Whether a hash of hosts spreads a stream's load at least as unevenly as that of another.

    The mean of fewer equal hosts varies more in convex order (Marshall and Olkin 1979, "Inequalities", 12.A), and what
    is refused of load that varies only by chance is a convex function of it.
    """
    by_chance = all(replace(one, tied=False).is_plain for one in (stream, other))
    return stream.hosts == other.hosts or (by_chance and _whole(stream.hosts) <= _whole(other.hosts))


def _limits(stream: Stream) -> tuple[object, ...]:
    return stream.sources, stream.open_share, stream.open_at_most, stream.own_ports


def suffices(
    streams: Streams, divide: Callable[[Stream], Division], search_tries: int | None, target: float, factor: float
) -> bool:
    """Whether no stream with this many times its load finds the target exceeded at its peak."""
    for stream in streams:
        scaled = stream.scaled(factor)
        if divide(scaled).tied_cells == 1:
            scaled = scaled.at_target(target)
        peak = np.array([scaled.load.peak.concurrent])
        if blocking(peak, scaled, divide(scaled), search_tries)[0] > target:
            return False
    return True


@lru_cache(maxsize=4096)
def greatest_load(ports: int, target: float) -> float:
    """The Erlang that so many ports carry within the target."""
    return float(erlangs_for(ports, target)) if ports else 0.0
