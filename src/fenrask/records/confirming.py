"""What is observed against what was planned: by subnet and destination, with the likely cause of a difference."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from fenrask.errors import Problem, UnusableInput
from fenrask.estate import Described, Estate
from fenrask.estate.suggestions import nearest
from fenrask.prefixes import Address, is_public, parse_address
from fenrask.records.observations import Observation
from fenrask.routing import FlowPath, Source, flow_paths

__all__ = ["Confirmed", "confirm"]

AS_PLANNED, NEVER_SEEN = "as planned", "never seen"


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
        return self.verdict == AS_PLANNED


def confirm(described: Described, observations: Sequence[Observation]) -> list[Confirmed]:
    """Every observation judged against the flows' ways, equal ones counted; then what was never seen.

    UnusableInput for senders or destinations that the estate does not know.
    """
    paths = flow_paths(described)
    planned: dict[tuple[str, str], list[FlowPath]] = {}
    for path in paths.paths:
        planned.setdefault((path.subnet, described.estate.flows[path.flow].to), []).append(path)
    tally: dict[tuple[str, str, Address], int] = {}
    problems: list[Problem] = []
    for one in observations:
        subnet = _subnet(described.estate, one, problems)
        if one.destination not in described.estate.destinations:
            near = nearest(one.destination, described.estate.destinations)
            problems.append(Problem(one.place, repr(one.destination), "a destination", near))
        key = (subnet, one.destination, one.seen_as)
        tally[key] = tally.get(key, 0) + 1
    if problems:
        raise UnusableInput(problems)
    found = [_judged(described, planned, *key, times) for key, times in tally.items()]
    return found + list(_unseen(planned, tally))


def _subnet(estate: Estate, one: Observation, problems: list[Problem]) -> str:
    """The subnet that an observation names, by itself or by an address in it; empty for a far-side log."""
    if not one.sender or one.sender in estate.subnets:
        return one.sender
    try:
        holding = estate.subnet_table.match(parse_address(one.sender))
    except ValueError:
        holding = None
    if holding is None:
        near = nearest(one.sender, estate.subnets)
        problems.append(Problem(one.place, repr(one.sender), "a subnet, or an address in one", near))
        return ""
    return holding[1]


def _judged(
    described: Described,
    planned: dict[tuple[str, str], list[FlowPath]],
    subnet: str,
    destination: str,
    seen_as: Address,
    times: int,
) -> Confirmed:
    sources = [
        path.trace.source
        for (at, to), paths in planned.items()
        if to == destination and subnet in ("", at)
        for path in paths
        if path.trace.verdict.arrives
    ]
    told = ", ".join(dict.fromkeys(map(str, sources))) or "nothing"
    verdict, cause, check_next = _verdict(described, subnet, destination, seen_as, sources)
    return Confirmed(subnet, destination, told, str(seen_as), times, verdict, cause, check_next)


def _verdict(
    described: Described, subnet: str, destination: str, seen_as: Address, sources: Sequence[Source]
) -> tuple[str, str, str]:
    """How an observed address agrees with the planned sources; the likely cause where it does not, and what to do."""
    if any(_shows(source, seen_as) for source in sources):
        return AS_PLANNED, "", ""
    look = f"fenrask path {subnet} {destination}" if subnet else f"compare {destination}'s log with its senders"
    exits = described.estate.exits
    owner = next((name for name, one in exits.items() if seen_as in one.listed_addresses), "")
    verdict = f"another exit's address ({owner})" if owner else "an address that is not ours"
    held = described.estate.subnet_table.match(seen_as)
    if held is not None and not owner:
        verdict = f"a private address of {held[1]}"
    if not is_public(seen_as):
        return verdict, "something between rewrites it, or it did not leave through the exit that would", look
    if sources and not any(source.public for source in sources):
        cause = "the private path is not taken: its route or its names are not in place there"
        return verdict if owner else "seen from the internet", cause, look
    if owner:
        cause = f"a route to {owner}: one is missing, its table is not the subnet's, or an old connection is open"
        return verdict, cause, look
    changing = [one.exit for one in sources if one.kind == "exit" and not exits[one.exit].fixed_source]
    network = described.estate.subnets[subnet].network if subnet else ""
    if changing or network in described.estate.fallback_of:
        return "a dynamic address", "no route matches there, so the provider assigns an address that may change", look
    unlisted = [one.exit for one in sources if one.kind == "exit" and not one.addresses and one.prefix is None]
    if unlisted:
        cause = f"the estate does not list the addresses of {unlisted[0]}"
        return "not known", cause, f"list them: exits.{unlisted[0]}.addresses"
    cause = "something between translates that the estate does not describe, or another network was asked"
    return verdict, cause, "ask who holds it, and describe that exit"


def _shows(source: Source, address: Address) -> bool:
    if source.kind == "exit" and source.prefix is None:
        return address in source.addresses
    return source.prefix is not None and address in source.prefix


def _unseen(
    planned: dict[tuple[str, str], list[FlowPath]], tally: dict[tuple[str, str, Address], int]
) -> Iterator[Confirmed]:
    """Planned pairs that no observation speaks of, of destinations that were observed at all."""
    observed = {destination for _, destination, _ in tally}
    by_pair = {(subnet, destination) for subnet, destination, _ in tally}
    seen = {(destination, address) for _, destination, address in tally}
    for (subnet, destination), paths in planned.items():
        if destination not in observed or (subnet, destination) in by_pair:
            continue
        sources = [path.trace.source for path in paths if path.trace.verdict.arrives]
        if any(to == destination and _shows(one, address) for one in sources for to, address in seen):
            continue
        told = ", ".join(dict.fromkeys(map(str, sources))) or "nothing"
        cause = "no traffic yet, or it is denied or lost on its path"
        yield Confirmed(subnet, destination, told, "", 0, NEVER_SEEN, cause, f"fenrask path {subnet} {destination}")
