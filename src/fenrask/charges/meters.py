"""Where the month's volumes are charged: on exits, at internet exits, between zones."""

from collections.abc import Callable, Iterator
from copy import copy
from dataclasses import replace
from fractions import Fraction

from fenrask.charges.lines import Use
from fenrask.demand import Volume, month_volume
from fenrask.estate import Onward
from fenrask.routing import FlowPath, Paths
from fenrask.units import BYTES_PER_UNIT

__all__ = ["Metered", "Meters", "networks_left"]

Metered = dict[Use, Fraction]
"""Volume units by use."""


def networks_left(paths: Paths, path: FlowPath) -> Iterator[tuple[str, str]]:
    """Each network of the estate that a path leaves for another one of it, by a peering or a hub."""
    estate = paths.described.estate
    passed = [estate.subnets[hop.subnet].network for hop in path.example.hops if hop.subnet in estate.subnets]
    if path.example.there:
        passed.append(estate.subnets[path.example.there].network)
    for one, other in zip(passed, passed[1:], strict=False):
        if one != other:
            yield one, other


class Meters:
    """The month's volumes, in the catalogue's unit, where they are charged."""

    def __init__(self, paths: Paths) -> None:
        self.unit = BYTES_PER_UNIT[paths.described.catalogue.volume_unit]
        self.at_exit: dict[str, Metered] = {name: {} for name in paths.described.estate.exits}
        self.to_internet: Metered = {}
        self.to_services: Metered = {}
        self.crossing: dict[tuple[str, str], Metered] = {}
        self.between_networks: dict[tuple[str, str, bool], Metered] = {}
        """By network left, network entered, and whether they lie in different regions."""
        for path in paths.paths:
            if path.example.verdict.arrives:
                self._count(paths, path, month_volume(paths.described, path))

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

    def _count(self, paths: Paths, path: FlowPath, volume: Volume) -> None:
        for name in path.example.exits:
            self._add(self.at_exit[name], Use(name, path.flow), volume.both_bytes)
        for hop in path.example.hops:
            if hop.crosses_zone:
                meter = self.crossing.setdefault((hop.from_zone or "", hop.to_zone or ""), {})
                self._add(meter, Use(hop.exit, path.flow), volume.both_bytes)
        for one, other in networks_left(paths, path):
            regions = {paths.described.estate.networks[name].region for name in (one, other)}
            meter = self.between_networks.setdefault((one, other, len(regions) > 1), {})
            self._add(meter, Use("", path.flow), volume.both_bytes)
        if path.example.onward is Onward.INTERNET:
            destination = paths.described.estate.destinations[paths.described.estate.flows[path.flow].to]
            meter = self.to_services if destination.service else self.to_internet
            self._add(meter, Use(path.example.exits[-1], path.flow), volume.out_bytes)

    def _add(self, meter: Metered, use: Use, volume: Fraction) -> None:
        meter[use] = meter.get(use, Fraction(0)) + volume / self.unit


def _lumped(metered: Metered, flow: str) -> Metered:
    found: Metered = {}
    for use, volume in metered.items():
        key = use if use.flow == flow else replace(use, flow="")
        found[key] = found.get(key, Fraction(0)) + volume
    return found


def _multiplied(metered: Metered, flow: str, times: Fraction) -> Metered:
    return {use: volume * times if use.flow == flow else volume for use, volume in metered.items()}
