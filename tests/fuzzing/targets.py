"""Every file that the program reads from others, as a target: sound contents, and the call that reads them."""

import io
import json
import os
import sys
import tempfile
from collections.abc import Callable
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import dataclass
from pathlib import Path
from unittest.mock import patch

import yaml

from fenrask.cli.app import run
from tests.estate.test_companions import Dumps
from tests.records.test_confirm import COMMON, CSV, JSON, W3C
from tests.records.test_exporters import capture, connections
from tests.records.test_measure import as_csv, blocks, ipfix, rows_of, v5, v9
from tests.records.test_relief import line
from tests.support import CATALOGUE, ESTATE, merged

__all__ = ["TARGETS", "Target", "prepare"]


@dataclass(frozen=True)
class Target:
    """A file by name, sound contents of it, and the arguments with which the program reads it."""

    file: str
    seeds: tuple[bytes, ...]
    arguments: tuple[str, ...]

    def status(self, folder: Path, content: bytes) -> tuple[int, str]:
        """What the program leaves with, in that folder, and what it says to stderr."""
        (folder / self.file).write_bytes(content)
        said, before = io.StringIO(), Path.cwd()
        os.chdir(folder)
        try:
            called = patch.object(sys, "argv", ["fenrask", *self.arguments])
            with called, redirect_stdout(io.StringIO()), redirect_stderr(said):
                return run(), said.getvalue()
        finally:
            os.chdir(before)


def prepare(folder: Path) -> None:
    """The small estate, and one that names companions of every sort."""
    catalogue = yaml.safe_dump(CATALOGUE, sort_keys=False)
    (folder / "catalogue.yaml").write_text(catalogue, encoding="utf-8")
    (folder / "estate.yaml").write_text(yaml.safe_dump(ESTATE, sort_keys=False), encoding="utf-8")
    line_ = {"kind": "circuit", "network": "net", "received_mrt": "dump.mrt"}
    by_name = {"names": ["a.example.net"], "port": 443}
    named = merged(ESTATE, {"exits": {"line": line_}, "names_history": "names.csv", "destinations": {"far": by_name}})
    named = merged(named, {"flows": None, "flows_csv": "flows.csv", "catalogue": "own.yaml"})
    (folder / "own.yaml").write_text(catalogue, encoding="utf-8")
    for name, content in {
        "dump.mrt": Dumps.CONTENT,
        "nets.csv": b"name,network,prefix\nedge,net,10.0.9.0/28\n",
        "names.csv": _NAMES,
        "flows.csv": _FLOWS,
        "r.csv": as_csv(rows_of(1, 9)).encode(),
    }.items():
        (folder / name).write_bytes(content)
    (folder / "named.yaml").write_text(yaml.safe_dump(named, sort_keys=False), encoding="utf-8")
    measured = merged(ESTATE, {"flows": {"talk": {"per_host_per_s": None, "measured": "measured.json"}}})
    (folder / "of-records.yaml").write_text(yaml.safe_dump(measured, sort_keys=False), encoding="utf-8")
    (folder / "earlier" / "allow-lists").mkdir(parents=True)


_NAMES = b"time,name,address\n2026-11-20T17:04:10Z,a.example.net,198.51.100.7\n2026-11-21,a.example.net,2001:db8::7\n"
_FLOWS = b"name,from,to,per_host_per_s,duration_s\ntalk,work,partner,1,2\nask,work,store,0.5,3.5\n"
_EVENTS = (
    "[100.0]\t    [NEW] tcp      6 120 SYN_SENT src=10.0.1.4 dst=198.51.100.7 sport=54 dport=443 [UNREPLIED] "
    "src=198.51.100.7 dst=203.0.113.1 sport=443 dport=40001\n"
    "[160.0]\t[DESTROY] tcp      6 src=10.0.1.4 dst=198.51.100.7 sport=54 dport=443 "
    "src=198.51.100.7 dst=203.0.113.1 sport=443 dport=40001\n"
)
_METRICS = "time,exit,metric,value\n2026-11-20T17:00:00Z,gate,connections,12\n2026-11-20T17:05:00Z,gate,blocked,3\n"
_OPEN = '# TYPE connections gauge\nconnections{exit="gate"} 12 1795194000\n# EOF\n'
_ROUTES = '[{"dst": "default", "gateway": "10.0.9.1"}, {"dst": "10.0.0.0/16", "dev": "eth0"}]'
_BILL = b"BillingCurrency,BilledCost,ResourceName,ChargeDescription\nEUR,45.99,gate,hours\n"
_ALLOWED = {"destination": "partner", "prefixes": ["203.0.113.1/32"], "valid_from": ""}


