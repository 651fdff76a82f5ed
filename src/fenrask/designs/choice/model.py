"""The choice as a mixed-integer programme: the variables for lanes, sites and addresses, and what is due anyway.

One binary for each unit and lane; a site is open where a lane that uses it is taken, lane by lane (the strong
form); so many addresses of a site are one binary each, with their cheapest purchase and its entries. What sites
hold is in `rooms`, what is paid by volume in `metered`, what partners' lists take in `partners`.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field
from fractions import Fraction

from fenrask.addresses import SINGLE, purchases
from fenrask.designs.choice.amounts import Amounts, Laid
from fenrask.designs.choice.lanes import Lane, Site, Unit
from fenrask.designs.choice.program import Program
from fenrask.estate import Offer, Tiers
from fenrask.prefixes import fewest_prefixes
from fenrask.units import exact

__all__ = ["Holding", "Model"]

MOST_ADDRESSES = 64


@dataclass(frozen=True)
class Holding:
    """So many addresses at a site: what they cost a month, the entries they take, and whether they are those listed."""

    number: int
    month: Fraction
    entries: int
    listed: bool = False


@dataclass
class Model:
    """The programme and what its variables stand for."""

    amounts: Amounts
    units: list[Unit]
    program: Program = field(default_factory=Program)
    taken: dict[tuple[int, Lane], int] = field(default_factory=dict)
    opened: dict[Site, int] = field(default_factory=dict)
    holdings: dict[Site, list[tuple[Holding, int]]] = field(default_factory=dict)
    using: dict[Site, list[tuple[int, Lane]]] = field(default_factory=dict)
    """The units and lanes that use each site."""
    laid: dict[tuple[int, Lane], dict[Site, Laid]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._lanes()
        self._routes()
        self._sites()

    @property
    def sites(self) -> list[Site]:
        return list(self.opened)

    def offer(self, site: Site) -> Offer:
        return self.amounts.described.catalogue.offers[site.offer]

    def _lanes(self) -> None:
        """Each unit takes one lane; those of one service that share an endpoint by name take it together."""
        crossing = float(self.amounts.described.catalogue.transfer.cross_zone_per_gb)
        for number, unit in enumerate(self.units):
            for lane in unit.open_lanes:
                volume = self.amounts.crossing(unit, lane) if lane.sites else self.amounts.as_it_is(unit)[0]
                self.taken[number, lane] = self.program.variable(crossing * float(volume))
                self.laid[number, lane] = dict(self.amounts.laid(unit, lane))
            self.program.row({self.taken[number, lane]: 1.0 for lane in unit.open_lanes}, 1, 1)

    def _routes(self) -> None:
        """A subnet has one route to a destination: units that share both lead there by the same site."""
        sharing: dict[tuple[str, str], list[int]] = {}
        for number, unit in enumerate(self.units):
            for subnet in unit.subnets:
                sharing.setdefault((subnet, unit.to), []).append(number)
        for (subnet, _), numbers in sharing.items():
            for other in numbers[1:]:
                one, two = self._leading(numbers[0], subnet), self._leading(other, subnet)
                for site in {**one, **two}:
                    taken = dict.fromkeys(one.get(site, []), 1.0)
                    self.program.row({**taken, **dict.fromkeys(two.get(site, []), -1.0)}, 0, 0)

    def _leading(self, number: int, subnet: str) -> dict[Site | None, list[int]]:
        """The lanes of a unit by the site that they lead a subnet to; None where all stays as it is."""
        unit, found = self.units[number], dict[Site | None, list[int]]()
        place = unit.subnets.index(subnet)
        for lane in unit.open_lanes:
            found.setdefault(lane.sites[place] if lane.sites else None, []).append(self.taken[number, lane])
        return found

    def _sites(self) -> None:
        catalogue = self.amounts.described.catalogue
        month = float(catalogue.hours_per_month)
        for (number, lane), variable in self.taken.items():
            for site in lane.distinct:
                if site not in self.opened:
                    rates = self.offer(site).rates_in(self.region(site))
                    work = self.offer(site).upkeep_hours * float(self.amounts.described.estate.wage_per_hour)
                    hour = float(rates.hour) * self.paid("hours", site.offer)
                    self.opened[site] = self.program.variable(self.places(site) * (month * hour + work))
                self.program.row({variable: 1.0, self.opened[site]: -1.0}, high=0)
                self.using.setdefault(site, []).append((number, lane))
        for site, variable in self.opened.items():
            using = [self.taken[key] for key in self.using[site]]
            self.program.row({variable: 1.0, **dict.fromkeys(using, -1.0)}, high=0)
            if site.translates:
                self._addresses(site, variable)
            elif site.subnets:
                self._found_by_name(site, variable)

    def paid(self, item: str, offer: str) -> float:
        """The share of an item of the bill that is paid after what committed use takes off as a share."""
        commitments = self.amounts.described.catalogue.commitments.values()
        covering = [one for one in commitments if item in one.items and (not one.offers or offer in one.offers)]
        return 1.0 - sum(float(one.share) for one in covering if one.share is not None)

    @property
    def left_out(self) -> list[str]:
        """What the bill knows and the programme does not, so that its proof is one but for it."""
        catalogue = self.amounts.described.catalogue
        found = [f"the sum off of {name}" for name, one in catalogue.commitments.items() if one.month_off is not None]
        for site in self.opened:
            rates = self.offer(site).rates_in(self.region(site))
            if rates.month_minimum and isinstance(rates.processed_per_gb, Tiers):
                found.append(f"the least sum of {site.offer}")
            if site.existing and self.amounts.described.estate.exits[site.existing].running_hours is not None:
                found.append(f"the hours of {site.existing}")
        return list(dict.fromkeys(found))

    def places(self, site: Site) -> int:
        """How many times an hour of it is paid."""
        return self.amounts.described.estate.exits[site.existing].units if site.existing else site.places

    def region(self, site: Site) -> str:
        return self.amounts.described.estate.networks[site.network].region

    def _found_by_name(self, site: Site, opened: int) -> None:
        """Hosts find an in-subnet endpoint by name: where one is, all of its network use it."""
        for number, unit in enumerate(self.units):
            if unit.network == site.network and unit.to == site.destination:
                using = [self.taken[number, lane] for lane in unit.open_lanes if site in lane.distinct]
                self.program.row({opened: 1.0, **dict.fromkeys(using, -1.0)}, high=0)

    def _addresses(self, site: Site, opened: int) -> None:
        """One holding for an open site, none for another."""
        paid = self.paid("addresses", site.offer)
        choices = [(one, self.program.variable(float(one.month) * paid)) for one in self._holdings(site)]
        self.holdings[site] = choices
        self.program.row({opened: -1.0, **{variable: 1.0 for _, variable in choices}}, 0, 0)
        single = [variable for one, variable in choices if one.number == 1]
        for key in self.using[site]:
            if key[1].singles:
                self.program.row({self.taken[key]: 1.0, **dict.fromkeys(single, -1.0)}, high=0)

    def _holdings(self, site: Site) -> Iterator[Holding]:
        described = self.amounts.described
        stated = described.catalogue.addresses
        month = exact(described.catalogue.hours_per_month)
        prices = {length: exact(stated.block_hour(length)) for length in (*stated.blocks, SINGLE)}
        listed = described.estate.exits[site.existing].listed_addresses if site.existing else ()
        if listed:
            number = len(listed)
            yield Holding(number, number * exact(stated.hour) * month, len(fewest_prefixes(listed)), listed=True)
        most = min(self.offer(site).limits.addresses or MOST_ADDRESSES, MOST_ADDRESSES)
        for number in range(1, most + 1):
            for one in purchases(number, prices):
                yield Holding(number, one.hour * month, one.entries)
