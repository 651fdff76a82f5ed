"""What a flow demands of its exit, judged on its ways. One function a need, one registry."""

from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from types import MappingProxyType
from typing import NamedTuple

from fenrask.estate import BY_NAME, Described, Estate, ExitModel, Flow, Needs, Onward
from fenrask.estate.suggestions import some
from fenrask.evaluation.availability import availability, down_minutes
from fenrask.prefixes import Address, Prefix, covers, fewest_prefixes
from fenrask.routing.captured import capturing_hop
from fenrask.routing.inward import Openings
from fenrask.routing.packets import Hop
from fenrask.routing.paths import FlowPath, Paths
from fenrask.units import counted

__all__ = [
    "ALLOWED",
    "NEEDS",
    "OUTBOUND_ONLY",
    "SURVIVES",
    "BrokenNeed",
    "ByKind",
    "Need",
    "any_by_size",
    "broken_needs",
    "by_size",
    "Given",
    "every_broken_need",
    "in_the_mean",
    "is_asked",
    "most_entries",
    "not_allowed",
    "wanted_on_the_way",
]


@dataclass(frozen=True)
class BrokenNeed:
    """A need that a flow's ways do not meet, and why."""

    flow: str
    need: str
    why: str


class Given(NamedTuple):
    """How many allow-list entries and public addresses exits have, by exit and the destination that alone sees them.

    The destination is empty for those that others see. An exit that is not named has what the estate states, and
    where that is `auto`, one. entries: see `AddressPlan.entries`.
    """

    entries: Mapping[tuple[str, str], int] = MappingProxyType({})
    addresses: Mapping[tuple[str, str], int] = MappingProxyType({})


_AS_STATED = Given()


@dataclass(frozen=True)
class _Case:
    """What a need is judged on: the arriving ways of one flow, and what the plan says of exits."""

    whole: Paths
    """Those of all flows."""
    paths: Sequence[FlowPath]
    availability: Callable[[], float]
    """The expected share of time that the flow works; worked out where it is asked."""
    flow: Flow
    openings: Callable[[], Openings]
    """Who could open connections inward; worked out where it is asked."""
    needs: Needs
    given: Given
    """What exits have, where the plan knows it."""

    @property
    def described(self) -> Described:
        return self.whole.described

    @property
    def estate(self) -> Estate:
        return self.described.estate

    def entries_of(self, name: str) -> int:
        """Entries as planned, else as the estate states them, else one."""
        toward = self.estate.exits[name].toward(self.flow.remote)
        listed = self.estate.exits[name].listed_toward(toward)
        return self.given.entries.get((name, toward)) or len(fewest_prefixes(listed)) or self.addresses_of(name)

    def addresses_of(self, name: str) -> int:
        """Addresses as planned, else as the estate states them, else one."""
        toward = self.estate.exits[name].toward(self.flow.remote)
        return self.given.addresses.get((name, toward)) or self.estate.exits[name].stated_toward(toward) or 1

    def ties_hosts(self, name: str) -> bool:
        """Whether an exit keeps each host to one of its addresses, at least toward one destination."""
        offer = self.described.offer_of(name)
        ports = offer.ports if offer else None
        return ports is not None and ports.ties_hosts


def _captured(case: _Case) -> str:
    """Where a third party draws the traffic to itself: what the destination sees, and by what path, is then its own."""
    for path in case.paths:
        if hop := capturing_hop(case.estate, path):
            return _captured_at(case.estate, path, hop)
    return ""


def _captured_at(estate: Estate, path: FlowPath, hop: Hop) -> str:
    line = path.example.hops[-1].exit
    prefix = hop.route.prefix if hop.route else ""
    return f"from {_of(path)} it goes to {estate.exits[line].party or line} through {line}, who announces {prefix}"


def _fixed_source(case: _Case) -> str:
    if captured := _captured(case):
        return captured
    return next(filter(None, (_changing(case.estate, path) for path in case.paths)), "")


def _changing(estate: Estate, path: FlowPath) -> str:
    """Why the address that a path shows may change; empty where it stays."""
    for name in path.example.exits:
        if not estate.exits[name].fixed_source:
            return f"from {_of(path)} it leaves through {name}, whose address the provider may change"
    return ""


