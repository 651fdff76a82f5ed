"""Observations of source addresses: tables, JSON lines, and far-side web logs. One reader a format."""

import csv
import io
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from fenrask.errors import Place, Problem
from fenrask.inputs import json_values
from fenrask.prefixes import Address, parse_address
from fenrask.records.tables import TABLES, accepted_tables

__all__ = ["FORMATS", "Observation", "read_observations"]


@dataclass(frozen=True)
class Observation:
    """One sight of a source: by whom, of whom (empty where the far side cannot know), as which address."""

    seen_as: Address | None
    """None for no answer: nothing came back, or nothing arrived."""
    destination: str
    sender: str = ""
    """A subnet's name, or a private address; empty in a far-side log."""
    when: str = ""
    place: Place = Place()
    port: int | None = None
    """The port that it was to, where that is said."""


NO_ANSWER = frozenset({"-", "none", "no answer"})
_TRACKED = re.compile(r"\b(src|dst)=(\S+)")
_COMMON_LOG = re.compile(r'(?P<host>\S+) \S+ \S+ \[(?P<when>[^\]]+)\] "')

Fields = tuple[int, dict[str, str]]
"""A line's number, and what it says by column."""


def _csv(text: str) -> Iterator[Fields]:
    rows = csv.DictReader(io.StringIO(text, newline=""))
    for row in rows:
        yield rows.line_num, {key: value or "" for key, value in row.items() if key}


def _json_lines(text: str) -> Iterator[Fields]:
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip():
            try:
                data = json_values(line)
            except ValueError:
                data = None
            yield number, {k: str(v) for k, v in data.items()} if isinstance(data, dict) else {}


def _common_log(text: str) -> Iterator[Fields]:
    """Common Log Format: host, two dashes, time, request."""
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip():
            found = _COMMON_LOG.match(line)
            yield number, {"seen_as": found["host"], "when": found["when"]} if found else {}


def _w3c(text: str) -> Iterator[Fields]:
    """W3C Extended Log: the columns are named by a #Fields line."""
    columns: list[str] = []
    for number, line in enumerate(text.splitlines(), 1):
        if line.startswith("#Fields:"):
            columns = line.split()[1:]
        elif line.strip() and not line.startswith("#"):
            said = dict(zip(columns, line.split(), strict=False))
            when = f"{said.get('date', '')} {said.get('time', '')}".strip()
            yield number, {"seen_as": said["c-ip"], "when": when} if "c-ip" in said else {}


def _connection_table(text: str) -> Iterator[Fields]:
    """A translator's connection table, as `conntrack -L` prints it: the sender first, then where replies go."""
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip() and not line.startswith("conntrack v"):
            said = _TRACKED.findall(line)
            sides = [value for key, value in said if key == "src"], [value for key, value in said if key == "dst"]
            full = len(sides[0]) == 2 and len(sides[1]) == 2
            yield number, {"from": sides[0][0], "destination": sides[1][0], "seen_as": sides[1][1]} if full else {}


FORMATS: dict[str, tuple[Callable[[str], bool], Callable[[str], Iterator[Fields]]]] = {
    "JSON lines": (lambda first: first.startswith("{"), _json_lines),
    "W3C Extended Log": (lambda first: first.startswith("#"), _w3c),
    "Common Log Format": (lambda first: _COMMON_LOG.match(first) is not None, _common_log),
    "connection table": (lambda first: len(_TRACKED.findall(first)) >= 4, _connection_table),
    "CSV": (TABLES["sources seen"].knows, _csv),
}
"""By name: how its first line is known, and its reader."""


def read_observations(text: str, file: str, destination: str, problems: list[Problem]) -> list[Observation]:
    """The observations of one file, in any known format; a far-side log is `destination`'s.

    What cannot be read is told in `problems`, line by line; nothing is passed over in silence.
    """
    first = next((line for line in text.splitlines() if line.strip()), "")
    reader = next((read for knows, read in FORMATS.values() if knows(first)), None)
    if reader is None:
        expected = f"one of {', '.join(FORMATS)}"
        remedy = f"A CSV has the columns of one of these: {accepted_tables('confirm')}."
        problems.append(Problem(Place(file, 1, 1), repr(first[:60]) if first else "an empty file", expected, remedy))
        return []
    found: list[Observation] = []
    for number, said in reader(text):
        place = Place(file, number, 1)
        to = said.get("destination") or destination
        stated = said.get("seen_as", "").strip()
        if not stated and "planned" in said:
            # A row of the table of observations to make that is not filled in yet.
            continue
        try:
            seen_as = None if stated.lower() in NO_ANSWER else parse_address(stated)
        except ValueError as error:
            problems.append(Problem(place, repr(said.get("seen_as", "")), str(error), "Correct or remove the line."))
            continue
        if not to:
            problems.append(Problem(place, "no destination", "whose log this is", "Give --destination NAME."))
            return []
        port = (said.get("port") or "").strip()
        if port and not (port.isdecimal() and 0 < int(port) < 65536):
            problems.append(Problem(place, repr(port), "a port from 1 to 65535", "Correct it, or leave it out."))
            continue
        sender = said.get("from", "").strip()
        found.append(Observation(seen_as, to, sender, said.get("when", ""), place, int(port) if port else None))
    return found
