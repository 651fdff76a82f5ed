"""What there is to choose from: units of traffic, sites that could carry them, and the options of each unit."""

from dataclasses import dataclass, field, fields, replace
from enum import Enum
from fractions import Fraction
from functools import cached_property
from time import monotonic

from fenrask.estate import Described, Needs
from fenrask.routing import FlowPath

__all__ = ["CURRENT", "PRIVATE", "Group", "Option", "Role", "Site", "Unit", "Wanted"]

CURRENT = "current path"
PRIVATE = "private hosts"
"""What an option fails that gives hosts public addresses, where nobody allows that."""


class Role(Enum):
    """What a site does for the traffic that it carries."""

    TRANSLATES = "translates"
    ENDPOINT = "leads into a service"
    PUBLIC_HOSTS = "lets out hosts that have public addresses"
    IPV6_OUT = "lets out IPv6 hosts"
    PASSES = "inspects, or takes to a line, and passes on"
    JOINS = "joins networks"


@dataclass(frozen=True)
class Site:
    """An exit that exists, or could be put up: of an offer, in a network, in one zone or for all of it.

    Or an internet exit that no offer stands behind.
    """

    role: Role
    offer: str
    network: str
    zone: str | None
    destination: str = ""
    """The service that an endpoint reaches; empty for any other exit."""
    subnets: tuple[str, ...] = ()
    """The subnets that an in-subnet endpoint is in."""
    existing: str = ""
    """The name of the exit, where it exists already."""
    whole_network: bool = False
    """Whether it belongs to its whole network, so that traffic leaves for the internet at the site itself."""
    apart: bool = False
    """Whether it is a second one, in a subnet of its own: what exists at its place cannot be put behind anything."""
    onward: str = ""
    """For a firewall that only inspects: the exit behind it, its offer where it is new, or the line."""
    units: int = 1
    """How many machines or nodes it runs, each paid; one that exists has as many as it has, where this is 1."""
    standby: str = ""
    """The zone of the second one, where it is in another."""
    number: int = 1
    """Of several of one offer at one place: which; all but the first are in subnets of their own."""

    def __hash__(self) -> int:
        return self._hash

    @cached_property
    def _hash(self) -> int:
        # Programmes ask for the same few again and again.
        return hash(tuple(getattr(self, one.name) for one in fields(self)))

    @property
    def translates(self) -> bool:
        return self.role is Role.TRANSLATES

    @property
    def leaves(self) -> bool:
        """Whether what it carries goes out to the internet, or by an internet exit to a service."""
        return self.role in (Role.TRANSLATES, Role.PUBLIC_HOSTS, Role.IPV6_OUT)

    @property
    def places(self) -> int:
        """How many times its hourly rate is paid."""
        return len(self.subnets) or self.units

    def falls_with(self, zone: str) -> bool:
        """Whether it is lost with a zone."""
        return self.zone == zone and not self.standby

    @property
    def name(self) -> str:
        """In words, for lists of what is open."""
        pair = f", {self.units} of it" if self.units > 1 else ""
        pair += f", one in zone {self.standby}" if self.standby else ""
        return f"{self._alone}{pair}"

    @property
    def _alone(self) -> str:
        if self.existing:
            return self.existing
        if self.role is Role.IPV6_OUT:
            return f"IPv6 straight out of {self.network}"
        if self.role is Role.PUBLIC_HOSTS:
            return f"public addresses on hosts in {self.network}"
        before = f"before {self.onward}" if self.onward else ""
        zone = f"zone {self.zone}" if self.zone else ""
        which = f"no. {self.number}" if self.number > 1 else ""
        return " ".join(filter(None, (f"new {self.offer}", which, before, self.destination, "in", self.network, zone)))


@dataclass(frozen=True)
class Option:
    """One path for a unit: the site that each of its subnets uses; none of them where all stays as it is."""

    name: str
    sites: tuple[Site, ...]
    """One for each subnet of the unit."""
    fails: tuple[str, ...] = field(default=(), compare=False)
    """The needs that it does not meet, whatever else is chosen: see `judging`."""
    own_addresses: bool = False
    """Whether its hosts need public addresses of their own."""
    before: tuple[Site, ...] = ()
    """What the route of each subnet names instead of its site: a firewall before it, or the hub that leads there."""
    first: tuple[str, ...] = ()
    """The exit that each subnet's route names, where the path exists and is kept."""
    also: tuple[Site, ...] = ()
    """What a path passes beside its sites and is paid for."""

    def __hash__(self) -> int:
        return self._hash

    @cached_property
    def _hash(self) -> int:
        return hash(tuple(getattr(self, one.name) for one in fields(self) if one.compare))

    @cached_property
    def distinct(self) -> tuple[Site, ...]:
        """All that it passes, each once."""
        return tuple(dict.fromkeys((*self.sites, *self.also)))

    @property
    def exists(self) -> bool:
        """Whether it is a path that there is."""
        return not self.sites or bool(self.first)

    def entry(self, place: int) -> object:
        """What the route of the subnet at a place names; None where all stays as it is."""
        if self.first:
            return self.first[place] or None
        if self.before:
            return self.before[place]
        return self.sites[place] if self.sites else None


