"""Addresses to buy and allow-lists, as a page."""

from fenrask.addresses import AddressPlan, AllowList
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
)
_PARTNERS = (
    Column("destination", "destination"),
    Column("allow", "must allow", "list"),
    Column("entries", "entries", "count"),
    Column("most_entries", "takes", "count"),
    Column("fits", "fits", "yes"),
)


def addresses_page(estate: str, plan: AddressPlan) -> Page:
    """How many addresses each exit has or buys, and what each destination must allow-list."""
    exits = [(one.exit, one.in_use, one.blocks, one.entries, one.bought, one.waste) for one in plan.exits]
    partners = [(one.destination, _allow(one), one.entries, one.most, one.fits) for one in plan.partners]
    paid, waste = sum(plan.bought.values()), sum(one.waste for one in plan.exits)
    answer = [f"{counted(paid, 'public address', 'public addresses')} paid for, {waste} of them to fill blocks"]
    answer += [
        f"{one.destination} takes {counted(one.most or 0, 'entry', 'entries')}, and needs {one.entries}"
        for one in plan.partners
        if not one.fits
    ]
    answer += [
        f"{one.destination} sees {', '.join(one.lent_by)}, whose address may change: no list can hold it"
        for one in plan.partners
        if one.lent_by
    ]
    tables = (
        Table("exits", "Public addresses", _EXITS, exits, empty="no exit has any"),
        Table("partners", "What each destination sees", _PARTNERS, partners),
    )
    return Page("addresses", estate, tuple(answer), tables)


def _allow(one: AllowList) -> list[str]:
    """Each entry with its exit; addresses not yet bought are told by size."""
    entries = [f"{entry} ({part.exit})" for part in one.parts for entry in part.blocks]
    entries += [f"any address ({name})" for name in one.lent_by]
    return [*entries, "the hosts' own addresses"] if one.host_addresses else entries
