"""What every kind of exit answers, and the roles that some of them play, so that no other file names a kind."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated, Any, ClassVar, Literal, NamedTuple, Protocol, Self

from pydantic import Discriminator, Field, Tag, model_validator

from fenrask.estate.behaviour import InjectsWhile
from fenrask.estate.exits.published import Published
from fenrask.estate.filters import Filter, Matching
from fenrask.estate.growth import InUse
from fenrask.estate.third_party_nat import ThirdPartyNat
from fenrask.estate.values import AddressText, Count, Number, PrefixText, Strict, unfit
from fenrask.estate.wire import MTU
from fenrask.prefixes import Address, Prefix

__all__ = [
    "Addresses",
    "Announcing",
    "BuildPatch",
    "Counted",
    "Decision",
    "ExitModel",
    "InSubnet",
    "Inspecting",
    "OfNetwork",
    "Onward",
    "Passing",
    "PassingRule",
    "Preferred",
    "Publishing",
    "Router",
    "StatedAddresses",
    "Translating",
]


class Onward(Enum):
    """What happens to a packet after an exit."""

    TABLE = "looked up in the table of the exit's own subnet"
    HUB = "looked up in the hub's own table"
    INTERNET = "on the internet"
    SERVICE = "in the provider's service, privately"
    THIRD_PARTY = "at a third party, privately"
    JOINED = "in a network joined with this one"


@dataclass(frozen=True)
class Passing:
    """What an exit may judge a packet by."""

    address: Address
    destination: str | None
    """The one that was asked for."""
    names: tuple[str, ...]
    """The name that the host asked for, or several that no rule tells apart."""
    port: int | None
    protocol: str
    source: Address | None = None
    """Where it comes from; None where that is not known."""
    named: frozenset[str] = frozenset()
    """The destinations that it is one of the addresses of, of those that something names."""


class PassingRule(Matching, Protocol):
    """A rule by which an exit decides: it may look at names, too."""

    @property
    def ports(self) -> Sequence[int]: ...
    @property
    def names(self) -> Sequence[str]: ...


@dataclass(frozen=True)
class Decision:
    """Whether an exit lets a packet pass, and by which rule it says so."""

    allowed: bool
    rule: str


def _addresses_shape(value: Any) -> str:
    if isinstance(value, list | tuple):
        return "listed"
    return "auto" if isinstance(value, str) else "count"


StatedAddresses = tuple[AddressText, ...]
Addresses = Annotated[
    Annotated[Literal["auto"], Tag("auto")]
    | Annotated[Count, Tag("count")]
    | Annotated[StatedAddresses, Tag("listed")],
    Discriminator(_addresses_shape),
]
"""`auto` (let the tool say how many), a number of addresses, or the addresses themselves."""


class BuildPatch(NamedTuple):
    """A step in which an exit is made, or made ready to go: in words, none for the making; and what is set."""

    what: str
    stated: Mapping[str, Any]


class ExitModel(Strict):
    """The contract of an exit. A kind is one file: its keys, and its answers to these questions."""

    purpose: ClassVar[str] = ""
    """One sentence for the documentation."""
    needs_offer: ClassVar[bool] = True
    """Whether a catalogue offer of the same kind stands behind it."""
    inspects: ClassVar[bool] = False
    """Whether it inspects what passes, so that the need `inspected` is met."""
    keeps_state: ClassVar[bool] = False
    """Whether it lets an answer pass only where it saw the question."""
    is_machine: ClassVar[bool] = False
    """Whether it has an address that routes of joined networks may name as their next hop."""
    fixed_source: ClassVar[bool] = True
    """Whether the address it shows stays the same."""
    fallback: ClassVar[bool] = False
    """Whether it takes what no route of its network matches."""
    can_fail: ClassVar[bool] = True
    """Whether its loss is a case to reckon with."""
    may_only_inspect: ClassVar[bool] = False
    """Whether one that never translates makes sense, so that an offer of it need not have ports."""
    one_for_each_subnet: ClassVar[bool] = False
    """Whether it is one of the gateways of which a provider may let a subnet use a certain number."""
    takes_public_sources: ClassVar[bool] = False
    """Whether it is the internet exit of hosts, and translators, that have a public IPv4 address."""
    untranslated_ipv6: ClassVar[bool] = False
    """Whether it lets IPv6 hosts out as they are."""
    self_run: ClassVar[bool] = False
    """Whether it is a machine whose kernel the team sets up itself."""
    serves_whole_network: ClassVar[bool] = False
    """Whether it may belong to a network without being in one of its subnets."""
    entered_by_route: ClassVar[bool] = False
    """Whether hosts enter it by a route to what it reaches, for an endpoint."""
    joins_many: ClassVar[bool] = False
    """Whether it joins networks transitively, by a table of its own."""

    in_force_first: ClassVar[tuple[str, ...]] = ()
    """Keys that must hold before traffic comes; each is set in a step of its own."""
    added_and_taken: ClassVar[tuple[str, ...]] = ()
    """Keys that are lists: what they gain is there before traffic needs it, what they lose goes when none does."""
    steering: ClassVar[tuple[str, ...]] = ()
    """Keys that bring traffic or take it away; each is set in a step of its own, after all else."""
    own_steps: ClassVar[tuple[str, ...]] = ()
    """Other keys that are set in steps of their own."""

    kind: str
    running_hours: Number | None = Field(
        None, description="hours a month that it runs, rounded up; default: the whole month"
    )
    in_use: InUse | None = Field(None, description="the months in which it is there, for plans of months; default: all")

    @classmethod
    def keys_of(cls, what: str) -> tuple[str, ...]:
        """The keys that a class and its roles name in one of the tuples above, in their order."""
        return tuple(dict.fromkeys(key for one in reversed(cls.__mro__) for key in vars(one).get(what, ())))

    @classmethod
    def built_by(cls, stated: Mapping[str, Any], askers: Sequence[str]) -> list[BuildPatch]:
        """The patches by which a new one comes about, the first of which makes it.

        askers: the subnets from which flows go to what it reaches.
        """
        return [BuildPatch("", stated)]

    @classmethod
    def removed_by(cls, stated: Mapping[str, Any]) -> list[BuildPatch]:
        """The patches before it is removed, by which it loses its traffic."""
        return []

    @property
    def offer_name(self) -> str:
        """The catalogue's offer behind it; empty for an exit without one."""
        return getattr(self, "offer", None) or ""

    @property
    def onward(self) -> Onward:
        """What happens to a packet after this exit."""
        return Onward.TABLE

    @property
    def translates(self) -> bool:
        """Whether it rewrites sources, at least toward some destinations."""
        return False

    def rewrites(self, address: Address) -> bool:
        """Whether it rewrites the source of a packet to this address."""
        return self.translates

    @property
    def pool(self) -> Prefix | None:
        """The private prefix that it rewrites sources to; None where it has public addresses."""
        return None

    @property
    def families(self) -> frozenset[int]:
        """The IP versions that it carries."""
        return frozenset({4, 6})

    @property
    def maps_ipv6(self) -> bool:
        """Whether it takes IPv6 packets to mapped IPv4 addresses (NAT64, RFC 6146)."""
        return False

    @property
    def needs_public_source(self) -> bool:
        """Whether it lets out only what has a public source address."""
        return False

    @property
    def limited_beyond(self) -> ThirdPartyNat | None:
        """A translation at the other end that limits what it carries; None for none."""
        return None

    @property
    def largest_packet(self) -> int:
        """Bytes of the largest packet that it takes."""
        return MTU

    @property
    def adds_bytes(self) -> int:
        """Bytes that it adds to each packet on its own path."""
        return 0

    @property
    def in_subnets(self) -> tuple[str, ...]:
        """The subnets it stands in; none for an exit of a whole network."""
        return ()

    def left_in(self, subnets: Sequence[str]) -> dict[str, Any]:
        """The patch that leaves it in these of its subnets, at least one."""
        return {"subnets": [*subnets]}

    @property
    def takes_over_s(self) -> float | None:
        """Seconds for which nothing passes when one of its machines takes over from another; None for one alone.

        Only one machine is at work then, in the first of its subnets.
        """
        return None

    @property
    def of_network(self) -> str | None:
        """The network it is an exit of, where it does not stand in a subnet."""
        return None

    @property
    def own_region(self) -> str:
        """The region that it is in, where it says so itself; else its network's."""
        return ""

    @property
    def joins(self) -> tuple[str, ...]:
        """The networks that it joins."""
        return ()

    def lets_use_exits(self, network: str | None) -> bool:
        """Whether routes of this one of the networks that it joins may name exits of the other."""
        return False

    def table_for(self, network: str | None) -> str | None:
        """The table of its own, for what comes from a network; None for an exit that has none."""
        return None

    @property
    def table_for_replies(self) -> str | None:
        """The table of its own for what comes back to it from outside; None where its subnet's table holds."""
        return None

    @property
    def routers_by_name(self) -> Mapping[str, "Router"]:
        """The routers that its sessions are with, where they are told apart."""
        return {}

    @property
    def party(self) -> str:
        """Who is at the other end of a private line; empty for any other exit."""
        return ""

    @property
    def tables(self) -> frozenset[str]:
        """All tables of its own."""
        return frozenset()

    @property
    def attached_to(self) -> str | None:
        """The hub that it is attached to, for a line that ends at a hub."""
        return None

    @property
    def binds_public_addresses(self) -> bool:
        """Whether public addresses are bound to it in a subnet, which takes an internet exit of its network."""
        return False

    @property
    def lets_addresses_be_bound(self) -> bool:
        """Whether it is the internet exit that public addresses in its network need."""
        return self.onward is Onward.INTERNET and not (self.translates or self.untranslated_ipv6 or self.in_subnets)

    @property
    def carries(self) -> tuple[str, ...] | None:
        """The only destinations it carries, by name; None for any."""
        return None

    @property
    def own_filters(self) -> Mapping[str, Filter]:
        """Filters of what enters it, by name."""
        return {}

    @property
    def lets_in(self) -> tuple[str, ...] | None:
        """The only workloads that its policy lets in; None for any."""
        return None

    @property
    def found_by_name(self) -> bool:
        """Whether hosts reach it because of the destination's name, not by a route."""
        return False

    @property
    def asked_at(self) -> int | None:
        """The TCP port at which hosts ask it to connect on their behalf; None where it does not."""
        return None

    @property
    def serves_by_name(self) -> tuple[str, ...]:
        """The networks beside its own in which the names of what it reaches resolve to it."""
        return ()

    @property
    def serves_subnets_by_name(self) -> tuple[str, ...] | None:
        """The only subnets, of whatever network, in which they do; None for all of these networks."""
        return None

    @property
    def learned(self) -> tuple[Prefix, ...]:
        """The prefixes that it announces to its network or hub, while a session is up."""
        return ()

    @property
    def preference(self) -> tuple[int, int]:
        """What decides between what it announces and equal prefixes that others announce: the least wins."""
        return (0, 0)

    @property
    def offered(self) -> tuple[Prefix, ...]:
        """The prefixes that it would announce with its sessions up."""
        return self.learned

    @property
    def is_heard(self) -> bool:
        """Whether a session of it is up, or it has none."""
        return not self.fault and (not self.sessions or any(self.sessions.values()))

    @property
    def speaks(self) -> bool:
        """Whether anything is exchanged over its sessions."""
        return bool(self.sessions) and (bool(self.offered) or self.known_beyond is not None)

    @property
    def announced(self) -> tuple[Prefix, ...]:
        """The prefixes that a third party says lie behind it, taken or not."""
        return ()

    def known_of(self, network: str) -> tuple[Prefix, ...] | None:
        """The only prefixes of a network that it joins to which it has routes; None for all."""
        return None

    @property
    def takes_forwarded(self) -> bool:
        """Whether it takes packets whose source lies outside the network that they leave."""
        return True

    @property
    def injected(self) -> tuple[Prefix, ...]:
        """The prefixes that it puts into the tables of the networks it joins."""
        return ()

    @property
    def injects_while(self) -> InjectsWhile | None:
        """While which sessions near it it injects; None where the catalogue says it."""
        return None

    @property
    def known_beyond(self) -> tuple[Prefix, ...] | None:
        """The sources that the far side can answer, for a private line; None for any."""
        return None

    @property
    def reached_by_announcement(self) -> bool:
        """Whether who is beyond it routes here by what is announced alone, and writes no routes of its own."""
        return False

    @property
    def fault(self) -> str:
        """Why nothing passes it as it is described; empty where it works."""
        return ""

    @property
    def forwards(self) -> bool:
        """Whether it forwards others' packets at all."""
        return True

    @property
    def published(self) -> Mapping[str, Published]:
        """The ports at its own addresses that it forwards to workloads, by name."""
        return {}

    @property
    def lets_in_ports(self) -> tuple[int, ...] | None:
        """The only ports to which it lets connections in from outside; None for any."""
        return None

    def decides(self, passing: Passing) -> Decision | None:
        """Its word on a packet, for an exit with rules."""
        return None

    @property
    def has_rules(self) -> bool:
        """Whether rules of its own decide what passes."""
        return False

    @property
    def rules_in_order(self) -> Sequence["PassingRule"]:
        """The rules by which it decides, in the order in which they are tried."""
        return ()

    @property
    def lets_by_default(self) -> bool:
        """Whether what no rule matches passes."""
        return True

    @property
    def address_sets(self) -> tuple[tuple[Prefix, ...], ...]:
        """The sets of addresses that it treats unlike others, at either end of a packet."""
        return ((*self.announced, *self.learned), self.known_beyond or (), self.injected)

    @property
    def is_heard_of(self) -> bool:
        """Whether it may change the path of packets that no route sends to it: by routes that it makes others have.

        So do joined networks, announcements, private lines, private pools, and what takes the rest of a network. Names
        that resolve to it are told apart: they change the paths to what it carries, and no others.
        """
        makes_routes = self.joins or self.offered or self.announced or self.injected or self.known_beyond is not None
        return bool(makes_routes) or self.fallback or self.pool is not None

    @property
    def named_destinations(self) -> tuple[str, ...]:
        """The destinations that it treats by name, whoever else has their addresses."""
        return ()

    @property
    def ruled_destinations(self) -> tuple[str, ...]:
        """The destinations that its rules name: these stand for their addresses."""
        return ()

    def patterns_of(self, name: str) -> tuple[str, ...]:
        """Which of the names that it looks for a name is one of."""
        return ()

    @property
    def first_order(self) -> int:
        """The order number of the rule that it tries first."""
        return 0

    def rule_names(self, rule: str) -> tuple[str, ...]:
        """The names that one of its rules asks for; none for a rule that does not look at them."""
        return ()

    @property
    def units(self) -> int:
        """How many times its hourly rate is paid."""
        return 1

    @property
    def redundant_units(self) -> int:
        """How many machines, nodes or routers can take each other's place."""
        return 1

    def with_units(self, number: int) -> dict[str, Any] | None:
        """The patch that leaves it this many nodes or machines; None where it has no such number."""
        return None

    @property
    def sessions(self) -> Mapping[str, bool]:
        """Its routing sessions, by router (the empty name for its own), and whether each is up."""
        return {}

    def without_session(self, router: str = "") -> dict[str, Any]:
        """The patch that takes a routing session down, or all of them."""
        return {}

    @property
    def timeouts(self) -> Mapping[str, float]:
        """The mapping timeouts that it sets for itself, s, by ending."""
        return {}

    @property
    def stated_addresses(self) -> int | None:
        """How many public addresses it is said to have; None to let the tool size it."""
        return 0

    @property
    def least_addresses(self) -> int:
        """How many public addresses it is to have at least, where the tool sizes it."""
        return 1

    def without_number(self) -> Self:
        """The same without a word on how many public addresses it has."""
        keys = {"addresses": "auto", "at_least": 1}
        return self.model_copy(update={key: keys[key] for key in keys if key in type(self).model_fields})

    @property
    def listed_addresses(self) -> StatedAddresses:
        """The public addresses it has, where they are written down."""
        return ()

    @property
    def own_addresses(self) -> Mapping[str, Any]:
        """By destination the public addresses that are shown there alone: `auto`, how many, or a list."""
        return {}

    def toward(self, destination: str | None) -> str:
        """The destination, where it sees addresses that no other does; empty where it sees those of the rest."""
        return destination if destination is not None and destination in self.own_addresses else ""

    def stated_toward(self, toward: str) -> int | None:
        """`stated_addresses`, of those that one destination alone sees, or (empty) of those of the rest."""
        if not toward:
            return self.stated_addresses
        own = self.own_addresses[toward]
        return len(own) if isinstance(own, tuple) else None if isinstance(own, str) else int(own)

    def listed_toward(self, toward: str) -> StatedAddresses:
        """`listed_addresses`, of those that one destination alone sees, or (empty) of those of the rest."""
        own = self.own_addresses[toward] if toward else self.listed_addresses
        return own if isinstance(own, tuple) else ()

    @property
    def every_listed(self) -> StatedAddresses:
        """All public addresses it has that are written down, whoever sees them."""
        return (*self.listed_addresses, *(one for name in self.own_addresses for one in self.listed_toward(name)))


