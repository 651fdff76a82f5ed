"""Plan against kernel: every class of packets tried in a laboratory of the estate, and what differs."""

import os
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

from fenrask.estate import Described
from fenrask.prefixes import Address
from fenrask.progress import tell
from fenrask.rehearsal.attempts import AT_ONCE, Class, Planned, Try
from fenrask.rehearsal.building import Built, build
from fenrask.rehearsal.choosing import classes_of
from fenrask.rehearsal.kernel import Standing, kernel_release
from fenrask.rehearsal.laboratory import Space
from fenrask.rehearsal.rules import mark_of, number_of
from fenrask.rehearsal.sending import Answered, Ends
from fenrask.routing import Source, Verdict

__all__ = ["Observed", "Rehearsal", "Rehearsed", "rehearse"]

_WAIT_S = 0.25
_PATIENT_S = 2.0
"""What did not arrive though it was planned to is tried once more, and waited for longer: the machine may be busy."""

_MOST_ROUNDS = 12
"""How often packets are sent again, 63 or more each time, while one of several planned outcomes was not seen yet."""


@dataclass(frozen=True)
class Observed:
    """What the kernel did with one try."""

    tried: Try
    arrives: bool
    exits: frozenset[str]
    source: Address | None = None
    source_of: str = ""
    """The exit that the source belongs to, or `host`; empty where it was not received."""
    got_there: bool = False
    """Whether it was received, be it that its answer was lost."""


@dataclass(frozen=True)
class Rehearsed:
    """A class of packets: what was planned, what was observed, and whether they agree."""

    own: Class
    observed: tuple[Observed, ...] = ()
    differs: str = ""
    """How they differ; empty where they agree."""
    limit: str = ""
    """A documented limit by which they may differ."""

    @property
    def verdict(self) -> str:
        if self.own.not_tried:
            return "not tried"
        return "agrees" if not self.differs else "limit" if self.limit else "DIFFERS"


@dataclass(frozen=True)
class Rehearsal:
    """All of them, with the kernel that was asked and how much stood there."""

    kernel: str
    spaces: int
    rows: tuple[Rehearsed, ...] = field(default=())

    @property
    def differing(self) -> list[Rehearsed]:
        return [one for one in self.rows if one.differs and not one.limit]


def rehearse(described: Described, standing: Described | None = None) -> Rehearsal:
    """Try every class of packets of all flows in the kernel, where it can be asked: see `missing`.

    standing: what stands there; default: what is planned. OwnFault where the kernel does not take it.
    """
    classes = classes_of(described)
    tries = [one for each in classes for one in each.tries]
    built = build(standing or described, tries)
    with Standing(built.laboratory) as laboratory, Ends(laboratory, built.shown) as ends:
        ends.listen([(one.protocol, one.target, one.received_at) for one in tries])
        ends.relay(built.relays)
        observed = _observed(built, laboratory, ends, classes)
    rows = tuple(_judged(one, observed[number]) for number, one in enumerate(classes))
    return Rehearsal(kernel_release(), len(built.laboratory.spaces), rows)


