"""What each lane of each unit lays on each site: connections, bytes, money for crossing zones."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from fenrask.addresses import SINGLE, Purchase, purchases
from fenrask.charges import networks_left
from fenrask.demand import POINTS_PER_STEP, Demand, Family, Series, flow_volume
from fenrask.estate import Described, Onward, Transfer
from fenrask.optimise.problem import Group, Option, Site, Unit
from fenrask.routing import FlowPath, Paths, SubnetPath
from fenrask.teletraffic import concurrent_each, erlang_b
from fenrask.units import BYTES_PER_UNIT, exact

__all__ = ["Amounts", "Laid"]


@dataclass(frozen=True)
class Laid:
    """What one lane lays on one site: arrays of shape (n_times,) and (n_steps,)."""

    concurrent: Series
    """Connections held toward all addresses of the destination."""
    filling: Series
    """Of these, the ones that may fill all ports there are: those that are always open, or that hosts cap."""
    new_per_s: Series
    bits_per_s: Series
    packets_per_s: Series
    volume: Fraction
    """Both ways, in the catalogue's unit, a month."""


@dataclass
class Amounts:
    """Everything that the choice counts with; each law of holds is computed once."""

    paths: Paths
    demand: Demand
    """For its times: what lanes lay on sites is worked out here."""
    inward: Sequence[FlowPath] | None = None
    """The paths of what comes in, where these are others than in the estate as it is."""
    _known: dict[tuple[object, ...], Series] = field(default_factory=dict)
    _by_group: dict[Group, tuple[Fraction, Fraction]] = field(default_factory=dict)
    _volumes: dict[str, tuple[Fraction, Fraction]] = field(default_factory=dict)
    _purchases: dict[tuple[str, int], list[Purchase]] = field(default_factory=dict)

    @property
    def described(self) -> Described:
        return self.paths.described

    @property
    def coming_in(self) -> list[FlowPath]:
        """The paths of what comes in and arrives."""
        paths = self.paths.inward if self.inward is None else self.inward
        return [path for path in paths if path.example.verdict.arrives]

    def laid(self, unit: Unit, option: Option) -> Mapping[Site, Laid]:
        """By site; a site that serves several subnets of the unit gets all of theirs."""
        return self._laid(unit, option.sites, unit.group.weights, option.also)

    def laid_without(self, unit: Unit, option: Option, zone: str) -> Mapping[Site, Laid]:
        """The same when a zone is lost: its load moves to the unit's other subnets; sites in it carry nothing."""
        subnets = self.described.estate.subnets
        each = zip(unit.subnets, option.sites, unit.group.weights, strict=False)
        left = [(site, weight) for name, site, weight in each if subnets[name].zone != zone]
        whole = sum((weight for _, weight in left), Fraction(0))
        laid = self._laid(unit, [site for site, _ in left], [weight / whole for _, weight in left])
        return {site: one for site, one in laid.items() if not site.falls_with(zone)}

    def _laid(
        self,
        unit: Unit,
        sites: Sequence[Site],
        weights: Sequence[Fraction],
        also: tuple[tuple[Site, Fraction], ...] = (),
    ) -> dict[Site, Laid]:
        """All of a unit, each site with the load of the subnets that use it, and shares that pass others beside."""
        parts: dict[Site, Fraction] = {}
        for site, share in (*zip(sites, weights, strict=False), *also):
            parts[site] = parts.get(site, Fraction(0)) + share
        out, back = self.volume(unit)
        found = {}
        for site, part in parts.items():
            concurrent = np.zeros(self.demand.times_s.size)
            new, bits, packets = (np.zeros(concurrent.size // POINTS_PER_STEP) for _ in range(3))
            filling = np.zeros(concurrent.size)
            for name in unit.flows:
                its_held, its_new, its_bits, its_packets = self._flow(name, unit, site.offer if site.translates else "")
                concurrent += float(part) * its_held
                if self._is_capped(name):
                    filling += float(part) * its_held
                else:
                    filling += float(part * unit.group.part) * self._always_open(name)
                new += float(part) * its_new
                bits += float(part) * its_bits
                packets += float(part) * its_packets
            found[site] = Laid(concurrent, filling, new, bits, packets, (out + back) * part)
        return found

    def _flow(self, name: str, unit: Unit, offer: str) -> tuple[Series, Series, Series, Series]:
        """What one flow of a unit lays on a site that serves all of it: held, new per s, bits and packets per s.

        `offer` is that of the translator that keeps ports; empty where connections are held for their lives alone.
        """
        traffic = self.described.traffic
        row, wire = traffic.number[name], traffic.on_wire
        profile = self._profile(traffic.profiles[traffic.profile[row]])
        share = float(unit.group.part)
        rate = share * float(traffic.rate_per_s[row])
        concurrent = share * self._always_open(name) + rate * self._concurrent(name, offer) * self._opened(name)
        mean = float(np.mean(profile))
        shape = profile / mean if rate and mean else np.ones(profile.size)
        bits, packets = float(wire.bytes_per_s[row]) * 8, float(wire.packets_per_s[row])
        return concurrent, rate * profile, share * bits * shape, share * packets * shape

    def _is_capped(self, name: str) -> bool:
        """Whether hosts open but so many connections of a flow."""
        traffic = self.described.traffic
        return bool(np.isfinite(traffic.max_open[traffic.number[name]]))

    def _opened(self, name: str) -> Series | float:
        """The share of its new connections that a flow's hosts open, each but so many at once (Erlang's formula)."""
        if not self._is_capped(name):
            return 1.0
        traffic, flow = self.described.traffic, self.described.estate.flows[name]
        row, hosts = traffic.number[name], max(1, self.described.estate.workloads[flow.from_].hosts)
        each = float(traffic.rate_per_s[row]) / hosts * self._concurrent(name, "")
        opened: Series = 1.0 - np.asarray(erlang_b(float(traffic.max_open[row]) / hosts, each))
        return opened

    def _always_open(self, name: str) -> float:
        """The connections of a whole flow that are always open."""
        flow = self.described.estate.flows[name]
        return self.described.estate.workloads[flow.from_].hosts * (flow.persistent_per_host or 0.0)

    def _volume(self, name: str) -> tuple[Fraction, Fraction]:
        """Bytes sent and received by a whole flow in a month."""
        if name not in self._volumes:
            whole = flow_volume(self.described, name)
            self._volumes[name] = (whole.out_bytes, whole.in_bytes)
        return self._volumes[name]

    def volume(self, unit: Unit) -> tuple[Fraction, Fraction]:
        """Sent and received by a unit in a month were all of it to arrive, in the catalogue's unit."""
        if unit.group not in self._by_group:
            size = BYTES_PER_UNIT[self.described.catalogue.volume_unit]
            out, back = Fraction(0), Fraction(0)
            for name in unit.flows:
                share = unit.group.part / size
                out, back = out + self._volume(name)[0] * share, back + self._volume(name)[1] * share
            self._by_group[unit.group] = (out, back)
        return self._by_group[unit.group]

    def purchases(self, region: str, number: int) -> list[Purchase]:
        """What there is to buy for so many addresses in a region: the cheapest for each number of entries."""
        if (region, number) not in self._purchases:
            stated = self.described.catalogue.addresses_in(region)
            prices = {length: exact(stated.block_hour(length)) for length in (*stated.blocks, SINGLE)}
            self._purchases[region, number] = list(purchases(number, prices))
        return self._purchases[region, number]

    def crossing(self, unit: Unit, option: Option) -> Fraction:
        """The volume that crosses zones on its way to the sites of a lane, both ways."""
        subnets = self.described.estate.subnets
        out, back = self.volume(unit)
        crossed = Fraction(0)
        for name, site, weight in zip(unit.subnets, option.sites, unit.group.weights, strict=True):
            own, there = subnets[name].zone, {site.zone}
            if site.subnets:
                there = {subnets[one].zone for one in site.subnets}
                there = {own} if own in there else {subnets[site.subnets[0]].zone}
            if None not in (own, *there) and own not in there:
                crossed += (out + back) * weight
        return crossed

    def crossing_month(self, unit: Unit, option: Option) -> Fraction:
        """What a unit's crossings of zones, networks and regions cost a month on its way to a lane's sites."""
        if option.exists:
            return self._along(unit, option)[0]
        entered = option.sites[0].network
        zones = self.crossing(unit, option) * Fraction(self._transfer(entered).cross_zone_per_gb)
        if entered == unit.network:
            return zones
        return zones + sum(self.volume(unit)) * self._between(unit.network, entered)

    def _between(self, one: str, other: str) -> Fraction:
        """What a unit of volume costs that goes from one network to another."""
        networks, tariff = self.described.estate.networks, self._transfer(one)
        far = networks[one].region != networks[other].region
        return Fraction(tariff.cross_region_per_gb if far else tariff.cross_network_per_gb)

    def sent_along(self, unit: Unit, option: Option) -> Mapping[str, Fraction]:
        """What a unit sends to the internet on a path that exists, by the exit at which it leaves."""
        return self._along(unit, option)[1]

    def _along(self, unit: Unit, option: Option) -> tuple[Fraction, dict[str, Fraction]]:
        """The cost of crossings on a path that exists, and what leaves for the internet there, by the last exit."""
        crossed, sent = Fraction(0), dict[str, Fraction]()
        for path in self._paths_of(unit, option):
            out, both = self.volume_of(path)
            crossed += self.crossed(path, both)
            if path.trace.onward is Onward.INTERNET:
                last = path.trace.exits[-1]
                sent[last] = sent.get(last, Fraction(0)) + out
        return crossed, sent

    def volume_of(self, path: FlowPath) -> tuple[Fraction, Fraction]:
        """What a path of a flow sends in a month, and what it carries both ways, in the catalogue's unit."""
        size = BYTES_PER_UNIT[self.described.catalogue.volume_unit]
        out, back = (path.share * one / size for one in self._volume(path.flow))
        return out, out + back

    def crossed(self, path: FlowPath, both: Fraction) -> Fraction:
        """What a path's crossings of zones, networks and regions cost a month, of the volume that it carries."""
        estate, money = self.described.estate, Fraction(0)
        for hop in path.trace.hops:
            if hop.crosses_zone:
                exit_ = estate.exits[hop.exit if hop.exit in estate.exits else path.trace.exits[-1]]
                money += both * Fraction(self._transfer(estate.network_of(exit_) or "").cross_zone_per_gb)
        for one, other in networks_left(self.described, path.trace):
            money += both * self._between(one, other)
        return money

    def _paths_of(self, unit: Unit, option: Option) -> Iterator[FlowPath]:
        """The paths of a unit's flows by an option that exists: those that they have, or those that were traced."""
        for name in unit.flows:
            if not option.traces:
                yield from (one for one in self.paths.by_flow[name] if unit.holds(one))
                continue
            for subnet, trace, weight in zip(unit.subnets, option.traces, unit.group.weights, strict=True):
                yield FlowPath(name, SubnetPath(subnet, trace, unit.group.part * weight))

    def _transfer(self, network: str) -> Transfer:
        stated = self.described.estate.networks.get(network)
        return self.described.catalogue.transfer_in(stated.region if stated else "")

    def _profile(self, name: str) -> Series:
        return self.demand.multipliers(name)

    def _concurrent(self, flow_name: str, offer: str) -> Series:
        """Connections held by one new one per s, at a site of an offer."""
        estate = self.described.estate
        flow, traffic = estate.flows[flow_name], self.described.traffic
        protocol, row = estate.destinations[flow.to].protocol, traffic.number[flow_name]
        profile, duration_s = traffic.profiles[traffic.profile[row]], float(traffic.duration_s[row])
        key = (profile, offer, protocol, duration_s, *flow.ending_key)
        if key not in self._known:
            law = Family.of(flow, protocol, self.described.catalogue.offers.get(offer)).law(duration_s)
            times, step_s = self.demand.times_s, self.demand.step_s
            self._known[key] = concurrent_each(times, self._profile(profile), step_s, [law])[0]
        return self._known[key]
