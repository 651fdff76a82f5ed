"""Rules about private ways to third parties."""

from collections.abc import Iterator

from fenrask.estate.exits.circuit import PrivateWay
from fenrask.prefixes import Prefix
from fenrask.routing.packets import Source
from fenrask.routing.rules.contract import Case, Doubt

__all__ = ["advertised_too_much", "router_one_sided", "session_down"]


def advertised_too_much(case: Case) -> Iterator[Doubt]:
    """An own prefix announced to a third party although no flow's source there lies in it."""
    lines = dict(case.of(PrivateWay))
    seen: dict[str, list[Source]] = {}
    for way in case.ways.ways if lines else ():
        for name in way.walk.exits[-1:]:
            if name in lines:
                seen.setdefault(name, []).append(way.walk.source)
    for name, way_out in lines.items():
        sources = [one.prefix for one in seen.get(name, []) if one.prefix is not None]
        for number, prefix in enumerate(way_out.known_beyond or ()):
            needed = [one for one in sources if _holds(prefix, one)]
            if not needed:
                cause = f"{name} announces {prefix} to {_party(way_out)}, where nothing comes from it"
                yield Doubt(
                    case.place("exits", name, "advertised", number), cause, f"Remove {prefix} from `advertised`."
                )
            elif sum(one.num_addresses for one in set(needed)) * 64 < prefix.num_addresses:
                listed = ", ".join(sorted({str(one) for one in needed})[:5])
                cause = f"{name} announces all of {prefix} to {_party(way_out)}, where only {listed} is needed"
                yield Doubt(case.place("exits", name, "advertised", number), cause, f"Announce {listed} instead.")


def router_one_sided(case: Case) -> Iterator[Doubt]:
    """A router whose session is set up on one side only, so that it never stands."""
    for name, way_out in case.of(PrivateWay):
        for router, stated in way_out.routers.items():
            if stated.peered != "both":
                cause = f"{name}: the session of {router} is set up on the {stated.peered} side only"
                place = case.place("exits", name, "routers", router, "peered")
                yield Doubt(place, cause, "Set it up on the other side too; then `peered: both`.")


def session_down(case: Case) -> Iterator[Doubt]:
    """A private way whose sessions are all down: its prefixes are not learned."""
    for name, way_out in case.of(PrivateWay):
        if way_out.fault:
            cause = f"{name}: {way_out.fault}; nothing of {_party(way_out)} is learned"
            yield Doubt(case.place("exits", name), cause, "Bring a session up, or remove the line.")


def _party(way_out: PrivateWay) -> str:
    return way_out.third_party or "the third party"


def _holds(outer: Prefix, inner: Prefix) -> bool:
    return outer.version == inner.version and inner.subnet_of(outer)  # type: ignore[arg-type]
