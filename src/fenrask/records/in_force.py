"""Routes and names as they are in force, against the plan.

Routes: CSV (subnet, prefix, exit), or the JSON of iproute2's `ip -j route` taken in one subnet. Names: CSV (from, name,
address), as a resolver inside a subnet answered, or a public one (from `internet`); an empty address is no answer.
"""

import csv
import io
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from fenrask.errors import Place, Problem
from fenrask.estate import Described
from fenrask.estate.remotes import INTERNET
from fenrask.estate.suggestions import nearest, some
from fenrask.inputs import json_values
from fenrask.prefixes import Prefix, parse_address, parse_prefix
from fenrask.records.compared import AS_PLANNED, DIFFERENT, NOT_SEEN, Compared
from fenrask.records.tables import TABLES
from fenrask.routing import LOCAL, Routes

__all__ = [
    "NameAnswer",
    "RouteSeen",
    "compare_names",
    "compare_routes",
    "knows_names",
    "knows_routes",
    "read_names",
    "read_routes",
]


@dataclass(frozen=True)
class RouteSeen:
    """One route in force in a subnet; the exit is empty where it is not known which one is meant."""

    subnet: str
    prefix: Prefix
    exit: str


@dataclass(frozen=True)
class NameAnswer:
    """What a resolver inside a subnet, or on the internet, answered for a name; empty: nothing."""

    subnet: str
    name: str
    address: str
    place: Place


def knows_routes(first: str) -> bool:
    return TABLES["routes"].knows(first) or first.lstrip().startswith("[")


def knows_names(first: str) -> bool:
    return TABLES["names"].knows(first)


def read_routes(text: str, file: str, subnet: str, described: Described, problems: list[Problem]) -> list[RouteSeen]:
    """The routes of one file; what cannot be read goes to the problems. `subnet`: where `ip -j route` was run."""
    if text.lstrip().startswith("["):
        return list(_from_ip(text, file, subnet, described, problems))
    found, rows = list[RouteSeen](), csv.DictReader(io.StringIO(text, newline=""))
    for row in rows:
        place = Place(file, rows.line_num, 1)
        at, exit_name = (row.get("subnet") or "").strip(), (row.get("exit") or "").strip()
        if at not in described.estate.subnets:
            problems.append(Problem(place, repr(at), "a subnet", nearest(at, described.estate.subnets)))
            continue
        try:
            found.append(RouteSeen(at, parse_prefix((row.get("prefix") or "").strip()), exit_name))
        except ValueError as error:
            problems.append(Problem(place, repr(row.get("prefix")), str(error)))
    return found


def _from_ip(text: str, file: str, subnet: str, described: Described, problems: list[Problem]) -> Iterator[RouteSeen]:
    if subnet not in described.estate.subnets:
        near = nearest(subnet, described.estate.subnets)
        problems.append(Problem(Place(path="--subnet"), repr(subnet), "the subnet where `ip -j route` was run", near))
        return
    try:
        entries = json_values(text)
    except ValueError:
        problems.append(Problem(Place(file, 1, 1), "no JSON", "the output of `ip -j route`"))
        return
    for number, entry in enumerate(entries if isinstance(entries, list) else []):
        stated = str(entry.get("dst", "")) if isinstance(entry, dict) else ""
        try:
            yield RouteSeen(subnet, parse_prefix("0.0.0.0/0" if stated == "default" else stated), "")
        except ValueError as error:
            problems.append(Problem(Place(file, path=f"[{number}].dst"), repr(stated), str(error)))


def compare_routes(described: Described, seen: Sequence[RouteSeen]) -> Iterator[Compared]:
    """Each planned route of the subnets that were looked at, and each that was seen and is not planned."""
    routes = Routes(described)
    for subnet in dict.fromkeys(one.subnet for one in seen):
        own = [one for one in seen if one.subnet == subnet]
        planned = {prefix: [one.exit for one in winners] for prefix, winners in routes.of(subnet).winners}
        for prefix, exits in planned.items():
            found = [one.exit for one in own if one.prefix == prefix]
            yield _route(subnet, prefix, exits, found)
        for route in own:
            if route.prefix not in planned:
                cause = "a route that the plan does not have: added by hand, or learned"
                command = f"fenrask path {subnet}"
                yield Compared(
                    "route", subnet, str(route.prefix), "none", route.exit or "a route", DIFFERENT, cause, command
                )


