"""Puts an estate and a catalogue together of what files tell, and its flows of what was measured."""

from collections.abc import Sequence
from typing import Any

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import KINDS, Described
from fenrask.prefixes import Address, Prefix, PrefixTable, is_public, parse_prefix
from fenrask.records.existing.draft import ASSUMED, CATALOGUE, Draft
from fenrask.records.existing.facts import Facts, whole_name
from fenrask.records.existing.files import Files, of_records
from fenrask.records.existing.places import put_filters, put_places
from fenrask.records.existing.rates import put_rates
from fenrask.records.existing.traffic import grouped
from fenrask.records.existing.updating import FIRST
from fenrask.records.existing.ways_out import put_exits, put_offers
from fenrask.records.matching import Pairs
from fenrask.records.measuring import Measured, measured
from fenrask.records.readers import Quiet, read_records
from fenrask.records.summary import Summary
from fenrask.records.tallying import summarised

__all__ = ["LEAST_SHARE", "drafted", "loads_of", "put_flows"]

LEAST_SHARE = 0.01
"""Below which share of connections, open time and bytes destinations are one, where nobody says otherwise."""


def drafted(found: Files, name: str, today: str, least: float) -> Draft:
    """The estate and the catalogue, but for its flows.

    today: the day that rates are of, where no bill says it. least: the share of connections, of open time or of bytes
    that a destination has that is not one of the rest.
    """
    draft, facts = Draft(), found.facts
    draft.put("estate", value=name, where="the name of the folder")
    draft.put("catalogue", value="catalogue.yaml", where="the file beside this")
    put_places(facts, found.seen, draft)
    if not draft.of("subnets"):
        told = ", ".join(sorted(set(found.kinds.values()))) or "no file"
        expected = "an inventory of subnets or hosts, addresses of interfaces, or connection records"
        raise UnusableInput([Problem(Place(path="--from"), told, expected)])
    draft.put(CATALOGUE, "catalogue", value=f"the provider of {name}", where=ASSUMED)
    draft.put(CATALOGUE, "currency", value="EUR", where=ASSUMED)
    draft.put(CATALOGUE, "read_on", value=today, where="today")
    draft.lack(
        CATALOGUE, "behaviour", why="how the provider's network behaves: the defaults of docs/catalogue.md are assumed"
    )
    put_exits(facts, draft)
    put_offers(facts, draft)
    _put_lines(facts, draft)
    _put_destinations(found, draft, least)
    _put_workloads(found, draft)
    _put_rest(facts, draft)
    put_filters(facts, draft)
    put_rates(found.billed, draft)
    if not found.billed:
        draft.assume(CATALOGUE, "currency", value="EUR", why="no bill says what anything costs: all rates are 0")
    _without_what_is_not_there(draft)
    return draft


_MADE_HERE = ("networks", "subnets", "route_tables", "exits", "destinations", "workloads", "translators")


def _put_rest(facts: Facts, draft: Draft) -> None:
    """What an estate said of other sections stays as it is."""
    for steps, fact in facts.told.items():
        if steps[0] not in _MADE_HERE:
            draft.put(*steps, value=fact.value, where=fact.where)


def _put_lines(facts: Facts, draft: Draft) -> None:
    """What a dump tells is received over the only line of which nothing else is told; else it is nobody's."""
    for file, (content, number) in facts.dumps.items():
        lines = [
            one
            for one, entry in draft.of("exits").items()
            if "received_mrt" in KINDS[entry["kind"]].model_fields and not {"received", "received_mrt"} & {*entry}
        ]
        if len(lines) == 1:
            draft.put("exits", lines[0], "received_mrt", value=file, where=file)
            draft.beside[file] = content
        else:
            draft.lack("exits", "received", why=f"over which line the {number} prefixes of {file} are received")


def _put_destinations(found: Files, draft: Draft, least: float) -> None:
    for name, facts in found.facts.entries("destinations"):
        draft.take("destinations", name, facts)
        if "prefixes" not in facts and "names" not in facts:
            draft.drop("destinations", name, "its prefixes: it is not described")
    if found.seen is None:
        return
    known: dict[tuple[int | None, str], list[Prefix]] = {}
    for entry in draft.of("destinations").values():
        key = (entry.get("port"), entry.get("protocol", "tcp"))
        known.setdefault(key, []).extend(map(parse_prefix, map(str, entry.get("prefixes", ()))))

    def is_known(address: Address, port: int, protocol: str) -> bool:
        some = (*known.get((port, protocol), ()), *known.get((None, protocol), ()))
        return any(address in one for one in some)

    names = {name: [*addresses] for name, addresses in found.facts.names.items()}
    where = f"{', '.join(found.seen.files)}"
    for group in grouped(found.seen, names, is_known, least):
        name = group.name if group.name not in draft.of("destinations") else f"{group.name}-seen"
        values = {
            "prefixes": [str(one) for one in group.prefixes], "names": [*group.names], "port": group.port,
            "protocol": group.protocol, "distinct_addresses": group.spread,
        }  # fmt: skip
        for told, value in values.items():
            if value not in (None, []):
                draft.put("destinations", name, told, value=value, where=where)
    if any(
        is_public(parse_prefix(str(one)))
        for entry in draft.of("destinations").values()
        for one in entry.get("prefixes", ())
    ):
        draft.lack("destinations", "needs", why="what any of them demands (a fixed source, an allow-list, inspection)")


