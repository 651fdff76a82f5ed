"""Where the month's volumes are charged: on exits, at internet exits, between zones."""

from collections.abc import Callable, Hashable, Iterator, Mapping
from copy import copy
from fractions import Fraction
from math import lcm
from typing import Any

import numpy as np

from fenrask.charges.lines import Metered, Users
from fenrask.estate import Described, Onward
from fenrask.routing import Paths, Trace, repeated
from fenrask.units import BYTES_PER_UNIT

__all__ = ["Meters", "networks_left"]


def networks_left(described: Described, trace: Trace) -> Iterator[tuple[str, str]]:
    """Each network of the estate that a path leaves for another one of it, by a peering or a hub."""
    estate = described.estate
    ingress = estate.exits.get(trace.boundary) if trace.inward is not None else None
    passed = [network for network in [estate.network_of(ingress) if ingress else None] if network]
    passed += [estate.subnets[hop.subnet].network for hop in trace.hops if hop.subnet in estate.subnets]
    if trace.there:
        passed.append(estate.subnets[trace.there].network)
    for one, other in zip(passed, passed[1:], strict=False):
        if one != other:
            yield one, other


class Meters:
    """The month's volumes, in the catalogue's unit, where they are charged; all over one denominator."""

    def __init__(self, paths: Paths) -> None:
        described, estate, pairs = paths.described, paths.described.estate, paths.pairs
        self.users = users = Users(estate)
        places: dict[Hashable, int] = {}
        # What a path is metered by is the same for all of its kind, but for whether its destination is a service.
        each = [
            [(places.setdefault(meter, len(places)), users.exit[name], is_out) for meter, name, is_out in found]
            for kind in pairs.kinds
            for found in [list(_metered(described, kind.box.trace))]
        ]
        counts = np.array([len(some) for some in each], dtype=np.intp)
        flat = np.array([one for some in each for one in some], dtype=np.intp).reshape(-1, 3)
        kind = pairs.kind[paths.own]
        rows = np.repeat(np.arange(kind.size), counts[kind])
        meter, exit_, is_out = flat[repeated((np.cumsum(counts) - counts)[kind], counts[kind])].T
        served = np.array([bool(one.service) for one in estate.remotes.values()], dtype=bool)
        to_service = served[pairs.to[pairs.pair[paths.own]]][rows]
        if "internet" in places:
            meter = np.where((meter == places["internet"]) & to_service, len(places), meter)
        common = lcm(*(one.share.denominator for one in pairs.kinds))
        shares = np.array([int(one.share * common) for one in pairs.kinds], dtype=object)
        volumes = described.traffic.volumes
        number = np.array([described.traffic.number[name] for name in paths.flows], dtype=np.intp)[paths.flow[rows]]
        amounts = np.where(is_out, volumes.sent[number], volumes.both[number]) * shares[kind[rows]]
        unit = volumes.denominator * common * BYTES_PER_UNIT[described.catalogue.volume_unit]
        nothing = np.zeros(0, dtype=np.intp)
        none = Metered(users, nothing, nothing, np.zeros(0, dtype=object), unit)
        found = {
            key: Metered.summed(users, exit_[here], number[here] + 1, amounts[here], unit)
            for key, place in (*places.items(), ("services", len(places)))
            for here in [np.flatnonzero(meter == place)]
            if here.size
        }
        self.at_exit: dict[str, Metered] = {name: found.get(("exit", name), none) for name in estate.exits}
        self.to_internet: Metered = found.get("internet", none)
        self.to_services: Metered = found.get("services", none)
        self.crossing: dict[tuple[str, str], Metered] = _keyed(found, "zones")
        self.between_networks: dict[tuple[str, str, bool], Metered] = _keyed(found, "networks")
        """By network left, network entered, and whether they are in different regions."""

    def with_flow(self, flow: str, times: Fraction) -> "Meters":
        """The same volumes, those of one flow multiplied."""
        number = self.users.flow[flow]
        above, below = times.numerator, times.denominator

        def multiplied(one: Metered) -> Metered:
            amounts = one.amounts * np.where(one.flow == number, above, below).astype(object)
            return Metered(one.users, one.exit, one.flow, amounts, one.denominator * below)

        return self._each(multiplied)

    def lumped(self, flow: str) -> "Meters":
        """The same volumes, all flows but one taken as one: for a total, which does not ask whose they are."""
        number = self.users.flow[flow]
        return self._each(
            lambda one: Metered.summed(
                one.users, one.exit, np.where(one.flow == number, number, 0), one.amounts, one.denominator
            )
        )

    def _each(self, change: Callable[[Metered], Metered]) -> "Meters":
        other = copy(self)
        other.at_exit = {name: change(metered) for name, metered in self.at_exit.items()}
        other.to_internet = change(self.to_internet)
        other.to_services = change(self.to_services)
        other.crossing = {key: change(metered) for key, metered in self.crossing.items()}
        other.between_networks = {key: change(metered) for key, metered in self.between_networks.items()}
        return other


def _metered(described: Described, trace: Trace) -> Iterator[tuple[Hashable, str, bool]]:
    """Where a path's volume is metered: the meter, the exit, and whether what is sent alone counts there."""
    estate = described.estate
    if not trace.verdict.arrives:
        return
    for name in trace.exits:
        yield ("exit", name), name, False
    for hop in trace.hops:
        if hop.crosses_zone:
            # What comes in is delivered in another zone by the last exit that it passed.
            by = hop.exit if hop.exit in estate.exits else trace.exits[-1]
            yield ("zones", hop.from_zone or "", hop.to_zone or ""), by, False
    for one, other in networks_left(described, trace):
        regions = {estate.networks[name].region for name in (one, other)}
        yield ("networks", one, other, len(regions) > 1), "", False
    if trace.onward is Onward.INTERNET:
        yield "internet", trace.boundary, True


def _keyed(found: Mapping[Hashable, Metered], kind: str) -> dict[Any, Metered]:
    return {key[1:]: one for key, one in found.items() if isinstance(key, tuple) and key[0] == kind}