def _route(subnet: str, prefix: Prefix, planned: list[str], found: list[str]) -> Compared:
    told = some(planned)
    if found and ("" in found or set(found) == set(planned)):
        return Compared("route", subnet, str(prefix), told, some(one or "a route" for one in found), AS_PLANNED)
    if not found and set(planned) == {LOCAL}:
        return Compared("route", subnet, str(prefix), told, "", AS_PLANNED)
    if not found:
        cause = "the route is missing, or the subnet uses another table"
        return Compared("route", subnet, str(prefix), told, "nothing", DIFFERENT, cause, f"fenrask path {subnet}")
    cause = "it names another exit"
    return Compared("route", subnet, str(prefix), told, some(found), DIFFERENT, cause, f"fenrask path {subnet}")


def read_names(text: str, file: str, described: Described, problems: list[Problem]) -> list[NameAnswer]:
    """The answers of one file; rows that cannot be read go to the problems."""
    found, rows = list[NameAnswer](), csv.DictReader(io.StringIO(text, newline=""))
    known = {name for one in described.estate.destinations.values() for name in one.names}
    for row in rows:
        place = Place(file, rows.line_num, 1)
        said = {key: (row.get(key) or "").strip() for key in ("from", "name", "address")}
        if said["from"] == "-":
            said["from"] = INTERNET
        if said["from"] not in described.estate.subnets and said["from"] != INTERNET:
            near = nearest(said["from"], described.estate.subnets)
            problems.append(Problem(place, repr(said["from"]), "a subnet, or internet", near))
        elif said["name"] not in known:
            problems.append(Problem(place, repr(said["name"]), "a destination's name", nearest(said["name"], known)))
        else:
            found.append(NameAnswer(said["from"], said["name"], said["address"], place))
    return found


def _look_up(name_answer: NameAnswer) -> str:
    where = "on the internet" if name_answer.subnet == INTERNET else f"in {name_answer.subnet}"
    return f"look {name_answer.name} up {where}: getent ahosts {name_answer.name}"


def _unanswered(name_answer: NameAnswer) -> Compared:
    """A name that nobody is to be told: no answer is the proof."""
    if not name_answer.address:
        return Compared("name", name_answer.subnet, name_answer.name, "no answer", "no answer", AS_PLANNED)
    cause = "the name is still in a public zone: take it out, or its service can be found from there"
    return Compared(
        "name",
        name_answer.subnet,
        name_answer.name,
        "no answer",
        name_answer.address,
        DIFFERENT,
        cause,
        _look_up(name_answer),
    )


def compare_names(described: Described, answers: Sequence[NameAnswer]) -> Iterator[Compared]:
    """Each answer against where the plan wants the name: at a private endpoint's address, or in the prefixes."""
    estate = described.estate
    for answer in answers:
        destination = next(name for name, each in estate.destinations.items() if answer.name in each.names)
        outside, stated = answer.subnet == INTERNET, estate.destinations[destination]
        endpoint = "" if outside else estate.by_name.get((answer.subnet, destination), "")
        if not endpoint and not stated.names_public:
            yield _unanswered(answer)
            continue
        places = estate.exits[endpoint].in_subnets if endpoint else ()
        inside = [prefix for place in places for prefix in estate.subnets[place].prefixes]
        wanted = inside or [*estate.destinations[destination].prefixes]
        told = f"{endpoint} ({some(map(str, inside))})" if endpoint else some(map(str, wanted)) or "not known"
        check = _look_up(answer)
        if not answer.address:
            cause = f"the name is not in the resolver that {'the internet' if outside else 'the subnet'} uses"
            yield Compared("name", answer.subnet, answer.name, told, "no answer", DIFFERENT, cause, check)
            continue
        try:
            address = parse_address(answer.address)
        except ValueError:
            yield Compared("name", answer.subnet, answer.name, told, answer.address, DIFFERENT, "no address", check)
            continue
        if any(address in prefix for prefix in wanted):
            yield Compared("name", answer.subnet, answer.name, told, answer.address, AS_PLANNED)
        elif not wanted:
            yield Compared(
                "name", answer.subnet, answer.name, told, answer.address, NOT_SEEN, "its prefixes are not known"
            )
        else:
            cause = (
                "the endpoint's name is not in the network's DNS: traffic goes to the public address"
                if endpoint
                else ("the name moved: `fenrask resolve` brings the prefixes up to date")
            )
            yield Compared("name", answer.subnet, answer.name, told, answer.address, DIFFERENT, cause, check)
