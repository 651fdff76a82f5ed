"""Where the month's volumes are charged: on exits, at doors, between zones."""

from fractions import Fraction

from fenrask.charges.lines import Use
from fenrask.demand import Volume, month_volume
from fenrask.estate import Onward
from fenrask.routing import Way, Ways
from fenrask.units import BYTES_PER_UNIT

__all__ = ["Metered", "Meters"]

Metered = dict[Use, Fraction]
"""Volume units by use."""


class Meters:
    """The month's volumes, in the catalogue's unit, where they are charged."""

    def __init__(self, ways: Ways) -> None:
        self.unit = BYTES_PER_UNIT[ways.described.catalogue.volume_unit]
        self.at_exit: dict[str, Metered] = {name: {} for name in ways.described.estate.exits}
        self.to_internet: Metered = {}
        self.to_services: Metered = {}
        self.crossing: dict[tuple[str, str], Metered] = {}
        for way in ways.ways:
            if way.walk.verdict.arrives:
                self._count(ways, way, month_volume(ways.described, way))

    def _count(self, ways: Ways, way: Way, volume: Volume) -> None:
        for name in way.walk.exits:
            self._add(self.at_exit[name], Use(name, way.flow), volume.both_bytes)
        for hop in way.walk.hops:
            if hop.crosses_zone:
                meter = self.crossing.setdefault((hop.from_zone or "", hop.to_zone or ""), {})
                self._add(meter, Use(hop.exit, way.flow), volume.both_bytes)
        if way.walk.onward is Onward.INTERNET:
            destination = ways.described.estate.destinations[ways.described.estate.flows[way.flow].to]
            meter = self.to_services if destination.service else self.to_internet
            self._add(meter, Use(way.walk.exits[-1], way.flow), volume.out_bytes)

    def _add(self, meter: Metered, use: Use, volume: Fraction) -> None:
        meter[use] = meter.get(use, Fraction(0)) + volume / self.unit
