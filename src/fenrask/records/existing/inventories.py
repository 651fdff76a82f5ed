"""Inventories and route tables, as CSV or as entries of JSON: which table a file is, and what its rows tell.

Columns are known by their names, as those of connection records are, or stated (`--map FIELD=COLUMN`). Columns that
have the name of a key of the estate may hold lists and mappings as YAML, as the build sheet of `handover` has them.
"""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import islice
from typing import Any

import yaml

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import KINDS, Destination, Network, Subnet, Workload
from fenrask.prefixes import parse_address, parse_prefix
from fenrask.records.existing.facts import Fact, Facts, Host, whole_name
from fenrask.records.existing.sheets import Sheet
from fenrask.routing import LOCAL

__all__ = ["WORDS", "headings", "knows_inventory", "read_inventory"]

WORDS: dict[str, tuple[str, ...]] = {
    "name": (
        "name", "id", "label", "resource", "resourcename", "hostname", "host", "instance", "instancename", "instanceid",
    ),
    "subnet": ("subnet", "subnetname", "subnetid", "from"),
    "network": ("network", "networkname", "networkid", "virtualnetwork", "vrf"),
    "region": ("region", "location"),
    "zone": ("zone", "zonename", "availabilityzone", "az"),
    "prefix": (
        "prefix", "cidr", "cidrblock", "range", "addressrange", "ipv4prefix", "ipv4cidr", "ipprefix", "addressprefix",
        "iprange",
    ),
    "prefix_v6": ("prefixv6", "ipv6prefix", "ipv6cidr", "ipv6range"),
    "prefixes": ("prefixes", "cidrs", "cidrblocks", "ranges", "addressspace", "addressprefixes"),
    "table": ("routes", "table", "routetable", "routetableid", "routetablename"),
    "to": (
        "to", "destination", "destinationprefix", "destinationcidr", "destinationrange", "dst", "dstprefix", "dest",
        "target",
    ),
    "exit": (
        "exit", "nexthop", "nexthopname", "nexthopid", "nexthopaddress", "nexthopip", "via", "gateway", "next",
        "target",
    ),
    "kind": ("kind", "type", "nexthoptype"),
    "address": (
        "address", "ip", "ipaddress", "privateip", "privateaddress", "privateipaddress", "primaryip", "ipv4address",
    ),
    "addresses": (
        "addresses", "publicip", "publicips", "publicaddress", "publicaddresses", "publicipaddress", "externalip",
        "natip",
    ),
    "group": ("workload", "service", "application", "app", "role", "group", "component"),
    "hosts": ("hosts", "count", "instances", "size"),
    "port": ("port", "ports", "destinationport"),
    "time": ("time", "when"),
    "place": ("place",),
    "direction": ("direction",),
    "action": ("action",),
    "metric": ("metric",),
}  # fmt: skip
"""Our fields, and the words by which their columns are known: letters and digits alone, in small letters.

A column is of one field, the first that knows its word and has no other column.
"""

_KINDS = {
    "nat": "translation-gateway", "natgateway": "translation-gateway", "gateway": "translation-gateway",
    "internet": "direct-internet", "internetgateway": "direct-internet", "firewall": "inspecting-firewall",
    "proxy": "forward-proxy", "peer": "peering", "transit": "hub", "line": "circuit", "leasedline": "circuit",
    "vpn": "tunnel", "endpoint": "in-subnet-endpoint", "machine": "translator-host", "host": "translator-host",
    "appliance": "inspecting-firewall",
}  # fmt: skip
"""Other words for kinds of exits; letters and digits alone, in small letters."""
_LOCAL = (LOCAL, "direct", "connected", "link", "onlink")
"""Next hops that are none: the network's own prefixes."""
_NOWHERE = ("does not exist", "none", "blackhole", "unreachable", "prohibit")


@dataclass(frozen=True)
class _Table:
    """One kind of table: the fields that make it one, those that it has not, and what a row tells."""

    about: str
    needed: tuple[str, ...]
    without: tuple[str, ...]
    take: Callable[["_Row", Facts], None]
    is_one: Callable[[Sequence["_Row"]], bool] = lambda rows: True
    """Whether its first rows can be rows of this kind."""


