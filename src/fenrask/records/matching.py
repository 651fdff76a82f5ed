"""To which subnet and which destination a record belongs: longest match for whole columns at once."""

from collections.abc import Iterable, Sequence
from functools import cached_property
from ipaddress import IPv6Address

import numpy as np
from numpy.typing import NDArray

from fenrask.estate import Estate
from fenrask.prefixes import Prefix, PrefixTable
from fenrask.records.batch import Addresses, Batch

__all__ = ["Matched", "Matcher", "Pairs"]

Indices = NDArray[np.int32]
NONE = -1
_MAPPED = 0xFFFF
"""How IPv6 addresses begin that are IPv4 ones, ::ffff:0:0/96 (RFC 4291, section 2.5.5.2)."""
_PROTOCOLS = {"tcp": 6, "udp": 17}
_TIME_BITS = 42
"""Of a time, ms since 1970, up to the year 2106."""
_MOST_SEEN = 1 << 16
"""IPv6 addresses whose prefix is remembered."""


class Matcher:
    """Addresses to the number of the longest prefix that holds them; -1 for none. The first of equal prefixes wins."""

    def __init__(self, prefixes: Iterable[tuple[Prefix, int]]) -> None:
        kept: dict[Prefix, int] = {}
        for prefix, number in prefixes:
            kept.setdefault(prefix, number)
        starts, values = _flattened([(p, n) for p, n in kept.items() if p.version == 4])
        self._starts, self._values = np.array(starts, dtype=np.uint64), np.array(values, dtype=np.int32)
        self._six = PrefixTable((p, n) for p, n in kept.items() if p.version == 6)
        self._seen: dict[int, int] = {}

    def match(self, addresses: Addresses) -> Indices:
        """Shape (n_records,)."""
        from fenrask.records.kernels.cells import longest

        found: Indices = longest(self._of_high, self._starts, self._values, addresses.v4)
        for row, number in addresses.v6:
            found[row] = self.of_six(number)
        return found

    @cached_property
    def _of_high(self) -> NDArray[np.int64]:
        """How many ranges begin before each /16."""
        return np.searchsorted(self._starts, np.arange(65_537, dtype=np.uint64) << np.uint64(16), side="left")

    @property
    def ranges(self) -> tuple[NDArray[np.uint64], Indices]:
        """Where ranges of IPv4 addresses begin, in rising order from 0 on, and the number of each."""
        return self._starts, self._values

    def of_six(self, number: int) -> int:
        """The number of the longest prefix that holds an IPv6 address, or the IPv4 one that it stands for."""
        if number not in self._seen:
            if len(self._seen) > _MOST_SEEN:
                self._seen.clear()
            if number >> 32 == _MAPPED:
                place = np.searchsorted(self._starts, np.uint64(number & 0xFFFFFFFF), side="right")
                self._seen[number] = int(self._values[place - 1])
            else:
                held = self._six.match(IPv6Address(number))
                self._seen[number] = held[1] if held else NONE
        return self._seen[number]


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
        groups: dict[int, list[tuple[Prefix, int]]] = {}
        for number, name in enumerate(self.destinations):
            stated = estate.destinations[name]
            code = _PROTOCOLS[stated.protocol] << 16 | (stated.port or 0)
            groups.setdefault(code, []).extend((prefix, number) for prefix in stated.prefixes)
        self._groups = {code: Matcher(prefixes) for code, prefixes in sorted(groups.items())}
        tables = [one.ranges for one in self._groups.values()]
        self._table = (
            np.array([*self._groups], dtype=np.int64),
            np.cumsum([0, *(starts.size for starts, _ in tables)]),
            np.concatenate([np.zeros(0, np.uint64), *(starts for starts, _ in tables)]),
            np.concatenate([np.zeros(0, np.int32), *(values for _, values in tables)]),
        )

    @property
    def coarse(self) -> int:
        """Times of a pair are counted in 2^coarse ms, so that both fit into a number of 63 bits: 0 up to 2^21 pairs."""
        number = len(self.subnets) * len(self.destinations)
        return max(0, (max(1, number) - 1).bit_length() + _TIME_BITS - 63)

    @property
    def time_bits(self) -> int:
        """How many bits a time takes."""
        return _TIME_BITS - self.coarse

    def name(self, pair: int) -> tuple[str, str]:
        """The subnet and the destination of a pair."""
        return self.subnets[pair // len(self.destinations)], self.destinations[pair % len(self.destinations)]

    def number(self, subnet: str, destination: str) -> int:
        """The number of the pair of a subnet and a destination."""
        return self.subnets.index(subnet) * len(self.destinations) + self.destinations.index(destination)

    def match(self, batch: Batch) -> "Matched":
        """The pair of each record: as it was sent, or, where only that fits, as the reply to it."""
        from fenrask.records.kernels.tallying import pairs_of

        pair, is_reply = pairs_of(
            batch.source.v4, batch.target.v4, batch.source_port, batch.target_port, batch.protocol,
            *self._subnet.ranges, *self._table, len(self.destinations),
        )  # fmt: skip
        ends = dict(batch.source.v6), dict(batch.target.v6)
        for row in ends[0].keys() | ends[1].keys():
            pair[row], is_reply[row] = self._of_six(batch, row, *(of.get(row) for of in ends))
        return Matched(pair, is_reply)

    def _of_six(self, batch: Batch, row: int, source: int | None, target: int | None) -> tuple[int, bool]:
        """The pair of a record with an IPv6 address, and whether it is a reply; None for an end that is of IPv4."""
        near, far = (
            int(column.v4[row]) | _MAPPED << 32 if number is None else number
            for column, number in ((batch.source, source), (batch.target, target))
        )
        protocol = int(batch.protocol[row]) << 16
        for is_reply, inner, outer, port in (
            (False, near, far, batch.target_port), (True, far, near, batch.source_port)
        ):  # fmt: skip
            subnet = self._subnet.of_six(inner)
            for code in (protocol | int(port[row]), protocol) if subnet >= 0 else ():
                found = self._groups[code].of_six(outer) if code in self._groups else NONE
                if found >= 0:
                    return subnet * len(self.destinations) + found, is_reply
        return NONE, False


class Matched:
    """The pair of each record of a batch, -1 for none, and whether it is a reply."""

    def __init__(self, pair: NDArray[np.int64], is_reply: NDArray[np.bool_]) -> None:
        self.pair, self.is_reply = pair, is_reply
