"""How concurrent connections are computed, flow by flow and exit by exit."""

from collections.abc import Iterator, Sequence
from math import inf

from fenrask.demand.loads import Demand
from fenrask.demand.parts import Part
from fenrask.derivation import Step
from fenrask.estate import DurationLaw, Flow
from fenrask.units import clock_text, figure

__all__ = ["explain_demand"]

_CONCURRENT = "m(t) = integral of rate(t - u) P(holding time > u) du: Eick, Massey & Whitt (1993)"


def explain_demand(demand: Demand) -> Iterator[Step]:
    """For each exit, the fullest first: each flow's rate, duration, timeout, holding time and peak; then its own."""
    estate = demand.paths.described.estate
    loads = {name: demand.load(parts) for name, parts in demand.at_exit.items() if name in estate.exits}
    for exit_name, load in sorted(loads.items(), key=lambda pair: -pair[1].peak.concurrent):
        for name, parts in demand.by_flow(exit_name).items():
            yield from _flow(demand, f"{name} at {exit_name}", estate.flows[name], parts)
        when = "all day" if load.is_level else f"at {clock_text(load.peak.time_s)}"
        flows = ", ".join(demand.by_flow(exit_name))
        yield Step(
            exit_name,
            "concurrent at the peak",
            f"{figure(load.peak.concurrent)} {when}",
            f"the sum of {flows} when it is largest",
        )


def _flow(demand: Demand, about: str, flow: Flow, parts: Sequence[Part]) -> Iterator[Step]:
    first = parts[0]
    share = sum(float(part.path.share) for part in parts)
    hosts = demand.paths.described.estate.workloads[flow.workload].hosts
    of_it = "" if abs(share - 1) < 1e-12 else f" x {share:.4g} of the flow"
    if first.holding_s is None:
        concurrent = sum(part.persistent for part in parts)
        yield Step(
            about,
            "concurrent all the time",
            figure(concurrent),
            f"{hosts} hosts x {flow.persistent_per_host:g} each{of_it}",
        )
        return
    rate = sum(part.rate_per_s for part in parts)
    if flow.is_pooled:
        yield from _pooled(demand, about, flow)
        working = f"{hosts} hosts, a connection each time all of its own are in use{of_it}"
        yield Step(about, "new per s", figure(rate), working)
    elif flow.users is not None:
        working = f"{flow.users:g} users x {flow.connections_per_user:g} each / {flow.duration_mean_s:g} s{of_it}"
        yield Step(about, "new per s", figure(rate), working, "Little (1961)")
    else:
        yield Step(about, "new per s", figure(rate), f"{hosts} hosts x {flow.per_host_per_s:g} per s{of_it}")
    duration = "mean time that a connection is kept; an hour at most" if flow.is_pooled else _duration(flow)
    yield Step(about, "mean duration", f"{first.duration_s:.6g} s", duration)
    yield Step(about, "mean mapping timeout", f"{first.mapping_timeout_s:.6g} s", _mapping_timeout(demand, first, flow))
    yield Step(
        about,
        "mean holding time",
        f"{first.holding_s:.6g} s",
        f"{first.duration_s:.6g} s + {first.mapping_timeout_s:.6g} s",
    )
    load = demand.load(parts)
    level = rate * first.holding_s
    if load.is_level:
        yield Step(
            about,
            "concurrent",
            figure(load.peak.concurrent),
            f"{rate:.6g} per s x {first.holding_s:.6g} s",
            "Little (1961)",
        )
        return
    most = float(max(first.curve.profile))
    all_day = (
        f"{rate:.6g} per s x {most:g} x {first.holding_s:.6g} s = {figure(most * level)} if the peak rate were constant"
    )
    working = f"profile {flow.profile}, at most {most:g}: {all_day}"
    yield Step(
        about,
        "concurrent at the peak",
        f"{figure(load.peak.concurrent)} at {clock_text(load.peak.time_s)}",
        working,
        _CONCURRENT,
    )


def _pooled(demand: Demand, about: str, flow: Flow) -> Iterator[Step]:
    """What requests come to at the busiest hour."""
    traffic = demand.laid.traffic
    use = traffic.pooled[traffic.number[about.rpartition(" at ")[0]]].busiest
    most = "" if flow.pool_max is None else f", {flow.pool_max} connections at most"
    asked = f"{flow.requests_per_host_per_s:g} requests per s of {flow.duration_mean_s:g} s"
    working = f"{asked}, the most at once within any {flow.pool_idle_s:g} s{most}"
    yield Step(about, "connections of a host's client", figure(use.open), working, "Keilson (1979)")
    if use.wait_s:
        told = "without end" if use.wait_s == inf else f"{use.wait_s:.4g} s"
        yield Step(about, "a request waits for a connection", told, f"M/M/c with {flow.pool_max}", "Erlang (1917)")


def _duration(flow: Flow) -> str:
    never_connected = flow.rejected_share + flow.unanswered_share
    if not isinstance(flow.duration_s, DurationLaw):
        law = f"{flow.duration_mean_s:g} s, exponential"
    elif flow.duration_s.parts:
        parts = flow.duration_s.parts.values()
        law = " + ".join(f"{part.share:g} x {part.mean_s:g} s ({part.shape})" for part in parts)
    else:
        law = f"{flow.duration_mean_s:g} s, {flow.duration_s.shape}"
    return f"{law}; a share of {never_connected:g} never connects" if never_connected else law


def _mapping_timeout(demand: Demand, part: Part, flow: Flow) -> str:
    """The mixture of endings, each with its time and what is reused early."""
    described = demand.paths.described
    offer = described.limits_of(part.exit)
    if offer is None or offer.ports is None or not described.estate.exits[part.exit].translates:
        return "no port is taken"
    terms = []
    for ending, share in flow.endings(described.estate.remotes[part.destination].protocol).items():
        if share:
            early = offer.ports.early_reuse(ending)
            kept = f" x {1 - early:g} not reused early" if early else ""
            terms.append(f"{share:g} {ending.replace('_', ' ')} x {offer.mapping_timeout_s.after(ending):g} s{kept}")
    return " + ".join(terms)