@dataclass(frozen=True)
class _Row:
    """One row, by our fields; and by its own headings."""

    cells: Mapping[str, str]
    raw: Mapping[str, str]
    where: str
    line: int

    def __getitem__(self, field: str) -> str:
        return self.cells.get(field, "")


_LABELS = ("tags.", "labels.")
"""What headings of labels begin with; of a host they may tell its name and what it belongs to."""


def _key(heading: str) -> str:
    return re.sub(r"[^a-z0-9]", "", heading.lower().removesuffix("[]"))


def _fields(heading: list[str], columns: Mapping[str, str]) -> dict[str, str]:
    """The column of each field that there is: as stated, else by its name, the first of the words first."""
    by_key, found = {_key(one): one for one in reversed(heading)}, dict[str, str]()
    for label in heading:
        key = _key(label.rpartition(".")[2])
        if label.startswith(_LABELS) and key in (*WORDS["name"], *WORDS["group"]):
            by_key.setdefault(key, label)
    for field, words in WORDS.items():
        column = next((by_key[word] for word in words if word in by_key), None)
        if column is not None and column not in found.values():
            found[field] = column
    return found | {field: column for field, column in columns.items() if field in WORDS and column in heading}


def _rows(sheet: Sheet, name: str, columns: Mapping[str, str]) -> Iterator[_Row]:
    """The rows of a table that are not empty."""
    fields = _fields([*sheet.heading], columns)
    for line, texts in sheet.rows():
        raw = {key.strip(): cell.strip() for key, cell in texts.items()}
        if any(raw.values()):
            cells = {field: raw.get(column.strip(), "") for field, column in fields.items()}
            yield _Row(cells, raw, f"{name} {sheet.unit} {line}", line)


_FIRST = 50
"""Rows by which a kind of table is known."""


def _known(sheet: Sheet, columns: Mapping[str, str]) -> _Table | None:
    fields = _fields([*sheet.heading], columns).keys()
    may_be = [one for one in _TABLES if fields >= {*one.needed} and not fields & {*one.without}]
    first = [*islice(_rows(sheet, "", columns), _FIRST)] if may_be else []
    return next((one for one in may_be if one.is_one(first)), None)


def knows_inventory(sheet: Sheet, columns: Mapping[str, str]) -> bool:
    """Whether a table, or its beginning, is one of these kinds."""
    return len(sheet.heading) > 1 and _known(sheet, columns) is not None


def read_inventory(sheet: Sheet, file: str, columns: Mapping[str, str], facts: Facts) -> str:
    """Take what a table tells; what it is, in words. UnusableInput with every row that cannot be read."""
    table = _known(sheet, columns)
    assert table is not None
    problems: list[Problem] = []
    for row in _rows(sheet, file, columns):
        try:
            table.take(row, facts)
        except ValueError as error:
            problems.append(Problem(Place(file, row.line, 1), _short(row.raw), str(error)))
    if problems:
        raise UnusableInput(problems)
    return table.about


def _short(raw: Mapping[str, str]) -> str:
    text = ", ".join(filter(None, raw.values()))
    return repr(text if len(text) <= 60 else f"{text[:57]}...")


_PLAIN = re.compile(r"[A-Za-z][\w./-]*|\d+\.\d+\.\d+\.\d+(/\d+)?")
"""A word, an IPv4 address or prefix: no YAML but for a truth."""
_TRUTHS = ("true", "false", "yes", "no", "on", "off", "null", "y", "n")


def _value(text: str) -> Any:
    """A cell as YAML where it is a list, a mapping, a number or a truth; else its text."""
    if _PLAIN.fullmatch(text) and text.lower() not in _TRUTHS:
        return text
    try:
        found = yaml.safe_load(text)
    except yaml.YAMLError:
        return text
    return found if isinstance(found, list | dict | bool | int | float) else text


