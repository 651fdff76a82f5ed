"""Files that an estate names: sections kept as CSV, routing table dumps. They lie inside its folder."""

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate.csv_tables import CsvTree, inside, read_table
from fenrask.estate.history import read_history, with_history
from fenrask.estate.measures import measured_pairs, with_measured
from fenrask.estate.mrt import mrt_prefixes
from fenrask.estate.rows import Rows
from fenrask.inputs import at, file_bytes

__all__ = ["SECTIONS", "with_dumps", "with_measures", "with_names_history", "with_tables"]

SECTIONS = (
    "networks",
    "subnets",
    "route_tables",
    "exits",
    "destinations",
    "workloads",
    "flows",
    "profiles",
    "public_addresses",
)
"""The sections that a CSV can hold, named by the key `SECTION_csv`."""

PlaceOf = Callable[[tuple[str | int, ...]], Place]


def with_tables(data: Any, folder: Path, place_of: PlaceOf, problems: list[Problem]) -> tuple[Any, list[CsvTree]]:
    """The estate with the rows of its CSV files in their sections; a name in both places is a problem."""
    trees: list[CsvTree] = []
    if not isinstance(data, dict):
        return data, trees
    data = dict(data)
    for section in SECTIONS:
        stated = data.pop(f"{section}_csv", None)
        if stated is None:
            continue
        content = _content(folder, stated, place_of((f"{section}_csv",)), problems)
        if content is None:
            continue
        file = str(folder / str(stated))
        try:
            text = content.decode("utf-8-sig")
        except UnicodeDecodeError as error:
            problems.append(Problem(Place(file), f"bytes that are not UTF-8 (at {error.start})", "UTF-8 text"))
            continue
        entries, tree = read_table(text, file, section, problems)
        written = data.get(section) or {}
        for name in entries if isinstance(written, dict) else ():
            if name in written:
                found, remedy = f"the name {name!r} here and in the estate file", "Remove one of them."
                problems.append(Problem(tree.place((section, name)), found, "each name once", remedy))
        joined = {**entries, **written} if written and isinstance(written, dict) else entries
        data[section] = joined if isinstance(written, dict) else written
        trees.append(tree)
    return data, trees


def with_dumps(data: Any, folder: Path, place_of: PlaceOf, problems: list[Problem]) -> Any:
    """The estate with the prefixes of routing table dumps put into `received`."""
    exits = data.get("exits") if isinstance(data, dict) else None
    if not isinstance(exits, dict):
        return data
    changed = {}
    for name, stated in exits.items():
        if not isinstance(stated, dict) or "received_mrt" not in stated:
            continue
        place = place_of(("exits", name, "received_mrt"))
        content = _content(folder, stated["received_mrt"], place, problems)
        try:
            prefixes = [str(prefix) for prefix in mrt_prefixes(content or b"")]
        except ValueError as error:
            problems.append(Problem(place, str(error), "an MRT table dump (RFC 6396)", "Export the table again."))
            continue
        written = stated.get("received")
        changed[name] = {**stated, "received": [*(written if isinstance(written, list) else ()), *prefixes]}
    return {**data, "exits": {**exits, **changed}} if changed else data


def with_names_history(data: Any, folder: Path, place_of: PlaceOf, problems: list[Problem]) -> Any:
    """The estate with the prefixes that its names have answered, where destinations state names alone."""
    stated = data.get("names_history") if isinstance(data, dict) else None
    if stated is None:
        return data
    content = _content(folder, stated, place_of(("names_history",)), problems)
    if content is None:
        return data
    return with_history(data, read_history(content.decode("utf-8-sig", errors="replace"), str(stated), problems))


def with_measures(
    data: Any, folder: Path, place_of: PlaceOf, problems: list[Problem], to_be_measured: bool = False
) -> Any:
    """The estate with the loads of flows that refer to what was measured.

    to_be_measured: whether a file that is not there yet is none, as for who is about to write it: no load then.
    """
    flows = data.get("flows") if isinstance(data, dict) else None
    # Each file once, however many flows refer to it; None: it is not there.
    read: dict[str, tuple[Any] | None] = {}
    if isinstance(flows, Rows):
        flows = {name: flows[name] for name, _ in flows.having("measured", {})}
    for name, stated in flows.items() if isinstance(flows, Mapping) else ():
        if isinstance(stated, dict) and stated.get("measured") is not None:
            place, own = place_of(("flows", name, "measured")), inside(folder, str(stated["measured"]))
            if to_be_measured and own is not None and not own.exists():
                kept = {key: value for key, value in stated.items() if key != "measured"}
                data = {**data, "flows": {**data["flows"], name: {"per_host_per_s": 0, **kept}}}
                continue
            if (file := str(stated["measured"])) not in read:
                content = _content(folder, stated["measured"], place, problems)
                read[file] = None if content is None else (measured_pairs(content),)
            if (pairs := read[file]) is not None:
                data = with_measured(data, name, pairs[0], place, problems)
    return data


def _content(folder: Path, stated: Any, place: Place, problems: list[Problem]) -> bytes | None:
    """A named file's content; a problem where it is not inside the folder, or not there."""
    file = inside(folder, stated) if isinstance(stated, str) else None
    if file is None:
        problems.append(Problem(place, repr(stated), "a file inside the estate's folder", "Put it beside the estate."))
        return None
    try:
        return file_bytes(file, at(place, "a file to read", "Put it beside the estate.", f"{stated!r}: "))
    except UnusableInput as error:
        problems += error.problems
        return None
