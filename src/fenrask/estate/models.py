"""What the engineer wrote: networks, subnets, tables, exits, destinations, workloads, profiles.

Each field is its own row of documentation: type, unit in the key, default, one sentence. The JSON
Schema and the format's documentation are computed from here.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Collection, Container, Iterator, Mapping
from decimal import Decimal
from enum import IntEnum
from fractions import Fraction
from functools import cached_property, partial
from typing import Annotated, Any, Literal, Self

from pydantic import Discriminator, Field, Tag, WithJsonSchema, field_validator, model_validator

from fenrask.estate.cases import Case
from fenrask.estate.destinations import Destination, Needs
from fenrask.estate.exits import KINDS, Exit, ExitModel, Onward
from fenrask.estate.filters import Filter
from fenrask.estate.flow_table import FlowTable
from fenrask.estate.flows import Flow
from fenrask.estate.growth import CalendarMonth, HostGrowth, InUse
from fenrask.estate.named_addresses import NamedAddresses
from fenrask.estate.profile_steps import MOST_STEPS, step_of
from fenrask.estate.remotes import remotes_of
from fenrask.estate.rows import Rows
from fenrask.estate.suggestions import nearest, some
from fenrask.estate.throughput import Throughput
from fenrask.estate.values import LAST_PORT, MOST, Count, Money, Number, PrefixText, Share, Strict, unfit
from fenrask.prefixes import Address, Block, Prefix, PrefixTable, fewest_prefixes, usable

__all__ = [
    "Estate",
    "KEPT",
    "Kept",
    "Network",
    "Origin",
    "Route",
    "Subnet",
    "Targets",
    "Workload",
    "exits_of",
]


class Network(Strict):
    """A private network: its own prefixes reach each other without any exit."""

    region: str = Field("", description="the region it lies in")
    prefixes: tuple[PrefixText, ...] = Field(min_length=1, description="its own prefixes")
    routes: str | None = Field(None, description="the table of its subnets that name none of their own")


class Subnet(Strict):
    """A part of a network in one zone, with the route table of its hosts."""

    network: str = Field(description="the network it is part of")
    zone: str | None = Field(None, description="the zone that it is in; default: none, it spans its region")
    prefix: PrefixText = Field(description="its prefix")
    prefix_v6: PrefixText | None = Field(None, description="its IPv6 prefix, beside an IPv4 one")
    routes: str | None = Field(None, description="its route table; default: the network's, if it has one")
    learns: bool = Field(True, description="whether learned and injected routes are put into its table")
    filters: dict[str, Filter] = Field(
        {}, description="filters of what leaves and enters the subnet, by name; all of them must allow a packet"
    )
    tags: dict[str, str] = Field({}, description="labels, such as cost_centre")

    @model_validator(mode="after")
    def _of_two_versions(self) -> Self:
        if self.prefix_v6 is not None and self.prefix_v6.version == 4:
            expected = f"an IPv6 prefix, not {self.prefix_v6}"
            raise unfit(expected, "An IPv4 prefix is `prefix`; a second one is another subnet.", ("prefix_v6",))
        return self

    @property
    def prefixes(self) -> tuple[Prefix, ...]:
        """Its prefixes of either family."""
        return (self.prefix,) if self.prefix_v6 is None else (self.prefix, self.prefix_v6)


def _order(prefix: Prefix) -> tuple[int, int, int]:
    return prefix.version, int(prefix.network_address), prefix.prefixlen


class Origin(IntEnum):
    """Where a route comes from; at equal length the lowest wins, unless the catalogue's behaviour says otherwise."""

    LOCAL = 0
    PEERING = 1
    STATIC = 2
    LEARNED = 3
    INJECTED = 4

    @property
    def word(self) -> str:
        return self.name.lower()


class Route(Strict):
    """One route of a table, where its origin matters."""

    exit: str = Field(description="the next hop")
    origin: Literal["static", "learned", "injected"] = Field("static", description="who put it there")

    @property
    def rank(self) -> Origin:
        return Origin[self.origin.upper()]


def _routes_shape(value: Any) -> str:
    if isinstance(value, list | tuple):
        return "routes"
    return "route" if isinstance(value, dict | Route) else "exit"


