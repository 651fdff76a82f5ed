"""Where the month's volumes are charged: on exits, at doors, between zones."""

from collections.abc import Iterator, Mapping
from fractions import Fraction

from fenrask.charges.lines import Use
from fenrask.demand import Volume, month_volume
from fenrask.estate import Onward
from fenrask.routing import Way, Ways
from fenrask.units import BYTES_PER_UNIT

__all__ = ["Metered", "Meters", "networks_left"]

Metered = dict[Use, Fraction]
"""Volume units by use."""


def networks_left(ways: Ways, way: Way) -> Iterator[tuple[str, str]]:
    """Each network of the estate that a way leaves for another one of it, by a peering or a hub."""
    estate = ways.described.estate
    passed = [estate.subnets[hop.subnet].network for hop in way.walk.hops if hop.subnet in estate.subnets]
    if way.walk.onward in (None, Onward.JOINED, Onward.TABLE):
        for prefix in estate.destinations[estate.flows[way.flow].to].prefixes[:1]:
            found = estate.subnet_table.match(prefix.network_address)
            passed += [estate.subnets[found[1]].network] if found else []
    for one, other in zip(passed, passed[1:], strict=False):
        if one != other:
            yield one, other


class Meters:
    """The month's volumes, in the catalogue's unit, where they are charged."""

    def __init__(self, ways: Ways, times: Mapping[str, Fraction] | None = None) -> None:
        """`times` multiplies the volumes of flows by name."""
        self.unit = BYTES_PER_UNIT[ways.described.catalogue.volume_unit]
        self.at_exit: dict[str, Metered] = {name: {} for name in ways.described.estate.exits}
        self.to_internet: Metered = {}
        self.to_services: Metered = {}
        self.crossing: dict[tuple[str, str], Metered] = {}
        self.between_networks: dict[tuple[str, str, bool], Metered] = {}
        """By network left, network entered, and whether they lie in different regions."""
        for way in ways.ways:
            if way.walk.verdict.arrives:
                volume = month_volume(ways.described, way)
                if times is not None and way.flow in times:
                    more = times[way.flow]
                    volume = Volume(volume.out_bytes * more, volume.in_bytes * more)
                self._count(ways, way, volume)

    def _count(self, ways: Ways, way: Way, volume: Volume) -> None:
        for name in way.walk.exits:
            self._add(self.at_exit[name], Use(name, way.flow), volume.both_bytes)
        for hop in way.walk.hops:
            if hop.crosses_zone:
                meter = self.crossing.setdefault((hop.from_zone or "", hop.to_zone or ""), {})
                self._add(meter, Use(hop.exit, way.flow), volume.both_bytes)
        for one, other in networks_left(ways, way):
            regions = {ways.described.estate.networks[name].region for name in (one, other)}
            meter = self.between_networks.setdefault((one, other, len(regions) > 1), {})
            self._add(meter, Use("", way.flow), volume.both_bytes)
        if way.walk.onward is Onward.INTERNET:
            destination = ways.described.estate.destinations[ways.described.estate.flows[way.flow].to]
            meter = self.to_services if destination.service else self.to_internet
            self._add(meter, Use(way.walk.exits[-1], way.flow), volume.out_bytes)

    def _add(self, meter: Metered, use: Use, volume: Fraction) -> None:
        meter[use] = meter.get(use, Fraction(0)) + volume / self.unit
