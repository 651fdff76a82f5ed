"""What changes flow by flow between two estates: way, source, cost."""

from dataclasses import dataclass
from fractions import Fraction

from fenrask.designs.judge import Judged

__all__ = ["FlowChange", "changes"]


@dataclass(frozen=True)
class FlowChange:
    """One flow in both estates; None where an estate does not have it."""

    flow: str
    ways: tuple[str | None, str | None]
    sources: tuple[str | None, str | None]
    amounts: tuple[Fraction | None, Fraction | None]

    @property
    def difference(self) -> Fraction:
        """What it costs more a month."""
        return (self.amounts[1] or Fraction(0)) - (self.amounts[0] or Fraction(0))

    @property
    def is_change(self) -> bool:
        return self.ways[0] != self.ways[1] or self.sources[0] != self.sources[1] or bool(self.difference)


def changes(base: Judged, now: Judged) -> list[FlowChange]:
    """Every flow of either, in the order of the later one; unchanged ones too."""
    names = dict.fromkeys([*now.described.estate.flows, *base.described.estate.flows])
    return [
        FlowChange(
            name,
            (_ways(base, name), _ways(now, name)),
            (_sources(base, name), _sources(now, name)),
            (_amount(base, name), _amount(now, name)),
        )
        for name in names
    ]


def _ways(judged: Judged, flow: str) -> str | None:
    """The ways of a flow as text, each once; what is lost says how."""
    if flow not in judged.described.estate.flows:
        return None
    told = [
        " > ".join(way.walk.exits) if way.walk.verdict.arrives else way.walk.verdict.value
        for way in judged.ways.by_flow[flow]
    ]
    return "; ".join(dict.fromkeys(told))


def _sources(judged: Judged, flow: str) -> str | None:
    if flow not in judged.described.estate.flows:
        return None
    arriving = [way for way in judged.ways.by_flow[flow] if way.walk.verdict.arrives]
    return "; ".join(dict.fromkeys(str(way.walk.source) for way in arriving))


def _amount(judged: Judged, flow: str) -> Fraction | None:
    return judged.bill.by_flow.get(flow, Fraction(0)) if flow in judged.described.estate.flows else None
