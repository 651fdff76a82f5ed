"""Who talks to whom, from connection records of any format: the ends of connections, grouped so that one can name them.

Read before there is an estate to match records with: `measured` loads come from a second reading, with the
destinations that this one finds.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from fenrask.prefixes import Address, Prefix, fewest_prefixes, parse_prefix
from fenrask.records.batch import Addresses, Batch
from fenrask.records.matching import Matcher

__all__ = ["PRIVATE", "Group", "Seen", "grouped", "seen_in"]

PRIVATE: tuple[Prefix, ...] = tuple(
    map(parse_prefix, ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "fc00::/7"))
)
"""Where hosts are taken to be if nobody says where they are: RFC 1918, RFC 6598, RFC 4193."""
_TCP, _UDP = 6, 17
PROTOCOLS = {_TCP: "tcp", _UDP: "udp"}
_SERVICE = 1024
"""Ports below are those of services (RFC 6335, section 6)."""
_MOST_ENDS = 2_000_000
"""Different targets that are told apart; those seen least go beyond that, and are counted."""


@dataclass
class _Load:
    """Of one target at one port: connections, the seconds that they were open together, and bytes."""

    connections: int = 0
    seconds: float = 0.0
    octets: int = 0

    def add(self, connections: int, seconds: float, octets: int) -> None:
        self.connections += connections
        self.seconds += seconds
        self.octets += octets


End = tuple[Address, int, int]
"""A target's address, its port, and the protocol's number."""


@dataclass
class Seen:
    """What records tell of the ends of connections."""

    targets: dict[End, _Load] = field(default_factory=dict)
    hosts: dict[Prefix, set[int]] = field(default_factory=dict)
    """The addresses that sent, by the subnet that they are in, or, of none that is known, by the /24 or /64."""
    files: list[str] = field(default_factory=list)
    passed: dict[str, int] = field(default_factory=dict)
    """Records that are none of a connection outward, by why."""
    records: int = 0

    def skip(self, why: str, number: int) -> None:
        """Count records that are not used here."""
        if number:
            self.passed[why] = self.passed.get(why, 0) + number


def seen_in(batches: Iterable[Batch], subnets: Sequence[Prefix], seen: Seen) -> None:
    """Take the connections of batches that hosts open outward; `subnets`: where hosts are, if that is known."""
    inside = _Inside(Matcher((prefix, number) for number, prefix in enumerate(subnets or PRIVATE)), subnets)
    for batch in batches:
        seen.records += len(batch)
        if batch.listing is not None or batch.sampled > 1:
            seen.skip("entries of a listing, or samples: they tell no connections with times", len(batch))
            continue
        _take(batch, inside, seen)
        if len(seen.targets) > _MOST_ENDS:
            _forget(seen)


_LINKS = ("127.0.0.0/8", "169.254.0.0/16", "224.0.0.0/4", "255.255.255.255/32", "::1/128", "fe80::/10", "ff00::/8")
_STAYING = Matcher((parse_prefix(text), 0) for text in _LINKS)
"""Loopback, link-local, multicast and broadcast (RFC 6890): routers pass none of these on to an exit."""


@dataclass(frozen=True)
class _Inside:
    """Where hosts are: the subnets by their numbers, where these are known; else any private prefix."""

    own: Matcher
    subnets: Sequence[Prefix]


def _take(batch: Batch, hosts: _Inside, seen: Seen) -> None:
    inside, there = hosts.own.match(batch.source), hosts.own.match(batch.target)
    transport = (batch.protocol == _TCP) | (batch.protocol == _UDP)
    is_service = (batch.source_port < _SERVICE) & (batch.target_port >= _SERVICE)
    stays = (_STAYING.match(batch.target) >= 0) | (_STAYING.match(batch.source) >= 0)
    crosses = ((inside < 0) != (there < 0)) & ~stays
    out = crosses & (inside >= 0) & transport & ~is_service
    reply = crosses & (there >= 0) & transport & is_service
    seen.skip("between hosts inside", int(((inside >= 0) & (there >= 0)).sum()))
    seen.skip("neither end is a host inside", int(((inside < 0) & (there < 0)).sum()))
    seen.skip(
        "of addresses that are never routed (link-local, multicast)", int((stays & ((inside < 0) != (there < 0))).sum())
    )
    seen.skip("neither TCP nor UDP", int((crosses & ~transport).sum()))
    seen.skip("opened from outside, or answers to that", int((crosses & transport & ~out & ~reply).sum()))
    for rows, far, near, port in (
        (out, batch.target, batch.source, batch.target_port), (reply, batch.source, batch.target, batch.source_port)
    ):  # fmt: skip
        places = np.flatnonzero(rows)
        if not places.size:
            continue
        six = dict(far.v6)
        new = np.ones(len(batch), dtype=bool) if batch.is_new is None else batch.is_new
        seconds = batch.end_s - batch.start_s
        octets = batch.bytes_out + batch.bytes_in
        plain = rows & ~_rows_of(far, len(batch))
        ends = (far.v4[plain], port[plain], batch.protocol[plain])
        _of_four(ends, new[plain], seconds[plain], octets[plain], seen)
        for row in (row for row in six if rows[row]):
            end = (parse_six(six[row]), int(port[row]), int(batch.protocol[row]))
            seen.targets.setdefault(end, _Load()).add(int(new[row]), float(seconds[row]), int(octets[row]))
        _hosts(near, rows, hosts, seen)


def _rows_of(addresses: Addresses, n: int) -> NDArray[np.bool_]:
    """Which rows are IPv6."""
    found = np.zeros(n, dtype=bool)
    found[[row for row, _ in addresses.v6]] = True
    return found


def parse_six(number: int) -> Address:
    from ipaddress import IPv6Address

    return IPv6Address(number)


def _of_four(
    ends: tuple[NDArray[np.uint32], NDArray[np.uint16], NDArray[np.uint8]],
    new: NDArray[np.bool_],
    seconds: NDArray[np.float64],
    octets: NDArray[np.int64],
    seen: Seen,
) -> None:
    """Connections to IPv4 addresses; ends: each one's target, port and protocol."""
    from ipaddress import IPv4Address

    target, port, protocol = ends
    keys = target.astype(np.int64) << 24 | port.astype(np.int64) << 8 | protocol
    each, place = np.unique(keys, return_inverse=True)
    connections = np.bincount(place, weights=new).astype(np.int64)
    lasted, volume = np.bincount(place, weights=seconds), np.bincount(place, weights=octets)
    for key, number, time, bytes_ in zip(
        each.tolist(), connections.tolist(), lasted.tolist(), volume.tolist(), strict=True
    ):
        end = (IPv4Address(key >> 24), key >> 8 & 0xFFFF, key & 0xFF)
        seen.targets.setdefault(end, _Load()).add(number, time, int(bytes_))