class InSubnet(ExitModel):
    """The role of exits that are in one subnet, whose table says where they send on."""

    subnet: str = Field(description="the subnet that it is in, whose table says where it sends on")

    @property
    def in_subnets(self) -> tuple[str, ...]:
        return (self.subnet,)


class OfNetwork(ExitModel):
    """The role of exits of a whole network."""

    network: str = Field(description="the network that it belongs to")

    @property
    def of_network(self) -> str | None:
        return self.network


class Router(Strict):
    """A router at the other end of a session, or one of a pair at our end of a line."""

    session: Literal["up", "down"] = Field("up", description="whether its routing session is up")
    peered: Literal["both", "near", "far"] = Field(
        "both", description="on which sides the session is set up; on one alone it never comes up"
    )

    @property
    def is_up(self) -> bool:
        return self.session == "up" and self.peered == "both"


class Preferred(ExitModel):
    """The role of exits whose announcements may win over equal ones (RFC 4271, section 9.1)."""

    local_preference: Annotated[int, Field(strict=True, ge=0, le=2**32 - 1)] = Field(
        100, description="of equal prefixes that several announce, those with the highest win"
    )
    path_length: Annotated[int, Field(strict=True, ge=0, le=1000)] = Field(
        1, description="of these, those whose path passes the fewest autonomous systems win; the rest share equally"
    )

    @property
    def preference(self) -> tuple[int, int]:
        return (-self.local_preference, self.path_length)


