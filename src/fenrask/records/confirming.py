"""What is observed against what was planned: by subnet and destination, with the likely cause of a difference."""

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, replace

from fenrask.errors import Problem, UnusableInput
from fenrask.estate import Described, Estate
from fenrask.estate.suggestions import nearest
from fenrask.prefixes import Address, is_public, parse_address
from fenrask.records.compared import AS_PLANNED, NOT_SEEN
from fenrask.records.observations import Observation
from fenrask.records.outside import Attempt, Outcome, holds, origin_of, outcomes, target_of
from fenrask.routing import Source, Trace, flow_paths, trace_from

__all__ = ["Confirmed", "confirm"]

NO_ANSWER = "no answer"


@dataclass(frozen=True)
class Confirmed:
    """One subnet (empty: any) and destination: what was planned, what was seen, and what to make of it."""

    subnet: str
    destination: str
    planned: str
    seen_as: str
    times: int
    verdict: str
    cause: str = ""
    check_next: str = ""

    @property
    def well(self) -> bool:
        """Whether it is as planned; what was not seen yet is neither."""
        return self.verdict.startswith(AS_PLANNED)

    @property
    def differs(self) -> bool:
        return not self.well and self.verdict != NOT_SEEN


Planned = dict[tuple[str, str], list[Trace]]


@dataclass(frozen=True)
class _Seen:
    """What an observation is of: a subnet and a destination, of which addresses, if these are said; and as what."""

    subnet: str
    destination: str
    seen_as: Address | None
    host: Address | None = None
    target: Address | None = None


def confirm(described: Described, observations: Sequence[Observation], only_seen: bool = False) -> list[Confirmed]:
    """Every observation judged against the paths, equal ones counted; then each subnet of a flow not seen yet.

    `only_seen`: nothing of other subnets, for one that was asked. UnusableInput for senders or destinations that the
    estate does not know.
    """
    planned: Planned = {}
    for path in flow_paths(described).where(lambda _: True):
        planned.setdefault((path.subnet, path.to), []).append(path.trace)
    inside: dict[_Seen, int] = {}
    outside: dict[tuple[Attempt, Address | None], int] = {}
    problems: list[Problem] = []
    for observation in observations:
        if observation.sender and (asked := _attempts(described.estate, observation, problems)) is not None:
            for attempt in asked:
                outside[attempt, observation.seen_as] = outside.get((attempt, observation.seen_as), 0) + 1
            continue
        seen = _seen(described, observation, planned, problems)
        inside[seen] = inside.get(seen, 0) + 1
    if problems:
        raise UnusableInput(problems)
    found = [_judged(described, planned, one, times) for one, times in inside.items()]
    found += _from_outside(described, outside)
    return found if only_seen else found + list(_unseen(planned, inside))


def _seen(described: Described, observation: Observation, planned: Planned, problems: list[Problem]) -> _Seen:
    """What an observation from inside, or of the remote end, is of; by addresses where some of them differ."""
    subnet, destination = (
        _subnet(described.estate, observation, problems),
        _destination(described, observation, problems),
    )
    if subnet and destination and (subnet, destination) not in planned:
        planned[subnet, destination] = [trace for trace, _ in trace_from(described, subnet, destination)]
    traces = planned.get((subnet, destination), ())
    host = _address(observation.sender) if any(trace.portion.hosts != 1 for trace in traces) else None
    target = _address(observation.destination) if any(trace.portion.reach != 1 for trace in traces) else None
    return _Seen(subnet, destination, observation.seen_as, host, target)


def _address(text: str) -> Address | None:
    try:
        return parse_address(text)
    except ValueError:
        return None


def _attempts(estate: Estate, observation: Observation, problems: list[Problem]) -> list[Attempt] | None:
    """What an observation from outside is an attempt of; None for one from a subnet, or from what is not known."""
    origin = None if observation.sender in estate.subnets else origin_of(estate, observation.sender)
    if origin is None:
        return None
    found = target_of(estate, observation.destination, *origin, observation.port)
    if not found:
        known = [*estate.workloads, *estate.destinations]
        expected = "a workload, a service, an endpoint, or an address of a host or an exit"
        problems.append(
            Problem(observation.place, repr(observation.destination), expected, nearest(observation.destination, known))
        )
    return found


