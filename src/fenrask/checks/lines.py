"""Rules about private ways to third parties."""

from collections.abc import Iterator

from fenrask.checks.contract import Case, Doubt
from fenrask.estate.exits.circuit import PrivateLine
from fenrask.prefixes import covers
from fenrask.routing.packets import Source

__all__ = ["advertised_too_much", "router_one_sided", "session_down"]


def advertised_too_much(case: Case) -> Iterator[Doubt]:
    """An own prefix announced to a third party although no flow's source there lies in it."""
    lines = dict(case.of(PrivateLine))
    seen: dict[str, list[Source]] = {}
    for path in case.paths.paths if lines else ():
        for name in path.trace.exits[-1:]:
            if name in lines:
                seen.setdefault(name, []).append(path.trace.source)
    for name, exit_ in lines.items():
        sources = [one.prefix for one in seen.get(name, []) if one.prefix is not None]
        for number, prefix in enumerate(exit_.known_beyond or ()):
            needed = [one for one in sources if covers(prefix, one)]
            if not needed:
                cause = f"{name} announces {prefix} to {_party(exit_)}, where nothing comes from it"
                yield Doubt(
                    case.place("exits", name, "advertised", number), cause, f"Remove {prefix} from `advertised`."
                )
            elif sum(one.num_addresses for one in set(needed)) * 64 < prefix.num_addresses:
                listed = ", ".join(sorted({str(one) for one in needed})[:5])
                cause = f"{name} announces all of {prefix} to {_party(exit_)}, where only {listed} is needed"
                yield Doubt(case.place("exits", name, "advertised", number), cause, f"Announce {listed} instead.")


def router_one_sided(case: Case) -> Iterator[Doubt]:
    """A router whose session is set up on one side only, so that it never stands."""
    for name, exit_ in case.of(PrivateLine):
        for router, stated in exit_.routers.items():
            if stated.peered != "both":
                cause = f"{name}: the session of {router} is set up on the {stated.peered} side only"
                place = case.place("exits", name, "routers", router, "peered")
                yield Doubt(place, cause, "Set it up on the other side too; then `peered: both`.")


def session_down(case: Case) -> Iterator[Doubt]:
    """A private way whose sessions are all down: its prefixes are not learned."""
    for name, exit_ in case.of(PrivateLine):
        if exit_.fault:
            cause = f"{name}: {exit_.fault}; nothing of {_party(exit_)} is learned"
            yield Doubt(case.place("exits", name), cause, "Bring a session up, or remove the line.")


def _party(exit_: PrivateLine) -> str:
    return exit_.third_party or "the third party"

