"""Route tables: as CSV, as commands for iproute2, and as YANG instance data (RFC 8349, JSON encoding RFC 7951)."""

from collections.abc import Iterator
from typing import Any

from fenrask.estate import Estate
from fenrask.prefixes import Prefix
from fenrask.routing import Paths, TableRoute
from fenrask.views.handover.contract import HandoverFile, csv_text, json_text
from fenrask.views.quoting import comment, device_names

__all__ = ["FIRST_TABLE", "route_files"]

FIRST_TABLE = 100
"""The number of the first route table in the kernel; those below 100 and 253 to 255 are others' or its own."""
_STATIC = "ietf-routing:static"


def route_files(paths: Paths) -> Iterator[HandoverFile]:
    """Every table as it is to be set up; what the estate's exits announce comes by itself and is not in it."""
    estate = paths.described.estate
    tables = {name: list(paths.routes.stated(name)) for name in estate.route_tables}
    yield HandoverFile("routes.csv", "route tables", _csv(estate, tables))
    yield HandoverFile("routes.ip", "route tables for Linux: ip -batch", _batch(estate, tables).encode("utf-8"))
    yield HandoverFile("routes.yang.json", "route tables as YANG (ietf-routing)", json_text(_yang(tables)))


Tables = dict[str, list[TableRoute]]


def _csv(estate: Estate, tables: Tables) -> bytes:
    rows = [
        (name, route.prefix, route.exit, _kind(estate, route.exit), route.origin.name.lower(), route.key)
        for name, routes in tables.items()
        for route in routes
    ]
    return csv_text(("table", "prefix", "exit", "kind", "origin", "written_as"), rows)


def _kind(estate: Estate, name: str) -> str:
    exit_ = estate.exits.get(name)
    return exit_.kind if exit_ else "does not exist"


def _winners(routes: list[TableRoute]) -> dict[Prefix, list[str]]:
    """By prefix: the exits of the routes that win there."""
    best: dict[Prefix, list[TableRoute]] = {}
    for route in routes:
        known = best.get(route.prefix)
        if known is None or route.origin < known[0].origin:
            best[route.prefix] = [route]
        elif route.origin == known[0].origin:
            known.append(route)
    return {prefix: list(dict.fromkeys(one.exit for one in same)) for prefix, same in best.items()}


def numbers(estate: Estate) -> dict[str, int]:
    """The kernel's number of each table, free of those that it has for itself."""
    free = (number for number in range(FIRST_TABLE, 1 << 31) if number not in (253, 254, 255))
    return dict(zip(estate.route_tables, free, strict=False))


def _batch(estate: Estate, tables: Tables) -> str:
    """A device for each exit, a table with a number for each table, and a rule for the prefix of each subnet."""
    devices = device_names([*estate.exits, *(route.exit for routes in tables.values() for route in routes)])
    number = numbers(estate)
    lines = ["# Load with: ip -batch routes.ip. It expects one device for each exit:"]
    lines += [f"#   {device}: {comment(name)}" for name, device in devices.items()]
    for name, routes in tables.items():
        lines += ["", f"# Route table {comment(name)}"]
        for prefix, exits in _winners(routes).items():
            family = "-6 " if prefix.version == 6 else ""
            hops = (
                " ".join(f"nexthop dev {devices[one]}" for one in exits)
                if len(exits) > 1
                else f"dev {devices[exits[0]]}"
            )
            lines.append(f"{family}route replace {prefix} table {number[name]} proto static {hops}")
    lines += ["", "# Which subnet uses which table"]
    for subnet, stated in estate.subnets.items():
        table = estate.table_of(subnet)
        for prefix in stated.prefixes if table is not None and table in number else ():
            family = "-6 " if prefix.version == 6 else ""
            lines.append(f"{family}rule add from {prefix} lookup {number[table or '']}")
    return "\n".join(lines) + "\n"


def _yang(tables: Tables) -> dict[str, Any]:
    exits = dict.fromkeys(route.exit for routes in tables.values() for route in routes)
    interfaces = [{"name": name, "type": "iana-if-type:other"} for name in exits]
    protocols = [_protocol(name, routes) for name, routes in tables.items()]
    found: dict[str, Any] = {"ietf-interfaces:interfaces": {"interface": interfaces}} if interfaces else {}
    found["ietf-routing:routing"] = (
        {"control-plane-protocols": {"control-plane-protocol": protocols}} if protocols else {}
    )
    return found


def _protocol(name: str, routes: list[TableRoute]) -> dict[str, Any]:
    static: dict[str, Any] = {}
    for prefix, exits in _winners(routes).items():
        module = f"ietf-ipv{prefix.version}-unicast-routing:ipv{prefix.version}"
        hop: dict[str, Any] = {"outgoing-interface": exits[0]}
        if len(exits) > 1:
            each = [{"index": one, "outgoing-interface": one} for one in exits]
            hop = {"next-hop-list": {"next-hop": each}}
        route = {"destination-prefix": str(prefix), "next-hop": hop}
        static.setdefault(module, {"route": []})["route"].append(route)
    return {"type": _STATIC, "name": name, "static-routes": static}
