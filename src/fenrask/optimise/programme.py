"""The choice as a mixed-integer programme: the variables for lanes, sites and addresses, and what is due anyway.

One binary for each unit and lane; a site is open where a lane that uses it is taken, lane by lane (the strong form)
and, for when that takes too long, in one row; so many addresses of a site are one binary each, with their cheapest
purchase and its entries. What sites hold is in `rooms`, what is paid by volume in `metered`, what partners' lists
take in `partners`.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from math import ceil

from fenrask.addresses import ExitAddresses, bought_at, listed_at
from fenrask.capacity import own_blocks, room_of
from fenrask.charges import address_month, hosts_by_rate, lasting_month
from fenrask.designs.held import idle_addresses
from fenrask.estate import Commitment, Described, Ports
from fenrask.evaluation import is_asked
from fenrask.optimise.blocks import blocks_wanted
from fenrask.optimise.counts import Counts
from fenrask.optimise.problem import Option, Role, Site, Unit
from fenrask.optimise.trials import Grounds, Laid, Placed, Tried
from fenrask.programming import Program

__all__ = ["AddressChoice", "Model", "Spent"]

_FEW_ADDRESSES, _MOST_ADDRESSES = 16, 1024
"""At least so many addresses of a site are choices, and at most so many."""


@dataclass(frozen=True)
class AddressChoice:
    """So many addresses at a site: what they cost a month, the entries they take, and whether they are those listed."""

    number: int
    month: Fraction
    entries: int
    listed: bool = False
    held: bool = False
    """Whether they are such as are held, and paid, in any case."""


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

    grounds: Grounds
    units: list[Unit]
    standing: frozenset[str] = frozenset()
    """Exits that stay whatever uses them."""
    program: Program = field(default_factory=Program)
    taken: dict[tuple[int, Option], int] = field(default_factory=dict)
    one_option: list[int] = field(default_factory=list)
    """The row of each unit that has it take one option."""
    opened: dict[Site, int] = field(default_factory=dict)
    purchases_of: dict[Site, list[tuple[AddressChoice, int]]] = field(default_factory=dict)
    using: dict[Site, list[tuple[int, Option]]] = field(default_factory=dict)
    """The units and lanes that use each site."""
    placed: dict[Site, Placed] = field(default_factory=dict)
    """The exit of each site that has an offer."""
    not_counted: dict[str, None] = field(default_factory=dict)
    """What the bill knows and the programme does not, so that its proof is one but for it."""
    spent: list[Spent] = field(default_factory=list)
    public: dict[str, int] = field(default_factory=dict)
    """By workload: whether each of its hosts gets a public address."""
    counted: Counts | None = None
    """What each variable changes of the estate as it is, where that is asked."""
    change: dict[int, float] = field(default_factory=dict)
    """What of the costs is for changes, spread over months, by variable."""
    change_without: float = 0.0
    """What changes cost where no variable is taken."""

    _sold: dict[tuple[str, int], list[tuple[Fraction, int]]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._options()
        self._routes()
        # What a site is, `_shared_exits` asks too.
        self._sites()
        self._shared_exits()

    def add_change(self, money: Mapping[int, float], without: float) -> None:
        """Let changes cost what they do."""
        self.change, self.change_without = dict(money), without
        for variable, month in money.items():
            self.program.cost[variable] += month

    def change_month(self, values: Sequence[float]) -> float:
        """What the changes of a solution cost a month."""
        return self.change_without + sum(month * values[variable] for variable, month in self.change.items())

    @property
    def sites(self) -> list[Site]:
        return list(self.opened)

    @property
    def described(self) -> Described:
        """The estate as it is."""
        return self.grounds.described

    def tried(self, key: tuple[int, Option]) -> Tried:
        """What an option of a unit does."""
        return self.grounds.tried[key]

    def laid(self, key: tuple[int, Option], site: Site) -> Laid:
        """What it lays on a site."""
        return self.tried(key).laid.get(site) or Laid()

    def users(self, site: Site) -> list[tuple[int, Laid]]:
        """The variables of the options that use a site, with what each lays on it."""
        return [(self.taken[key], self.laid(key, site)) for key in self.using[site]]

    def ports(self, site: Site) -> Ports:
        """The ports of an address of a translating site."""
        ports = self.placed[site].ports
        assert ports is not None
        return ports

    def numbers(self, site: Site) -> set[int]:
        """The numbers of addresses that it may have."""
        return {one.number for one, _ in self.purchases_of[site]}

    def hosts(self, workload: str) -> int:
        """How many hosts a workload has."""
        return self.described.estate.workloads[workload].hosts

    def _options(self) -> None:
        """Each unit takes one lane; those of one service that share an endpoint by name take it together."""
        for number, unit in enumerate(self.units):
            for option in unit.open_options:
                self.taken[number, option] = self.program.variable(0.0, follows=True)
                if option.own_addresses:
                    self._given_addresses(self.taken[number, option], number, option)
            self.one_option.append(len(self.program.rows))
            self.program.row({self.taken[number, option]: 1.0 for option in unit.open_options}, 1, 1)

    def _given_addresses(self, taken: int, number: int, option: Option) -> None:
        """A lane for which every host of its workloads has a public address."""
        flows, workloads = self.described.estate.flows, self.described.estate.workloads
        month = float(self.described.catalogue.hours_per_month)
        for name in dict.fromkeys(flows[one].from_ for one in self.units[number].flows):
            if workloads[name].public_address:
                # It has them, and they are paid for in any case.
                continue
            if name not in self.public:
                self.public[name] = self.program.variable()
                for rate, hosts in hosts_by_rate(self.tried((number, option)).described).get(name, ()):
                    self.spend("addresses", "", self.public[name], float(Fraction(rate) * hosts) * month)
            self.program.row({taken: 1.0, self.public[name]: -1.0}, high=0)

    def _routes(self) -> None:
        """A subnet has one route to a destination: units that share both name the same exit there."""
        sharing: dict[tuple[str, str], list[int]] = {}
        for number, unit in enumerate(self.units):
            for subnet in unit.subnets:
                sharing.setdefault((subnet, unit.to), []).append(number)
        for (subnet, *_), numbers in sharing.items():
            for other in numbers[1:]:
                first, second = self._named(numbers[0], subnet), self._named(other, subnet)
                for entry in {**first, **second}:
                    taken = dict.fromkeys(first.get(entry, []), 1.0)
                    self.program.row({**taken, **dict.fromkeys(second.get(entry, []), -1.0)}, 0, 0)

    def _shared_exits(self) -> None:
        """What a subnet's routes to several destinations must agree on, and a hub's default.

        A subnet uses no more gateways than its provider allows; and what is behind a firewall gets no direct
        traffic of the same subnet, since replies to a subnet take one path.
        """
        named: dict[str, dict[Site, dict[bool, list[int]]]] = {}
        for (number, option), variable in self.taken.items():
            for place, subnet in enumerate(self.units[number].subnets):
                if option.sites and option.sites[place].translates:
                    by_site = named.setdefault(subnet, {}).setdefault(option.sites[place], {True: [], False: []})
                    by_site[bool(option.before)].append(variable)
        for sites in named.values():
            most = self.described.catalogue.behaviour.gateways_per_subnet
            if most is not None:
                gates = [one[False] for site, one in sites.items() if self._one_for_each_subnet(site)]
                self._at_most(most, gates)
            for some in sites.values():
                self._one_return_path(some[True], some[False])
        through_hub: dict[Site, list[int]] = {}
        for (_, option), variable in self.taken.items():
            if option.before and option.before[0].role is Role.JOINS:
                through_hub.setdefault(option.sites[0], []).append(variable)
        # A hub has one default route.
        self._at_most(1, list(through_hub.values()))

    def _one_for_each_subnet(self, site: Site) -> bool:
        placed = self.placed.get(site)
        return placed is not None and placed.described.estate.exits[placed.name].one_for_each_subnet

    def _at_most(self, most: int, groups: list[list[int]]) -> None:
        """Of several groups of variables at most this many have any that is taken."""
        groups = [some for some in groups if some]
        if len(groups) <= most:
            return
        used = [self.program.variable() for _ in groups]
        for is_used, some in zip(used, groups, strict=True):
            for taken in some:
                self.program.row({is_used: -1.0, taken: 1.0}, high=0)
        self.program.row(dict.fromkeys(used, 1.0), high=most)

    def _one_return_path(self, behind: list[int], direct: list[int]) -> None:
        """A subnet's traffic to a site comes all through what is before it, or all direct."""
        if behind and direct:
            way = self.program.variable()
            for taken in behind:
                self.program.row({way: -1.0, taken: 1.0}, high=0)
            for taken in direct:
                self.program.row({way: 1.0, taken: 1.0}, high=1)

    def _named(self, number: int, subnet: str) -> dict[object, list[int]]:
        """The options of a unit by what a subnet's route names; None where all stays as it is."""
        unit, found = self.units[number], dict[object, list[int]]()
        place = unit.subnets.index(subnet)
        for option in unit.open_options:
            found.setdefault(self._entry(option, place), []).append(self.taken[number, option])
        return found

    def _entry(self, option: Option, place: int) -> object:
        """What a route names: an exit that exists by its name, whichever option names it; else the site."""
        entry = option.entry(place)
        return entry.existing or entry if isinstance(entry, Site) else entry

    def _sites(self) -> None:
        for key, variable in self.taken.items():
            placed = self.tried(key).placed
            for site in dict.fromkeys((*key[1].distinct, *placed)):
                if site in placed:
                    self.placed.setdefault(site, placed[site])
                self._open(site)
                self.program.row({variable: 1.0, self.opened[site]: -1.0}, high=0, tightens=True)
                self.using.setdefault(site, []).append(key)
        for site, variable in self.opened.items():
            using = [self.taken[key] for key in self.using[site]]
            if site.existing not in self.standing:
                self.program.row({variable: 1.0, **dict.fromkeys(using, -1.0)}, high=0)
            self.program.row({variable: -float(len(using)), **dict.fromkeys(using, 1.0)}, high=0)
            if site.translates and self.placed[site].ports is not None:
                self._addresses(site, variable)
            elif site.subnets:
                self._found_by_name(site, variable)
        self._in_order()

    def _in_order(self) -> None:
        """Of several exits that are alike the first come first; and one that exists is one, as it is or as a pair."""
        for site in [one for one in self.opened if one.number > 1]:
            before = self.opened.get(replace(site, number=site.number - 1))
            if before is not None:
                self.program.row({self.opened[site]: 1.0, before: -1.0}, high=0)
        for some in self._existing().values():
            if len(some) > 1:
                self.program.row(dict.fromkeys(some, 1.0), high=1)

    def add_idle(self) -> None:
        """Addresses that are held serve one exit each: those that none lists, and of those that are taken down."""
        described = self.described
        new = {
            variable: float(one.number) for bought in self.purchases_of.values() for one, variable in bought if one.held
        }
        if not new:
            return
        gone = {name for name, one in described.estate.exits.items() if one.needs_offer and name not in self.standing}
        regions = {one.region for one in self.placed.values()}
        idle = max(len(idle_addresses(described, gone, region)) for region in regions)
        held = [one.address for one in described.estate.public_addresses.values()]
        for name, variables in self._existing().items():
            listed = described.estate.exits[name].every_listed
            number = sum(any(address in prefix for prefix in held) for address in listed)
            if number and name in gone:
                new |= dict.fromkeys(variables, float(number))
        self.program.row(new, high=float(idle))

    def _existing(self) -> dict[str, list[int]]:
        """What says that an exit that exists is used, by its name: as it is, or with more machines."""
        found: dict[str, list[int]] = {}
        for site, variable in self.opened.items():
            if site.existing:
                found.setdefault(site.existing, []).append(variable)
        return found

    def _open(self, site: Site) -> None:
        """A site with what it costs to stand there."""
        if site not in self.opened:
            self.opened[site] = self.program.variable()
            for item, standing in self.placed[site].standing.items() if site in self.placed else ():
                self.spend(item, site.offer, self.opened[site], float(standing.amount))

    def stand(self) -> None:
        """The exits that stay whatever uses them are open; with their addresses where no option uses them."""
        estate = self.described.estate
        for name in self.standing:
            known = [site for site in self.opened if site.existing == name]
            if not known and name in estate.exits and estate.exits[name].offer_name:
                site = self.existing(name)
                self.placed[site] = Placed(self.described, name)
                self._open(site)
                self.using[site] = []
                self.spend("addresses", site.offer, self.opened[site], float(self._month_of(name)))
                known = [site]
            for site in known:
                exit_ = estate.exits.get(name)
                self._as_it_is(site, (exit_.stated_toward("") or 1) if exit_ is not None else 0)
            if known:
                self.program.row({self.opened[site]: 1.0 for site in known}, low=1)

    def _as_it_is(self, site: Site, number: int) -> None:
        """An exit that stays has other addresses than it has only where an option uses it, which then sizes it."""
        purchases = self.purchases_of.get(site, ())
        enough = [one.month for one, _ in purchases if one.number >= number]
        more = self._month_of(site.existing) - min(enough) if enough else Fraction(0)
        if more > 0:
            # A number that is stated is bought in single addresses; else the cheapest blocks are.
            idle = self.program.variable()
            using = [self.taken[key] for key in self.using.get(site, ())]
            self.program.row({idle: 1.0, **dict.fromkeys(using, 1.0), self.opened[site]: -1.0}, low=0)
            self.spend("addresses", site.offer, idle, float(more))
        few = [variable for one, variable in purchases if one.number < number]
        if few:
            using = [self.taken[key] for key in self.using.get(site, ())]
            self.program.row({**dict.fromkeys(few, 1.0), **dict.fromkeys(using, -1.0)}, high=0)

    def add_held(self) -> None:
        """What is paid for addresses that are held, used or not, and for those of hosts: no choice changes it."""
        month = float(lasting_month(self.described, self.grounds.current.plan.held))
        if month:
            held = self.program.variable()
            self.program.row({held: 1.0}, low=1)
            self.spend("addresses", "", held, month)

    def existing(self, name: str) -> Site:
        """The site of an exit that exists and that no option uses."""
        estate = self.described.estate
        exit_ = estate.exits[name]
        return Site(Role.PASSES, exit_.offer_name, estate.network_of(exit_) or "", None, existing=name)

    def spend(self, item: str, offer: str, variable: int, month: float) -> None:
        """A variable costs so much a month as an item of the bill; shares that commitments take off are taken off."""
        covering = [one for one in self.commitments if one.covers(item, offer) and one.share is not None]
        self.program.cost[variable] += month * (1.0 - sum(float(one.share or 0) for one in covering))
        self.spent.append(Spent(item, offer, variable, month))

    def add_commitments(self) -> None:
        """Fixed sums that commitments take off, at most all that they cover; fees. To be called when all is spent."""
        if fees := sum(one.month_fee for one in self.commitments):
            self.program.row({self.program.variable(float(fees)): 1.0}, low=1)
        for commitment in self.commitments:
            if commitment.month_off is not None:
                off = self.program.variable(-1.0, float(commitment.month_off), integral=False)
                row = {off: 1.0}
                for spent in self.spent:
                    if commitment.covers(spent.item, spent.offer):
                        row[spent.variable] = row.get(spent.variable, 0.0) - spent.month
                self.program.row(row, high=0)

    @property
    def commitments(self) -> list[Commitment]:
        return list(self.described.catalogue.in_force.values())

    def _found_by_name(self, site: Site, opened: int) -> None:
        """Hosts find an in-subnet endpoint by name: where one is, all of its network use it."""
        for number, unit in enumerate(self.units):
            if unit.network == site.network and unit.to == site.destination:
                using = [self.taken[number, option] for option in unit.open_options if site in option.distinct]
                self.program.row({opened: 1.0, **dict.fromkeys(using, -1.0)}, high=0)

    def _addresses(self, site: Site, opened: int) -> None:
        """One holding for an open site, none for another."""
        choices = [(one, self.program.variable()) for one in self._purchases_of(site)]
        for choice, variable in choices:
            self.spend("addresses", site.offer, variable, float(choice.month))
        self.purchases_of[site] = choices
        self.program.row({opened: -1.0, **{variable: 1.0 for _, variable in choices}}, 0, 0)
        single = [variable for one, variable in choices if one.number == 1]
        for key in self.using[site]:
            if any(is_asked(need, self.units[key[0]].needs) for need in self.tried(key).single):
                self.program.row({self.taken[key]: 1.0, **dict.fromkeys(single, -1.0)}, high=0)

    def _most_wanted(self, site: Site) -> int:
        """More addresses than all that could come to a site together need; never fewer than some."""
        ports, target = self.ports(site), self.described.estate.targets.blocking
        grown = 1 + self.described.estate.targets.growth_margin
        sizes = [(block, erlangs / grown) for block, erlangs in own_blocks(ports, target)]
        asked = sum(laid.busiest for _, laid in self.users(site)) * grown
        asked += blocks_wanted(self.users(site), sizes) if sizes else 0.0
        wanted = 1
        while wanted < _MOST_ADDRESSES and room_of(ports, wanted, target) < asked:
            wanted *= 2
        least = wanted // 2
        while wanted - least > 1:
            middle = (least + wanted) // 2
            least, wanted = (least, middle) if room_of(ports, middle, target) >= asked else (middle, wanted)
        return min(_MOST_ADDRESSES, max(_FEW_ADDRESSES, 2 + ceil(1.3 * wanted)))

    def _purchases_of(self, site: Site) -> Iterator[AddressChoice]:
        described, placed = self.described, self.placed[site]
        own = self._month_of(site.existing, own=True) if site.existing else Fraction(0)
        for listed in self._listed(site):
            month = address_month(described, listed) + own
            yield AddressChoice(listed.in_use, month, listed.entries, listed=True)
        limit, wanted = self._most_addresses(site), self._most_wanted(site)
        most = wanted if limit is None else min(limit, wanted)
        if not site.existing:
            idle = len(idle_addresses(described, {*described.estate.exits}, placed.region))
            for number in range(1, min(idle, most) + 1):
                yield AddressChoice(number, Fraction(0), number, held=True)
        for number in _numbers(most):
            for month, entries in self._on_sale(placed, number):
                yield AddressChoice(number, month + own, entries)

    def _listed(self, site: Site) -> tuple[ExitAddresses, ...]:
        """The addresses that an exit which exists lists for all who have none of their own."""
        if not site.existing:
            return ()
        number = len(self.described.estate.exits[site.existing].listed_addresses)
        return listed_at(self.described, site.existing, "", number)

    def _month_of(self, name: str, own: bool = False) -> Fraction:
        """What the addresses of an exit that exists cost a month, as it is; or those alone that few see."""
        exits = (one for one in self.grounds.current.plan.exits if one.exit == name and (one.toward or not own))
        return sum((address_month(self.described, one) for one in exits), Fraction(0))

    def _most_addresses(self, site: Site) -> int | None:
        """As many as its offer takes."""
        offer = self.placed[site].offer
        return offer.limits.addresses if offer else None

    def _on_sale(self, placed: Placed, number: int) -> list[tuple[Fraction, int]]:
        """What a number of addresses costs a month where an exit is: the least for each number of entries."""
        key = (placed.region, number)
        if key not in self._sold:
            each = bought_at(placed.described, placed.name, "", number)
            self._sold[key] = [(address_month(placed.described, one), one.entries) for one in each]
        return self._sold[key]


def _numbers(most: int) -> list[int]:
    """The numbers of addresses to choose from: all up to some, then ever wider apart, so that they stay few."""
    found, number = [], 0
    while number < most:
        number = min(most, number + max(1, number // _DENSE))
        found.append(number)
    return found


_DENSE = 32
"""Numbers up to twice this are all there; beyond, each is at most a 32nd more than the one before."""
