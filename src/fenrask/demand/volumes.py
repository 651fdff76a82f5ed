"""Bytes that each path carries in a month, exactly, from the numbers as they were written."""

from dataclasses import dataclass
from fractions import Fraction

from fenrask.estate import Described
from fenrask.routing import FlowPath

__all__ = ["Volume", "flow_volume", "month_volume"]


@dataclass(frozen=True)
class Volume:
    """Bytes sent and received in a month."""

    out_bytes: Fraction
    in_bytes: Fraction

    @property
    def both_bytes(self) -> Fraction:
        return self.out_bytes + self.in_bytes


def month_volume(described: Described, path: FlowPath) -> Volume:
    """What one path of a flow carries in the catalogue's month; nothing where it does not arrive."""
    if not path.example.verdict.arrives:
        return Volume(Fraction(0), Fraction(0))
    whole = flow_volume(described, path.flow)
    return Volume(path.share * whole.out_bytes, path.share * whole.in_bytes)


def flow_volume(described: Described, name: str) -> Volume:
    """What a whole flow carries in a month, were all of it to arrive."""
    row, volumes = described.traffic.number[name], described.traffic.volumes
    return Volume(
        Fraction(volumes.sent[row], volumes.denominator), Fraction(volumes.received[row], volumes.denominator)
    )
