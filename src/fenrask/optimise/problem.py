"""What there is to choose from: units of traffic, sites that could carry them, and the lanes of each unit."""

from dataclasses import dataclass
from fractions import Fraction

from fenrask.estate import Needs
from fenrask.routing import FlowPath

__all__ = ["AS_IT_IS", "Group", "Option", "Site", "Unit", "Wanted"]

AS_IT_IS = "as it is"


@dataclass(frozen=True)
class Site:
    """An exit that stands, or could be put up: of an offer, in a network, in one zone or for all of it.

    Or a door that no offer stands behind: the network's own, or that for IPv6.
    """

    kind: str
    offer: str
    network: str
    zone: str | None
    destination: str = ""
    """The service that an endpoint leads to; empty for any other exit."""
    subnets: tuple[str, ...] = ()
    """The subnets that an in-subnet endpoint stands in."""
    existing: str = ""
    """The name of the exit that stands there already."""
    behind: str = ""
    """The offer of the firewall that it stands behind: all that it carries is inspected there."""
    shared: bool = False
    """Whether a hub brings it the traffic of other networks too."""
    hub: str = ""
    """The offer of that hub, where it costs money."""
    passes: bool = False
    """Whether it stands there and only passes on, or idles: a hub, or a firewall before something else."""

    @property
    def translates(self) -> bool:
        return bool(self.offer) and not self.destination and not self.passes

    @property
    def leaves(self) -> bool:
        """Whether what it carries goes out to the internet, or by the door to a service."""
        return not self.destination and not self.passes

    @property
    def places(self) -> int:
        """How many times its hourly rate is paid."""
        return len(self.subnets) or 1

    @property
    def offers(self) -> tuple[str, ...]:
        """Every offer whose hours are paid for it."""
        return tuple(filter(None, (self.offer, self.behind, self.hub)))

    def passed_from(self, network: str) -> tuple[str, ...]:
        """The offers that traffic from a network passes on its way through."""
        return tuple(filter(None, (self.offer, self.behind, self.hub if network != self.network else "")))

    @property
    def name(self) -> str:
        """In words, for lists of what is open."""
        if not self.offer:
            words = "IPv6 straight out of" if self.kind == "ipv6-outbound" else "addresses on hosts in"
            return f"{words} {self.network}"
        what = f"{self.behind} before {self.offer}" if self.behind else self.offer
        how = "by a hub" if self.shared else ""
        return " ".join(filter(None, (what, self.destination, self.network, self.zone, how)))


@dataclass(frozen=True)
class Option:
    """One way for a unit: the site that each of its subnets uses; none of them where all stays as it is."""

    name: str
    sites: tuple[Site, ...]
    """One for each subnet of the unit."""
    fails: tuple[str, ...]
    """The needs that it does not meet, whatever else is chosen."""
    singles: bool = False
    """Whether its sites may have but one address each."""
    own_addresses: bool = False
    """Whether its hosts need public addresses of their own."""
    first: tuple[str, ...] = ()
    """The exit that each subnet's route names, where the way is one that stands and is kept."""
    also: tuple[tuple[Site, Fraction], ...] = ()
    """What a way that stands passes beside its sites, each with the share of the unit that does."""

    @property
    def distinct(self) -> tuple[Site, ...]:
        return tuple(dict.fromkeys((*self.sites, *(site for site, _ in self.also))))

    @property
    def stands(self) -> bool:
        """Whether it is the way that there is."""
        return not self.sites or bool(self.first)


@dataclass(frozen=True)
class Group:
    """All flows from the same subnets of one network to one destination: one route serves them all."""

    flows: tuple[str, ...]
    to: str
    network: str
    subnets: tuple[str, ...]
    needs: Needs
    """What any of them needs."""
    public: bool
    """Whether their hosts have public addresses of their own."""
    family: int | None = None
    """The IP version, where the destination has prefixes of both: each goes its own way."""
    part: Fraction = Fraction(1)
    """The share of the flows that this is: connections are spread evenly over the destination's prefixes."""

    def holds(self, path: FlowPath) -> bool:
        """Whether a way of one of its flows is part of it."""
        return path.subnet in self.subnets and self.family in (None, path.trace.packet.address.version)


@dataclass(frozen=True)
class Unit:
    """A group with its lanes; it is not split."""

    group: Group
    options: tuple[Option, ...]

    @property
    def flows(self) -> tuple[str, ...]:
        return self.group.flows

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
    def labels(self) -> tuple[str, ...]:
        """Its flows, with the IP version where that is told apart."""
        return tuple(f"{one} (IPv{self.group.family})" if self.group.family else one for one in self.flows)

    @property
    def name(self) -> str:
        return ", ".join(self.labels)

    def holds(self, path: FlowPath) -> bool:
        """Whether a way of one of its flows is part of it."""
        return self.group.holds(path)

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
    at_most: int | None = None
    """Translating exits at most."""
    private_hosts: bool = False
    """Whether no host may get a public address of its own."""
    zone_headroom: float | None = None
    """The share of ports that is to be left free when any one zone is lost; None where that is not asked."""
    seconds: float = 60.0
    explain: bool = True
    """Whether to look for what comes next, and why each other lane lost."""
