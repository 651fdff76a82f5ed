"""An estate that has lost a zone or an exit; and which sources hosts show then."""

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction

from fenrask.estate import Described
from fenrask.routing import Trace, trace_from
from fenrask.what_if.faults import without_exit, without_zone

__all__ = ["Shown", "sources_shown"]


@dataclass(frozen=True)
class Shown:
    """The ways of one subnet to one destination in one case, with the share of each."""

    case: str
    traces: tuple[tuple[Trace, Fraction], ...]
    cut_off: bool = False
    """Whether the subnet itself is lost."""

    @property
    def outcome(self) -> tuple[tuple[str, str], ...]:
        """What counts as a change: verdicts and sources."""
        return tuple((trace.verdict.value, str(trace.source)) for trace, _ in self.traces)


def sources_shown(described: Described, subnet: str, target: str, public_host: bool = False) -> Iterator[Shown]:
    """What a subnet's hosts show to a destination now, and after the loss of each zone and exit on the way."""
    now = Shown("now", tuple(trace_from(described, subnet, target, public_host)))
    yield now
    exits = dict.fromkeys(name for trace, _ in now.traces for name in trace.exits if name in described.estate.exits)
    zones = dict.fromkeys(zone for name in exits for zone in described.estate.zones_of(described.estate.exits[name]))
    own = described.estate.subnets[subnet].zone
    for zone in dict.fromkeys([*zones, *([own] if own else [])]):
        after = described.struck(without_zone(described, zone), f"zone {zone} lost")
        traces = tuple(trace_from(after, subnet, target, public_host))
        yield Shown(f"zone {zone} lost", traces, cut_off=zone == own)
    for name in exits:
        after = described.struck(without_exit(described, name), f"{name} lost")
        yield Shown(f"{name} lost", tuple(trace_from(after, subnet, target, public_host)))
