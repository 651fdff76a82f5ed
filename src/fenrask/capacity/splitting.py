"""Subnets over several gateways, where one does not carry them: the fewest, each subnet on one."""

from collections.abc import Container, Hashable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from fenrask.capacity.assignments import Stream
from fenrask.capacity.limits import Groups, stated_limits, uses
from fenrask.capacity.packing import Floats, fewest_boxes
from fenrask.capacity.port_load import PortLoad
from fenrask.capacity.rooms import Asked, HostsAsked, ports_asked
from fenrask.capacity.streams import streams
from fenrask.demand import Demand, Parts
from fenrask.estate import Offer
from fenrask.units import counted, figure

__all__ = ["Share", "Split", "TooMuch", "split"]


@dataclass(frozen=True)
class Share:
    """One gateway of several: the subnets that use it, and the addresses it needs."""

    network: str
    zone: str | None
    subnets: tuple[str, ...]
    addresses: int


@dataclass(frozen=True)
class TooMuch:
    """A subnet that no gateway of this offer carries even alone, and why."""

    subnet: str
    why: str


@dataclass(frozen=True)
class Split:
    """The subnets of an exit over several gateways. `at_least`: no division has fewer."""

    exit: str
    shares: tuple[Share, ...]
    at_least: int
    too_much: tuple[TooMuch, ...]

    @property
    def proven(self) -> bool:
        """Whether there is no division into fewer gateways."""
        return self.at_least == len(self.shares)

    def __str__(self) -> str:
        number = len(self.shares)
        fewer = f"{number - 1} {'does' if number == 2 else 'do'} not suffice"
        proof = fewer if self.proven else f"at least {self.at_least} are needed"
        told = [f"{self.exit}: divide its subnets over {counted(number, 'gateway')}; {proof}"] if number > 1 else []
        return "; ".join([*told, *(f"{one.subnet} is too much for any gateway: {one.why}" for one in self.too_much)])


def split(demand: Demand, exit_name: str, offer: Offer, load: PortLoad) -> Split | None:
    """Divide the subnets of an exit over gateways of its offer; None where it has but one that one carries.

    Network, and with an offer for a zone the zone, are kept: gateways of one do not serve another. load: what
    competes for its ports.
    """
    estate, parts = demand.paths.described.estate, demand.at_exit[exit_name]
    by_subnet = dict(parts.by(demand.laid.subnet[parts.rows]))
    groups: dict[tuple[str, str | None], dict[str, Parts]] = {}
    for number, some in by_subnet.items():
        name = demand.laid.subnets[number]
        subnet = estate.subnets[name]
        zone = subnet.zone if offer.scope == "zone" else None
        groups.setdefault((subnet.network, zone), {})[name] = some
    sizing = _Sizing(demand, exit_name, offer, load)
    shares: list[Share] = []
    too_much: list[TooMuch] = []
    at_least = 0
    for (network, zone), subnets in groups.items():
        sizes = sizing.sizes(list(subnets.values()))
        told = [sizing.too_much(some, row) for some, row in zip(subnets.values(), sizes, strict=True)]
        too_much += [TooMuch(name, why) for name, why in zip(subnets, told, strict=True) if why]
        left = [name for name, why in zip(subnets, told, strict=True) if not why]
        if not left:
            continue
        fitting = np.array([not why for why in told])
        boxes, fewest = sizing.divide([subnets[name] for name in left], sizes[fitting])
        at_least += fewest
        for box, addresses in boxes:
            shares.append(Share(network, zone, tuple(left[number] for number in box), addresses))
    found = Split(exit_name, tuple(shares), at_least, tuple(too_much))
    return found if too_much or len(shares) > 1 else None


_CLOSE = 1e-3
"""Nearer to a limit than this a subnet is looked at between the times too."""


