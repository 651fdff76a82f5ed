"""To which subnet and which destination a record belongs: longest match for whole columns at once."""

from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

from fenrask.estate import Estate
from fenrask.prefixes import Prefix, PrefixTable, parse_address
from fenrask.records.batch import Addresses, Batch

__all__ = ["Matched", "Matcher", "Pairs"]

Indices = NDArray[np.int32]
NONE = -1
_MAPPED = 0xFFFF
"""How IPv6 addresses begin that are IPv4 ones, ::ffff:0:0/96 (RFC 4291, section 2.5.5.2)."""
_PROTOCOLS = {"tcp": 6, "udp": 17}


class Matcher:
    """Addresses to the number of the longest prefix that holds them; -1 for none. The first of equal prefixes wins."""

    def __init__(self, prefixes: Iterable[tuple[Prefix, int]]) -> None:
        kept: dict[Prefix, int] = {}
        for prefix, number in prefixes:
            kept.setdefault(prefix, number)
        starts, values = _flattened([(p, n) for p, n in kept.items() if p.version == 4])
        self._starts, self._values = np.array(starts, dtype=np.uint64), np.array(values, dtype=np.int32)
        self._of_high = np.searchsorted(self._starts, np.arange(65_537, dtype=np.uint64) << np.uint64(16), side="left")
        self._six = PrefixTable((p, n) for p, n in kept.items() if p.version == 6)

    def match(self, addresses: Addresses) -> Indices:
        """Shape (n_records,)."""
        from fenrask.records.kernels.cells import longest

        found: Indices = longest(self._of_high, self._starts, self._values, addresses.v4)
        for row, number in addresses.v6:
            if number >> 32 == _MAPPED:
                one = np.array([number & 0xFFFFFFFF], dtype=np.uint32)
                found[row] = longest(self._of_high, self._starts, self._values, one)[0]
                continue
            held = self._six.match(parse_address(str(_six_text(number))))
            found[row] = held[1] if held else NONE
        return found


def _six_text(number: int) -> str:
    from ipaddress import IPv6Address

    return str(IPv6Address(number))


def _flattened(prefixes: Sequence[tuple[Prefix, int]]) -> tuple[list[int], list[int]]:
    """Where another prefix begins to be the longest that holds an address, in rising order, and which."""
    starts, values, stack = [0], [NONE], list[tuple[int, int]]()

    def close(until: int) -> None:
        while stack and stack[-1][0] < until:
            end, _ = stack.pop()
            _begin(starts, values, end + 1, stack[-1][1] if stack else NONE)

    for prefix, number in sorted(prefixes, key=lambda pair: (int(pair[0].network_address), pair[0].prefixlen)):
        close(int(prefix.network_address))
        _begin(starts, values, int(prefix.network_address), number)
        stack.append((int(prefix.broadcast_address), number))
    close(1 << 33)
    return starts, values


def _begin(starts: list[int], values: list[int], at: int, number: int) -> None:
    if starts[-1] == at:
        values[-1] = number
    else:
        starts.append(at)
        values.append(number)


class Pairs:
    """The subnets and destinations of an estate by number, and the number of each pair of both."""

    def __init__(self, estate: Estate) -> None:
        self.subnets, self.destinations = [*estate.subnets], [*estate.destinations]
        # An address of several subnets is booked to none of them.
        twice = [(prefix, NONE) for prefix, _ in estate.held_twice]
        whose = [
            (prefix, number) for number, name in enumerate(self.subnets) for prefix in estate.subnets[name].prefixes
        ]
        self._subnet = Matcher((*twice, *whose))
        groups: dict[tuple[int, int], list[tuple[Prefix, int]]] = {}
        for number, name in enumerate(self.destinations):
            stated = estate.destinations[name]
            key = (stated.port or 0, _PROTOCOLS[stated.protocol])
            groups.setdefault(key, []).extend((prefix, number) for prefix in stated.prefixes)
        # Those with a port first: the one without takes what is left.
        self._groups = [(key, Matcher(prefixes)) for key, prefixes in sorted(groups.items(), reverse=True)]

    def name(self, pair: int) -> tuple[str, str]:
        """The subnet and the destination of a pair."""
        return self.subnets[pair // len(self.destinations)], self.destinations[pair % len(self.destinations)]

    def number(self, subnet: str, destination: str) -> int:
        """The number of the pair of a subnet and a destination."""
        return self.subnets.index(subnet) * len(self.destinations) + self.destinations.index(destination)

    def match(self, batch: Batch) -> "Matched":
        """The pair of each record: as it was sent, or, where only that fits, as the reply to it."""
        forward = self._pairs(batch.source, batch.target, batch.target_port, batch.protocol)
        back = self._pairs(batch.target, batch.source, batch.source_port, batch.protocol)
        is_reply = (forward == NONE) & (back != NONE)
        return Matched(np.where(is_reply, back, forward), is_reply)

    def _pairs(
        self, inner: Addresses, outer: Addresses, port: NDArray[np.uint16], protocol: NDArray[np.uint8]
    ) -> NDArray[np.int64]:
        subnet = self._subnet.match(inner).astype(np.int64)
        destination = np.full(subnet.size, NONE, dtype=np.int64)
        for (number, of), matcher in self._groups:
            fits = (destination == NONE) & (protocol == of) & ((port == number) if number else True)
            if fits.any():
                destination = np.where(fits, matcher.match(outer), destination)
        return np.where((subnet >= 0) & (destination >= 0), subnet * len(self.destinations) + destination, NONE)


class Matched:
    """The pair of each record of a batch, -1 for none, and whether it is a reply."""

    def __init__(self, pair: NDArray[np.int64], is_reply: NDArray[np.bool_]) -> None:
        self.pair, self.is_reply = pair, is_reply
