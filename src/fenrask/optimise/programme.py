"""The choice as a mixed-integer programme: the variables for lanes, sites and addresses, and what is due anyway.

One binary for each unit and lane; a site is open where a lane that uses it is taken, lane by lane (the strong form)
and, for when that takes too long, in one row; so many addresses of a site are one binary each, with their cheapest
purchase and its entries. What sites hold is in `rooms`, what is paid by volume in `metered`, what partners' lists
take in `partners`.
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from fractions import Fraction
from math import ceil

from fenrask.charges import estate_wide
from fenrask.estate import Commitment, Offer
from fenrask.optimise.amounts import Amounts, Laid
from fenrask.optimise.problem import Option, Site, Unit
from fenrask.optimise.sites import standing_site
from fenrask.prefixes import fewest_prefixes
from fenrask.programming import Program
from fenrask.units import exact

__all__ = ["AddressChoice", "Model", "Spent"]

MOST_ADDRESSES = 64


@dataclass(frozen=True)
class AddressChoice:
    """So many addresses at a site: what they cost a month, the entries they take, and whether they are those listed."""

    number: int
    month: Fraction
    entries: int
    listed: bool = False


@dataclass(frozen=True)
class Spent:
    """What a variable costs as an item of the bill, before any discount."""

    item: str
    offer: str
    variable: int
    month: float


@dataclass
class Model:
    """The programme and what its variables stand for."""

    amounts: Amounts
    units: list[Unit]
    program: Program = field(default_factory=Program)
    taken: dict[tuple[int, Option], int] = field(default_factory=dict)
    opened: dict[Site, int] = field(default_factory=dict)
    purchases_of: dict[Site, list[tuple[AddressChoice, int]]] = field(default_factory=dict)
    using: dict[Site, list[tuple[int, Option]]] = field(default_factory=dict)
    """The units and lanes that use each site."""
    laid: dict[tuple[int, Option], dict[Site, Laid]] = field(default_factory=dict)
    spent: list[Spent] = field(default_factory=list)
    public: dict[str, int] = field(default_factory=dict)
    """By workload: whether each of its hosts gets a public address."""

    def __post_init__(self) -> None:
        self._options()
        self._routes()
        self._sites()

    @property
    def sites(self) -> list[Site]:
        return list(self.opened)

    def offer(self, name: str) -> Offer:
        return self.amounts.described.catalogue.offers[name]

    def hosts(self, workload: str) -> int:
        """How many hosts a workload has."""
        return self.amounts.described.estate.workloads[workload].hosts

    def passing(self, site: Site, offer: str) -> list[tuple[int, Option]]:
        """The units and lanes that use a site and pass an offer of it on their way."""
        return [key for key in self.using[site] if offer in site.passed_from(self.units[key[0]].network)]

    def _options(self) -> None:
        """Each unit takes one lane; those of one service that share an endpoint by name take it together."""
        for number, unit in enumerate(self.units):
            for option in unit.open_options:
                month = float(self.amounts.crossing_month(unit, option))
                self.taken[number, option] = self.program.variable(month, follows=True)
                self.laid[number, option] = dict(self.amounts.laid(unit, option))
                if option.own_addresses:
                    self._given_addresses(self.taken[number, option], unit)
            self.program.row({self.taken[number, option]: 1.0 for option in unit.open_options}, 1, 1)

    def _given_addresses(self, taken: int, unit: Unit) -> None:
        """A lane for which every host of its workloads has a public address."""
        described = self.amounts.described
        month = float(described.catalogue.hours_per_month)
        for name in dict.fromkeys(described.estate.flows[one].from_ for one in unit.flows):
            if name not in self.public:
                self.public[name] = self.program.variable()
                for subnet in (stated := described.estate.workloads[name]).subnets:
                    region = described.estate.networks[described.estate.subnets[subnet].network].region
                    hour = float(described.catalogue.addresses_in(region).hour)
                    self.spend("addresses", "", self.public[name], stated.hosts / len(stated.subnets) * month * hour)
            self.program.row({taken: 1.0, self.public[name]: -1.0}, high=0)

    def _routes(self) -> None:
        """A subnet has one route to a destination: units that share both lead there by the same site."""
        sharing: dict[tuple[str, str, int | None], list[int]] = {}
        for number, unit in enumerate(self.units):
            for subnet in unit.subnets:
                sharing.setdefault((subnet, unit.to, unit.group.family), []).append(number)
        for (subnet, *_), numbers in sharing.items():
            for other in numbers[1:]:
                one, two = self._leading(numbers[0], subnet), self._leading(other, subnet)
                for site in {**one, **two}:
                    taken = dict.fromkeys(one.get(site, []), 1.0)
                    self.program.row({**taken, **dict.fromkeys(two.get(site, []), -1.0)}, 0, 0)

    def _leading(self, number: int, subnet: str) -> dict[Site | None, list[int]]:
        """The lanes of a unit by the site that they lead a subnet to; None where all stays as it is."""
        unit, found = self.units[number], dict[Site | None, list[int]]()
        place = unit.subnets.index(subnet)
        for option in unit.open_options:
            found.setdefault(option.sites[place] if option.sites else None, []).append(self.taken[number, option])
        return found

    def _sites(self) -> None:
        for (number, option), variable in self.taken.items():
            for site in option.distinct:
                self._open(site)
                self.program.row({variable: 1.0, self.opened[site]: -1.0}, high=0, tightens=True)
                self.using.setdefault(site, []).append((number, option))
        for site, variable in self.opened.items():
            using = [self.taken[key] for key in self.using[site]]
            self.program.row({variable: 1.0, **dict.fromkeys(using, -1.0)}, high=0)
            self.program.row({variable: -float(len(using)), **dict.fromkeys(using, 1.0)}, high=0)
            if site.translates:
                self._addresses(site, variable)
            elif site.subnets:
                self._found_by_name(site, variable)

    def _open(self, site: Site) -> None:
        """A site with what it costs to stand there."""
        if site in self.opened:
            return
        self.opened[site] = self.program.variable()
        for offer in site.offers:
            work = self.offer(offer).upkeep_hours * float(self.amounts.described.estate.wage_per_hour)
            self.program.cost[self.opened[site]] += self.places(site) * work
            self.spend("hours", offer, self.opened[site], self.hours_month(site, offer))

    def stand(self, names: Iterable[str]) -> None:
        """Exits that stay whatever uses them; with their addresses where no lane leads to them."""
        estate = self.amounts.described.estate
        for name in names:
            known = [site for site in self.opened if site.existing == name]
            if not known and name in estate.exits and estate.exits[name].offer_name:
                site = standing_site(self.amounts.described, name, passes=True)
                self._open(site)
                self.using[site] = []
                stated = estate.exits[name].stated_addresses
                number = max(len(estate.exits[name].listed_addresses), 1 if stated is None else stated)
                hour = self.amounts.described.catalogue.addresses_in(self.region(site)).hour
                month = float(number * hour * self.amounts.described.catalogue.hours_per_month)
                self.spend("addresses", site.offer, self.opened[site], month)
                known = [site]
            for site in known:
                self.program.row({self.opened[site]: 1.0}, low=1)

    def hours_month(self, site: Site, offer: str) -> float:
        """What an offer of an open site costs a month for standing there; a begun hour counts whole."""
        hours = float(self.amounts.described.catalogue.hours_per_month)
        if site.existing:
            running = self.amounts.described.estate.exits[site.existing].running_hours
            hours = hours if running is None else min(hours, float(ceil(exact(running))))
        return self.places(site) * hours * float(self.offer(offer).rates_in(self.region(site)).hour)

    def spend(self, item: str, offer: str, variable: int, month: float) -> None:
        """A variable costs so much a month as an item of the bill; shares that commitments take off are taken off."""
        covering = [one for one in self.commitments if one.covers(item, offer) and one.share is not None]
        self.program.cost[variable] += month * (1.0 - sum(float(one.share or 0) for one in covering))
        self.spent.append(Spent(item, offer, variable, month))

    def add_commitments(self) -> None:
        """Fixed sums that commitments take off, at most all that they cover; to be called when all is spent."""
        for one in self.commitments:
            if one.month_off is not None:
                off = self.program.variable(-1.0, float(one.month_off), integral=False)
                row = {off: 1.0}
                for spent in self.spent:
                    if one.covers(spent.item, spent.offer):
                        row[spent.variable] = row.get(spent.variable, 0.0) - spent.month
                self.program.row(row, high=0)

    @property
    def commitments(self) -> list[Commitment]:
        return list(self.amounts.described.catalogue.commitments.values())

    @property
    def not_counted(self) -> list[str]:
        """What the bill knows and the programme does not, so that its proof is one but for it."""
        found = []
        for site in self.opened:
            for offer in site.offers:
                rates = self.offer(offer).rates_in(self.region(site))
                if rates.month_minimum and estate_wide(rates.processed_per_gb):
                    found.append(f"the least sum of {offer}")
        return list(dict.fromkeys(found))

    def places(self, site: Site) -> int:
        """How many times an hour of it is paid."""
        return self.amounts.described.estate.exits[site.existing].units if site.existing else site.places

    def region(self, site: Site) -> str:
        stated = self.amounts.described.estate.networks.get(site.network)
        return stated.region if stated else ""

    def _found_by_name(self, site: Site, opened: int) -> None:
        """Hosts find an in-subnet endpoint by name: where one is, all of its network use it."""
        for number, unit in enumerate(self.units):
            if unit.network == site.network and unit.to == site.destination:
                using = [self.taken[number, option] for option in unit.open_options if site in option.distinct]
                self.program.row({opened: 1.0, **dict.fromkeys(using, -1.0)}, high=0)

    def _addresses(self, site: Site, opened: int) -> None:
        """One holding for an open site, none for another."""
        choices = [(one, self.program.variable()) for one in self._purchases_of(site)]
        for one, variable in choices:
            self.spend("addresses", site.offer, variable, float(one.month))
        self.purchases_of[site] = choices
        self.program.row({opened: -1.0, **{variable: 1.0 for _, variable in choices}}, 0, 0)
        single = [variable for one, variable in choices if one.number == 1]
        for key in self.using[site]:
            if key[1].singles:
                self.program.row({self.taken[key]: 1.0, **dict.fromkeys(single, -1.0)}, high=0)

    def _purchases_of(self, site: Site) -> Iterator[AddressChoice]:
        described = self.amounts.described
        stated = described.catalogue.addresses_in(self.region(site))
        month = exact(described.catalogue.hours_per_month)
        listed = described.estate.exits[site.existing].listed_addresses if site.existing else ()
        if listed:
            number = len(listed)
            yield AddressChoice(number, number * exact(stated.hour) * month, len(fewest_prefixes(listed)), listed=True)
        most = min(self.offer(site.offer).limits.addresses or MOST_ADDRESSES, MOST_ADDRESSES)
        for number in range(1, most + 1):
            for one in self.amounts.purchases(self.region(site), number):
                yield AddressChoice(number, one.hour * month, one.entries)