@dataclass(frozen=True)
class Group:
    """All flows from the same subnets of one network to one destination: one route serves them all."""

    flows: tuple[str, ...]
    examples: tuple[str, ...]
    """One of them from each workload: flows of one have the same paths, and the same is demanded of them."""
    to: str
    network: str
    subnets: tuple[str, ...]
    needs: Needs
    """What any of them needs."""
    public: bool
    """Whether their hosts have public addresses of their own."""
    families: tuple[int, ...] = (4,)
    """The IP versions that both ends have: a connection goes by IPv6 where that arrives, else by IPv4."""
    part: Fraction = Fraction(1)
    """The share of the flows that this is: all in all of these subnets."""
    weights: tuple[Fraction, ...] = ()
    """The share of its load that comes from each of its subnets."""

    def holds(self, path: FlowPath) -> bool:
        """Whether a path of one of its flows is part of it."""
        return path.subnet in self.subnets


@dataclass(frozen=True)
class Unit:
    """A group with its options; it is not split."""

    group: Group
    options: tuple[Option, ...]

    @property
    def flows(self) -> tuple[str, ...]:
        return self.group.flows

    @property
    def examples(self) -> tuple[str, ...]:
        return self.group.examples

    @property
    def to(self) -> str:
        return self.group.to

    @property
    def network(self) -> str:
        return self.group.network

    @property
    def subnets(self) -> tuple[str, ...]:
        return self.group.subnets

    @property
    def needs(self) -> Needs:
        return self.group.needs

    @property
    def name(self) -> str:
        return ", ".join(self.flows)

    def holds(self, path: FlowPath) -> bool:
        """Whether a path of one of its flows is part of it."""
        return self.group.holds(path)

    def volume(self, described: Described) -> int:
        """Bytes that its flows exchange in a month, over a denominator that is the same for all of an estate."""
        volumes, number = described.traffic.volumes.both, described.traffic.number
        return int(self.group.part * sum(volumes[number[name]] for name in self.flows))

    @property
    def open_options(self) -> tuple[Option, ...]:
        """Those that meet its needs."""
        return tuple(one for one in self.options if not one.fails)


@dataclass(frozen=True)
class Wanted:
    """What the choice must keep to beside the needs."""

    keep: tuple[str, ...] = ()
    """Exits and flows that stay as they are."""
    budget: float | None = None
    max_addresses: int | None = None
    max_gateways: int | None = None
    """Translating exits at most."""
    max_upkeep: float | None = None
    """Hours of work a month on self-run machines at most."""
    public_hosts: bool = False
    """Whether hosts may get public addresses of their own, whatever the estate says of them."""
    zone_headroom: float | None = None
    """The share of ports that is to be left free when any one zone is lost; None where that is not asked."""
    tolerance: float = 0.02
    """The share of the cost within which a mix with fewer changes is shown."""
    fewest_changes: bool = False
    """Whether that mix is the answer."""
    seconds: float | None = None
    """The solver's time limit in all; None: it stops after a number of nodes, which is the same on every machine."""
    explain: bool = True
    """Whether to look for the next best mixes, and for each flow's next best option."""
    next_best: bool = False
    """Whether to look for the next best mixes all the same."""
    every_option: bool = False
    """With `explain`: whether to work out what each other option would cost, too: a programme for each."""
    ends: float | None = field(default=None, compare=False)
    """When the time limit is over, by `time.monotonic`, once the solver has begun."""

    def begun(self) -> "Wanted":
        """The same, of which the time limit runs from now on."""
        return self if self.seconds is None else replace(self, ends=monotonic() + self.seconds)

    @property
    def seconds_left(self) -> float | None:
        """What is left of the time limit for the next programme; never so little that nothing could be found."""
        return self.seconds if self.ends is None else max(_LEAST_S, self.ends - monotonic())

    @property
    def is_over(self) -> bool:
        """Whether the time limit is reached."""
        return self.ends is not None and monotonic() >= self.ends


_LEAST_S = 0.1
"""Seconds that each programme has at the least, whatever the time limit."""