def _inspected(case: _Case) -> str:
    for path in case.paths:
        rules = [(name, hop.rule) for hop in path.example.hops if (name := hop.exit) in case.estate.exits]
        inspecting = [(name, rule) for name, rule in rules if case.estate.exits[name].inspects]
        if not inspecting:
            return f"from {_of(path)} it passes no inspecting firewall"
        if case.needs.inspected == BY_NAME and not any(
            case.estate.exits[name].rule_names(rule) for name, rule in inspecting
        ):
            by = ", ".join(f"{name} by {rule}" if rule else name for name, rule in inspecting)
            return f"from {_of(path)} no rule inspects its name ({by} lets it pass)"
    return ""


def _off_internet(case: _Case) -> str:
    if captured := _captured(case):
        return captured
    for path in case.paths:
        if path.example.onward is Onward.INTERNET:
            return f"from {_of(path)} it {_crosses(path)} the internet through {path.example.boundary}"
    return ""


def _max_source_addresses(case: _Case) -> str:
    remote = case.flow.remote
    if case.whole.sees_hosts(remote):
        return "every host shows an address of its own"
    entries = sum(case.entries_of(name) for name in case.whole.sources_at(remote))
    entries += len(case.whole.host_prefixes_at(remote))
    most = case.needs.max_source_addresses or 0
    return f"{entries} allow-list entries needed, the partner takes {most}" if entries > most else ""


def _one_source_per_host(case: _Case) -> str:
    for name in sorted({path.example.source.exit for path in case.paths if path.example.source.kind == "exit"}):
        if (addresses := case.addresses_of(name)) > 1 and not case.ties_hosts(name):
            return f"{name} spreads a host's connections over {addresses} addresses"
    return ""


def _availability(case: _Case) -> str:
    wanted, found = case.needs.availability or 0.0, case.availability()
    if found >= wanted:
        return ""
    hours = float(case.described.catalogue.hours_per_month)
    allowed, down = down_minutes(wanted, hours), down_minutes(found, hours)
    return f"expected to be down {down:,.3g} min a month ({found:.4%} available), {allowed:,.3g} allowed"


def _outbound_only(case: _Case) -> str:
    """Of a workload: nobody may open connections to it; of a destination: not by the exit that leads there."""
    workload, comes_in = case.flow.workload, case.flow.is_inward
    if comes_in and case.paths:
        return f"it comes in from {case.flow.from_} to {workload}:{case.flow.port}"
    anyone = case.estate.workloads[workload].needs.outbound_only
    for path in case.paths:
        for way in case.openings().to(path.subnet):
            entered = anyone or way.through in path.example.exits[-1:]
            if way.is_open and entered and way.workload == workload:
                return f"{way.origin} can open connections to {path.subnet} through {way.through} ({way.why})"
    return ""


def _crosses(path: FlowPath) -> str:
    return "leaves for" if path.example.inward is None else "comes from"


def _of(path: FlowPath) -> str:
    """The subnet of a path, with the part of its packets that take it where these are not all."""
    return f"{path.subnet} ({path.words})" if path.words else path.subnet


def _more(paths: Sequence[FlowPath]) -> str:
    return f"; and {counted(len(paths), 'more part')}" if paths else ""


@dataclass(frozen=True)
class Need:
    """Something that a flow may demand. why: why its arriving ways do not meet it; empty where they do."""

    why: Callable[[_Case], str]
    by_size: bool = False
    """Whether it hangs on how many addresses exits are given."""
    in_the_mean: bool = False
    """Whether it is demanded of a flow in the mean of its parts."""
    by_path: bool = False
    """Whether it is judged on what happens to packets alone, whosever they are."""
    most_entries: Callable[[Needs], int | None] = lambda _: None
    """The most allow-list entries that a destination's list takes, where it says that."""
    wants: Callable[[type[ExitModel]], bool] | None = None
    """The kinds of exits that something must pass on its way to meet it, where these do not lead out themselves."""
    is_asked: Callable[[Needs], object] | None = None
    """Whether it is demanded; None: where its key is set."""


NEEDS: dict[str, Need] = {
    "fixed_source": Need(_fixed_source, by_path=True),
    "inspected": Need(_inspected, by_path=True, wants=lambda kind: kind.inspects),
    "off_internet": Need(_off_internet, by_path=True),
    "max_source_addresses": Need(
        _max_source_addresses, by_size=True, most_entries=lambda needs: needs.max_source_addresses
    ),
    "one_source_per_host": Need(_one_source_per_host, by_size=True),
    "availability": Need(_availability, in_the_mean=True),
    "outbound_only": Need(_outbound_only),
}
"""By key, in the order in which they are judged."""

