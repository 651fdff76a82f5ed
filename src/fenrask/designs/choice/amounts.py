"""What each lane of each unit lays on each site: connections, bytes, money for crossing zones."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from fenrask.demand import POINTS_PER_HOUR, Series, flow_volume, holding, new_per_s
from fenrask.designs.choice.lanes import Lane, Site, Unit
from fenrask.estate import Described, Onward
from fenrask.routing import Ways
from fenrask.teletraffic import held_each
from fenrask.units import BYTES_PER_UNIT, SECONDS_PER_HOUR

__all__ = ["Amounts", "Laid"]


@dataclass(frozen=True)
class Laid:
    """What one lane lays on one site: arrays of shape (n_times,) and (n_hours,)."""

    held: Series
    """Connections held toward all addresses of the destination."""
    new_per_s: Series
    bits_per_s: Series
    volume: Fraction
    """Both ways, in the catalogue's unit, a month."""
    hosts: int
    subnets: int


@dataclass
class Amounts:
    """Everything that the choice counts with; each law of holds is computed once."""

    ways: Ways
    hours: int
    _known: dict[tuple[str, str], Series] = field(default_factory=dict)

    @property
    def described(self) -> Described:
        return self.ways.described

    def laid(self, unit: Unit, lane: Lane) -> Mapping[Site, Laid]:
        """By site; a site that serves several subnets of the unit gets all of theirs."""
        estate, flow = self.described.estate, self.described.estate.flows[unit.flow]
        workload = estate.workloads[flow.from_]
        out, back = self.volume(unit)
        found = {}
        for site in lane.distinct:
            number = lane.sites.count(site)
            part = float(unit.share) * number / len(unit.subnets)
            rhythm = self._rhythm(flow.rhythm)
            rate = part * new_per_s(flow, workload.hosts)
            standing = part * workload.hosts * (flow.pool_per_host or 0.0)
            held = standing + rate * self._held(unit.flow, site)
            volume = (out + back) * number / len(unit.subnets)
            bits = float(volume) * BYTES_PER_UNIT[self.described.catalogue.volume_unit] * 8 / self._month_s
            mean = float(np.mean(rhythm))
            shape = rhythm / mean if rate and mean else np.ones(self.hours)
            hosts = -(-workload.hosts * number // len(workload.subnets))
            found[site] = Laid(held, rate * rhythm, bits * shape, volume, hosts, number)
        return found

    def volume(self, unit: Unit) -> tuple[Fraction, Fraction]:
        """Sent and received by a unit in a month were all of it to arrive, in the catalogue's unit."""
        whole = flow_volume(self.described, unit.flow)
        size = BYTES_PER_UNIT[self.described.catalogue.volume_unit] / unit.share
        return whole.out_bytes / size, whole.in_bytes / size

    def crossing(self, unit: Unit, lane: Lane) -> Fraction:
        """The volume that crosses zones on its way to the sites of a lane, both ways."""
        subnets = self.described.estate.subnets
        out, back = self.volume(unit)
        each = (out + back) / len(unit.subnets)
        crossed = Fraction(0)
        for name, site in zip(unit.subnets, lane.sites, strict=True):
            own, there = subnets[name].zone, {site.zone}
            if site.subnets:
                there = {subnets[one].zone for one in site.subnets}
                there = {own} if own in there else {subnets[site.subnets[0]].zone}
            if None not in (own, *there) and own not in there:
                crossed += each
        return crossed

    def as_it_is(self, unit: Unit) -> tuple[Fraction, Fraction]:
        """Of a unit that keeps its ways: the volume that crosses zones, and what is sent to the internet."""
        out, back = self.volume(unit)
        own = [way for way in self.ways.by_flow[unit.flow] if way.subnet in unit.subnets]
        total = sum((way.share for way in own), Fraction(0)) or Fraction(1)
        crossed = [way.share * sum(hop.crosses_zone for hop in way.walk.hops) for way in own]
        sent = [way.share for way in own if way.walk.onward is Onward.INTERNET]
        return sum(crossed, Fraction(0)) / total * (out + back), sum(sent, Fraction(0)) / total * out

    @property
    def _month_s(self) -> float:
        return float(self.described.catalogue.hours_per_month) * SECONDS_PER_HOUR

    def _rhythm(self, name: str | None) -> Series:
        if name is None:
            return np.ones(self.hours)
        return np.resize(np.array(self.described.estate.rhythms[name], dtype=np.float64), self.hours)

    def _held(self, flow_name: str, site: Site) -> Series:
        """Connections held by one new one per s, at a site of an offer; nothing of its own for an endpoint."""
        key = (flow_name, site.offer if site.translates else "")
        if key not in self._known:
            estate = self.described.estate
            flow = estate.flows[flow_name]
            offer = self.described.catalogue.offers[site.offer] if site.translates else None
            law = holding(flow, estate.destinations[flow.to].protocol, offer).law
            times = np.arange(self.hours * POINTS_PER_HOUR, dtype=np.float64) * (SECONDS_PER_HOUR / POINTS_PER_HOUR)
            self._known[key] = held_each(times, self._rhythm(flow.rhythm), SECONDS_PER_HOUR, [law])[0]
        return self._known[key]
