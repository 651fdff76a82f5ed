"""An estate that has lost a zone or an exit; and which sources hosts show then."""

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction

from fenrask.designs.contract import Patch
from fenrask.estate import Described
from fenrask.routing import Walk, trace

__all__ = ["Shown", "without_exit", "without_zone", "sources_shown"]


@dataclass(frozen=True)
class Shown:
    """The ways of one subnet to one destination in one case, with the share of each."""

    case: str
    walks: tuple[tuple[Walk, Fraction], ...]
    cut_off: bool = False
    """Whether the subnet itself is lost."""

    @property
    def outcome(self) -> tuple[tuple[str, str], ...]:
        """What counts as a change: verdicts and sources."""
        return tuple((walk.verdict.value, str(walk.source)) for walk, _ in self.walks)


def without_exit(described: Described, name: str) -> Patch:
    """The patch that takes an exit away, and what hangs on it."""
    hanging = [one for one, way_out in described.estate.exits.items() if way_out.attached_to == name]
    return {"exits": dict.fromkeys([name, *hanging])}


def without_zone(described: Described, zone: str) -> Patch:
    """The patch that takes away what stands in a zone alone; an endpoint keeps its other zones."""
    lost: dict[str, object] = {}
    for name, way_out in described.estate.exits.items():
        standing = [one for one in way_out.stands_in if described.estate.subnets[one].zone != zone]
        if way_out.stands_in and not standing:
            lost[name] = None
        elif len(standing) < len(way_out.stands_in):
            lost[name] = {"subnets": standing}
    return {"exits": lost} if lost else {}


def sources_shown(described: Described, subnet: str, target: str, public_host: bool = False) -> Iterator[Shown]:
    """What a subnet's hosts show to a destination now, and after the loss of each zone and exit on the way."""
    now = Shown("now", tuple(trace(described, subnet, target, public_host)))
    yield now
    exits = dict.fromkeys(name for walk, _ in now.walks for name in walk.exits if name in described.estate.exits)
    zones = dict.fromkeys(zone for name in exits for zone in described.estate.zones_of(described.estate.exits[name]))
    own = described.estate.subnets[subnet].zone
    for zone in dict.fromkeys([*zones, *([own] if own else [])]):
        after = described.patched(without_zone(described, zone), f"without zone {zone}")
        walks = tuple(trace(after, subnet, target, public_host))
        yield Shown(f"without zone {zone}", walks, cut_off=zone == own)
    for name in exits:
        after = described.patched(without_exit(described, name), f"without {name}")
        yield Shown(f"without {name}", tuple(trace(after, subnet, target, public_host)))