RouteValue = Annotated[
    Annotated[str, Tag("exit")] | Annotated[Route, Tag("route")] | Annotated[tuple[Route, ...], Tag("routes")],
    Discriminator(_routes_shape),
]


def exits_of(value: str | Route | tuple[Route, ...]) -> tuple[str, ...]:
    """The exits that one entry of a route table leads to."""
    if isinstance(value, str):
        return (value,)
    return tuple(route.exit for route in (value if isinstance(value, tuple) else (value,)))


class Workload(Strict):
    """Hosts that open connections."""

    subnets: Annotated[tuple[str, ...], Field(min_length=1)] = Field(
        description="where its hosts are, spread evenly over their usable addresses"
    )
    hosts_in: tuple[PrefixText, ...] = Field(
        (), description="the only prefixes of its subnets in which its hosts are; default: all usable addresses"
    )
    hosts: Count = Field(description="hosts in all these subnets together")
    in_use: InUse | None = Field(
        None, description="the months in which its hosts run, for plans of months; default: all"
    )
    growth: HostGrowth | None = Field(
        None, description="how many hosts are added by month, and how the load of its flows grows; default: none"
    )
    load_moves: bool = Field(
        True, description="whether the load of hosts in a zone that is lost moves to those in its other subnets"
    )
    ipv6_share: Share | None = Field(
        None,
        description="where hosts and destination have both IP versions: share of connections that ask for IPv6 first; "
        "default: all, but for unique local addresses (RFC 6724)",
    )
    public_address: bool = Field(False, description="whether each host has a public address of its own")
    may_be_public: bool = Field(
        False, description="whether designs and `choose` may give each host a public address of its own"
    )
    ephemeral_ports: Annotated[int, Field(strict=True, ge=1, le=LAST_PORT)] | None = Field(
        None, description="ports that a host has for connections to one address and port; Linux gives 28232; no default"
    )
    closed_wait_s: Number = Field(
        60.0, description="seconds for which such a port stays taken at the host after a TCP connection (TIME-WAIT)"
    )
    interface: Throughput | None = Field(None, description="what the interface of each host takes; default: no limit")
    requires: tuple[str, ...] = Field((), description="destinations that its platform cannot do without")
    resolver: str | None = Field(
        None, description="the destination that its hosts ask for names; default: one that is always reached"
    )
    must_not_reach: tuple[str, ...] = Field((), description="destinations that its hosts must not be able to reach")
    needs: Needs = Field(default_factory=Needs, description="what it demands of its exits")
    filters: dict[str, Filter] = Field(
        {}, description="filters of what leaves and enters its hosts, by name; all of them must allow a packet"
    )
    tags: dict[str, str] = Field({}, description="labels, such as cost_centre")

    @field_validator("subnets")
    @classmethod
    def _each_once(cls, subnets: tuple[str, ...]) -> tuple[str, ...]:
        if twice := [one for one in subnets if subnets.count(one) > 1]:
            raise unfit(f"each subnet once, not {twice[0]} twice", "Hosts are spread evenly over them.")
        return subnets


class PublicAddress(Strict):
    """A public address, or a block of them, that is paid for, used or not."""

    address: PrefixText = Field(description="the address, or a block as a prefix: 192.0.2.16/31")
    class_: str = Field("", alias="class", description="its class, in the provider's words")
    in_use: InUse | None = Field(
        None, description="the months in which it is paid for, for plans of months; default: all"
    )


Profile = Annotated[
    tuple[Number, ...],
    WithJsonSchema(
        {
            "type": "array",
            "items": {"type": "number", "minimum": 0},
            "minItems": 2,
            "maxItems": MOST_STEPS,
        }
    ),
]


class ChangeCost(Strict):
    """What it costs, once, to change what is there: money for each."""

    allow_list: Money = Field(Decimal(0), description="a partner's list that changes, whatever number of entries")
    allow_list_entry: Money = Field(Decimal(0), description="an entry that a partner adds to its list, or removes")
    exit: Money = Field(Decimal(0), description="an exit that is put up or taken down")
    route: Money = Field(Decimal(0), description="a route that is set or removed")


