"""Rules about private lines to third parties, and about routing sessions."""

from collections.abc import Iterator, Mapping, Sequence

from fenrask.checks.contract import Context, Doubt, Fix
from fenrask.estate import Onward, PrivateLine
from fenrask.estate.suggestions import some
from fenrask.prefixes import Prefix, covers, parse_prefix
from fenrask.routing import FlowPath, capturing_hop

__all__ = ["advertised_too_much", "captured", "router_one_sided", "session_down"]


def advertised_too_much(context: Context) -> Iterator[Doubt]:
    """An own prefix announced to a third party although no flow's source there is in it."""
    lines = dict(context.of(PrivateLine))
    seen: dict[str, set[Prefix]] = {}
    # Where another line is lost, the same sources may come over this one: a line alone takes nothing over.
    for paths in (context.paths, *(context.after_losses if len(lines) > 1 else ())):
        for path in paths.first_of_each(lambda trace: not lines.keys().isdisjoint(trace.exits[-1:])):
            source = path.example.source
            own: tuple[Prefix, ...] = () if source.prefix is None else (source.prefix,)
            if not source.exit:
                # The example's hosts may be in another subnet.
                prefixes = context.estate.subnets[path.subnet].prefixes
                own = tuple(one for one in prefixes if own and one.version == own[0].version)
            seen.setdefault(path.example.exits[-1], set()).update(own)
        for path in paths.inward:
            _add_aimed_at(context, path, lines, seen)
    for name, line in lines.items():
        sources = seen.get(name, set())
        for number, prefix in enumerate(line.advertised):
            needed = sorted({one for one in sources if covers(prefix, one)}, key=str)
            place = context.place("exits", name, "advertised", number)
            others = [str(one) for one in line.advertised if one != prefix]
            if not needed:
                cause = f"{name} announces {prefix} to {_party(line)}, and no flow over it has hosts there"
                yield Doubt(place, cause, "Announce it no more.", {"exits": {name: {"advertised": others}}})
            elif sum(one.num_addresses for one in needed) * 64 < prefix.num_addresses:
                listed = ", ".join(map(str, needed[:5]))
                are = "is" if len(needed) == 1 else "are"
                cause = f"{name} announces all of {prefix} to {_party(line)}; only {listed} {are} needed"
                fix: Fix = {"exits": {name: {"advertised": _in_its_place(line, number, needed)}}}
                yield Doubt(place, cause, "Announce what is needed alone.", fix)


def _add_aimed_at(
    context: Context, path: FlowPath, lines: Mapping[str, PrivateLine], seen: dict[str, set[Prefix]]
) -> None:
    """What a third party sends to over its lines: the prefix of the hosts, or the published address."""
    inward = path.example.inward
    if inward is None or inward.ingress not in lines:
        return
    own = set(context.estate.subnets[path.subnet].prefixes)
    if inward.published_at:
        exit_ = context.estate.exits[inward.published_at]
        stated = exit_.published[inward.as_].address
        known = [exit_.pool] if exit_.pool else [parse_prefix(str(stated or next(iter(exit_.listed_addresses))))]
        own = set(known)
    for name in lines:
        if lines[name].party == lines[inward.ingress].party:
            seen.setdefault(name, set()).update(own)


def _in_its_place(line: PrivateLine, number: int, needed: list[Prefix]) -> list[str]:
    before, after = line.advertised[:number], line.advertised[number + 1 :]
    return list(dict.fromkeys(map(str, (*before, *needed, *after))))


def captured(context: Context) -> Iterator[Doubt]:
    """A destination of the internet that a third party announces, so that flows go to it over a private line."""
    found: dict[tuple[str, Prefix], dict[str, set[str]]] = {}
    lines = {name for name, exit_ in context.estate.exits.items() if exit_.onward is Onward.THIRD_PARTY}
    for path in context.paths.where(lambda trace: trace.verdict.gets_there and not lines.isdisjoint(trace.exits[-1:])):
        hop = capturing_hop(context.estate, path)
        if hop is not None and hop.route is not None:
            found.setdefault((path.example.hops[-1].exit, hop.route.prefix), {}).setdefault(path.to, set()).add(
                path.flow
            )
    for (name, prefix), by_destination in found.items():
        line = context.estate.exits[name]
        flows = sorted(set().union(*by_destination.values()))
        kept = [str(one) for one in line.learned if one != prefix and one.prefixlen]
        fix: Fix = {"exits": {name: {"accepts": kept} if prefix.prefixlen else {"accepts_default": False}}}
        elsewhere = _instead(context, fix, flows)
        cause = (
            f"{line.party or name} announces {prefix}, which holds {some(by_destination)} of the internet: "
            f"{some(flows)} {'goes' if len(flows) == 1 else 'go'} there through {name}"
        )
        remedy = f"Do not take that prefix: it then leaves through {elsewhere}."
        if not elsewhere:
            theirs = f"`third_party: {line.party or name}`"
            remedy = f"Do not take that prefix, or write {theirs} where the destination is theirs."
        yield Doubt(context.place("exits", name), cause, remedy, fix if elsewhere else None)


def _instead(context: Context, fix: Fix, flows: Sequence[str]) -> str:
    """Through what flows leave with a fix, if all of them arrive and it breaks nothing; else empty."""
    if not context.breaks_nothing(fix):
        return ""
    paths = [path for flow in flows for path in context.evaluated(fix).paths.by_flow[flow]]
    arrive = all(path.example.verdict.arrives and path.example.exits for path in paths)
    return some(dict.fromkeys(path.example.exits[0] for path in paths)) if arrive else ""


def router_one_sided(context: Context) -> Iterator[Doubt]:
    """A router whose session is set up on one side only, so that it never comes up."""
    for name, exit_ in context.estate.exits.items():
        for router, stated in exit_.routers_by_name.items():
            if stated.peered != "both":
                cause = f"{name}: the session with {router} is set up on the {stated.peered} side only"
                place = context.place("exits", name, "routers", router, "peered")
                fix = {"exits": {name: {"routers": {router: {"peered": "both"}}}}}
                yield Doubt(place, cause, "Set it up on the other side too.", fix)


def session_down(context: Context) -> Iterator[Doubt]:
    """A private line whose sessions are all down: its prefixes are not learned."""
    for name, line in context.of(PrivateLine):
        if line.fault:
            cause = f"{name}: {line.fault}; no prefix of {_party(line)} is learned"
            yield Doubt(context.place("exits", name), cause, "Bring a session up, or remove the line.")


def _party(line: PrivateLine) -> str:
    return line.third_party or "the third party"
