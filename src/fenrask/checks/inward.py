"""Rules about flows that come in: where one is lost, and what is open although no flow uses it."""

from collections.abc import Iterator, Sequence
from fractions import Fraction
from typing import Any

from fenrask.checks.contract import Context, Doubt, Fix, in_table_of
from fenrask.estate import Estate, Publishing, Remote, merge
from fenrask.estate.suggestions import some
from fenrask.routing import Filters, FlowPath, Judged, Trace, Verdict
from fenrask.units import counted, percent

__all__ = ["inward_lost", "published_unused"]

_MOST_FILTERS = 8


def inward_lost(context: Context) -> Iterator[Doubt]:
    """A flow that comes in and does not get to its hosts, or whose replies do not get out as they must."""
    found: dict[tuple[str, ...], list[FlowPath]] = {}
    for path in context.paths.inward:
        if not path.example.verdict.arrives:
            found.setdefault((path.workload, path.to, path.trace.why), []).append(path)
    for paths in found.values():
        path = paths[0]
        flow = context.estate.flows[path.flow]
        words, fix = _cured(context, path)
        part = _in_words([one for one in paths if (one.flow, one.subnet) == (path.flow, path.subnet)])
        flows, subnets = some(dict.fromkeys(p.flow for p in paths)), some(dict.fromkeys(p.subnet for p in paths))
        cause = f"{flows} from {flow.from_} to {flow.workload}:{flow.port} in {subnets}{part}: {path.trace.why}"
        yield Doubt(context.place("flows", path.flow), cause, words, fix)


def _in_words(paths: Sequence[FlowPath]) -> str:
    """Which part of a flow these paths to one subnet are; empty for all of it."""
    words = [path.words for path in paths if path.words]
    if not words:
        return ""
    more = f" and {counted(len(words) - 1, 'more part')}" if len(words) > 1 else ""
    return f" ({words[0]}{more}; {percent(float(sum((path.within for path in paths), Fraction(0))))} of it)"


def _cured(context: Context, path: FlowPath) -> tuple[str, Fix | None]:
    """What to do, in words, and the first patch of that kind that brings the flow in and breaks nothing."""
    words, otherwise, fixes = _remedies(context, path)
    fix = context.first_that_cures(path.flow, fixes)
    return (words, fix) if fix else (otherwise, None)


def _remedies(context: Context, path: FlowPath) -> tuple[str, str, Iterator[Fix]]:
    """What a patch would do, what to do where none does it, and the patches to try."""
    trace = path.trace
    if trace.verdict in (Verdict.DENIED, Verdict.REPLY_DENIED):
        return "Allow it there.", "Allow it where it is denied.", _allowing(context, path)
    if trace.verdict in (Verdict.OTHER_RETURN, Verdict.NO_RETURN):
        otherwise = "Route the replies to the exit that it comes in by, past every exit that keeps its state."
        return "Let the replies leave as it came in.", otherwise, _returning(context, path)
    if _remote(context.estate, path).way == "network" and trace.verdict is not Verdict.LOOP:
        otherwise = "Route it to the peering or hub that joins the networks, there and back."
        return "Route it there and back.", otherwise, _joining(context, path)
    if trace.verdict is Verdict.NO_ROUTE:
        otherwise = "Publish the port at an exit, give its hosts public addresses, or advertise their prefix."
        return "Let it in there.", otherwise, _letting_in(context, path)
    if trace.verdict is Verdict.BLACK_HOLE:
        return "", "Bring it up, or let the flow in by another exit.", iter(())
    return "", "Correct the route that it follows in (`fenrask path` shows it).", iter(())


def _remote(estate: Estate, path: FlowPath) -> Remote:
    remote = estate.remotes[path.to]
    assert isinstance(remote, Remote)
    return remote


def _allowing(context: Context, path: FlowPath) -> Iterator[Fix]:
    """Rules that let it pass: in the filters on its path, one after the other; or at the exit that denies it."""
    estate, last = context.estate, path.trace.hops[-1] if path.trace.hops else None
    wall = estate.exits.get(last.exit) if last else None
    if last and wall is not None and wall.has_rules and path.trace.reason.startswith(f"{last.exit} denies"):
        prefixes = [str(prefix) for name in _subnets(estate, path) for prefix in estate.subnets[name].prefixes]
        rule: dict[str, Any] = {"action": "allow", "prefixes": prefixes, "ports": [_remote(estate, path).port]}
        rule["order"] = wall.first_order - 1
        yield {"exits": {last.exit: {"rules": {f"allow-{path.flow}": rule}}}}
        return
    ingress = estate.exits.get(path.trace.boundary)
    port = path.trace.inward.published_port or path.trace.inward.port if path.trace.inward else 0
    if ingress is not None and ingress.lets_in_ports is not None and port not in ingress.lets_in_ports:
        yield {"exits": {path.trace.boundary: {"open_ports": [*ingress.lets_in_ports, port]}}}
        return
    fix: Fix = {}
    for _ in range(_MOST_FILTERS):
        described = context.described.patched(fix, "a remedy") if fix else context.described
        judged = _denying(context, described.estate, path, fix)
        if judged is None:
            break
        fix = merge(fix, _allowed(described.estate, path, judged))
    if fix:
        yield fix


def _denying(context: Context, estate: Estate, path: FlowPath, fix: Fix) -> Judged | None:
    paths = context.evaluated(fix).paths if fix else context.paths
    for part in paths.by_flow[path.flow]:
        if part.trace.verdict in (Verdict.DENIED, Verdict.REPLY_DENIED):
            for judged in Filters(estate).judged(part.trace, part.workload):
                if not judged.allowed:
                    return judged
    return None


