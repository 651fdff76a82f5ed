"""What changes flow by flow between two estates: way, source, cost."""

from dataclasses import dataclass
from fractions import Fraction

from fenrask.demand import new_per_s
from fenrask.evaluation.stages import Evaluation

__all__ = ["FlowChange", "changes"]


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
    names = dict.fromkeys([*now.described.estate.flows, *base.described.estate.flows])
    return [
        FlowChange(
            name,
            (_paths(base, name), _paths(now, name)),
            (_sources(base, name), _sources(now, name)),
            (_amount(base, name), _amount(now, name)),
            *_broken(base, now, name),
        )
        for name in names
    ]


def _paths(evaluation: Evaluation, flow: str) -> str | None:
    """The ways of a flow as text, each once; what is lost says how."""
    if flow not in evaluation.described.estate.flows:
        return None
    told = [
        " > ".join(path.trace.exits) if path.trace.verdict.arrives else path.trace.verdict.value
        for path in evaluation.paths.by_flow[flow]
    ]
    return "; ".join(dict.fromkeys(told))


def _sources(evaluation: Evaluation, flow: str) -> str | None:
    if flow not in evaluation.described.estate.flows:
        return None
    arriving = [path for path in evaluation.paths.by_flow[flow] if path.trace.verdict.arrives]
    return "; ".join(dict.fromkeys(str(path.trace.source) for path in arriving))


def _amount(evaluation: Evaluation, flow: str) -> Fraction | None:
    return evaluation.bill.by_flow.get(flow, Fraction(0)) if flow in evaluation.described.estate.flows else None


def _broken(base: Evaluation, now: Evaluation, flow: str) -> tuple[float, float]:
    """What breaks of a flow when its hosts are moved at the peak: connections open on paths that are no more."""
    if flow not in base.described.estate.flows or flow not in now.described.estate.flows:
        return 0.0, 0.0
    kept = {(path.subnet, path.trace.exits, path.trace.source) for path in now.paths.by_flow[flow]}
    moved = [path for path in base.paths.by_flow[flow] if path.trace.verdict.arrives]
    share = sum(float(p.share) for p in moved if (p.subnet, p.trace.exits, p.trace.source) not in kept)
    stated = base.described.estate.flows[flow]
    hosts = base.described.estate.workloads[stated.from_].hosts
    if stated.persistent_per_host is not None:
        return share * hosts * stated.persistent_per_host, 0.0
    peak = max(base.described.estate.profiles.get(stated.profile or "", (1.0,)))
    mean = stated.duration_mean_s
    return share * new_per_s(stated, hosts) * peak * mean, mean if share else 0.0