class Announcing(Preferred):
    """The role of appliances that announce prefixes by a routing session, or by one with each of several routers."""

    steering: ClassVar[tuple[str, ...]] = ("announces", "session", "routers")

    announces: tuple[PrefixText, ...] = Field((), description="prefixes that its routing session announces")
    session: Literal["up", "down"] = Field("up", description="whether that session is up")
    routers: dict[str, Router] = Field(
        {}, description="the routers that it has sessions with, such as both of a hub, by name; default: one, unnamed"
    )

    @property
    def learned(self) -> tuple[Prefix, ...]:
        return self.announces if any(self.sessions.values()) else ()

    @property
    def offered(self) -> tuple[Prefix, ...]:
        return self.announces

    @property
    def routers_by_name(self) -> Mapping[str, Router]:
        return self.routers

    @property
    def sessions(self) -> Mapping[str, bool]:
        up = self.session == "up"
        return {name: up and router.is_up for name, router in self.routers.items()} or {"": up}

    def without_session(self, router: str = "") -> dict[str, Any]:
        return {"routers": {router: {"session": "down"}}} if router else {"session": "down"}


class Inspecting(ExitModel):
    """The role of exits that inspect what passes, by rules of their own."""

    inspects: ClassVar[bool] = True
    in_force_first: ClassVar[tuple[str, ...]] = ("rules", "default")

    @property
    def open_rules(self) -> tuple[str, ...]:
        """The rules that let anything pass, by name."""
        return ()

    @property
    def open_by_default(self) -> bool:
        """Whether what no rule matches is said to pass."""
        return False