def _put_workloads(found: Files, draft: Draft) -> None:
    """Workloads as told; of hosts by their group; else one for each subnet that anything is sent from."""
    facts, subnets = found.facts, draft.of("subnets")
    prefixes = [
        (parse_prefix(one[key]), name) for name, one in subnets.items() for key in ("prefix", "prefix_v6") if key in one
    ]
    for name, told in facts.entries("workloads"):
        draft.take("workloads", name, told)
    taken = {one for entry in draft.of("workloads").values() for one in entry["subnets"]}
    _put_groups(facts, prefixes, taken, draft)
    for prefix, name in prefixes if found.seen else ():
        sent = found.seen.hosts.get(prefix, set()) if found.seen else set()
        if sent and name not in taken:
            files = ", ".join(found.seen.files) if found.seen else ""
            draft.put("workloads", name, "subnets", value=[name], where=files)
            draft.put("workloads", name, "hosts", value=len(sent), where=f"addresses that sent, in {files}")
            taken.add(name)


def _put_groups(facts: Facts, prefixes: Sequence[tuple[Prefix, str]], taken: set[str], draft: Draft) -> None:
    """Workloads of the hosts of an inventory, by their group, else by their subnet; `taken` grows by those subnets.

    One of the same name that the estate had has its hosts counted again.
    """
    groups: dict[str, dict[str, None]] = {}
    numbers: dict[str, tuple[int, str]] = {}
    by_prefix = PrefixTable(prefixes)
    for host in facts.hosts:
        if whole_name(host.name) in draft.of("exits"):
            continue
        held = by_prefix.match(host.address)
        subnet = "" if held is None else held[1]
        group = host.group or subnet
        if subnet and (subnet not in taken or draft.where.get(("workloads", group, "hosts")) == FIRST):
            groups.setdefault(group, {}).setdefault(subnet)
            numbers[group] = (numbers.get(group, (0, ""))[0] + 1, host.where)
    for group, inside in groups.items():
        number, where = numbers[group]
        is_again = draft.where.get(("workloads", group, "hosts")) == FIRST
        name = group if is_again or group not in draft.of("workloads") else f"hosts-of-{group}"
        draft.put("workloads", name, "subnets", value=[*inside], where=where)
        draft.put("workloads", name, "hosts", value=number, where=f"{where}, the last of {number}")
        facts.from_files.add(("workloads", name))
        taken |= {*inside}


def put_flows(draft: Draft, described: Described, loads: Sequence[Measured], files: Sequence[str], saved: str) -> None:
    """Set a flow for each workload and destination between which connections were measured.

    saved: the file of the loads, beside the estate. A flow between both that there is already refers to it, too.
    """
    ends = {(one.get("from"), one.get("to")): name for name, one in draft.of("flows").items()}
    where = f"{', '.join(files)}, measured"
    owners: dict[str, list[str]] = {}
    for name, workload in described.estate.workloads.items():
        for subnet in workload.subnets:
            owners.setdefault(subnet, []).append(name)
    for load in loads:
        several = owners.get(load.subnet, [])
        if len(several) > 1:
            draft.lack(
                "flows",
                load.destination,
                why=f"which of {', '.join(several)} sends from {load.subnet}: the first is taken",
            )
        for owner in several[:1]:
            name = ends.get((owner, load.destination), f"{owner}-to-{load.destination}")
            draft.put("flows", name, "from", value=owner, where=where)
            draft.put("flows", name, "to", value=load.destination, where=where)
            draft.put("flows", name, "measured", value=saved, where=where)


def loads_of(found: Files, described: Described) -> list[Measured]:
    """The loads of all records, matched with the drafted estate."""
    pairs, quiet = Pairs(described.estate), Quiet.of(described)
    each = (read_records(file, found.unread, of_records(found.columns), quiet)[2] for file in found.records)
    return measured(Summary.total([summarised(batches, pairs) for batches in each]), pairs)


def _without_what_is_not_there(draft: Draft) -> None:
    """Take out what names something that is not described, and list it: an estate must hold together."""
    for name, entry in [*draft.of("workloads").items()]:
        known = [one for one in entry["subnets"] if one in draft.of("subnets")]
        if not known:
            draft.drop("workloads", name, f"where its subnets ({', '.join(map(str, entry['subnets']))}) are")
        elif len(known) < len(entry["subnets"]):
            draft.put("workloads", name, "subnets", value=known, where=draft.where["workloads", name, "subnets"])
    # Twice: a line may end at a hub that is taken out.
    for _ in range(2):
        for name, entry in [*draft.of("exits").items()]:
            if lost := _not_there(entry, draft):
                draft.drop("exits", name, f"what its {lost} {entry[lost]!r} is: it is not described")
    _whole_tables(draft)


def _whole_tables(draft: Draft) -> None:
    """Every table that an exit names is there, and no route is to what is not described."""
    tables = draft.of("route_tables")
    for entry in draft.of("exits").values():
        named = {entry.get("routes"), *(entry.get("routes_from") or {}).values()}
        for table in sorted(one for one in named if one and one not in tables):
            tables[table] = {}
            draft.lack("route_tables", table, why="its routes: it is empty")
    for routes in tables.values():
        for key in [key for key in routes if not _is_key(key, draft)]:
            routes.pop(key)
            draft.lack("route_tables", key, why=f"what {key} is, that a route is for")


_NAMED = {"destination": "destinations", "subnet": "subnets", "network": "networks", "hub": "exits",
          "subnets": "subnets", "networks": "networks"}  # fmt: skip
"""The keys of exits that name entries, and the sections that have these."""


def _not_there(entry: dict[str, Any], draft: Draft) -> str:
    """The first key of an exit that names what is not described; empty for none."""
    for key, section in _NAMED.items():
        stated = entry.get(key) or ()
        if not all(str(one) in draft.of(section) for one in (stated if isinstance(stated, list | tuple) else [stated])):
            return key
    return ""


def _is_key(key: str, draft: Draft) -> bool:
    if key in draft.of("destinations"):
        return True
    try:
        parse_prefix(key)
    except ValueError:
        return False
    return True