def _list(text: str) -> list[str]:
    """A cell with several values: as YAML, or with blanks, commas or semicolons between."""
    found = _value(text)
    if isinstance(found, list):
        return [str(one) for one in found]
    return [one for one in re.split(r"[\s,;|]+", text) if one]


def _whole(text: str, what: str) -> int:
    """A whole number; ValueError says what was expected."""
    if not text.isdecimal() or len(text) > 9:
        raise ValueError(f"{what}, not {text!r}")
    return int(text)


def _prefixes(text: str) -> list[str]:
    return [str(parse_prefix(one)) for one in _list(text)]


def _extra(row: _Row, of: tuple[str, str, Any], taken: tuple[str, ...], facts: Facts) -> None:
    """What columns tell that have the names of keys of the estate; labels (`tags.x`); the others are told.

    of: the section, the name there, and the model of its entries.
    """
    section, name, model = of
    keys = {field.alias or key for key, field in model.model_fields.items()}
    for heading, cell in row.raw.items():
        key = heading.removesuffix("[]")
        if not cell or key == "name" or key in taken:
            continue
        if key in keys:
            facts.add(
                section, name, key, value=_list(cell) if heading.endswith("[]") else _value(cell), where=row.where
            )
        elif key.startswith("tags."):
            facts.add(section, name, "tags", key.removeprefix("tags."), value=cell, where=row.where)
        elif _key(key) not in _ALL_WORDS:
            facts.skip(f"the column {key!r}", row.where)


_ALL_WORDS = {word for words in WORDS.values() for word in words}


def _subnet(row: _Row, facts: Facts) -> None:
    prefix = parse_prefix(row["prefix"])
    name = whole_name(row["name"] or row["subnet"] or row["prefix"])
    facts.add("subnets", name, "network", value=whole_name(row["network"]) if row["network"] else "", where=row.where)
    facts.add("subnets", name, "zone", value=row["zone"], where=row.where)
    facts.add("subnets", name, "prefix", value=str(prefix), where=row.where)
    if row["prefix_v6"]:
        facts.add("subnets", name, "prefix_v6", value=str(parse_prefix(row["prefix_v6"])), where=row.where)
    facts.add("subnets", name, "routes", value=whole_name(row["table"]) if row["table"] else "", where=row.where)
    if row["network"] and row["region"]:
        facts.add("networks", whole_name(row["network"]), "region", value=row["region"], where=row.where)
    taken = ("network", "zone", "prefix", "prefix_v6", "routes", "subnet")
    _extra(row, ("subnets", name, Subnet), taken, facts)


def _network(row: _Row, facts: Facts) -> None:
    name = whole_name(row["name"] or row["network"])
    facts.add("networks", name, "region", value=row["region"], where=row.where)
    prefixes = _prefixes(row["prefixes"] or row["prefix"]) or None
    facts.gather("networks", name, "prefixes", value=prefixes, where=row.where)
    _extra(row, ("networks", name, Network), ("region", "prefixes", "prefix"), facts)


def _host(row: _Row, facts: Facts) -> None:
    for address in _list(row["address"]):
        group = whole_name(row["group"]) if row["group"] else ""
        facts.take_host(Host(row["name"], parse_address(address), group, row.where))
    if row["name"] and _has_address(row["addresses"]):
        # Of one that turns out to be an exit: what it translates to.
        public = [str(parse_address(one)) for one in _list(row["addresses"])]
        facts.public.setdefault(whole_name(row["name"]), Fact(public, row.where))