def _parquet() -> bytes:
    import pyarrow as arrow
    import pyarrow.parquet as parquet

    rows = rows_of(1, 40)
    names = ["start", "end", "src", "dst", "sport", "dport", "proto", "bytes", "flags"]
    buffer = io.BytesIO()
    parquet.write_table(arrow.table(dict(zip(names, map(list, zip(*rows, strict=True)), strict=True))), buffer)
    return buffer.getvalue()


def _records() -> tuple[bytes, ...]:
    rows, (packets, _) = rows_of(1, 40), connections()
    tables = as_csv(rows).encode(), _parquet()
    exported = v5(rows), v9(rows), ipfix(rows), ipfix(rows, varying=True)
    xml = "<?xml version='1.0'?>\n<conntrack><flow type='new'><meta direction='original'><layer3><src>10.0.1.9</src>"
    return (*tables, *exported, capture(packets[:20]), blocks(packets[:20]), _EVENTS.encode(), xml.encode())


def _measured() -> bytes:
    """What `measure --save` writes."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        prepare(folder)
        words = ("measure", "records", "--workers", "1", "--save", "measured.json", "--force")
        Target("records", (), words).status(folder, as_csv(rows_of(1, 40)).encode())
        return (folder / "measured.json").read_bytes()


def _text(*texts: str) -> tuple[bytes, ...]:
    return tuple(text.encode() for text in texts)


def _existing() -> tuple[bytes, ...]:
    """One of each kind of file that a draft begins from."""
    subnets = "name,network,prefix,zone,routes\napp,net,10.0.1.0/24,a,private\n"
    exits = "name,kind,network,addresses\ngate,nat,net,203.0.113.1\ndoor,internet,net,\n"
    rules = 'place,direction,action,rule,prefixes,ports\n"subnet app, list",out,allow,web,192.0.2.0/24,443\n'
    route = {"destination-prefix": "0.0.0.0/0", "next-hop": {"outgoing-interface": "gate"}}
    static = {"static-routes": {"ietf-ipv4-unicast-routing:ipv4": {"route": [route]}}}
    protocols = {"control-plane-protocol": [{"name": "private", **static}]}
    policy = {
        "external-ip-address-pool": [{"external-ip-pool": "203.0.113.0/31"}], "timers": {"udp-timeout": 60},
        "port-set-restrict": {"start-port-number": 1024, "end-port-number": 65535},
    }  # fmt: skip
    instances = {"instances": {"instance": [{"name": "gate", "policy": [policy]}]}}
    addresses = [{"ifname": "eth0", "addr_info": [{"local": "10.0.1.4", "prefixlen": 24, "scope": "global"}]}]
    routes = [{"dst": "default", "gateway": "10.0.1.1"}, {"dst": "10.0.1.0/24", "protocol": "kernel"}]
    snat = {"rule": {"table": "nat", "chain": "out", "expr": [{"snat": {"addr": "203.0.113.1"}}]}}
    zone = "$ORIGIN example.\n@ 60 IN SOA ns.example. root.example. 1 2 3 4 5\n@ 60 IN NS ns\na 60 IN A 192.0.2.1\n"
    matches = {"ipv4": {"protocol": 6, "destination-ipv4-network": "192.0.2.0/24"},
               "tcp": {"destination-port": {"operator": "eq", "port": 443}}}  # fmt: skip
    ace = {"name": "web", "matches": matches, "actions": {"forwarding": "ietf-access-control-list:accept"}}
    lists = {"acl": [{"name": "subnet app, list, out, IPv4", "type": "ipv4-acl-type", "aces": {"ace": [ace]}}]}
    own = {"l3-node-attributes": {"prefix": [{"prefix": "10.0.1.0/24"}]}}
    ends = {"source": {"source-node": "subnet:app"}, "destination": {"dest-node": "network:net"}}
    topology = {"network": [{"network-id": "net", "node": [{"node-id": "subnet:app", **own}], "link": [ends]}]}
    ip = {"address": [{"ip": "10.0.1.4", "prefix-length": 24}]}
    interfaces = {"interface": [{"name": "eth0", "ietf-ip:ipv4": ip}]}
    models = ({"ietf-access-control-list:acls": lists}, {"ietf-network:networks": topology},
              {"ietf-interfaces:interfaces": interfaces})  # fmt: skip
    whole = (*models, {"ietf-routing:routing": {"control-plane-protocols": protocols}}, {"ietf-nat:nat": instances},
             addresses, routes, {"nftables": [snat]})  # fmt: skip
    return _text(subnets, exits, rules, zone, _BILL.decode(), *map(json.dumps, whole)) + (
        as_csv(rows_of(1, 40)).encode(),
    )


TARGETS: dict[str, Callable[[], Target]] = {
    "an estate": lambda: Target("given.yaml", _text(yaml.safe_dump(ESTATE, sort_keys=False)), ("check", "given.yaml")),
    "a catalogue": lambda: Target("own.yaml", _text(yaml.safe_dump(CATALOGUE)), ("charges", "named.yaml")),
    "a patch": lambda: Target(
        "patch.json", _text('{"exits": {"gate": {"addresses": 3}}}'), ("path", "--patch", "patch.json")
    ),
    "a design": lambda: Target("own.json", _text('{"exits": {"gate": null}}'), ("compare", "--design", "own.json")),
    "a companion": lambda: Target("flows.csv", (_FLOWS,), ("demand", "named.yaml")),
    "a history of names": lambda: Target("names.csv", (_NAMES,), ("path", "named.yaml")),
    "a dump of routes": lambda: Target("dump.mrt", (Dumps.CONTENT,), ("path", "named.yaml")),
    "measured load": lambda: Target("measured.json", (_measured(),), ("capacity", "of-records.yaml")),
    "records": lambda: Target("records", _records(), ("measure", "records", "--workers", "1")),
    "a map": lambda: Target("map.yaml", _text("{start: start, end: end}"), ("measure", "r.csv", "--map", "map.yaml")),
    "a connection table": lambda: Target(
        "table", _text(line(1, 5, 90, "ESTABLISHED") * 3), ("relieve", "table", "--exit", "gate")
    ),
    "events": lambda: Target(
        "events", _text(_EVENTS, line(1, 5, 90, "ESTABLISHED")), ("source", "events", "--used", "203.0.113.1:40001")
    ),
    "what was seen": lambda: Target(
        "seen",
        _text(COMMON, W3C, JSON, CSV, _METRICS, _OPEN, _ROUTES),
        ("confirm", "seen", "--destination", "partner", "--subnet", "app"),
    ),
    "a bill": lambda: Target("bill.csv", (_BILL,), ("confirm", "--bill", "bill.csv")),
    "what exists": lambda: Target("exists", _existing(), ("start", "mine", "--from", "nets.csv", "exists", "--force")),
    "an earlier allow-list": lambda: Target(
        "earlier/allow-lists/partner.json", _text(json.dumps(_ALLOWED)), ("handover", "--since", "earlier")
    ),
}
"""By what it is; made when it is asked for."""
