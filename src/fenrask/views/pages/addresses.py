"""Addresses to buy and allow-lists, as a page."""

from collections.abc import Sequence

from fenrask.addresses import AddressPlan, AllowList, Change, ExitAddresses
from fenrask.estate.suggestions import some
from fenrask.evaluation import Evaluation
from fenrask.units import counted
from fenrask.views.page import Column, Page, Table

__all__ = ["addresses_page"]

_EXITS = (
    Column("exit", "exit", is_answer=True),
    Column("addresses", "in use", "count"),
    Column("blocks", "blocks", "list"),
    Column("entries", "allow-list entries", "count", is_answer=True),
    Column("bought_addresses", "paid for", "count", is_answer=True),
    Column("waste_addresses", "spare", "count"),
    Column("seen_by", "seen by", "list"),
)
_HELD = (
    Column("name", "name"),
    Column("prefix", "prefix"),
    Column("used_by", "used by", "list"),
    Column("unused_addresses", "unused", "count"),
)
_PARTNERS = (
    Column("destination", "destination", is_answer=True),
    Column("allow", "must allow", "list", is_answer=True),
    Column("entries", "entries", "count", is_answer=True),
    Column("max_entries", "maximum", "count"),
    Column("fits", "fits", is_answer=True),
    Column("missing", "to add", "list", sparse=True),
    Column("idle", "allowed, not used", "list", sparse=True),
)
_CHANGES = (
    Column("exit", "exit", is_answer=True),
    Column("more_addresses", "more addresses", "count"),
    Column("destination", "partner", is_answer=True),
    Column("entries_added", "entries to add", "count"),
    Column("blocks", "new blocks", "list"),
    Column("entries_after", "entries afterwards", "count"),
    Column("max_entries", "maximum", "count"),
    Column("fits", "fits", "yes", is_answer=True),
)


def addresses_page(evaluation: Evaluation, plan: AddressPlan | None = None) -> Page:
    """What each exit has or buys, what each partner must allow-list, and what more addresses change for them."""
    plan = plan or evaluation.plan
    exits = [
        (one.name, one.in_use, one.blocks, one.entries, one.bought, one.waste, _seen_by(plan, one))
        for one in plan.exits
    ]
    listed = sorted(plan.partners, key=lambda partner: (partner.fits, not partner.fixed))
    partners = [
        (one.destination, _allow(one), one.entries, one.most, _fits(one), one.missing, one.idle) for one in listed
    ]
    tables = [
        Table("partners", "What each destination must allow", _PARTNERS, partners, shown=14, joined=("destination",)),
        Table("exits", "Public addresses of exits", _EXITS, exits, empty="no exit has any", shown=14),
    ]
    if plan.held:
        held = [(one.name, str(one.prefix), [*one.used], one.idle) for one in plan.held]
        tables.append(Table("held", "Addresses paid for by name (public_addresses)", _HELD, held))
    if plan.changes:
        title = "If an exit gets more addresses: what partners must add"
        tables.append(Table("changes", title, _CHANGES, [_change(one) for one in plan.changes], shown=10))
    return Page("addresses", evaluation.described.estate.estate, tuple(_summary(evaluation, plan)), tuple(tables))


def _fits(allow_list: AllowList) -> str:
    if allow_list.fits:
        return "yes"
    if allow_list.fixed and allow_list.dynamic:
        return "no: source not fixed"
    return (
        "no: too long"
        if allow_list.most is not None and allow_list.entries > allow_list.most
        else "no: not allowed yet"
    )


def _summary(evaluation: Evaluation, plan: AddressPlan) -> list[str]:
    waste, hosts = sum(one.waste for one in plan.exits), evaluation.hosts_with_public
    parts = [f"{waste} to fill blocks"] if waste else []
    parts += [f"{hosts} on hosts"] if hosts else []
    parts += [f"{plan.held_addresses} held"] if plan.held_addresses else []
    of_them = f" ({', '.join(parts)})" if parts else ""
    summary = [f"{counted(evaluation.addresses, 'public address', 'public addresses')} paid for{of_them}"]
    short = [one for one in plan.partners if not one.fits]
    summary += [f"{one.destination} does not fit: {_trouble(one)}" for one in short[:3]]
    for exit_name in dict.fromkeys(one.exit for one in plan.changes):
        changes = [one for one in plan.changes if one.exit == exit_name]
        wanted = counted(changes[0].more.wanted, "more address", "more addresses")
        too_long = [one.destination for one in changes if not one.fits]
        fit = f", which exceeds the maximum of {some(too_long)}" if too_long else ""
        summary.append(f"{wanted} at {exit_name}: {_added(changes)}{fit}")
    return summary


def _added(changes: Sequence[Change]) -> str:
    """What each partner adds to its list, and how long that is then; those that add alike together."""
    alike = dict[tuple[int, int, int | None], list[str]]()
    for change in changes:
        alike.setdefault((change.more.entries, change.entries_then, change.most), []).append(change.destination)
    parts = []
    for (more, then, most), names in alike.items():
        adds = "adds" if len(names) == 1 else "add"
        each = " each" if len(names) > 1 else ""
        length = f"{then} of {most}" if most is not None else f"{then} then"
        parts.append(f"{some(names, 3)} {adds} {counted(more, 'entry', 'entries')}{each} ({length})")
    return "; ".join(parts)


def _trouble(allow_list: AllowList) -> str:
    if allow_list.fixed and allow_list.dynamic:
        return f"the address of {', '.join(allow_list.dynamic)} may change, so no list can hold it"
    if allow_list.most is not None and allow_list.entries > allow_list.most:
        return f"{allow_list.entries} entries needed, maximum {allow_list.most}"
    return f"{some(allow_list.missing)} not on its list"


def _seen_by(plan: AddressPlan, exit_addresses: ExitAddresses) -> list[str]:
    key = (exit_addresses.exit, exit_addresses.toward)
    return [each.destination for each in plan.partners if any((part.exit, part.toward) == key for part in each.parts)]


def _change(change: Change) -> tuple[object, ...]:
    return (
        change.exit,
        change.more.wanted,
        change.destination,
        change.more.entries,
        change.more.blocks,
        change.entries_then,
        change.most,
        change.fits,
    )


def _allow(allow_list: AllowList) -> list[str]:
    """Each entry with its exit; addresses not yet bought are told by size."""
    standing = {part.exit: ", stands by" for part in allow_list.parts if part.stands_by}
    entries = [
        f"{entry} ({part.exit}{standing.get(part.exit, '')})" for part in allow_list.parts for entry in part.blocks
    ]
    entries += [f"{prefix} (hosts' own)" for prefix in allow_list.host_prefixes]
    entries += [f"addresses that may change ({name})" for name in allow_list.dynamic]
    return [*entries, "the hosts' own addresses"] if allow_list.host_addresses else entries