def _route(row: _Row, facts: Facts) -> None:
    table, to = row["table"] or row["subnet"], row["to"] or row["prefix"]
    if not table or not to:
        raise ValueError("a route table or subnet, and a prefix")
    name = whole_name(table)
    if not row["table"]:
        # What is told of a subnet alone is a table that this subnet uses.
        facts.add("subnets", name, "routes", value=name, where=row.where)
    key = "0.0.0.0/0" if to.lower() == "default" else to
    if _is_prefix(key):
        key = str(parse_prefix(key))
    if _key(row["exit"] or row["kind"]) in _LOCAL:
        # The network's own, which needs no route of a table; it tells a prefix of the network or of a subnet.
        if _is_prefix(key):
            facts.connected.setdefault(name, []).append((parse_prefix(key), row.where))
        return
    via = _next_hop(row, facts)
    if not via:
        return
    origin, several = row.raw.get("origin", ""), _hops(via)
    value: Any = several if isinstance(several, list | dict) else whole_name(via)
    value = value if origin in ("", "static") else {"exit": whole_name(via), "origin": origin}
    # Several rows of one prefix are routes that go together.
    before = facts.told.get(("route_tables", name, key))
    if before is not None and before.where.startswith(f"{row.where.rpartition(' ')[0]} "):
        hops = [hop for own in (before.value, value) for hop in (own if isinstance(own, list) else [own])]
        value = [hop if isinstance(hop, dict) else {"exit": hop} for hop in hops]
        del facts.told["route_tables", name, key]
    facts.add("route_tables", name, key, value=value, where=row.where)


def _next_hop(row: _Row, facts: Facts) -> str:
    """The next hop as a route names it, its kind noted; a word for its kind where that is all; empty for nowhere."""
    via, kind = row["exit"], kind_of(row["kind"])
    if (via or row["kind"]).lower() in _NOWHERE or not (via or kind):
        facts.skip(f"a route to nowhere ({via or row['kind'] or 'no next hop'})", row.where)
        return ""
    if not via:
        facts.unnamed[whole_name(row["kind"])] = kind
    elif kind:
        facts.add("exits", whole_name(via), "kind", value=kind, where=row.where)
    return via or row["kind"]


def _hops(text: str) -> Any:
    """What a cell says of next hops: a name, a route that names one, or a list of these."""
    found = _value(text)
    several = found if isinstance(found, list) else [found]
    named = (one.get("exit") if isinstance(one, dict) else one for one in several)
    if any(isinstance(one, list | dict | None) for one in named):
        raise ValueError("the name of an exit, or a list of them")
    return found


def _is_prefix(text: str) -> bool:
    try:
        parse_prefix(text)
    except ValueError:
        return False
    return True


def kind_of(word: str) -> str:
    """The kind of exit that a word means; empty where it is none that is known."""
    return word if word in KINDS else _KINDS.get(_key(word), "")


def _filter(row: _Row, facts: Facts) -> None:
    """One rule of a subnet's, a workload's or an endpoint's filter, or of an exit; or what becomes of the rest."""
    kind, _, place = row["place"].partition(" ")
    owner, _, name = place.partition(", ")
    direction, action = row["direction"], row["action"]
    section = {"subnet": "subnets", "workload": "workloads", "endpoint": "exits", "exit": "exits"}.get(kind)
    if section is None or direction not in ("in", "out") or action not in ("allow", "deny"):
        raise ValueError("a place (subnet, workload, endpoint or exit NAME, FILTER), a direction, allow or deny")
    base = (section, owner, "filters", name, direction) if name else (section, owner, "rules")
    if name:
        facts.add(*base[:-1], "stateful", value=row.raw.get("state") != "stateless", where=row.where)
    if row.raw.get("order") == "last":
        last = (*base[:-1], f"{direction}_default") if name else (section, owner, "default")
        facts.add(*last, value=action, where=row.where)
        return
    rule: dict[str, Any] = {"action": action, "protocol": row.raw.get("protocol") or None}
    rule |= {key: _list(row.raw.get(key, "")) for key in ("sources", "prefixes", "destinations", "names", "ports")}
    kept = {key: value for key, value in rule.items() if value}
    if "ports" in kept:
        kept["ports"] = [int(one) if one.isdecimal() else one for one in kept["ports"]]
    facts.add(*base, row.raw.get("rule") or f"rule {row.where.rpartition(' ')[2]}", value=kept, where=row.where)


