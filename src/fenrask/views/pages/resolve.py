"""Names looked up, against the prefixes on record, as a page."""

from collections.abc import Sequence

from fenrask.estate.suggestions import some
from fenrask.records import Drift
from fenrask.units import counted
from fenrask.views.page import Column, Page, Table

__all__ = ["resolve_page"]

_DRIFT = (
    Column("destination", "destination"),
    Column("added", "added", "list"),
    Column("gone", "no longer used", "list"),
    Column("unchanged", "unchanged", "list"),
)
_LOOKED = (
    Column("destination", "destination"),
    Column("name", "name"),
    Column("aliases", "alias of", "list"),
    Column("addresses", "addresses", "list"),
    Column("ttl_s", "TTL, s", "count"),
    Column("fault", "fault", sparse=True),
)


def resolve_page(estate: str, found: Sequence[Drift], server: str) -> Page:
    """Which prefixes came, went and stayed, and what was answered of each name."""
    drifted = [one.destination for one in found if one.drifted]
    faults = sum(len(one.faults) for one in found)
    summary = f"Looked up {counted(len(found), 'destination')} with names at {server}: "
    moved = [f"{one.destination} moved ({some(map(str, one.added or one.gone))})" for one in found if one.drifted]
    summary += ", ".join(moved) if drifted else "none moved"
    if faults:
        summary += f"; {counted(faults, 'name')} without an answer"
    drift = [(one.destination, one.added, one.gone, one.unchanged) for one in found]
    looked = [
        (one.destination, each.name, each.aliases, each.addresses, each.ttl_s, each.fault or None)
        for one in found
        for each in one.looked
    ]
    tables = (
        Table("drift", "Prefixes on record", _DRIFT, drift, empty="no destination has names"),
        Table("looked_up", "Looked up", _LOOKED, looked),
    )
    return Page("resolve", estate, (summary,), tables)