def _from_outside(described: Described, seen: dict[tuple[Attempt, Address | None], int]) -> Iterator[Confirmed]:
    """What came from outside, or did not, against what the plan lets in."""
    planned = outcomes(described, (attempt for attempt, _ in seen))
    for (attempt, seen_as), times in seen.items():
        some = planned[attempt]
        arriving = [one for one in some if one.arrives]
        told = ", ".join(dict.fromkeys(one.source or "any source" for one in arriving)) or "nothing"
        to = str(attempt.target or attempt.to)
        shown = f"{to}:{attempt.port}"
        origin = str(attempt.host or attempt.origin)
        look = "fenrask path --inward"
        if seen_as is not None and arriving:
            verdict, cause = _as_who(described.estate, attempt, seen_as, arriving)
            yield Confirmed(origin, shown, told, str(seen_as), times, verdict, cause, look if cause else "")
        elif seen_as is not None and any(one.could for one in some):
            cause = "the other end has a route of its own, which the plan does not announce; nothing else keeps it out"
            yield Confirmed(origin, shown, told, str(seen_as), times, "it arrived, by a route not ours", cause, look)
        elif seen_as is not None:
            cause = "something lets it in that the plan does not have: a rule, a route, or an address of a host's own"
            yield Confirmed(origin, shown, told, str(seen_as), times, "it arrived, and should not", cause, look)
        elif arriving and not any(one.is_needed for one in arriving):
            words = f"{AS_PLANNED}: it could arrive, and nothing needs it"
            yield Confirmed(origin, shown, told, NO_ANSWER, times, words)
        elif arriving:
            cause = "denied or lost on its way in, or nothing listens there"
            yield Confirmed(origin, shown, told, NO_ANSWER, times, NO_ANSWER, cause, look)
        else:
            why = f" ({some[0].why})" if some else ""
            words = f"{AS_PLANNED}: it must not arrive{why}"
            yield Confirmed(origin, shown, told, NO_ANSWER, times, words)


def _as_who(estate: Estate, attempt: Attempt, seen_as: Address, arriving: Sequence[Outcome]) -> tuple[str, str]:
    """Whether who comes in is seen as itself, or as the exit that rewrites it, as the plan says; else the cause."""
    sources = [trace.source for one in arriving for trace in one.traces]
    rewritten = [one for one in sources if one.exit]
    if not sources or any(_shows(one, seen_as) or one.address == seen_as for one in rewritten):
        return AS_PLANNED, ""
    if len(rewritten) < len(sources) and seen_as == (attempt.host or seen_as) and not estate.subnets_at(seen_as):
        return AS_PLANNED, ""
    if rewritten and len(rewritten) == len(sources):
        return "another source", f"{rewritten[0].exit} does not rewrite it as `rewrites_source` says"
    return "another source", "something between rewrites it that the plan does not have"


def _destination(described: Described, observation: Observation, problems: list[Problem]) -> str:
    """The destination that an observation names, or that holds the address that it names; else that address itself."""
    known = described.estate.destinations
    if observation.destination in known:
        return observation.destination
    try:
        address = parse_address(observation.destination)
    except ValueError:
        near = nearest(observation.destination, known)
        problems.append(Problem(observation.place, repr(observation.destination), "a destination, or an address", near))
        return ""
    holding = (name for name, each in known.items() if any(address in prefix for prefix in each.prefixes))
    return next(holding, str(address))


def _subnet(estate: Estate, observation: Observation, problems: list[Problem]) -> str:
    """The subnet that an observation names, by itself or by an address in it; empty for a far-side log."""
    if not observation.sender or observation.sender in estate.subnets:
        return observation.sender
    address = _address(observation.sender)
    holding = () if address is None else estate.subnets_at(address)
    whose = [] if address is None else _holders(estate, address)
    if len(whose) > 1:
        several = f"{observation.sender}, an address of {' and '.join(whose)}"
        problems.append(Problem(observation.place, several, "one of these subnets", "Name the subnet in its place."))
        return ""
    if whose and not holding:
        found, remedy = (
            f"{observation.sender}, an address of {whose[0]}",
            "Name the host before its translation, or its subnet.",
        )
        problems.append(Problem(observation.place, found, "a host's own address", remedy))
        return ""
    if not holding:
        near = nearest(observation.sender, estate.subnets)
        problems.append(
            Problem(observation.place, repr(observation.sender), "a subnet, an address, or who is outside", near)
        )
        return ""
    return holding[0]


def _judged(described: Described, planned: Planned, seen: _Seen, times: int) -> Confirmed:
    subnet, destination, seen_as = seen.subnet, seen.destination, seen.seen_as
    traces = [
        trace
        for (at, to), some in planned.items()
        if to == destination and subnet in ("", at)
        for trace in some
        if holds(trace.portion.sources, seen.host) and holds(trace.portion.targets, seen.target)
    ]
    subnet_told, to_told = str(seen.host or subnet), f"{destination} ({seen.target})" if seen.target else destination
    sources = [trace.source for trace in traces if trace.verdict.arrives]
    told = ", ".join(dict.fromkeys(map(str, sources))) or "nothing"
    if seen_as is None:
        return replace(
            _without_answer(subnet, destination, told, traces, times), subnet=subnet_told, destination=to_told
        )
    verdict, cause, check_next = _verdict(described, subnet, destination, seen_as, sources)
    return Confirmed(subnet_told, to_told, told, str(seen_as), times, verdict, cause, check_next)