def _allowed(estate: Estate, path: FlowPath, judged: Judged) -> Fix:
    """A rule before all others of a filter: for who comes in, and the port; or for the replies to them."""
    remote, crossing = _remote(estate, path), judged.crossing
    rule: dict[str, Any] = {"action": "allow", "protocol": remote.protocol}
    if remote.origin in estate.destinations:
        rule["destinations"] = [remote.origin]
    elif remote.way != "internet":
        rule["prefixes" if judged.is_reply else "sources"] = [*map(str, remote.prefixes)]
    if judged.is_reply:
        rule["ports"] = ["1024-65535"]
    else:
        rule["ports"] = [path.trace.inward.port if path.trace.inward else remote.port]
    stated = Filters(estate).at(crossing)[judged.filter]
    orders = [one.order for _, one in stated.toward(judged.direction).rules if one.order is not None]
    rule["order"] = min([*orders, 1]) - 1
    name = f"{'replies-of' if judged.is_reply else 'allow'}-{path.flow}"
    return {crossing.section: {crossing.owner: {"filters": {judged.filter: {judged.direction: {name: rule}}}}}}


def _subnets(estate: Estate, path: FlowPath) -> tuple[str, ...]:
    return estate.workloads[path.workload].subnets


def _returning(context: Context, path: FlowPath) -> Iterator[Fix]:
    """Sources rewritten where a port is published; else routes back for who comes in, in the hosts' tables."""
    estate, trace = context.estate, path.trace
    inward = trace.inward
    if inward is None:
        return
    remote = _remote(estate, path)
    keys = [str(one) for one in remote.prefixes] if remote.way != "internet" or remote.origin != "internet" else []
    if remote.origin in estate.destinations:
        keys = [remote.origin]
    tables = list(dict.fromkeys(table for name in _subnets(estate, path) if (table := estate.table_of(name))))
    back = [name for name in dict.fromkeys((inward.published_at, *_kept(estate, trace), inward.ingress)) if name]
    back += [name for name, one in estate.exits.items() if one.carries and remote.origin in one.carries]
    network = estate.subnets[path.subnet].network
    if remote.way == "service":
        back += [name for name, one in estate.exits.items() if one.takes_public_sources and one.of_network == network]
    for name in back:
        if keys and tables:
            yield {"route_tables": {table: dict.fromkeys(keys, name) for table in tables}}
    publishing = {
        (one.example.inward.published_at, one.example.inward.as_)
        for one in context.paths.by_flow[path.flow]
        if one.example.inward is not None and one.example.inward.published_at
    }
    every: Fix = {}
    for name, as_ in sorted(publishing):
        every = merge(every, {"exits": {name: {"publishes": {as_: {"rewrites_source": True}}}}})
    rewritten: list[Fix] = [every]
    defaults: list[Fix] = [
        {"route_tables": {table: {"0.0.0.0/0": name} for table in tables}} for name in back if not keys and tables
    ]
    several = rewritten if inward.published_at else []
    # A default that works is left as it is where anything else helps.
    yield from (*defaults, *several) if trace.verdict is Verdict.NO_RETURN else (*several, *defaults)


def _joining(context: Context, path: FlowPath) -> Iterator[Fix]:
    """Routes through a peering or a hub that joins the two networks, in all tables of the one and of the hosts."""
    estate = context.estate
    sender, own = _remote(estate, path).network, estate.subnets[path.subnet].network
    for name, exit_ in estate.exits.items():
        if sender == own or not {sender, own} <= {*exit_.joins}:
            continue
        fix: Fix = {}
        senders = [one for one, stated in estate.subnets.items() if stated.network == sender]
        for subnets, toward in ((senders, own), (_subnets(estate, path), sender)):
            routes = {str(prefix): name for prefix in estate.networks[toward].prefixes}
            for subnet in subnets:
                fix = merge(fix, in_table_of(estate, subnet, routes))
        yield fix


def _kept(estate: Estate, trace: Trace) -> list[str]:
    """The exits that keep its state on its way in, the nearest to the hosts first."""
    return [name for name in reversed(trace.exits) if name in estate.exits and estate.exits[name].keeps_state]


def _letting_in(context: Context, path: FlowPath) -> Iterator[Fix]:
    """The prefix of the hosts advertised over the lines; or the port published at an exit with public addresses."""
    estate, remote = context.estate, _remote(context.estate, path)
    for name in remote.lines:
        known = [*map(str, estate.exits[name].known_beyond or ())]
        prefixes = [str(estate.subnets[one].prefix) for one in _subnets(estate, path)]
        yield {"exits": {name: {"advertised": list(dict.fromkeys((*known, *prefixes)))}}}
    if remote.way != "internet":
        return
    for name, exit_ in estate.exits.items():
        may = isinstance(exit_, Publishing) and exit_.translates and exit_.pool is None and not exit_.fault
        if may and path.workload not in exit_.published:
            entry = {"port": remote.port, "to": path.workload}
            if remote.protocol != "tcp":
                entry["protocol"] = remote.protocol
            yield {"exits": {name: {"publishes": {path.workload: entry}}}}


def published_unused(context: Context) -> Iterator[Doubt]:
    """A port that an exit publishes although no flow comes in to it."""
    used = {(one.inward.published_at, one.inward.as_) for one in context.paths.examples if one.inward is not None}
    for name, exit_ in context.estate.exits.items():
        for as_, published in exit_.published.items():
            if (name, as_) not in used:
                inside = f"{published.to}:{published.host_port}"
                cause = f"{name} publishes port {published.port} to {published.to}, and no flow comes in to {inside}"
                remedy = "State the flow that comes in (`from: internet`, `port`), or remove it."
                place = context.place("exits", name, "publishes", as_)
                yield Doubt(place, cause, remedy, {"exits": {name: {"publishes": {as_: None}}}})