Days = Annotated[int, Field(strict=True, ge=0, le=3650)]


MONTH_DAYS = 30.4375
"""Days of a month, in the mean."""


class LeadDays(Strict):
    """How many days others take, from when they are told: each step of a plan has its earliest day by it."""

    allow_list: Days = Field(0, description="a partner, to allow what is new on its list")
    partners: dict[str, Days] = Field({}, description="the same of some partners, by destination")
    addresses: Days = Field(0, description="the provider, to hand over public addresses that are ordered")
    exits: dict[str, Days] = Field({}, description="whoever puts up an exit of a kind, by kind: a circuit, say")

    def of_partner(self, destination: str) -> int:
        """The days that a partner takes."""
        return self.partners.get(destination, self.allow_list)

    @property
    def order_months(self) -> float:
        """Months until public addresses that are ordered can be used: the provider's days, then a partner's."""
        return (self.addresses + max([self.allow_list, *self.partners.values()])) / MONTH_DAYS


class Targets(Strict):
    """What the plan has to reach."""

    blocking: Annotated[float, Field(strict=True, gt=0, lt=1)] = Field(
        1e-4, description="maximum share of new connections that find no free port at the peak"
    )
    blocking_after_fault: Annotated[float, Field(strict=True, gt=0, lt=1)] | None = Field(
        None, description="the same after a fault that flows are to survive; default: as `blocking`"
    )
    days: Annotated[float, Field(strict=True, gt=0, lt=1)] = Field(
        0.95, description="share of days whose busiest hour the plan carries, where load varies from day to day"
    )
    upkeep_hours_per_month: Number | None = Field(
        None, description="maximum hours of work a month on self-run machines; default: no limit"
    )
    growth_margin: Number = Field(0.0, description="share of load more that the addresses must carry too: 0.3 for 30 %")
    change_cost: ChangeCost | None = Field(
        None, description="what changes cost once: `choose` weighs them against what they save; default: nothing"
    )
    horizon_months: Annotated[float, Field(strict=True, gt=0, le=MOST)] = Field(
        12.0, description="months over which what is paid once is spread"
    )
    lead_days: LeadDays = Field(
        default_factory=LeadDays, description="how many days others take before a step of a plan can be done"
    )


class Kept(Mapping[str, Any]):
    """A section as it was read before, which is taken over whole."""

    def __init__(self, entries: Mapping[str, Any]) -> None:
        self.entries = entries

    def __getitem__(self, name: str) -> Any:
        return self.entries[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self.entries)

    def __len__(self) -> int:
        return len(self.entries)


KEPT = ("networks", "subnets", "route_tables", "exits", "destinations", "workloads", "flows", "profiles")
"""The sections that a patch without a word on them leaves as they are."""