class _Sizing:
    """What one gateway of an offer carries."""

    def __init__(self, demand: Demand, exit_name: str, offer: Offer, load: PortLoad) -> None:
        self._demand, self._exit, self._offer, self._load = demand, exit_name, offer, load
        self._nodes = load.ports.stated_nodes or demand.paths.described.estate.exits[exit_name].units
        self._most = offer.limits.addresses
        self._room = load.assignment.room(self._most, load.ports, load.target) if self._most is not None else None
        self._streams = {one.label: one for one in load.streams}
        self._by_hosts = load.assignment.view == "hosts"
        self._is_linear = load.assignment.is_linear(load.streams, load.ports)

    def _of(self, parts: Parts) -> PortLoad:
        """What competes for the ports of a gateway that some parts alone use."""
        return replace(self._load, streams=streams(self._demand, self._exit, self._load.assignment.view, parts))

    def addresses(self, parts: Parts) -> int | None:
        """The fewest addresses for some parts; None where no number suffices, or more than a gateway takes."""
        found = self._of(parts).least_addresses()
        return None if found is None or (self._most is not None and found > self._most) else max(1, found)

    def too_much(self, parts: Parts, sizes: Floats) -> str:
        """Why a subnet alone is more than one gateway takes; empty where it is not. sizes: see there, its row."""
        if self._is_linear and not self._by_hosts and np.max(sizes, initial=0.0) < 1 - _CLOSE:
            return ""
        load = self._of(parts)
        found = load.least_addresses()
        if found is None:
            use = load.use(self._most or 1)
            concurrent = (
                f" ({figure(use.concurrent)} wanted of {use.capacity:,} ports for {use.binding})" if use else ""
            )
            return f"no number of addresses keeps to the target{concurrent}"
        if self._most is not None and found > self._most:
            busiest = max(load.streams, key=lambda stream: stream.busiest)
            concurrent = f"{busiest.load.peak.concurrent:,.0f} held toward {busiest.label}"
            return f"it needs {found} addresses and a gateway takes {self._most} ({concurrent})"
        limits = stated_limits(self._demand, self._exit, parts, self._offer, self._nodes)
        over = [limit for limit in limits if limit.use > limit.capacity]
        return f"{over[0].use:,.6g} {over[0].unit}, of at most {over[0].capacity:,.6g}" if over else ""

    def divide(self, subnets: Sequence[Parts], sizes: Floats) -> tuple[list[tuple[tuple[int, ...], int]], int]:
        """Boxes of subnets with the addresses of each, and the fewest boxes there can be."""
        needed: dict[tuple[int, ...], int | None] = {}

        def addresses(numbers: Sequence[int]) -> int | None:
            key = tuple(numbers)
            if key not in needed:
                needed[key] = self.addresses(self._joined([subnets[number] for number in key]))
            return needed[key]

        def carries(numbers: Sequence[int]) -> bool:
            return addresses(numbers) is not None

        packing = fewest_boxes(sizes, None if self._is_linear else carries)
        if not all(map(carries, packing.boxes)):
            # A peak between the times that were looked at is a little higher than they are.
            packing = fewest_boxes(sizes, carries)
        return [(box, addresses(box) or self._most or 1) for box in packing.boxes], packing.at_least

    def _joined(self, subnets: Sequence[Parts]) -> Parts:
        return Parts(self._demand.laid, np.concatenate([some.rows for some in subnets]))

    def sizes(self, subnets: Sequence[Parts]) -> Floats:
        """What each subnet takes of every limit at every time, as a share: shape (n_subnets, n_rows).

        Limits that all of them together keep to have no row: fewer subnets never break them.
        """
        every = self._joined(subnets)
        group = np.repeat(np.arange(len(subnets)), [len(some) for some in subnets])
        binding = {
            key
            for key, share in self._shares(Groups.whole(every))
            if share.shape[1] == 1 or np.max(share) >= 1 - _CLOSE
        }
        rows = self._shares(Groups(every, group, len(subnets)), binding)
        return np.concatenate([np.zeros((len(subnets), 0)), *(share for _, share in rows)], axis=1)

    def _shares(self, some: Groups, of: Container[Hashable] | None = None) -> Iterator[tuple[Hashable, Floats]]:
        """The share that groups take of ports, by pool and time, and of the offer's other limits; or of some by key."""
        room = self._room or 0.0
        for asked in ports_asked(self._demand, self._exit, some, self._load.ports) if room else ():
            if isinstance(asked, HostsAsked):
                yield "hosts with a block", (asked.hosts.there @ asked.hosts.amount)[:, None] / room
            elif of is None or ("ports", asked.pool.key) in of:
                taken = self._of_ports(asked)
                whole = np.zeros((some.count, taken.shape[1]))
                whole[asked.groups] = taken
                yield ("ports", asked.pool.key), whole
        for key, capacity, use in uses(self._demand, self._exit, some, self._offer, self._nodes):
            if of is None or (key, use.key) in of:
                share = use.shares(capacity)
                if share is not None:
                    yield (key, use.key), share

    def _of_ports(self, asked: Asked) -> Floats:
        """What groups take of a pool's ports at the least, shape (n_groups, n_times): no division is thereby ruled out.

        Where c ports carry the load r, what is always open counts as r / c of a port at the least, since what carries
        one load less than another does so with no larger part of its ports. Load that is smoother than chance may fill
        them all but for what is refused.
        """
        room, ports = self._room or 1.0, (self._most or 1) * self._load.ports.per_address
        stream = self._streams.get(asked.pool.label)
        if stream is not None and _may_fill_all(stream):
            return asked.held * (1 - self._load.target) / ports
        weighed: Floats = asked.weighed(room / ports) / room
        return weighed


def _may_fill_all(stream: Stream) -> bool:
    """Whether fewer ports may do than Erlang's formula says: load that is capped, certain, or smoother than chance."""
    return stream.sources is not None or stream.is_limited or stream.peakedness < 1 or stream.jobs[0] > 0
