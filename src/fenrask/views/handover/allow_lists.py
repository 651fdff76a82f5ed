"""What each partner is told to allow, for people and for machines, and what changed since the last time."""

from collections.abc import Iterator, Mapping, Sequence
from ipaddress import ip_network
from typing import Any

from fenrask.addresses import AddressPlan, AllowList, ExitAddresses
from fenrask.views.handover.contract import HandoverFile, csv_text, json_text
from fenrask.views.quoting import comment, file_name

__all__ = ["FOLDER", "allow_list_files", "order_file", "prefixes_told"]

FOLDER = "allow-lists"


def allow_list_files(
    estate: str, plan: AddressPlan, valid_from: str, since: Mapping[str, Sequence[str]]
) -> Iterator[HandoverFile]:
    """For each destination: text, CSV and JSON; `since` holds the entries that it was told before, by destination."""
    exits = {(one.exit, one.toward): one for one in plan.exits}
    for partner in plan.partners:
        entries = list(_entries(partner, exits))
        prefixes = [prefix for prefix, *_ in entries if prefix]
        before = since.get(partner.destination)
        added = [prefix for prefix in prefixes if before is not None and prefix not in before]
        removed = [prefix for prefix in before or () if prefix not in prefixes]
        name = f"{FOLDER}/{file_name(partner.destination)}"
        about = f"what {partner.destination} has to allow"
        changes = None if before is None else (added, removed)
        text = _text(estate, partner, entries, valid_from, changes)
        yield HandoverFile(f"{name}.txt", about, text.encode("utf-8"))
        rows: list[tuple[object, ...]]
        rows = [(prefix, number, exit_, _state(prefix, added), valid_from) for prefix, number, exit_ in entries]
        rows += [(prefix, "", "", "remove", valid_from) for prefix in removed]
        heading = ("prefix", "addresses", "exit", "state", "valid_from")
        yield HandoverFile(f"{name}.csv", about, csv_text(heading, rows))
        whole: dict[str, Any] = {
            "destination": partner.destination,
            "from": estate,
            "valid_from": valid_from or None,
            "prefixes": prefixes,
            "not_assigned_yet": [
                {"exit": exit_, "addresses": number} for prefix, number, exit_ in entries if not prefix
            ],
            "may_change": list(partner.dynamic),
            "added": added,
            "removed": removed,
        }
        yield HandoverFile(f"{name}.json", about, json_text(whole))


def prefixes_told(plan: AddressPlan) -> dict[str, list[str]]:
    """By destination: the prefixes that its allow-list has."""
    exits = {(one.exit, one.toward): one for one in plan.exits}
    return {one.destination: [prefix for prefix, *_ in _entries(one, exits) if prefix] for one in plan.partners}


def _state(prefix: str, added: Sequence[str]) -> str:
    return "add" if prefix in added else "allow" if prefix else "not assigned yet"


def _entries(allow_list: AllowList, exits: Mapping[tuple[str, str], ExitAddresses]) -> Iterator[tuple[str, int, str]]:
    """Prefix (empty where its addresses are not assigned yet), how many addresses, and the exit they belong to."""
    for part in allow_list.parts:
        of = exits.get((part.exit, part.toward))
        if of is None:  # It rewrites to a private pool, which is no public address of the plan.
            yield from ((pool, ip_network(pool).num_addresses, part.exit) for pool in part.blocks)
        elif of.listed:
            yield from ((str(prefix), int(prefix.num_addresses), part.exit) for prefix in of.listed)
        else:
            yield "", of.in_use, part.exit
    yield from ((str(prefix), int(prefix.num_addresses), "hosts") for prefix in allow_list.host_prefixes)


def _text(
    estate: str,
    allow_list: AllowList,
    entries: Sequence[tuple[str, int, str]],
    valid_from: str,
    changes: tuple[Sequence[str], Sequence[str]] | None,
) -> str:
    """changes: what is new and what is gone since the last list; None where that is not known."""
    lines = [f"# {comment(estate)}: source addresses that {comment(allow_list.destination)} sees, one prefix a line."]
    lines.append(f"# Valid from {valid_from}." if valid_from else "# Valid from the day of the change.")
    lines += [
        f"# {number} addresses of {comment(name)}: not assigned yet." for prefix, number, name in entries if not prefix
    ]
    lines += [f"# The address of {comment(name)} may change: no list can hold it." for name in allow_list.dynamic]
    lines += [
        f"# Those of {comment(part.exit)} are seen where what comes by the other IP version is lost."
        for part in allow_list.parts
        if part.stands_by
    ]
    if changes is not None:
        added, removed = changes
        lines += [f"# New since the last list: {prefix}" for prefix in added]
        lines += [f"# No longer used, remove: {prefix}" for prefix in removed]
        lines += [] if added or removed else ["# Nothing changed since the last list."]
    return "\n".join([*lines, *(prefix for prefix, *_ in entries if prefix)]) + "\n"


def order_file(plan: AddressPlan) -> HandoverFile:
    """The public addresses and blocks to order, by exit."""
    rows = [
        (one.name, block, one.purchase.bought, f"{float(one.hour):.6g}")
        for one in plan.exits
        if one.purchase
        for block in one.blocks
    ]
    heading = ("exit", "order", "addresses_in_all", "hour_amount")
    return HandoverFile("order.csv", "public addresses and blocks to order", csv_text(heading, rows))