class Counted(ExitModel):
    """The role of exits that run, and are paid, as several nodes or machines."""

    count_key: ClassVar[str] = ""
    """The key that says how many."""
    standby_key: ClassVar[str] = ""
    """The key that names the subnet of a second one that takes over, where that may be in another zone."""

    @property
    def redundant_units(self) -> int:
        return self.units

    def with_units(self, number: int) -> dict[str, Any] | None:
        return {self.count_key: number}


class Publishing(ExitModel):
    """The role of exits that forward ports at their own addresses to hosts behind them."""

    in_force_first: ClassVar[tuple[str, ...]] = ("publishes",)

    publishes: dict[str, Published] = Field(
        {},
        description="ports at its addresses that it forwards to workloads, by name; its rules judge what it forwards",
    )

    @property
    def published(self) -> Mapping[str, Published]:
        return self.publishes

    @model_validator(mode="after")
    def _each_port_once(self) -> Self:
        seen: dict[object, str] = {}
        pool, listed = self.pool, self.listed_addresses
        for name, publish in self.publishes.items():
            other = seen.setdefault((publish.address or (listed or ("",))[0], publish.port, publish.protocol), name)
            if other != name:
                raise unfit(f"each port of an address once in publishes, not in {other} and {name}")
            if publish.address is None:
                continue
            if pool is not None and publish.address not in pool:
                raise unfit(f"in publishes.{name}.address one of its pool {pool}, not {publish.address}")
            if pool is None and listed and publish.address not in self.every_listed:
                own = ", ".join(map(str, self.every_listed))
                raise unfit(f"in publishes.{name}.address one of its addresses, {own}, not {publish.address}")
        return self