class Estate(Strict):
    """Everything the engineer describes."""

    estate: str = Field(description="its name")
    catalogue: str = Field(description="the file of the provider's offers, relative to this file")
    networks: dict[str, Network] = Field(min_length=1, description="private networks by name")
    subnets: dict[str, Subnet] = Field(min_length=1, description="subnets by name")
    route_tables: dict[str, dict[str, RouteValue]] = Field(
        {}, description="tables by name; in each, a prefix or a destination's name, and its next hop"
    )
    exits: dict[str, Exit] = Field({}, description="exits by name")
    public_addresses: dict[str, PublicAddress] = Field(
        {}, description="public addresses that are paid for, used or not, by name"
    )
    destinations: dict[str, Destination] = Field({}, description="destinations by name")
    workloads: dict[str, Workload] = Field({}, description="workloads by name")
    flows: dict[str, Flow] = Field({}, description="flows by name")
    first_month: CalendarMonth | None = Field(
        None,
        description="the month of the loads as they are stated, such as 2026-12: from it growth counts, and months of "
        "growth and in_use may be written by the calendar; default: months are counted",
    )
    volumes: Literal["payload", "wire"] = Field(
        "payload", description="what the volumes of flows count: what connections carry, or that with all headers"
    )
    profiles: dict[str, Profile] = Field(
        {}, description="multipliers of equal steps of a day (24: hours; 288) or of a week (168; 336), by name"
    )
    accepted: dict[str, str] = Field({}, description="findings that are meant to be so: `RULE at PATH`, and why")
    names_history: str | None = Field(
        None,
        description="a CSV file beside this one of what names answered (time, name, address; `fenrask resolve "
        "--history` adds to it): destinations with names and no prefixes are planned with all that it holds",
    )
    wage_per_hour: Money = Field(Decimal(0), description="what an hour of work on self-run machines costs")
    stress: dict[str, Case] = Field({}, description="what may go wrong, by name: the cases of `fenrask stress`")
    targets: Targets = Field(default_factory=Targets, description="what the plan has to reach")

    @field_validator(*KEPT, mode="wrap")
    @classmethod
    def _kept(cls, value: Any, read: Callable[[Any], Any]) -> Any:
        if isinstance(value, Kept):
            return value.entries
        if isinstance(value, Rows):
            # Row by row only where a column does not tell: that names each fault.
            return FlowTable.of(value) or read({**value})
        return read(value)

    @model_validator(mode="after")
    def _profile_lengths(self) -> Self:
        for name, values in self.profiles.items():
            if len(values) < 2 or step_of(len(values)) is None:
                raise unfit(
                    f"24 or 168 multipliers, not {len(values)}",
                    "Other steps divide a day or a week into even parts of an hour, of a minute to two hours.",
                    ("profiles", name),
                )
        return self

    @model_validator(mode="after")
    def _hosts_somewhere(self) -> Self:
        for name, workload in self.workloads.items():
            subnets = (self.subnets[subnet] for subnet in workload.subnets if subnet in self.subnets)
            own = [prefix for subnet in subnets for prefix in subnet.prefixes]
            blocks = [(one, Block.of(one)) for one in workload.hosts_in]
            strangers = [str(one) for one, block in blocks if not any(usable(each).common(block) for each in own)]
            if strangers:
                raise unfit(
                    f"usable addresses of its subnets in workloads.{name}.hosts_in, not {', '.join(strangers)}",
                    f"Write parts of {', '.join(map(str, own))}.",
                )
        return self

    @model_validator(mode="after")
    def _regions_agree(self) -> Self:
        for name, exit_ in self.exits.items():
            places = [self.subnets[one].network for one in exit_.in_subnets if one in self.subnets]
            networks = {*places, *([exit_.of_network] if exit_.of_network else [])} & self.networks.keys()
            regions = {region for one in networks if (region := self.networks[one].region)}
            if exit_.own_region and regions and exit_.own_region not in regions:
                where = some(sorted(regions))
                raise unfit(
                    f"in exits.{name}.region the region of its network, {where}, not {exit_.own_region}",
                    "Leave `region` out, or put it into a network of that region.",
                )
        return self

    @model_validator(mode="after")
    def _known_in_lead_days(self) -> Self:
        stated = self.targets.lead_days
        for key, names, known, what in (
            ("partners", stated.partners, self.remotes.keys(), "destination"),
            ("exits", stated.exits, KINDS.keys(), "kind of exit"),
        ):
            if unknown := [one for one in names if one not in known]:
                raise unfit(
                    f"in targets.lead_days.{key} a {what}: there is no {some(unknown)}", nearest(unknown[0], known)
                )
        return self

    @model_validator(mode="after")
    def _known_in_cases(self) -> Self:
        zones = {subnet.zone for subnet in self.subnets.values()}
        for name, case in self.stress.items():
            exits = [*case.lose_exits, *case.lose_nodes, *(self.session(one)[0] for one in case.sessions_down)]
            silent = [one for one in case.sessions_down if not self.has_session(one)]
            if silent and not {self.session(one)[0] for one in silent} - set(self.exits):
                told = f"in stress.{name} sessions that are there: {', '.join(silent)} has none"
                raise unfit(told, below=("stress", name))
            for names, known, what in (
                (case.lose_zones, zones, "zone"),
                (exits, set(self.exits), "exit"),
                (case.destinations, set(self.destinations), "destination"),
            ):
                if unknown := [one for one in names if one not in known]:
                    known_names = nearest(unknown[0], sorted(one for one in known if one))
                    told = f"in stress.{name} {what}s of this estate: there is no {', '.join(unknown)}"
                    raise unfit(told, known_names, ("stress", name))
        return self

    def session(self, name: str) -> tuple[str, str]:
        """The exit and the router that a session is named by: EXIT/ROUTER, or EXIT for all of them, which is ""."""
        if name in self.exits:
            # A name may have a slash itself.
            return name, ""
        exit_name, _, router = name.rpartition("/")
        return (exit_name, router) if exit_name else (name, "")

    def has_session(self, name: str) -> bool:
        """Whether an exit, or one of its routers (EXIT/ROUTER), has a routing session."""
        exit_name, router = self.session(name)
        exit_ = self.exits.get(exit_name)
        if exit_ is None:
            return False
        return router in exit_.sessions if router else bool(exit_.sessions)

    @cached_property
    def named_addresses(self) -> NamedAddresses:
        """The destinations that rules, endpoints and services treat unlike others, by address."""
        return NamedAddresses(self)

    @cached_property
    def filters(self) -> tuple[Filter, ...]:
        """Every filter of a subnet, a workload or an endpoint."""
        own = (one.filters for some in (self.subnets, self.workloads) for one in some.values())
        return tuple(
            stated for some in (*own, *(one.own_filters for one in self.exits.values())) for stated in some.values()
        )

    def host_blocks(self, workload: str | None, subnet: str, version: int) -> tuple[Block, ...]:
        """The addresses of one IP version that a workload's hosts, or any hosts, in a subnet may have."""
        prefix = next((one for one in self.subnets[subnet].prefixes if one.version == version), None)
        if prefix is None:
            return ()
        ranges = self.workloads[workload].hosts_in if workload else ()
        stated = fewest_prefixes(one for one in ranges if one.version == version) if ranges else []
        parts = (usable(prefix).common(Block.of(one)) for one in stated)
        return tuple(part for part in parts if part is not None) if stated else (usable(prefix),)

    def host_shares(self, workload: str) -> Mapping[str, Fraction]:
        """The share of a workload's hosts in each of its subnets, by the usable IPv4 addresses.

        Of IPv6 there is no end: where one of the subnets has IPv6 alone, all of them weigh the same.
        """
        if workload not in self._host_shares:
            names = dict.fromkeys(self.workloads[workload].subnets)
            blocks = {name: [*map(partial(self.host_blocks, workload, name), (4, 6))] for name in names}
            sizes = {name: sum(block.size for block in v4) for name, (v4, _) in blocks.items()}
            if any(self.subnets[name].prefix.version == 6 for name in names):
                sizes = {name: int(bool(v4 or v6)) for name, (v4, v6) in blocks.items()}
            whole = sum(sizes.values())
            self._host_shares[workload] = {name: Fraction(size, whole) for name, size in sizes.items()}
        return self._host_shares[workload]

    @cached_property
    def _host_shares(self) -> dict[str, Mapping[str, Fraction]]:
        """Filled as workloads are asked for."""
        return {}

    @cached_property
    def fallback_of(self) -> dict[str, str]:
        """The name of the exit that takes what no route matches, by network."""
        internet_exits: dict[str, str] = {}
        for name, exit_ in self.exits.items():
            if exit_.fallback and exit_.of_network:
                internet_exits.setdefault(exit_.of_network, name)
        return internet_exits

    @cached_property
    def by_name(self) -> dict[tuple[str, str | None], str]:
        """The exit that hosts of a subnet reach by a destination's name, by subnet and destination."""
        found: dict[tuple[str, str | None], str] = {}
        named = [(name, exit_) for name, exit_ in self.exits.items() if exit_.found_by_name]
        # A network's own endpoint comes before one of another network.
        for is_own in (True, False):
            for name, exit_ in named:
                networks = {self.network_of(exit_)} if is_own else {*exit_.serves_by_name}
                for subnet in self._resolving(exit_, networks, is_own):
                    for destination in exit_.carries or ():
                        found.setdefault((subnet, destination), name)
        return found

    def _resolving(self, exit_: ExitModel, networks: Container[str | None], is_own: bool) -> list[str]:
        """The subnets in which names resolve to an endpoint: those of networks, or the only ones that it says."""
        only = exit_.serves_subnets_by_name
        if only is None:
            return [name for name, subnet in self.subnets.items() if subnet.network in networks]
        return [name for name in only if (self.subnets[name].network == self.network_of(exit_)) == is_own]

    def entry_of(self, exit_: ExitModel, zone: str | None, versions: Container[int]) -> Address | None:
        """The address at which hosts of a zone enter an endpoint in a subnet: that of their zone, else the first."""
        places = [name for name in exit_.in_subnets if self.subnets[name].zone == zone] or [*exit_.in_subnets]
        prefixes = (one for one in self.subnets[places[0]].prefixes if one.version in versions)
        return next((self._entry_in(places[0], one, exit_) for one in prefixes), None)

    def entries_of(self, exit_: ExitModel) -> dict[Address, str]:
        """Where an endpoint is entered, or a proxy asked: an address of each IP version in each subnet, with that."""
        if exit_.onward is not Onward.SERVICE and exit_.asked_at is None:
            return {}
        places = ((name, prefix) for name in exit_.in_subnets for prefix in self.subnets[name].prefixes)
        return {self._entry_in(name, prefix, exit_): name for name, prefix in places}

    def _entry_in(self, subnet: str, prefix: Prefix, exit_: ExitModel) -> Address:
        """An address of a subnet that no other exit there is entered at."""
        number = next((number for number, one in enumerate(self._entered_in.get(subnet, ())) if one is exit_), 0)
        block = usable(prefix)
        return Block(block.version, min(block.first + number, block.last), block.last).address

    @cached_property
    def _entered_in(self) -> dict[str, list[ExitModel]]:
        """By subnet: the endpoints and proxies that are entered there, each at an address of its own."""
        found: dict[str, list[ExitModel]] = {}
        for exit_ in self.exits.values():
            if exit_.onward is Onward.SERVICE or exit_.asked_at is not None:
                for subnet in exit_.in_subnets:
                    found.setdefault(subnet, []).append(exit_)
        return found

    @cached_property
    def _peers(self) -> dict[str, list[tuple[str, str]]]:
        found: dict[str, list[tuple[str, str]]] = {}
        for name, exit_ in self.exits.items():
            if exit_.onward is Onward.JOINED:
                first, second = exit_.joins
                found.setdefault(first, []).append((name, second))
                found.setdefault(second, []).append((name, first))
        return found

    def peers_of(self, network: str) -> list[tuple[str, str]]:
        """The peerings of a network, each with the network at its other end."""
        return self._peers.get(network, [])

    @cached_property
    def subnet_table(self) -> PrefixTable[str]:
        """Subnets by prefix, both families."""
        return PrefixTable((prefix, name) for name, subnet in self.subnets.items() for prefix in subnet.prefixes)

    @cached_property
    def held_twice(self) -> PrefixTable[tuple[str, ...]]:
        """The prefixes that subnets of several networks hold, each with these: whose an address there is, none says."""
        by_prefix: dict[Prefix, list[str]] = {}
        for name, subnet in self.subnets.items():
            for prefix in subnet.prefixes:
                by_prefix.setdefault(prefix, []).append(name)
        lengths = {
            version: sorted({one.prefixlen for one in by_prefix if one.version == version}) for version in (4, 6)
        }
        found: dict[Prefix, tuple[str, ...]] = {}
        for prefix in by_prefix:
            around = (prefix.supernet(new_prefix=n) for n in lengths[prefix.version] if n <= prefix.prefixlen)
            holders = [name for one in around for name in by_prefix.get(one, ())]
            if len({self.subnets[name].network for name in holders}) > 1:
                found[prefix] = tuple(holders)
        return PrefixTable(found.items())

    def subnets_at(self, address: Address) -> tuple[str, ...]:
        """The subnets that hold an address: one, none, or those of several networks."""
        twice = self.held_twice.match(address)
        if twice is not None:
            return twice[1]
        found = self.subnet_table.match(address)
        return (found[1],) if found else ()

    def subnets_inside(self, prefix: Prefix) -> list[Prefix]:
        """The prefixes of subnets strictly inside a prefix, in order of address."""
        if prefix.version not in self._subnet_starts:
            return []
        starts, prefixes = self._subnet_starts[prefix.version]
        first = bisect_left(starts, int(prefix.network_address))
        last = bisect_right(starts, int(prefix.broadcast_address))
        return [one for one in prefixes[first:last] if one.prefixlen > prefix.prefixlen]

    @cached_property
    def _subnet_starts(self) -> dict[int, tuple[list[int], list[Prefix]]]:
        """By IP version: the first addresses of all subnets in rising order, and their prefixes."""
        every = sorted((one for subnet in self.subnets.values() for one in subnet.prefixes), key=_order)
        return {
            version: ([int(one.network_address) for one in some], some)
            for version in (4, 6)
            if (some := [one for one in every if one.version == version])
        }

    def zones_of(self, exit_: ExitModel) -> tuple[str, ...]:
        """The zones an exit stands in; none for an exit of a whole network or region."""
        zones = (self.subnets[name].zone for name in exit_.in_subnets if name in self.subnets)
        return tuple(zone for zone in zones if zone is not None)

    def zones_at_work(self, exit_: ExitModel) -> tuple[str, ...]:
        """The zones from which an exit serves: of machines that take over from each other, the first one's."""
        zones = self.zones_of(exit_)
        return zones if exit_.takes_over_s is None else zones[:1]

    def table_of(self, subnet: str) -> str | None:
        """The route table of a subnet: its own, else its network's."""
        stated = self.subnets[subnet]
        return stated.routes or self.networks[stated.network].routes

    def endpoint_reaches(self, network: str, destination: str, endpoint: ExitModel | None = None) -> bool:
        """Whether an endpoint in a network, or this one of it, reaches a service: by region and by IP version.

        A region that is not stated is any. Each IP version that hosts of the network would ask for must be carried.
        """
        stated = self.destinations.get(destination)
        if stated is None or network not in self.networks:
            return False
        region = self.region_of(endpoint) if endpoint else self.networks[network].region
        if region and stated.region and region != stated.region:
            return False
        if endpoint is None:
            return True
        own = {one.version for subnet in self.subnets.values() if subnet.network == network for one in subnet.prefixes}
        wanted = {one.version for one in stated.prefixes} & own
        return wanted <= endpoint.families

    def internet_exit_of(self, subnet: str, routes: str | None = None) -> str:
        """The internet exit that a subnet's default route names; empty where it names none, or another exit."""
        value = self.route_tables.get(routes or self.table_of(subnet) or "", {}).get("0.0.0.0/0")
        exit_ = self.exits.get(value) if isinstance(value, str) else None
        return str(value) if exit_ is not None and exit_.takes_public_sources else ""

    def region_of(self, exit_: ExitModel) -> str:
        """The region an exit is in; empty where none is told."""
        if exit_.own_region:
            return exit_.own_region
        network = self.network_of(exit_)
        return self.networks[network].region if network in self.networks else ""

    def network_of(self, exit_: ExitModel) -> str | None:
        """The network an exit belongs to; None for one that joins several, or hangs on a hub."""
        for name in exit_.in_subnets:
            return self.subnets[name].network
        return exit_.of_network

    def required_exits(self, name: str) -> tuple[str, ...]:
        """The exits that must exist before one does, and may go only after it, as providers have it.

        A line requires its hub; what has public addresses bound to it in a subnet, its network's internet exits.
        """
        dependent = self.exits[name]
        found = [dependent.attached_to] if dependent.attached_to in self.exits else []
        if dependent.binds_public_addresses:
            network = self.network_of(dependent)
            doors = (each for each, exit_ in self.exits.items() if exit_.lets_addresses_be_bound)
            found += [each for each in doors if self.exits[each].of_network == network]
        return tuple(each for each in found if each is not None)

    def left_without(self, gone: Collection[str]) -> dict[str, str]:
        """The exits that would stay though what they require goes, each with that: providers refuse it."""
        found = {}
        for name, exit_ in self.exits.items():
            required = self.required_exits(name) if name not in gone else ()
            # Of several internet exits one is enough.
            lost = [each for each in required if each in gone]
            if lost and (exit_.attached_to in lost or len(lost) == len(required)):
                found[name] = lost[0]
        return found

    @cached_property
    def inward_flows(self) -> Mapping[str, Flow]:
        """The flows whose connections the other end opens."""
        if isinstance(self.flows, FlowTable) and not self.flows.has_inward:
            return {}
        return {name: flow for name, flow in self.flows.items() if flow.is_inward}

    @cached_property
    def outward_flows(self) -> Mapping[str, Flow]:
        """The flows whose connections our hosts open."""
        return (
            {name: flow for name, flow in self.flows.items() if not flow.is_inward} if self.inward_flows else self.flows
        )

    @cached_property
    def outward_ends(self) -> tuple[tuple[str, str], ...]:
        """The workloads and destinations between which our hosts open connections, each pair once."""
        return tuple(dict.fromkeys((flow.from_, flow.to) for flow in self.outward_flows.values()))

    @cached_property
    def senders(self) -> tuple[str, ...]:
        """The workloads whose hosts open connections to destinations."""
        return tuple(dict.fromkeys(workload for workload, _ in self.outward_ends))

    def taking_over(self, other: "Estate") -> "Self":
        """This estate, knowing what is known of another one that has these very flows, and follows from them alone."""
        for name in ("inward_flows", "outward_flows", "outward_ends", "senders"):
            if self.flows is other.flows and name in other.__dict__:
                self.__dict__[name] = other.__dict__[name]
        return self

    @cached_property
    def remotes(self) -> Mapping[str, Destination]:
        """All that is at the other end of flows: the destinations, then who comes in; by `Flow.remote`."""
        return {**self.destinations, **remotes_of(self)} if self.inward_flows else self.destinations

    def needs_of(self, flow: Flow) -> Needs:
        """What a flow's destination and workload demand together."""
        own, theirs, kinds = self._kinds_of_needs
        key = (own[flow.workload], theirs[flow.remote], flow.is_inward)
        known = self._joined_needs.get(key)
        if known is None:
            known, workload = kinds[key[1]], kinds[key[0]]
            if flow.workload in self.demanding[0]:
                known = known.joined(workload.of_inward if flow.is_inward else workload)
            # Needs that are equal are one object: what follows from them is known by it.
            known = self._joined_needs[key] = self._equal_needs.setdefault(known, known)
        return known

    @cached_property
    def _kinds_of_needs(self) -> tuple[dict[str, int], dict[str, int], list[Needs]]:
        """The needs of workloads and of other ends as numbers, by name; and the needs of each number."""
        numbers: dict[Needs, int] = {}
        own, theirs = (
            {name: numbers.setdefault(one.needs, len(numbers)) for name, one in some.items()}
            for some in (self.workloads, self.remotes)
        )
        return own, theirs, [*numbers]

    @cached_property
    def _joined_needs(self) -> dict[tuple[int, int, bool], Needs]:
        """By the numbers of both, and whether a flow comes in: what they demand together, as far as it was asked."""
        return {}

    @cached_property
    def _equal_needs(self) -> dict[Needs, Needs]:
        return {}

    def has_needs(self, flow: Flow) -> bool:
        """Whether anything is demanded of a flow's exits."""
        workloads, destinations = self.demanding
        return flow.workload in workloads or flow.remote in destinations

    @cached_property
    def demanding(self) -> tuple[frozenset[str], frozenset[str]]:
        """The workloads and the destinations that have needs."""
        own, theirs, kinds = self._kinds_of_needs
        asking = {number for number, one in enumerate(kinds) if one != Needs()}
        workloads = frozenset(name for name, number in own.items() if number in asking)
        return workloads, frozenset(name for name, number in theirs.items() if number in asking)

    def cost_centre_of(self, name: str) -> str:
        """Who pays for the flows of a workload: its tag, or the first tag found on its subnets."""
        workload = self.workloads[name]
        tags = [workload.tags, *(self.subnets[name].tags for name in workload.subnets)]
        return next((tag["cost_centre"] for tag in tags if "cost_centre" in tag), "unassigned")
