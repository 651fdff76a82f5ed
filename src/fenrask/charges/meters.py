"""Where the month's volumes are charged: on exits, at internet exits, between zones."""

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping
from copy import copy
from fractions import Fraction
from math import lcm
from typing import Any

from fenrask.charges.lines import Metered, Use
from fenrask.demand import Volumes
from fenrask.estate import Described, Onward
from fenrask.routing import Paths, SubnetPath, Trace
from fenrask.units import BYTES_PER_UNIT

__all__ = ["Meters", "networks_left"]


def networks_left(described: Described, trace: Trace) -> Iterator[tuple[str, str]]:
    """Each network of the estate that a path leaves for another one of it, by a peering or a hub."""
    estate = described.estate
    passed = [estate.subnets[hop.subnet].network for hop in trace.hops if hop.subnet in estate.subnets]
    if trace.there:
        passed.append(estate.subnets[trace.there].network)
    for one, other in zip(passed, passed[1:], strict=False):
        if one != other:
            yield one, other


class Meters:
    """The month's volumes, in the catalogue's unit, where they are charged; all over one denominator."""

    def __init__(self, paths: Paths) -> None:
        estate = paths.described.estate
        volumes, unit = Volumes(paths.described), BYTES_PER_UNIT[paths.described.catalogue.volume_unit]
        raw: dict[Hashable, list[tuple[Use, int, int]]] = {}
        for path in paths.paths:
            if path.example.verdict.arrives:
                flow, share = volumes.of(path.flow), path.share
                there = flow.out_bytes[0] * share.numerator, flow.out_bytes[1] * share.denominator
                both = flow.both_bytes[0] * share.numerator, flow.both_bytes[1] * share.denominator
                for meter, exit_name, is_out in _metered(paths, path.own, estate.flows[path.flow].to):
                    raw.setdefault(meter, []).append((Use(exit_name, path.flow), *(there if is_out else both)))
        common = lcm(*{below for some in raw.values() for _, _, below in some})
        found = {meter: _summed(some, common, unit) for meter, some in raw.items()}
        none = Metered({}, common * unit)
        self.at_exit: dict[str, Metered] = {name: found.get(("exit", name), none) for name in estate.exits}
        self.to_internet: Metered = found.get("internet", none)
        self.to_services: Metered = found.get("services", none)
        self.crossing: dict[tuple[str, str], Metered] = _keyed(found, "zones")
        self.between_networks: dict[tuple[str, str, bool], Metered] = _keyed(found, "networks")
        """By network left, network entered, and whether they are in different regions."""

    def with_flow(self, flow: str, times: Fraction) -> "Meters":
        """The same volumes, those of one flow multiplied."""
        return self._each(lambda metered: _multiplied(metered, flow, times))

    def lumped(self, flow: str) -> "Meters":
        """The same volumes, all flows but one taken as one: for a total, which does not ask whose they are."""
        return self._each(lambda metered: _lumped(metered, flow))

    def _each(self, change: Callable[[Metered], Metered]) -> "Meters":
        other = copy(self)
        other.at_exit = {name: change(metered) for name, metered in self.at_exit.items()}
        other.to_internet = change(self.to_internet)
        other.to_services = change(self.to_services)
        other.crossing = {key: change(metered) for key, metered in self.crossing.items()}
        other.between_networks = {key: change(metered) for key, metered in self.between_networks.items()}
        return other


def _metered(paths: Paths, own: SubnetPath, to: str) -> Iterator[tuple[Hashable, str, bool]]:
    """Where a path's volume is metered: the meter, the exit, and whether what is sent alone counts there."""
    estate, trace = paths.described.estate, own.example
    for name in trace.exits:
        yield ("exit", name), name, False
    for hop in trace.hops:
        if hop.crosses_zone:
            yield ("zones", hop.from_zone or "", hop.to_zone or ""), hop.exit, False
    for one, other in networks_left(paths.described, trace):
        regions = {estate.networks[name].region for name in (one, other)}
        yield ("networks", one, other, len(regions) > 1), "", False
    if trace.onward is Onward.INTERNET:
        yield "services" if estate.destinations[to].service else "internet", trace.exits[-1], True


def _summed(some: Iterable[tuple[Use, int, int]], common: int, unit: int) -> Metered:
    found = Metered({}, common * unit)
    for use, above, below in some:
        found[use] = found.get(use, 0) + above * (common // below)
    return found


def _keyed(found: Mapping[Hashable, Metered], kind: str) -> dict[Any, Metered]:
    return {key[1:]: one for key, one in found.items() if isinstance(key, tuple) and key[0] == kind}


def _lumped(metered: Metered, flow: str) -> Metered:
    found = Metered({}, metered.denominator)
    for use, volume in metered.items():
        key = use if use.flow == flow else Use(use.exit, "")
        found[key] = found.get(key, 0) + volume
    return found


def _multiplied(metered: Metered, flow: str, times: Fraction) -> Metered:
    above, below = times.numerator, times.denominator
    changed = ((use, volume * (above if use.flow == flow else below)) for use, volume in metered.items())
    return Metered(changed, metered.denominator * below)
