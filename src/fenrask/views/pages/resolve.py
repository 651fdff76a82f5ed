"""Names looked up, against the prefixes on record, as a page."""

from collections.abc import Sequence

from fenrask.estate.suggestions import some
from fenrask.records.drift import Drift
from fenrask.records.rotation import Rotation
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
    Column("special", "of special use", "list", sparse=True),
)


_ROTATION = (
    Column("name", "name"),
    Column("addresses", "all that it answered", "list"),
    Column("looks", "look-ups", "count"),
    Column("first", "first"),
    Column("last", "last"),
    Column("new_per_week", "new addresses a week", "number"),
)


def resolve_page(estate: str, found: Sequence[Drift], server: str, rotations: Sequence[Rotation] = ()) -> Page:
    """Which prefixes came, went and stayed, what was answered of each name, and how it rotated over its history."""
    drifted = [one.destination for one in found if one.drifted]
    faults = sum(len(one.faults) for one in found)
    summary = f"Looked up {counted(len(found), 'destination')} with names at {server}: "
    moved = [f"{one.destination} moved ({some(map(str, one.added or one.gone))})" for one in found if one.drifted]
    summary += ", ".join(moved) if drifted else "none moved"
    if faults:
        summary += f"; {counted(faults, 'name')} without an answer"
    drift = [(one.destination, one.added, one.gone, one.unchanged) for one in found]
    looked = [
        (one.destination, each.name, each.aliases, each.addresses, each.ttl_s, each.fault or None, each.special or None)
        for one in found
        for each in one.looked
    ]
    tables: tuple[Table, ...] = (
        Table("drift", "Prefixes on record", _DRIFT, drift, empty="no destination has names"),
        Table("looked_up", "Looked up", _LOOKED, looked),
    )
    lines = [summary]
    if special := [f"{each.name}: {text}" for one in found for each in one.looked for text in each.special]:
        lines.append(f"Addresses of special use (RFC 6890): {some(special)}.")
    if rotations:
        rows = [(one.name, one.addresses, one.looks, one.first, one.last, one.new_per_week) for one in rotations]
        tables = (*tables, Table("rotation", "What each name has answered", _ROTATION, rows))
        moving = [f"{one.name} ({one.new_per_week:.1f} a week)" for one in rotations if one.new_per_week]
        if moving:
            lines.append(f"Names that rotate, new addresses: {some(moving)}; routes and rules need all of theirs.")
    return Page("resolve", estate, tuple(lines), tables)
