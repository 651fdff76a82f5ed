"""What changes flow by flow between two estates: way, source, cost."""

from dataclasses import dataclass
from fractions import Fraction

from fenrask.evaluation.stages import Evaluation

__all__ = ["FlowChange", "changes"]


@dataclass(frozen=True)
class FlowChange:
    """One flow in both estates; None where an estate does not have it."""

    flow: str
    paths: tuple[str | None, str | None]
    sources: tuple[str | None, str | None]
    amounts: tuple[Fraction | None, Fraction | None]

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