def _exit(row: _Row, facts: Facts) -> None:
    name, kind = whole_name(row["name"]), kind_of(row["kind"])
    if not kind:
        raise ValueError(f"a kind of exit: {', '.join(KINDS)}")
    facts.complete.add("exits")
    facts.add("exits", name, "kind", value=kind, where=row.where)
    facts.add("exits", name, "network", value=row["network"], where=row.where)
    facts.add("exits", name, "subnet", value=row["subnet"], where=row.where)
    if row["addresses"]:
        told = _value(row["addresses"])
        of_list = (
            [str(parse_address(one)) for one in _list(row["addresses"])] if _has_address(row["addresses"]) else told
        )
        facts.gather("exits", name, "addresses", value=of_list, where=row.where)
    _extra(row, ("exits", name, KINDS[kind]), ("kind", "network", "subnet", "addresses"), facts)


def _has_address(text: str) -> bool:
    return "." in text or ":" in text


def _destination(row: _Row, facts: Facts) -> None:
    name = whole_name(row["name"])
    prefixes = _prefixes(row["prefixes"] or row["prefix"]) or None
    facts.gather("destinations", name, "prefixes", value=prefixes, where=row.where)
    port = _whole(row["port"], "a port") if row["port"] else None
    facts.add("destinations", name, "port", value=port, where=row.where)
    _extra(row, ("destinations", name, Destination), ("prefixes", "prefix", "port"), facts)


def _workload(row: _Row, facts: Facts) -> None:
    name = whole_name(row["name"])
    subnets = [whole_name(one) for one in _list(row.raw.get("subnets", "") or row.raw.get("subnets[]", ""))]
    facts.add("workloads", name, "subnets", value=subnets or [whole_name(row["subnet"])], where=row.where)
    facts.add("workloads", name, "hosts", value=_whole(row["hosts"], "a number of hosts"), where=row.where)
    _extra(row, ("workloads", name, Workload), ("subnets", "subnet", "hosts"), facts)


def _name(row: _Row, facts: Facts) -> None:
    if row["address"]:
        found = Host(row["name"], parse_address(row["address"]), "", row.where)
        if row["subnet"]:
            facts.in_subnets.append((found, row["subnet"]))
        else:
            facts.take_answer(found)


def _are_exits(rows: Sequence[_Row]) -> bool:
    """Whether a kind is one of exits; else machines of some type, where they have addresses."""
    return any(kind_of(row["kind"]) or not row["address"] for row in rows) or not rows


_TABLES = (
    _Table("rules of filters", ("place", "direction", "action"), (), _filter),
    _Table("hosts, or names as they answered", ("name", "address", "subnet"), ("prefix", "kind", "group"), _name),
    _Table("names as they answered", ("name", "address", "time"), ("prefix",), _name),
    _Table("a route table", ("exit", "table"), ("metric",), _route),
    _Table("routes of subnets", ("exit", "subnet", "prefix"), ("metric",), _route),
    _Table("exits", ("name", "kind"), ("metric", "exit"), _exit, _are_exits),
    _Table("workloads", ("name", "hosts"), ("prefix", "prefixes", "exit", "address"), _workload),
    _Table("destinations", ("name", "prefixes", "port"), ("exit",), _destination),
    _Table("networks", ("name", "prefixes"), ("exit", "port"), _network),
    _Table("networks", ("network", "prefixes"), ("exit", "port", "name", "subnet"), _network),
    _Table("subnets", ("prefix", "network"), ("exit",), _subnet),
    _Table("subnets", ("prefix", "zone"), ("exit",), _subnet),
    _Table("subnets", ("prefix", "table"), ("exit",), _subnet),
    _Table("networks", ("name", "prefix", "region"), ("exit",), _network),
    _Table("subnets", ("prefix", "name"), ("exit", "port"), _subnet),
    _Table("hosts", ("address",), ("exit", "prefix", "metric"), _host),
)
"""Tried in this order."""


def headings() -> str:
    """What each kind of table must have, in words."""
    return "; ".join(dict.fromkeys(f"{one.about} ({', '.join(one.needed)})" for one in _TABLES))
