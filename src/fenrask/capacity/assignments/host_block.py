"""Blocks of ports for each host: fixed ones, and ones that grow by doubling. A block lies on one address."""

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from fenrask.capacity.assignments.contract import Division, InKernel, PortUse, Replay, Stream, Streams, View
from fenrask.capacity.assignments.pools import blocking, busiest_use, greatest_load, least, turned_away
from fenrask.demand import Series
from fenrask.estate import LAST_PORT, Ports
from fenrask.estate import GrowingBlock as Growth
from fenrask.estate import HostBlock as Fixed
from fenrask.prefixes import Prefix
from fenrask.teletraffic.simulation import Blocks, Calls, Growing, OwnBlocks, Setting

__all__ = ["GROWING_BLOCK", "HOST_BLOCK", "packed"]


@dataclass(frozen=True)
class _Group:
    """Hosts that are alike: how many, their streams (one for each protocol), and the block that each wants."""

    streams: tuple[Stream, ...]
    hosts: int
    block: int


class HostBlocks:
    """Capacity: the host's own block; addresses are needed to hold all blocks.

    The ports of a block serve TCP and UDP alike, each for itself. A growing block is taken as it is at the
    host's busiest moment, since it shrinks late: the least of block x 2^k that keeps to the target. Where not
    every host gets the block that it wants, the last ones make do with a smaller one, or with none.
    """

    view: View = "hosts"

    def __init__(self, name: str, growing: bool) -> None:
        self.name = name
        self._growing = growing

    def use(self, streams: Streams, addresses: int, ports: Ports, target: float) -> PortUse | None:
        groups = self._groups(streams, ports, target)
        if not groups:
            return None
        given = _given(groups, addresses, ports) if self._growing else _evenly_given(groups, addresses, ports)
        served = [replace(stream, copies=number) for stream, _, number in given]
        # A block that is not kept from growing grows as it fills: its host fails only at the largest.
        largest, wanted = _largest(ports), {stream: group.block for group in groups for stream in group.streams}
        sizes = {
            stream: largest if block == wanted[of] else block
            for stream, (of, block, _) in zip(served, given, strict=True)
        }
        reserved = sum(group.hosts * group.block for group in groups)

        def words(stream: Stream, division: Division) -> tuple[str, str, str]:
            hosts = f"each of {stream.copies:,.0f} hosts of {stream.label}"
            none = f"{hosts}: no block is left" if not division.ports else f"{hosts}, for itself alone"
            detail = f"{reserved:,} ports in blocks wanted of {addresses * ports.per_address:,}"
            return "ports of one host", none, detail

        found = busiest_use(served, lambda stream: Division(sizes[stream]), ports.tries, target, words)
        if found is None:
            return None
        by_stream: dict[Stream, list[tuple[Stream, int]]] = {}
        for stream, (of, _, _) in zip(served, given, strict=True):
            if stream.label == found.binding:
                by_stream.setdefault(of, []).append((stream, sizes[stream]))
        # Growing blocks count as they are at their largest, all at once.
        return _of_all_hosts(found, list(by_stream.values()), ports, self._growing)

    def least_addresses(self, streams: Streams, ports: Ports, target: float) -> int | None:
        groups = self._groups(streams, ports, target)
        if not groups:
            return 0
        largest = _largest(ports)
        if any(_blocking(stream, largest, ports) > target for group in groups for stream in group.streams):
            return None
        wanted = Counter[int]()
        for group in groups:
            wanted[group.block] += group.hosts
        return least(lambda addresses: packed(wanted, addresses, ports.per_address) == wanted)

    def room(self, addresses: int, ports: Ports, target: float) -> float:
        return float(addresses * (ports.per_address // _first(ports)))

    def own_blocks(self, ports: Ports, target: float) -> Sequence[tuple[int, float]]:
        return [(block, greatest_load(block, target)) for block in _doublings(ports)]

    def division(self, stream: Stream, addresses: int, ports: Ports) -> Division:
        return Division(_largest(ports) if self._growing else _first(ports))

    def replay(self, stream: Stream, calls: Calls, addresses: int, ports: Ports, among: Streams) -> Replay:
        owners, first, last = max(1, round(stream.copies)), _first(ports), _largest(ports)
        calls = calls.scaled(owners)
        # What is always open of a host is in its own block.
        open_each = round(stream.load.persistent)
        # A host that may open more than its block holds is never stopped by its own limit.
        each = max(1, round(stream.open_at_most)) if stream.is_capped and stream.open_at_most <= last else None
        one_by_one = each is not None or stream.retries > 0 or bool(calls.jobs)
        own = OwnBlocks(calls, owners, first, each, stream.retries, open_each=open_each)
        limit = f", {each} open connections each at most" if each else ""
        by_label = {one.label: max(1, round(one.copies)) for one in among if one.busiest > 0}
        others = sum(number for label, number in by_label.items() if label != stream.label)
        if not self._growing:
            there = int(self.room(addresses, ports, 0.0))
            lacking = max(0.0, 1.0 - there / (owners + others))
            blocks = f"; {there:,} blocks for {owners + others:,} hosts" if lacking else ""
            what = f"{owners} hosts of {first} ports each{limit}{blocks}"
            setting: Setting = Blocks(calls, owners, max(0, first - open_each), there, others)
            if one_by_one:
                setting = replace(own, there=there, others=others)
            return Replay(setting, what, Division(first), lacking=lacking)
        total = addresses * ports.per_address
        # Blocks count as they are at their largest, all at once: fewer hosts are then left without one than so.
        wanted = Counter({_usual(one, ports): 0 for one in among})
        for label, number in by_label.items():
            wanted[max(_usual(one, ports) for one in among if one.label == label)] += number
        placed = packed(wanted, addresses, ports.per_address)
        lacking = max(0.0, 1.0 - sum(placed.values()) / max(1, owners + others))
        what = f"{owners} hosts of {first} to {last} ports each{limit}, of {total:,} in all"
        left_out = list[str]()
        others_take = sum(max(1, round(one.copies)) * _usual(one, ports) for one in among if one.label != stream.label)
        if others_take and owners * _usual(stream, ports) + others_take > total:
            left_out = ["blocks of other hosts, which there is no room for"]
            others_take = 0
        setting = Growing(calls, owners, first, last, total - others_take, open_each)
        if one_by_one:
            setting = replace(own, last=last, total=total - others_take)
        return Replay(setting, what, Division(last), tuple(left_out), lacking, at_most=lacking > 0)

    def carries(self, streams: Streams, addresses: int, ports: Ports, target: float, factor: float) -> bool:
        needed = self.least_addresses([one.scaled(factor) for one in streams], ports, target)
        return needed is not None and needed <= addresses

    def adds_up(self, streams: Streams, ports: Ports) -> bool:
        return False

    def is_linear(self, streams: Streams, ports: Ports) -> bool:
        # Blocks that grow fit together in more than one way.
        return not self._growing

    def in_kernel(self, ports: Ports, sources: Sequence[Prefix], addresses: int) -> InKernel:
        assert ports.host_block is not None
        blocks = _blocks(sources, ports.host_block, ports.per_address, addresses)
        grow = ("blocks that grow: every host gets the first one for good",)
        return InKernel(blocks, grow if _largest(ports) > ports.host_block else ())

    def not_replayed(self) -> tuple[str, ...]:
        return ("that a block grows: each host has the largest",) if self._growing else ()

    def _groups(self, streams: Streams, ports: Ports, target: float) -> list[_Group]:
        """Hosts of one subnet and workload together, whatever the protocol."""
        by_label: dict[str, list[Stream]] = {}
        for stream in streams:
            if stream.busiest > 0:
                by_label.setdefault(stream.label, []).append(stream)
        groups = []
        for streams in by_label.values():
            hosts = int(np.ceil(max(stream.copies for stream in streams) - 1e-9))
            groups.append(_Group(tuple(streams), hosts, self._wanted(streams, ports, target)))
        return groups

    def _wanted(self, streams: list[Stream], ports: Ports, target: float) -> int:
        sizes = _doublings(ports)
        enough = (block for block in sizes if all(_blocking(stream, block, ports) <= target for stream in streams))
        return next(enough, sizes[-1])


_SPREAD = 4.0
"""Standard deviations above its mean that a host's busiest moment is taken to be."""


def _usual(stream: Stream, ports: Ports) -> int:
    """The block that a host has at its busiest, as it grows."""
    block, busiest = _first(ports), stream.busiest
    while block < min(_largest(ports), busiest + _SPREAD * busiest**0.5):
        block *= 2
    return block


def _first(ports: Ports) -> int:
    assert isinstance(ports, Fixed | Growth)
    return ports.block


def _doublings(ports: Ports) -> list[int]:
    """The blocks that a host may have, by size."""
    sizes = [_first(ports)]
    while sizes[-1] < _largest(ports):
        sizes.append(2 * sizes[-1])
    return sizes


def _largest(ports: Ports) -> int:
    assert isinstance(ports, Fixed | Growth)
    return ports.largest_block


def _blocking(stream: Stream, block: int, ports: Ports) -> float:
    peak = np.array([stream.load.peak.concurrent])
    return float(blocking(peak, stream, Division(block), ports.tries)[0])


def _of_all_hosts(found: PortUse, every: Sequence[Sequence[tuple[Stream, int]]], ports: Ports, grow: bool) -> PortUse:
    """The use of a pool whose hosts do not fare alike: the share of all their connections that finds no port.

    every: for each stream of the pool its hosts, by the block that they got. grow: whether blocks grow, so that fewer
    hosts may be without one than are counted.
    """
    by_stream = [[one for one in hosts if one[0].copies] for hosts in every]
    uneven = [hosts for hosts in by_stream if len(hosts) > 1]
    if not uneven:
        return found

    def share(hosts: Sequence[tuple[Stream, int]], concurrent: Series) -> Series:
        opened, refused = np.zeros(concurrent.size), np.zeros(concurrent.size)
        for stream, block in hosts:
            # Hosts with a limit of their own open the less the more connections they have: those without ports, all.
            own = stream.copies * (1 - turned_away(concurrent, stream, Division(block), ports.tries))
            opened, refused = opened + own, refused + own * blocking(concurrent, stream, Division(block), ports.tries)
        mean: Series = refused / np.maximum(opened, 1e-300)
        return mean

    peaks = [float(share(hosts, np.array([hosts[0][0].load.peak.concurrent]))[0]) for hosts in uneven]
    worst = uneven[int(np.argmax(peaks))]
    without = sum(stream.copies for stream, block in worst if not block)
    whole = sum(stream.copies for stream, _ in worst)
    detail = f"{'up to ' if grow else ''}{without:,.0f} of {whole:,.0f} hosts get no block" if without else ""
    return replace(
        found,
        blocking=max(peaks),
        blocked=share(worst, worst[0][0].load.concurrent),
        worst=found.blocking,
        at_most=grow,
        without=detail,
        detail="; ".join(filter(None, (found.detail, detail))),
        # Those that have none wait in vain, and the others hardly at all: no mean says that.
        feel=lambda: None,
    )


def _evenly_given(groups: Sequence[_Group], addresses: int, ports: Ports) -> list[tuple[Stream, int, float]]:
    """The same of blocks that are all alike: who comes first gets one, so that each group gets its part of them."""
    first = _first(ports)
    there = addresses * (ports.per_address // first)
    share = min(1.0, there / sum(group.hosts for group in groups))
    given = []
    for group in groups:
        for block, number in ((first, group.hosts * share), (0, group.hosts * (1 - share))):
            if number > 0:
                given += [(stream, block, number) for stream in group.streams]
    return given


def _given(groups: Iterable[_Group], addresses: int, ports: Ports) -> list[tuple[Stream, int, float]]:
    """Each stream with the block that its hosts get, and how many hosts get one of that size."""
    room = {ports.per_address: addresses}
    given = []
    for group in sorted(groups, key=lambda group: -group.block):
        rest, block = group.hosts, group.block
        while rest:
            placed = _place(room, block, rest) if block else rest
            if placed:
                given += [(stream, block, float(placed)) for stream in group.streams]
                rest -= placed
            block = block // 2 if block > _first(ports) else 0
    return given


def packed(wanted: Counter[int], addresses: int, per_address: int) -> Counter[int]:
    """How many blocks of each size find room, the largest first; sizes are doublings of one another.

    No block straddles two addresses. For sizes that divide each other, first fit by falling size fills as
    few addresses as can be (Coffman, Garey & Johnson, "Bin packing with divisible item sizes", 1987).
    """
    room = {per_address: addresses}
    return Counter({block: _place(room, block, number) for block, number in sorted(wanted.items(), reverse=True)})


def _place(room: dict[int, int], block: int, wanted: int) -> int:
    """Put up to so many blocks into addresses by the ports they have left; how many found room. Changes `room`."""
    placed = 0
    for left in sorted(room):
        each = left // block
        if not each or placed == wanted:
            continue
        filled = min(room[left], -(-(wanted - placed) // each))
        for number, taken in ((filled - 1, each), (1, min(each, wanted - placed - (filled - 1) * each))):
            if number > 0:
                room[left - taken * block] = room.get(left - taken * block, 0) + number
                placed += number * taken
        room[left] -= filled
        if not room[left]:
            del room[left]
    return placed


def _blocks(sources: Sequence[Prefix], block: int, per_address: int, addresses: int) -> dict[str, tuple[int, int, int]]:
    """A block for each address of the subnets in turn, as long as there are any; none straddles two addresses."""
    each, first = per_address // block, LAST_PORT + 1 - per_address
    found: dict[str, tuple[int, int, int]] = {}
    for prefix in sources:
        for host in prefix.hosts():
            place, number = divmod(len(found), each)
            if place >= addresses:
                return found
            found[str(host)] = (place, first + number * block, first + (number + 1) * block - 1)
    return found


HOST_BLOCK = HostBlocks("host-block", growing=False)
GROWING_BLOCK = HostBlocks("growing-block", growing=True)