def _without_answer(subnet: str, destination: str, told: str, traces: Sequence[Trace], times: int) -> Confirmed:
    """No answer is as planned where the plan lets nothing arrive: the failure is the proof."""
    lost = next((trace for trace in traces if not trace.verdict.arrives), None)
    if lost is not None and not any(trace.verdict.arrives for trace in traces):
        words = f"{AS_PLANNED}: it must not arrive ({lost.verdict.value})"
        return Confirmed(subnet, destination, told, NO_ANSWER, times, words)
    cause = "denied or lost on its path, or nothing listens there"
    look = f"fenrask path {subnet} {destination}" if subnet else f"look at {destination} itself"
    return Confirmed(subnet, destination, told, NO_ANSWER, times, NO_ANSWER, cause, look)


def _verdict(
    described: Described, subnet: str, destination: str, seen_as: Address, sources: Sequence[Source]
) -> tuple[str, str, str]:
    """How an observed address agrees with the planned sources; the likely cause where it does not, and what to do."""
    if any(_shows(source, seen_as) for source in sources):
        return _if_of_one(described.estate, seen_as)
    look = f"fenrask path {subnet} {destination}" if subnet else f"compare {destination}'s log with its senders"
    exits = described.estate.exits
    if not sources:
        return "it arrived, and should not", "a route or a rule lets it pass that the plan does not have", look
    owner = next((name for name, one in exits.items() if seen_as in one.every_listed), "")
    verdict = _whose(described, owner, seen_as)
    if owner in (one.exit for one in sources if one.kind == "exit"):
        return _other_address(owner, destination)
    if not is_public(seen_as):
        return verdict, "something between rewrites it, or it did not leave through the exit that would", look
    if sources and not any(source.public for source in sources):
        cause = "the private path is not taken: its route or its names are not in place there"
        return verdict if owner else "seen from the internet", cause, look
    if owner:
        cause = f"a route to {owner}: one is missing, its table is not the subnet's, or an old connection is open"
        return verdict, cause, look
    changing = [one.exit for one in sources if one.kind == "exit" and not exits[one.exit].fixed_source]
    if changing:
        return f"{AS_PLANNED}, but the source may change ({changing[0]})", "", ""
    network = described.estate.subnets[subnet].network if subnet else ""
    if network in described.estate.fallback_of:
        return "a dynamic address", "no route matches there, so the provider assigns an address that may change", look
    unlisted = [one.exit for one in sources if one.kind == "exit" and not one.addresses and one.prefix is None]
    if unlisted:
        cause = f"the estate does not list the addresses of {unlisted[0]}"
        return "not known", cause, f"list them: exits.{unlisted[0]}.addresses"
    cause = "something between translates that the estate does not describe, or another network was asked"
    return verdict, cause, "ask who holds it, and describe that exit"


def _if_of_one(estate: Estate, seen_as: Address) -> tuple[str, str, str]:
    """As planned, where nothing else shows the same address."""
    if len(whose := _holders(estate, seen_as)) < 2:
        return AS_PLANNED, "", ""
    cause = "what was planned shows it, and so does another: nothing tells them apart"
    return f"an address of {' and '.join(whose)}", cause, "look at the sender's own connections"


def _whose(described: Described, owner: str, seen_as: Address) -> str:
    """Whose address it is, where it is not that of a planned source; owner: the exit that lists it."""
    held = _holders(described.estate, seen_as)
    if held and not owner:
        return f"a private address of {' or '.join(held)}"
    return f"another exit's address ({owner})" if owner else "an address that is not ours"


def _holders(estate: Estate, address: Address) -> list[str]:
    """The subnets, and the exits' private pools, that hold an address."""
    pools = [
        f"the pool of {name}" for name, one in estate.exits.items() if one.pool is not None and address in one.pool
    ]
    return [*estate.subnets_at(address), *pools]


def _other_address(owner: str, destination: str) -> tuple[str, str, str]:
    """Of an address that the exit shows to others, or shows this destination alone."""
    cause = f"{owner} does not tell {destination} from others as its addresses_for says"
    return f"another address of {owner}", cause, f"look at the rules of {owner} for {destination}"


def _shows(source: Source, address: Address) -> bool:
    if source.kind == "exit" and source.prefix is None:
        return address in source.addresses
    return source.prefix is not None and address in source.prefix


def _unseen(planned: Planned, seen: Collection[_Seen]) -> Iterator[Confirmed]:
    """Planned pairs that no observation speaks of, of destinations that were observed at all.

    A log of the remote end knows no subnets: it has seen all whose source it has seen. A neighbour's observation says
    nothing.
    """
    observed = {one.destination for one in seen}
    by_pair = {(one.subnet, one.destination) for one in seen}
    in_logs = {(one.destination, one.seen_as) for one in seen if not one.subnet and one.seen_as is not None}
    for (subnet, destination), traces in planned.items():
        sources = [trace.source for trace in traces if trace.verdict.arrives]
        if destination not in observed or (subnet, destination) in by_pair or not sources:
            continue
        if any(to == destination and _shows(one, address) for one in sources for to, address in in_logs):
            continue
        told = ", ".join(dict.fromkeys(map(str, sources)))
        cause = "no traffic yet, or it is denied or lost on its path"
        yield Confirmed(subnet, destination, told, "", 0, NOT_SEEN, cause, f"fenrask path {subnet} {destination}")