OUTBOUND_ONLY = "outbound_only"
"""Nobody can open connections inward."""
SURVIVES = "survives"
"""That a flow is as it should be after each fault that it names: see `Surviving`."""

ALLOWED = "allowed"
"""That a partner's allow-list, where the estate says what is on it, holds what it sees."""


def is_asked(name: str, needs: Needs) -> bool:
    """Whether these needs have that of a name."""
    asked = NEEDS[name].is_asked
    return bool(getattr(needs, name) if asked is None else asked(needs))


def asked_in(needs: Needs) -> list[str]:
    """The needs that something has, by name."""
    return [name for name in NEEDS if is_asked(name, needs)]


def any_by_size(estate: Estate) -> bool:
    """Whether any need hangs on how many addresses exits have."""
    needs = (*(one.needs for one in estate.workloads.values()), *(one.needs for one in estate.destinations.values()))
    return any(one.by_size and is_asked(name, some) for some in needs for name, one in NEEDS.items())


def by_size(name: str) -> bool:
    """Whether a need hangs on how many addresses exits are given, or which."""
    return name == ALLOWED or (name in NEEDS and NEEDS[name].by_size)


def in_the_mean(name: str) -> bool:
    """Whether a need is demanded of a flow in the mean of its parts, and so of none of them."""
    return name in NEEDS and NEEDS[name].in_the_mean


def wanted_on_the_way(needs: Needs) -> list[Callable[[type[ExitModel]], bool]]:
    """The kinds of exits that something with these needs must pass on its way."""
    each = ((name, one.wants) for name, one in NEEDS.items())
    return [wants for name, wants in each if wants is not None and is_asked(name, needs)]


def most_entries(needs: Needs) -> int | None:
    """The most allow-list entries that a destination with these needs takes; None for any number."""
    each = [most for one in NEEDS.values() if (most := one.most_entries(needs)) is not None]
    return min(each, default=None)


def every_broken_need(paths: Paths, given: Given = _AS_STATED) -> Iterator[BrokenNeed]:
    """The needs that any flow's paths break; arguments as those of `broken_needs`."""
    known: dict[int, list[BrokenNeed]] = {}
    by_kind = ByKind(paths)
    for number in paths.not_plain():
        # Flows of one workload to one destination have the same paths, and the same is demanded of them.
        flow, pair = paths.flows[number], int(paths.pair[number])
        if pair not in known:
            known[pair] = [] if by_kind.holds(flow) else broken_needs(paths, flow, given)
        yield from (replace(one, flow=flow) for one in known[pair])


def broken_needs(
    paths: Paths,
    flow: str,
    given: Given = _AS_STATED,
    subnets: Container[str] | None = None,
    sized: bool = True,
) -> list[BrokenNeed]:
    """The needs of a flow that its paths break; paths that do not arrive break `arrives`.

    With `subnets`, those alone that its part from these subnets breaks; without `sized`, none that hang on how many
    addresses exits are given.
    """
    estate = paths.described.estate
    own = [path for path in paths.by_flow[flow] if subnets is None or path.subnet in subnets]
    lost = [path for path in own if not path.example.verdict.arrives]
    broken = [
        BrokenNeed(flow, "arrives", f"from {_of(path)}: {path.trace.verdict.value}, {path.trace.why}{_more(lost[1:])}")
        for path in lost[:1]
    ]
    stated = estate.flows[flow]
    arriving = [path for path in own if path.example.verdict.arrives]
    if arriving and (missing := not_allowed(paths, stated.remote)):
        listed = some([f"{address} ({source})" for source, address in missing])
        broken.append(BrokenNeed(flow, ALLOWED, f"{stated.remote} does not allow {listed}"))
    elif estate.remotes[stated.remote].allowed:
        captured = ((path, capturing_hop(estate, path)) for path in arriving)
        if why := next((_captured_at(estate, path, hop) for path, hop in captured if hop), ""):
            broken.append(BrokenNeed(flow, ALLOWED, f"{why}, and what {stated.remote} then sees is not known"))
        elif why := next(filter(None, (_changing(estate, path) for path in arriving)), ""):
            broken.append(BrokenNeed(flow, ALLOWED, f"{why}, so that no list of {stated.remote} can hold it"))
    if not estate.has_needs(stated):
        return broken
    needs = estate.needs_of(stated)
    case = _Case(
        paths,
        arriving,
        lambda: availability(paths).of(flow, subnets),
        stated,
        lambda: paths.openings,
        needs,
        given,
    )
    for name, need in NEEDS.items():
        if (sized or not need.by_size) and is_asked(name, needs) and (why := need.why(case)):
            broken.append(BrokenNeed(flow, name, why))
    return broken


