"""Addresses to buy and allow-lists, as a page."""

from fenrask.addresses import AddressPlan, AllowList, Change
from fenrask.units import counted
from fenrask.views.page import Column, Page, Table

__all__ = ["addresses_page"]

_EXITS = (
    Column("exit", "exit"),
    Column("addresses", "in use", "count"),
    Column("blocks", "as", "list"),
    Column("entries", "entries", "count"),
    Column("bought_addresses", "paid for", "count"),
    Column("waste_addresses", "waste", "count"),
    Column("seen_by", "seen by", "list"),
)
_PARTNERS = (
    Column("destination", "destination"),
    Column("allow", "must allow", "list"),
    Column("entries", "entries", "count"),
    Column("most_entries", "takes", "count"),
    Column("fits", "fits", "yes"),
    Column("missing", "not allowed yet", "list", sparse=True),
    Column("idle", "allowed, not used", "list", sparse=True),
)
_CHANGES = (
    Column("exit", "exit"),
    Column("more_addresses", "more", "count"),
    Column("destination", "destination"),
    Column("entries_now", "entries that stay", "count"),
    Column("entries_added", "to add", "count"),
    Column("as", "as", "list"),
    Column("entries_then", "then", "count"),
    Column("most_entries", "takes", "count"),
    Column("fits", "fits", "yes"),
)


def addresses_page(estate: str, plan: AddressPlan) -> Page:
    """The addresses that each exit has or buys, what each destination must allow-list, and what more of them change."""
    exits = [
        (one.exit, one.in_use, one.blocks, one.entries, one.bought, one.waste, _seen_by(plan, one.exit))
        for one in plan.exits
    ]
    partners = [
        (one.destination, _allow(one), one.entries, one.most, one.fits, one.missing, one.idle) for one in plan.partners
    ]
    tables = [
        Table("exits", "Public addresses", _EXITS, exits, empty="no exit has any"),
        Table("partners", "What each destination sees", _PARTNERS, partners),
    ]
    if plan.changes:
        title = "What more addresses change for those who allow-list them: entries stay, and some are added"
        tables.append(Table("changes", title, _CHANGES, [_change(one) for one in plan.changes]))
    return Page("addresses", estate, tuple(_summary(plan)), tuple(tables))


def _summary(plan: AddressPlan) -> list[str]:
    paid, waste = sum(plan.bought.values()), sum(one.waste for one in plan.exits)
    summary = [f"{counted(paid, 'public address', 'public addresses')} paid for, {waste} of them to fill blocks"]
    summary += [
        f"{one.destination} takes {counted(one.most or 0, 'entry', 'entries')}, and needs {one.entries}"
        for one in plan.partners
        if not one.fits
    ]
    for exit_name in dict.fromkeys(one.exit for one in plan.changes):
        changes = [one for one in plan.changes if one.exit == exit_name]
        told = ", ".join(f"{one.destination} (then {one.entries_then})" for one in changes)
        summary.append(f"{exit_name} with {changes[0].more.wanted} more: new entries for {told}")
    summary += [
        f"{one.exit} needs {one.more.wanted} more: {one.destination} would need {one.entries_then} "
        f"{'entry' if one.entries_then == 1 else 'entries'}, and takes {one.most}"
        for one in plan.changes
        if not one.fits
    ]
    summary += [
        f"{one.destination} sees {', '.join(one.dynamic)}, whose address may change: no list can hold it"
        for one in plan.partners
        if one.dynamic
    ]
    return summary


def _seen_by(plan: AddressPlan, exit_name: str) -> list[str]:
    return [one.destination for one in plan.partners if any(part.exit == exit_name for part in one.parts)]


def _change(one: Change) -> tuple[object, ...]:
    return (
        one.exit,
        one.more.wanted,
        one.destination,
        one.entries_now,
        one.more.entries,
        one.more.blocks,
        one.entries_then,
        one.most,
        one.fits,
    )


def _allow(one: AllowList) -> list[str]:
    """Each entry with its exit; addresses not yet bought are told by size."""
    entries = [f"{entry} ({part.exit})" for part in one.parts for entry in part.blocks]
    entries += [f"{prefix} (hosts' own)" for prefix in one.host_prefixes]
    entries += [f"any address ({name})" for name in one.dynamic]
    return [*entries, "the hosts' own addresses"] if one.host_addresses else entries