def _hosts(near: Addresses, rows: NDArray[np.bool_], hosts: _Inside, seen: Seen) -> None:
    own, subnets, are_known = hosts.own, hosts.subnets, bool(hosts.subnets)
    six = dict(near.v6)
    plain = rows & ~_rows_of(near, rows.size)
    addresses = np.unique(near.v4[plain])
    matched = own.match(Addresses(addresses)) if are_known else addresses
    for address, place in zip(addresses.tolist(), matched.tolist(), strict=True):
        subnet = subnets[place] if are_known else _block(address, 4)
        seen.hosts.setdefault(subnet, set()).add(address)
    for row in (row for row in six if rows[row]):
        number = six[row]
        if are_known:
            place = int(own.match(Addresses(np.zeros(1, dtype=np.uint32), ((0, number),)))[0])
            seen.hosts.setdefault(subnets[place], set()).add(number)
        else:
            seen.hosts.setdefault(_block(number, 6), set()).add(number)


def _block(number: int, version: int) -> Prefix:
    """The /24, or the /64 of IPv6, that an address is in."""
    from ipaddress import IPv4Network, IPv6Network

    return IPv4Network((number >> 8 << 8, 24)) if version == 4 else IPv6Network((number >> 64 << 64, 64))


def _forget(seen: Seen) -> None:
    """Keep those that most was seen of."""
    kept = sorted(seen.targets.items(), key=lambda item: -item[1].seconds - item[1].connections)
    gone = kept[_MOST_ENDS // 2 :]
    seen.skip("of targets beyond those that there is memory for", sum(one.connections for _, one in gone))
    seen.targets = dict(kept[: _MOST_ENDS // 2])


@dataclass(frozen=True)
class Group:
    """Targets that are one destination: a name's, or neighbours at one port."""

    name: str
    prefixes: tuple[Prefix, ...]
    port: int | None
    protocol: str
    names: tuple[str, ...]
    addresses: int
    spread: int | list[float]
    """As `distinct_addresses`: among how many of its addresses the time spreads evenly, or the share of each."""
    connections: int
    share: float
    """The largest of its shares of all connections, of the time that they are open, and of all bytes."""


def grouped(
    seen: Seen, names: Mapping[str, Iterable[Address]], is_known: Callable[[Address, int, str], bool], least: float
) -> list[Group]:
    """Destinations for what no known one holds, the largest first; what is below `least` of all is in one, or in two.

    least: the share of connections, of open time and of bytes that one must have of any.
    """
    by_name = {address: name for name, several in names.items() for address in several}
    parts: dict[tuple[str, int, int], list[tuple[Address, _Load]]] = {}
    whole = _Load()
    for (address, port, protocol), load in seen.targets.items():
        whole.add(load.connections, load.seconds, load.octets)
        if not is_known(address, port, PROTOCOLS[protocol]):
            place = by_name.get(address) or str(_block(int(address), address.version))
            parts.setdefault((place, port, protocol), []).append((address, load))
    named = {*by_name.values()}
    found, rest = list[Group](), list[tuple[Address, _Load, int]]()
    for (place, port, protocol), some in parts.items():
        share = _share(some, whole)
        if share < least:
            rest += [(address, load, protocol) for address, load in some]
            continue
        own = (place,) if place in named else ()
        # What a name answers is its destination, whether records have all of it or not.
        addresses = {address: None for address, _ in some} | dict.fromkeys(names.get(place, ()))
        found.append(_group(own, [*addresses], (port, protocol), some, share))
    for protocol in PROTOCOLS:
        if small := [(address, load) for address, load, of in rest if of == protocol]:
            found.append(_elsewhere(small, protocol, _share(small, whole)))
    return sorted(_distinct(found), key=lambda part: (part.name.startswith(ELSEWHERE), -part.share))


ELSEWHERE = "elsewhere"


def _share(some: Sequence[tuple[Address, _Load]], whole: _Load) -> float:
    mine = _Load()
    for _, load in some:
        mine.add(load.connections, load.seconds, load.octets)
    pairs = ((mine.connections, whole.connections), (mine.seconds, whole.seconds), (mine.octets, whole.octets))
    return max((part / all_ for part, all_ in pairs if all_), default=0.0)


_SINGLE = 4
"""Up to as many addresses are listed one by one."""


def _group(
    names: tuple[str, ...],
    addresses: list[Address],
    service: tuple[int, int],
    some: Sequence[tuple[Address, _Load]],
    share: float,
) -> Group:
    few, (port, protocol) = names or len(addresses) <= _SINGLE, service
    prefixes = fewest_prefixes(addresses) if few else (_covering(addresses),)
    text = names[0] if names else f"{prefixes[0].network_address}"
    stem = text.replace(".", "-").replace(":", "-")
    name = stem if names and port == _HTTPS else f"{stem}-{port}"
    connections = sum(one.connections for _, one in some)
    return Group(name, prefixes, port, PROTOCOLS[protocol], names, len(some), _spread(some), connections, share)


_LISTED = 16
"""Up to as many addresses have their shares listed."""


def _spread(some: Sequence[tuple[Address, _Load]]) -> int | list[float]:
    """The share of the open time that each address has; of many, how many as large as the largest there could be."""
    times = sorted((one.seconds + one.connections * 1e-3 for _, one in some), reverse=True)
    whole = sum(times)
    if not whole or len(times) == 1:
        return len(times)
    if len(times) > _LISTED:
        return max(1, int(whole / times[0] + _EVEN))
    if times[0] / whole - 1 / len(times) < _EVEN / len(times):
        return len(times)
    shares = [round(one / whole, 6) for one in times]
    return [round(1 - sum(shares[1:]), 6), *shares[1:]]


_EVEN = 0.05
"""Within which the largest share is taken for an even one."""


_HTTPS = 443
_MOST_PARTS = 200


def _elsewhere(some: Sequence[tuple[Address, _Load]], protocol: int, share: float) -> Group:
    """All that is small, by the shortest prefixes that are not too many."""
    addresses = [address for address, _ in some]
    length = {4: 24, 6: 64}
    while True:
        blocks = fewest_prefixes({_cut(one, length[one.version]) for one in addresses})
        if len(blocks) <= _MOST_PARTS or length[4] <= 8:
            break
        length = {4: length[4] - 4, 6: length[6] - 8}
    name = ELSEWHERE if protocol == _TCP else f"{ELSEWHERE}-{PROTOCOLS[protocol]}"
    connections = sum(one.connections for _, one in some)
    return Group(name, blocks, None, PROTOCOLS[protocol], (), len(addresses), _spread(some), connections, share)


def _cut(address: Address, length: int) -> Prefix:
    from ipaddress import ip_network

    return ip_network(f"{address}/{length}", strict=False)


def _covering(addresses: Sequence[Address]) -> Prefix:
    """The longest prefix that holds them all."""
    low, high = min(map(int, addresses)), max(map(int, addresses))
    bits = 32 if addresses[0].version == 4 else 128
    return _cut(addresses[0], bits - (low ^ high).bit_length())


def _distinct(found: Iterable[Group]) -> Iterator[Group]:
    """Each name once: a second one says its protocol."""
    from dataclasses import replace

    taken: set[str] = set()
    for part in found:
        named = part if part.name not in taken else replace(part, name=f"{part.name}-{part.protocol}")
        taken.add(named.name)
        yield named
