"""Subnets over several gateways, where one does not carry them: the fewest, each subnet on one."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from fenrask.capacity.assignments import ASSIGNMENTS, PortAssignment
from fenrask.capacity.limits import limit_rows, stated_limits
from fenrask.capacity.packing import Floats, fewest_boxes
from fenrask.capacity.streams import pools, streams
from fenrask.demand import Demand, Part
from fenrask.estate import Offer, Ports
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
        gateways = counted(len(self.shares), "gateway")
        proof = "no fewer do" if self.proven else f"at least {self.at_least} are needed"
        told = [f"{self.exit}: {gateways} carry its subnets ({proof})"] if self.shares else []
        return "; ".join([*told, *(f"{one.subnet} is too much for any gateway: {one.why}" for one in self.too_much)])


def split(demand: Demand, exit_name: str, offer: Offer, ports: Ports) -> Split | None:
    """Divide the subnets of an exit over gateways of its offer; None where it has but one that one carries.

    Network, and with an offer for a zone the zone, are kept: gateways of one do not serve another.
    """
    estate = demand.paths.described.estate
    groups: dict[tuple[str, str | None], list[str]] = {}
    by_subnet: dict[str, list[Part]] = {}
    for part in demand.at_exit[exit_name]:
        by_subnet.setdefault(part.subnet, []).append(part)
    sizing = _Sizing(demand, exit_name, offer, ports)
    too_much = []
    for name, parts in by_subnet.items():
        if why := sizing.too_much(name, parts):
            too_much.append(TooMuch(name, why))
            continue
        subnet = estate.subnets[name]
        groups.setdefault((subnet.network, subnet.zone if offer.scope == "zone" else None), []).append(name)
    shares, at_least = [], 0
    for (network, zone), names in groups.items():
        boxes, fewest = sizing.divide(names, [by_subnet[name] for name in names])
        at_least += fewest
        for box, addresses in boxes:
            shares.append(Share(network, zone, tuple(names[number] for number in box), addresses))
    found = Split(exit_name, tuple(shares), at_least, tuple(too_much))
    return found if too_much or len(shares) > 1 else None


_CLOSE = 1e-3
"""Nearer to a limit than this a subnet is looked at between the times too."""


class _Sizing:
    """What one gateway of an offer carries."""

    def __init__(self, demand: Demand, exit_name: str, offer: Offer, ports: Ports) -> None:
        self._demand, self._exit, self._offer, self._ports = demand, exit_name, offer, ports
        self._assignment: PortAssignment = ASSIGNMENTS[ports.assignment]
        self._target = demand.paths.described.estate.targets.blocking
        self._nodes = ports.stated_nodes or demand.paths.described.estate.exits[exit_name].units
        self._most = offer.limits.addresses
        room = self._assignment.room(self._most, ports, self._target) if self._most is not None else None
        self._room = room
        self._rows: dict[str, dict[str, Floats]] = {}

    def addresses(self, parts: Sequence[Part]) -> int | None:
        """The fewest addresses for some parts; None where no number suffices, or more than a gateway takes."""
        offered = streams(self._demand, self._exit, self._assignment.view, parts)
        found = self._assignment.least_addresses(offered, self._ports, self._target)
        return None if found is None or (self._most is not None and found > self._most) else max(1, found)

    def too_much(self, subnet: str, parts: Sequence[Part]) -> str:
        """Why a subnet alone is more than one gateway takes; empty where it is not."""
        self._rows[subnet] = dict(self._shares(parts))
        adds_up = self._is_linear and self._assignment.view != "hosts"
        if adds_up and all(np.max(row) < 1 - _CLOSE for row in self._rows[subnet].values()):
            return ""
        offered = streams(self._demand, self._exit, self._assignment.view, parts)
        found = self._assignment.least_addresses(offered, self._ports, self._target)
        if found is None:
            use = self._assignment.use(offered, self._most or 1, self._ports, self._target)
            concurrent = (
                f" ({figure(use.concurrent)} wanted of {use.capacity:,} ports for {use.binding})" if use else ""
            )
            return f"no number of addresses keeps to the target{concurrent}"
        if self._most is not None and found > self._most:
            busiest = max(offered, key=lambda one: one.busiest)
            concurrent = f"{busiest.load.peak.concurrent:,.0f} held toward {busiest.label}"
            return f"it needs {found} addresses and a gateway takes {self._most} ({concurrent})"
        limits = stated_limits(self._demand, self._exit, parts, self._offer, self._nodes)
        over = [limit for limit in limits if limit.use > limit.capacity]
        return f"{over[0].use:,.6g} {over[0].unit}, of at most {over[0].capacity:,.6g}" if over else ""

    def divide(
        self, names: Sequence[str], subnets: Sequence[Sequence[Part]]
    ) -> tuple[list[tuple[tuple[int, ...], int]], int]:
        """Boxes of subnets with the addresses of each, and the fewest boxes there can be."""

        needed: dict[tuple[int, ...], int | None] = {}

        def addresses(numbers: Sequence[int]) -> int | None:
            key = tuple(numbers)
            if key not in needed:
                needed[key] = self.addresses([part for number in key for part in subnets[number]])
            return needed[key]

        def carries(numbers: Sequence[int]) -> bool:
            return addresses(numbers) is not None

        sizes = self._sizes(names)
        packing = fewest_boxes(sizes, None if self._is_linear else carries)
        if not all(map(carries, packing.boxes)):
            # A peak between the times that were looked at is a little higher than they are.
            packing = fewest_boxes(sizes, carries)
        return [(box, addresses(box) or self._most or 1) for box in packing.boxes], packing.at_least

    @cached_property
    def _is_linear(self) -> bool:
        """Whether loads simply add up to what a gateway takes; hosts with a block each do."""
        parts = self._demand.at_exit[self._exit]
        offered = streams(self._demand, self._exit, self._assignment.view, parts)
        return self._assignment.name == "host-block" or self._assignment.adds_up(offered, self._ports)

    def _sizes(self, names: Sequence[str]) -> Floats:
        """What each subnet takes of every limit at every time, as a share: shape (n_subnets, n_rows)."""
        rows: dict[str, Floats] = {}
        for number, name in enumerate(names):
            for row, values in self._rows[name].items():
                rows.setdefault(row, np.zeros((len(names), values.size)))[number] = values
        return np.concatenate(list(rows.values()), axis=1) if rows else np.zeros((len(names), 0))

    def _shares(self, parts: Sequence[Part]) -> list[tuple[str, Floats]]:
        """Named rows of one subnet: ports by pool and time, and the offer's other limits."""
        rows = []
        if self._room is not None:
            offered = list(pools(self._demand, self._exit, self._assignment.view, parts))
            if self._assignment.view == "hosts":
                by_host = {one.label: np.ceil(one.copies - 1e-9) for one in offered}
                rows.append(("hosts with a block", np.array([sum(by_host.values()) / self._room])))
            else:
                rows += [(one.label, one.load.concurrent / self._room) for one in offered]
        return [*rows, *limit_rows(self._demand, self._exit, parts, self._offer, self._nodes)]
