"""Tables of comma-separated values (RFC 4180) that are read beside an estate: their columns, and an example of each.

One home for what errors, the documentation and the readers' own tests say of them.
"""

from collections.abc import Mapping
from dataclasses import dataclass

__all__ = ["TABLES", "ReadTable", "accepted_tables"]


@dataclass(frozen=True)
class ReadTable:
    """One kind of table: who reads it, what it holds, and its columns, each with what it means.

    needed: the columns by which it is known. example: rows of the demo's estate.
    """

    command: str
    about: str
    columns: Mapping[str, str]
    needed: tuple[str, ...]
    example: str

    def knows(self, first: str) -> bool:
        """Whether a file's first line is its heading."""
        return {*self.needed} <= {*first.split(",")}


TABLES: dict[str, ReadTable] = {
    "sources seen": ReadTable(
        "confirm",
        "what the other end saw as the source, from inside and from outside; as `confirm --template` writes it",
        {
            "when": "a time, as it is told; may be empty",
            "from": "a subnet, or a host's address; from outside `internet` (`-`), a third party, a network, an "
            "address",
            "destination": "a destination or an address in it; toward us a workload, a host's, an exit's or a "
            "service's address or name",
            "port": "the port that it was to, from outside; default: those that the plan opens",
            "seen_as": "the source address that was seen there; `-` where nothing came through",
        },
        ("seen_as",),
        "when,from,destination,port,seen_as\n"
        "2026-11-20T17:04:10Z,10.40.1.20,fare-acquirer,,203.0.113.200\n"
        "2026-11-20T17:05:10Z,telemetry-a,192.0.2.65,,-\n"
        "2026-11-20T17:21:00Z,the harbour pilots,timetable,8443,172.20.8.9\n"
        "2026-11-20T17:23:00Z,internet,203.0.113.200,443,-\n",
    ),
    "metrics": ReadTable(
        "confirm",
        "what gateways count",
        {
            "time": "ISO 8601, or seconds since 1970",
            "exit": "the exit",
            "metric": "`connections` (open now), `blocked`, `bytes`, `packets` (counters)",
            "value": "a number",
        },
        ("exit", "metric", "value"),
        "time,exit,metric,value\n"
        "2026-11-20T17:00:00Z,gate-a,connections,3650\n"
        "2026-11-20T17:00:00Z,gate-a,blocked,12\n"
        "2026-11-20T18:00:00Z,gate-a,blocked,12\n",
    ),
    "routes": ReadTable(
        "confirm",
        "the routes in force in subnets; `ip -j route` with `--subnet SUBNET` is read, too",
        {"subnet": "the subnet", "prefix": "the route's prefix", "exit": "its next hop; empty where that is not known"},
        ("subnet", "prefix", "exit"),
        "subnet,prefix,exit\nticketing-a,0.0.0.0/0,gate-a\nticketing-a,10.40.0.0/16,local\n",
    ),
    "names": ReadTable(
        "confirm",
        "what resolvers answered: inside a subnet, or, from `internet`, in public",
        {"from": "a subnet, or `internet`", "name": "the name asked for", "address": "the answer; empty for none"},
        ("from", "name", "address"),
        "from,name,address\nticketing-a,pay.acquirer.example,203.0.113.17\ninternet,pay.acquirer.example,203.0.113.17\n",
    ),
    "bill": ReadTable(
        "confirm --bill",
        "the provider's bill of a month (FOCUS; Parquet, too)",
        {
            "BilledCost": "the amount",
            "BillingCurrency": "its currency; default: the catalogue's",
            "ResourceName": "what is charged for: it carries an exit's name or an address of it; or `ResourceId`",
            "ServiceName": "of what service; may be missing",
            "ChargeDescription": "in words, by which rows without an exit are known: internet, zone; may be missing",
            "ServiceCategory": "rows of an exit, of `Networking` and of none are compared; may be missing",
            "ChargeCategory": "`Tax` is not compared; may be missing",
        },
        ("BilledCost",),
        "BilledCost,BillingCurrency,ResourceName,ServiceName,ChargeDescription\n"
        "401.50,EUR,gate-a,translation,hours of gate-a\n",
    ),
    "connections": ReadTable(
        "measure",
        "a row for each connection; columns of other names: `--map FIELD=COLUMN`, all fields in docs/measuring.md",
        {
            "start": "when it began: ISO 8601, or seconds or milliseconds since 1970",
            "end": "when it ended; or `duration`",
            "source": "the host's address",
            "target": "the address that it is to",
            "target_port": "the port there; may be missing, as all that follow",
            "protocol": "`tcp`, `udp` or their numbers",
            "bytes_out": "bytes that the host sent",
            "bytes_in": "bytes that it received",
        },
        ("start", "source", "target"),
        "start,end,source,target,target_port,protocol,bytes_out,bytes_in\n"
        "2026-11-20T17:00:00Z,2026-11-20T17:00:02Z,10.40.1.20,203.0.113.17,443,tcp,2048,9000\n",
    ),
    "answers of names": ReadTable(
        "resolve --history",
        "what names answered, and when; an estate's `names_history` names it",
        {"time": "ISO 8601", "name": "the name", "address": "an address that it answered"},
        ("time", "name", "address"),
        "time,name,address\n2026-11-20T17:00:00+00:00,pay.acquirer.example,203.0.113.17\n",
    ),
}
"""By name."""


def accepted_tables(command: str) -> str:
    """The tables that a command reads, each with its columns, in a sentence."""
    own = {name: one for name, one in TABLES.items() if one.command == command}
    return "; ".join(f"{name} ({', '.join(one.columns)})" for name, one in own.items())
