"""What changes flow by flow between two estates: way, source, cost."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from fractions import Fraction

from fenrask.designs.open_connections import fate_of
from fenrask.evaluation.stages import Evaluation

__all__ = ["FlowChange", "changes", "moves"]


@dataclass(frozen=True)
class FlowChange:
    """One flow in both estates; None where an estate does not have it."""

    flow: str
    paths: tuple[str | None, str | None]
    sources: tuple[str | None, str | None]
    amounts: tuple[Fraction | None, Fraction | None]
    breaks: float = 0.0
    """Connections open at the peak that break when it is moved: another exit does not know them."""
    breaks_for_s: float = 0.0
    """How long they last in the mean, s: hosts that do not retry wait this long for what never comes."""
    waits_s: float = 0.0
    """How long it is waited until open ones have ended, s, where the offer lets them."""

    @property
    def difference(self) -> Fraction:
        """What it costs more a month."""
        return (self.amounts[1] or Fraction(0)) - (self.amounts[0] or Fraction(0))

    @property
    def is_lost(self) -> bool:
        """Whether it arrived, in part at least, and does not now."""
        return bool(self.sources[0]) and self.paths[1] is not None and not self.sources[1]

    @property
    def is_change(self) -> bool:
        return self.paths[0] != self.paths[1] or self.sources[0] != self.sources[1] or bool(self.difference)


def changes(base: Evaluation, now: Evaluation) -> list[FlowChange]:
    """Every flow of either, in the order of the later one; unchanged ones too."""
    return [_change(base, now, name) for name in _flows(base, now)]


def moves(base: Evaluation, now: Evaluation) -> Iterator[FlowChange]:
    """The same of flows whose path or source is another."""
    moved: dict[object, bool] = {}
    for name in _flows(base, now):
        # Flows of one workload to one destination have the same paths.
        key = (_ends(base, name), _ends(now, name))
        if key not in moved:
            moved[key] = any(told(base, name) != told(now, name) for told in (_paths, _sources))
        if moved[key]:
            yield _change(base, now, name)


def _ends(evaluation: Evaluation, flow: str) -> tuple[str, str] | None:
    stated = evaluation.described.estate.flows.get(flow)
    return (stated.workload, stated.remote) if stated else None


def _flows(base: Evaluation, now: Evaluation) -> Iterable[str]:
    return dict.fromkeys([*now.described.estate.flows, *base.described.estate.flows])


def _change(base: Evaluation, now: Evaluation, name: str) -> FlowChange:
    return FlowChange(
        name,
        (_paths(base, name), _paths(now, name)),
        (_sources(base, name), _sources(now, name)),
        (_amount(base, name), _amount(now, name)),
        *_broken(base, now, name),
    )


def _paths(evaluation: Evaluation, flow: str) -> str | None:
    """The ways of a flow as text, each once; what is lost says how."""
    if flow not in evaluation.described.estate.flows:
        return None
    told = [
        " > ".join(path.example.exits) if path.example.verdict.arrives else path.example.verdict.value
        for path in evaluation.paths.by_flow[flow]
    ]
    return "; ".join(dict.fromkeys(told))


def _sources(evaluation: Evaluation, flow: str) -> str | None:
    if flow not in evaluation.described.estate.flows:
        return None
    arriving = [path for path in evaluation.paths.by_flow[flow] if path.example.verdict.arrives]
    return "; ".join(dict.fromkeys(str(path.example.source) for path in arriving))


def _amount(evaluation: Evaluation, flow: str) -> Fraction | None:
    return evaluation.bill.by_flow.get(flow, Fraction(0)) if flow in evaluation.described.estate.flows else None


def _broken(base: Evaluation, now: Evaluation, flow: str) -> tuple[float, float, float]:
    """What breaks of a flow when its hosts are moved at the peak, how long it lasts, and how long is waited for it."""
    if flow not in base.described.estate.flows or flow not in now.described.estate.flows:
        return 0.0, 0.0, 0.0
    moved = [path for path in base.paths.by_flow[flow] if path.example.verdict.arrives]
    fates = [(float(path.share), fate_of(base, now, path)) for path in moved]
    share, waits = sum(part * fate.share for part, fate in fates), max((fate.waits_s for _, fate in fates), default=0.0)
    stated = base.described.estate.flows[flow]
    hosts = base.described.estate.workloads[stated.workload].hosts
    if stated.persistent_per_host is not None:
        return share * hosts * stated.persistent_per_host, 0.0, waits
    traffic = base.described.traffic
    row = traffic.number[flow]
    peak, mean = max(traffic.multipliers(traffic.profiles[traffic.profile[row]])), float(traffic.duration_s[row])
    return share * float(traffic.rate_per_s[row]) * peak * mean, mean if share else 0.0, waits
