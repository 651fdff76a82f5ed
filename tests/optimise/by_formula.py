"""What options lay on sites by formulas alone: no patch is made and no path followed, as a second way to `trials`."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from fenrask.demand import Demand, Family, Series, flow_volume
from fenrask.optimise.problem import Option, Site, Unit
from fenrask.teletraffic import concurrent_each
from fenrask.units import BYTES_PER_UNIT


@dataclass(frozen=True)
class Laid:
    """Connections held through the day, and bytes both ways in a month, in the catalogue's unit."""

    concurrent: Series
    volume: Fraction


@dataclass
class ByFormula:
    """Loads and volumes from what an estate states, and where an option's sites are."""

    demand: Demand
    _held: dict[tuple[str, str], Series] = field(default_factory=dict)

    def laid(self, unit: Unit, option: Option) -> Mapping[Site, Laid]:
        """By site; a site that serves several subnets of the unit gets all of theirs."""
        shares = [(site, weight) for site, weight in zip(option.sites, unit.group.weights, strict=False)]
        shares += [(wall, weight) for wall, weight in zip(option.before, unit.group.weights, strict=False)]
        return self._laid(unit, shares)

    def laid_without(self, unit: Unit, option: Option, zone: str) -> Mapping[Site, Laid]:
        """The same when a zone is lost: its load moves to the unit's other subnets; sites in it carry nothing."""
        subnets = self.demand.paths.described.estate.subnets
        each = zip(unit.subnets, option.sites, unit.group.weights, strict=False)
        left = [(site, weight) for name, site, weight in each if subnets[name].zone != zone]
        whole = sum((weight for _, weight in left), Fraction(0))
        laid = self._laid(unit, [(site, weight / whole) for site, weight in left])
        return {site: one for site, one in laid.items() if not site.falls_with(zone)}

    def volume(self, unit: Unit) -> tuple[Fraction, Fraction]:
        """Sent and received by a unit in a month, in the catalogue's unit."""
        described = self.demand.paths.described
        size = BYTES_PER_UNIT[described.catalogue.volume_unit]
        whole = [flow_volume(described, name) for name in unit.flows]
        out, back = sum(one.out_bytes for one in whole), sum(one.in_bytes for one in whole)
        return out * unit.group.part / size, back * unit.group.part / size

    def crossing(self, unit: Unit, option: Option) -> Fraction:
        """The volume that crosses zones on its way to the sites of an option, both ways."""
        subnets, crossed = self.demand.paths.described.estate.subnets, Fraction(0)
        for name, site, weight in zip(unit.subnets, option.sites, unit.group.weights, strict=True):
            own, there = subnets[name].zone, {site.zone}
            if site.subnets:
                there = {subnets[one].zone for one in site.subnets}
                there = {own} if own in there else {subnets[site.subnets[0]].zone}
            if None not in (own, *there) and own not in there:
                crossed += sum(self.volume(unit)) * weight
        return crossed

    def _laid(self, unit: Unit, shares: Sequence[tuple[Site, Fraction]]) -> dict[Site, Laid]:
        parts: dict[Site, Fraction] = {}
        for site, share in shares:
            parts[site] = parts.get(site, Fraction(0)) + share
        found = {}
        for site, part in parts.items():
            concurrent = np.zeros(self.demand.times_s.size)
            for name in unit.flows:
                concurrent += float(part * unit.group.part) * self._of(name, site.offer if site.translates else "")
            found[site] = Laid(concurrent, sum(self.volume(unit), Fraction(0)) * part)
        return found

    def _of(self, name: str, offer: str) -> Series:
        """Connections of a whole flow held at an offer's site."""
        described = self.demand.paths.described
        flow, traffic = described.estate.flows[name], described.traffic
        row, protocol = traffic.number[name], described.estate.destinations[flow.to].protocol
        if (name, offer) not in self._held:
            law = Family.of(flow, protocol, described.catalogue.offers.get(offer)).law(float(traffic.duration_s[row]))
            profile = self.demand.multipliers(traffic.profiles[traffic.profile[row]])
            each = concurrent_each(self.demand.times_s, profile, self.demand.step_s, [law])[0]
            self._held[name, offer] = float(traffic.rate_per_s[row]) * each
        return self._held[name, offer]