def _observed(built: Built, standing: Standing, ends: Ends, classes: Sequence[Class]) -> list[tuple[Observed, ...]]:
    every = [(number, one) for number, each in enumerate(classes) for one in each.tries]
    # Those that all arrive together: a batch ends when its last answer came.
    every.sort(key=lambda numbered: not all(each.arrives for each in classes[numbered[0]].planned))
    found: list[list[Observed]] = [[] for _ in classes]

    def batches(some: Sequence[tuple[int, Try]], wait_s: float) -> Iterator[tuple[int, Observed]]:
        for first in range(0, len(some), AT_ONCE):
            tell("connections opened:", first, len(some))
            batch = some[first : first + AT_ONCE]
            yield from zip((number for number, _ in batch), _sent(built, standing, ends, batch, wait_s), strict=True)

    again: list[tuple[int, Try]] = []
    for number, seen in batches(every, _WAIT_S):
        if seen.arrives or not all(each.arrives for each in classes[number].planned):
            found[number].append(seen)
        else:
            again.append((number, seen.tried))
    for number, seen in batches(again, _PATIENT_S):
        found[number].append(seen)
    for _ in range(_MOST_ROUNDS):
        rare = {number for number, each in enumerate(classes) if _unseen(each, found[number])}
        if not rare:
            break
        more = [one for one in every if one[0] in rare]
        for number, seen in batches(more * max(1, AT_ONCE // len(more)), _WAIT_S):
            found[number].append(seen)
    return [tuple(one) for one in found]


def _unseen(own: Class, observed: Sequence[Observed]) -> list[Planned]:
    """Of several planned outcomes, those that no try had yet, while none had another one."""
    if len(own.planned) < 2 or any(not any(_fits(one, each) for each in own.planned) for one in observed):
        return []
    return [each for each in own.planned if not any(_fits(one, each) for one in observed)]


def _sent(
    built: Built, standing: Standing, ends: Ends, batch: Sequence[tuple[int, Try]], wait_s: float
) -> list[Observed]:
    numbered = [(place + 1, one) for place, (_, one) in enumerate(batch)]
    for each in built.marked:
        marks = [str(mark_of(number)) for number, one in numbered if each.holds(one)]
        commands = f"flush set inet {each.table} {each.name}\n"
        if marks:
            commands += f"add element inet {each.table} {each.name} {{ {', '.join(marks)} }}\n"
        standing.tell(each.space, commands)
    answered = ends.send(numbered, wait_s)
    passed: dict[int, list[Space]] = {number: [] for number, _ in numbered}
    noting = [space for space in built.laboratory.spaces.values() if space.notes]
    with ThreadPoolExecutor(os.cpu_count() or 1) as executor:
        noted = executor.map(lambda space: standing.taken(space.name, "seen", "seen"), noting)
        for space, seen in zip(noting, noted, strict=True):
            for mark in seen:
                # What a connection of an earlier batch still sends is nobody's.
                passed.setdefault(number_of(mark), []).append(space)
    return [_as_observed(built, one, answered[number], passed[number]) for number, one in numbered]


def _as_observed(built: Built, tried: Try, answered: Answered, passed: Sequence[Space]) -> Observed:
    """What became of a try: by what was answered, and by who noted its first packet."""
    source_of = _whose(built, tried, answered.source) if answered.source is not None else ""
    got_there = any(tried.target in space.local for space in passed)
    exits = frozenset(space.is_exit for space in passed if space.is_exit)
    return Observed(tried, answered.arrives, exits, answered.source, source_of, got_there)


def _whose(built: Built, tried: Try, source: Address) -> str:
    if source == tried.sender:
        return "host"
    if source == built.shown.public_of.get(tried.sender):
        return "host-public"
    return built.shown.whose(source)


def _judged(own: Class, observed: tuple[Observed, ...]) -> Rehearsed:
    """One outcome is planned for all tries; of several each try may have any, and all of them must be seen."""
    if own.not_tried:
        return Rehearsed(own)
    planned = own.planned
    if len(planned) == 1 and not planned[0].arrives:
        differs = "it arrives, and should not" if _some_pair_arrives(observed) else ""
        # Who connects on hosts' behalf has taken their connection before: it must be answered first.
        asks = any(one.tried.asked is not None for one in observed)
        if planned[0].verdict.gets_there and not asks and not any(one.got_there for one in observed):
            differs = "it does not even get there"
    else:
        odd = next((one for one in observed if not any(_fits(one, each) for each in planned)), None)
        differs = _difference(planned, odd) if odd is not None else ""
        if not differs and (unseen := _unseen(own, observed)):
            differs = f"never seen: {_told(unseen[0])}"
    return Rehearsed(own, observed, differs, _limit(own, observed) if differs else "")


def _some_pair_arrives(observed: Sequence[Observed]) -> bool:
    """Whether all that some host sends to some address, at whatever port, arrives: one port that does not is a loss."""
    pairs: dict[tuple[Address, Address, str], list[bool]] = {}
    for seen in observed:
        pairs.setdefault((seen.tried.sender, seen.tried.target, seen.tried.name), []).append(seen.arrives)
    return any(all(some) for some in pairs.values())


def _fits(observed: Observed, planned: Planned) -> bool:
    if not planned.arrives:
        return not observed.arrives
    return observed.arrives and observed.exits == frozenset(planned.exits) and _is_source(observed, planned.source)


def _is_source(observed: Observed, planned: Source) -> bool:
    if planned.kind == "exit":
        return observed.source_of == planned.exit and (
            planned.address is None or not planned.addresses or observed.source in planned.addresses
        )
    if planned.kind == "remote" and planned.exit:
        return observed.source_of == planned.exit
    if planned.kind == "host-public" and observed.source is not None and observed.source.version == 4:
        return observed.source_of == "host-public"
    return observed.source_of == "host"


def _difference(planned: Sequence[Planned], odd: Observed) -> str:
    if not odd.arrives:
        return "it got there, its answer was lost" if odd.got_there else "it does not arrive"
    arriving = [one for one in planned if one.arrives]
    if not arriving:
        return "it arrives, and should not"
    if not any(frozenset(one.exits) == odd.exits for one in arriving):
        return f"by {', '.join(sorted(odd.exits)) or 'no exit'}"
    return f"as {odd.source}"


def _told(planned: Planned) -> str:
    return f"{planned.verdict.value} by {', '.join(planned.exits) or 'no exit'}"


def _limit(own: Class, observed: Sequence[Observed]) -> str:
    """A documented limit of what stands in the kernel, by which the two may differ."""
    planned = own.planned[0]
    if own.limit:
        return own.limit
    if any(one.verdict is Verdict.OTHER_RETURN for one in own.planned) and observed[0].tried.protocol == "udp":
        return "a datagram's answer may come back another way"
    if len(own.planned) > 1 and any(one.verdict is Verdict.LOOP for one in own.planned):
        return "in a circle with equal routes the kernel may find another one at the next turn"
    if any(
        one.verdict is Verdict.NOT_CARRIED and one.source.kind == "remote" and one.source.exit for one in own.planned
    ):
        return f"that {planned.source.exit} rewrote what came in is not seen beyond it"
    return ""