class Translating(ExitModel):
    """The common part of exits that show addresses of their own."""

    keeps_state: ClassVar[bool] = True
    by_name_only: ClassVar[bool] = False
    """Whether it translates only what hosts ask it for by name."""

    added_and_taken: ClassVar[tuple[str, ...]] = ("addresses", "addresses_for")
    own_steps: ClassVar[tuple[str, ...]] = ("mapping_timeout_s",)

    addresses: Addresses = Field("auto", description="`auto`, how many public addresses, or a list of them")
    at_least: Count = Field(1, description="with `addresses: auto`: at least this many")
    addresses_for: dict[str, Addresses] = Field(
        {},
        description="by destination `auto`, how many addresses or a list of them, beside `addresses`: what goes there "
        "shows these, and nothing else does",
    )
    mapping_timeout_s: dict[str, Number] = Field(
        {}, description="mapping timeouts that it sets, s, by ending, within what its offer allows"
    )
    private_pool: PrefixText | None = Field(
        None, description="the private prefix it rewrites to, and no public address; default: public addresses"
    )

    @model_validator(mode="after")
    def _public_for_each(self) -> Self:
        if self.private_pool is not None and self.addresses_for:
            raise unfit("addresses_for, or private_pool, not both: a pool is shown to every destination")
        return self

    @property
    def pool(self) -> Prefix | None:
        prefix: Prefix | None = self.private_pool
        return prefix if self.translates else None

    def rewrites(self, address: Address) -> bool:
        """Translated are IPv4 addresses (RFC 3022), or IPv6 ones into a pool of IPv6; the others pass as they are."""
        return self.translates and address.version == (4 if self.pool is None else self.pool.version)

    @property
    def binds_public_addresses(self) -> bool:
        return self.translates and self.pool is None and bool(self.in_subnets)

    @property
    def own_addresses(self) -> Mapping[str, Any]:
        return self.addresses_for if self.translates else {}

    @property
    def named_destinations(self) -> tuple[str, ...]:
        return (*super().named_destinations, *self.addresses_for)

    @property
    def timeouts(self) -> Mapping[str, float]:
        return self.mapping_timeout_s

    @property
    def least_addresses(self) -> int:
        return self.at_least

    @property
    def stated_addresses(self) -> int | None:
        if not self.translates or self.pool is not None:
            return 0
        if isinstance(self.addresses, tuple):
            return len(self.addresses)
        return None if isinstance(self.addresses, str) else self.addresses

    @property
    def listed_addresses(self) -> StatedAddresses:
        return self.addresses if isinstance(self.addresses, tuple) else ()
