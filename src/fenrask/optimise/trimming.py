"""What says nothing new is left out of a patch: routes that say what the table says without them, and as many addresses
as an exit has.
"""

from collections.abc import Iterator, Sequence

from fenrask.designs.contract import Patch
from fenrask.estate import Described, Estate
from fenrask.evaluation import Evaluation, evaluate
from fenrask.prefixes import Prefix, covers, parse_prefix

__all__ = ["trimmed"]


def trimmed(described: Described, patch: Patch, evaluation: Evaluation) -> tuple[Patch, Evaluation]:
    """The patch without what changes nothing, and its evaluation; as it is where any path would be another."""
    idle, sized = {*_idle(described, patch, evaluation.described.estate)}, {*_sized(described, patch, evaluation)}
    if not idle and not sized:
        return patch, evaluation
    tables = {
        table: {key: value for key, value in (routes or {}).items() if (table, key) not in idle}
        for table, routes in (patch.get("route_tables") or {}).items()
    }
    known = described.estate.route_tables
    # A table that is new stays, though it has nothing in it: subnets name it.
    kept = {name: routes for name, routes in tables.items() if routes or name not in known}
    exits = {name: one for name, one in (patch.get("exits") or {}).items() if name not in sized}
    shorter = {**patch, "route_tables": kept, "exits": exits}
    shorter = {section: some for section, some in shorter.items() if some}
    after = evaluate(described.patched(shorter, "the choice"), like=evaluation)
    same = _told(after) == _told(evaluation) and after.bill.total == evaluation.bill.total
    return (shorter, after) if same and after.meets_all == evaluation.meets_all else (patch, evaluation)


def _sized(described: Described, patch: Patch, evaluation: Evaluation) -> Iterator[str]:
    """The exits of which a patch says only how many addresses they have, where these are as many as before."""
    for name, stated in (patch.get("exits") or {}).items():
        before = described.estate.exits.get(name)
        if before is None or stated != {"addresses": "auto"}:
            continue
        after = evaluation.capacity.of(name, "")
        if after is not None and before.stated_addresses == after.addresses:
            yield name


def _told(evaluation: Evaluation) -> list[object]:
    """What every path is, as far as anyone sees it."""
    return [(one.flow, one.subnet, one.share, one.example.exits, one.example.verdict) for one in evaluation.paths.paths]


def _idle(described: Described, patch: Patch, estate: Estate) -> Iterator[tuple[str, str]]:
    """The routes that a patch adds, where the next longer prefix of the table leads to the same exit."""
    for table, routes in (patch.get("route_tables") or {}).items():
        before, now = described.estate.route_tables.get(table, {}), estate.route_tables.get(table, {})
        by_prefix = [(prefix, key, value) for key, value in now.items() for prefix in _prefixes(estate, key)]
        for key in routes or ():
            if key in before or key not in now:
                continue
            own = _prefixes(estate, key)
            if own and all(_next(by_prefix, prefix, key) == now[key] for prefix in own):
                yield table, key


def _next(by_prefix: Sequence[tuple[Prefix, str, object]], prefix: Prefix, key: str) -> object:
    """Where a prefix goes by the other routes of its table; None for nowhere, or where these tell parts of it apart."""
    others = [(other, value) for other, name, value in by_prefix if name != key]
    if any(covers(prefix, other) for other, _ in others):
        return None
    wider = [(other.prefixlen, value) for other, value in others if covers(other, prefix)]
    return max(wider, key=lambda covering: covering[0])[1] if wider else None


def _prefixes(estate: Estate, key: str) -> tuple[Prefix, ...]:
    stated = estate.destinations.get(key)
    return stated.prefixes if stated else (parse_prefix(key),)