_LOST, _TAKEN = -1, -2
"""What happens to packets that do not arrive, and to those that a third party takes."""


class ByKind:
    """The needs that parts of flows break on their paths, those that hang on addresses apart.

    Many have paths of the same kinds, and the same is demanded of them: they are judged once.
    """

    def __init__(self, paths: Paths) -> None:
        self._paths = paths
        self._known: dict[tuple[tuple[int, ...], Needs], frozenset[str]] = {}
        self._facts: dict[int, int] = {}
        self._alike: dict[object, int] = {}
        self._by_kinds: dict[Needs, bool] = {}

    def _of(self, kind: int) -> int:
        """A number for what happens to packets of a kind: the exits that they pass, by which rules, where they end.

        Below 0 where they do not arrive, or a third party takes them: what it draws to itself hangs on whose the
        destination is.
        """
        known = self._facts.get(kind)
        if known is None:
            trace = self._paths.pairs.kinds[kind].box.trace
            if not trace.verdict.arrives:
                known = _LOST
            elif trace.onward is Onward.THIRD_PARTY:
                known = _TAKEN
            else:
                met = (trace.onward, tuple([(hop.exit, hop.rule) for hop in trace.hops]))
                known = self._alike.setdefault(met, len(self._alike))
            self._facts[kind] = known
        return known

    def arrives(self, flow: str, subnets: Container[str]) -> bool:
        """Whether all of a flow's part from some subnets arrives, and none of it at a third party."""
        return all(self._of(kind) >= 0 for kind in self._paths.kinds_of(flow, subnets))

    def holds(self, flow: str) -> bool:
        """Whether a flow's paths meet all its needs, as far as that can be told of the kinds of its paths alone."""
        estate = self._paths.described.estate
        stated = estate.flows[flow]
        by_kind = all(NEEDS[name].by_path for name in asked_in(estate.needs_of(stated)))
        return by_kind and not estate.remotes[stated.remote].allowed and not self.broken(flow, estate.subnets)

    def broken(self, flow: str, subnets: Container[str]) -> frozenset[str]:
        """By name."""
        estate = self._paths.described.estate
        stated = estate.flows[flow]
        kinds = tuple(dict.fromkeys(map(self._of, self._paths.kinds_of(flow, subnets))))
        needs = estate.needs_of(stated)
        if _TAKEN in kinds or estate.remotes[stated.remote].allowed:
            return self._asked(flow, subnets)
        by_kinds = self._by_kinds.get(needs)
        if by_kinds is None:
            by_kinds = all(NEEDS[name].by_path or NEEDS[name].by_size for name in asked_in(needs))
            self._by_kinds[needs] = by_kinds
        if not by_kinds:
            return self._asked(flow, subnets)
        key = (kinds, needs)
        if key not in self._known:
            self._known[key] = self._asked(flow, subnets)
        return self._known[key]

    def _asked(self, flow: str, subnets: Container[str]) -> frozenset[str]:
        return frozenset(one.need for one in broken_needs(self._paths, flow, subnets=subnets, sized=False))


def not_allowed(paths: Paths, destination: str) -> list[tuple[str, Address | Prefix]]:
    """The known sources that a destination sees, and that its allow-list, if it is known, lacks: with whose they are.

    Listed addresses of exits, private pools, and IPv6 prefixes of hosts that come with addresses of their own.
    """
    estate = paths.described.estate
    allowed = estate.remotes[destination].allowed
    if not allowed:
        return []
    listed: list[tuple[str, Address | Prefix]] = [
        (source, address)
        for source in paths.sources_at(destination)
        for address in estate.exits[source].listed_toward(estate.exits[source].toward(destination))
        if not any(address in prefix for prefix in allowed)
    ]
    wider = [*paths.pools_at(destination).items(), *(("hosts", one) for one in paths.host_prefixes_at(destination))]
    return [*listed, *((whose, one) for whose, one in wider if not any(covers(prefix, one) for prefix in allowed))]
