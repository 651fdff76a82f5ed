"""Small stand-ins for what lies outside: a DNS server of one zone file, a service that tells the caller's address.

`python -m fenrask.demo.stand_ins dns ZONE-FILE PORT` or `... echo PORT` runs one on the loopback until it is stopped.
"""

import socketserver
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import dns.rrset
import dns.zone

__all__ = ["address_echo", "dns_server"]

LOOPBACK = "127.0.0.1"


@contextmanager
def dns_server(zone_text: str, port: int = 0) -> Iterator[int]:
    """Serve a zone file (RFC 1035) by UDP on the loopback; gives the port, a free one for 0."""
    zone = dns.zone.from_text(zone_text, check_origin=False)

    class Handler(socketserver.BaseRequestHandler):
        def handle(self) -> None:
            data, socket = self.request
            socket.sendto(_answer(zone, dns.message.from_wire(data)).to_wire(), self.client_address)

    with _running(socketserver.ThreadingUDPServer((LOOPBACK, port), Handler)) as server:
        yield server.server_address[1]


@contextmanager
def address_echo(port: int = 0) -> Iterator[int]:
    """Answer each caller over HTTP, on the loopback, with its address; gives the port, a free one for 0."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            body = f"{self.client_address[0]}\n".encode()
            self.send_response(200)
            self.send_header("Content-Type", "text/plain")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: Any) -> None:
            """Nothing: a stand-in keeps quiet."""

    with _running(ThreadingHTTPServer((LOOPBACK, port), Handler)) as server:
        yield server.server_address[1]


@contextmanager
def _running(server: Any) -> Iterator[Any]:
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True)
    thread.start()
    try:
        yield server
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


def _answer(zone: dns.zone.Zone, query: dns.message.Message) -> dns.message.Message:
    """The zone's answer to one question: aliases followed inside the zone, NXDOMAIN for an unknown name."""
    response = dns.message.make_response(query)
    response.flags |= dns.flags.AA | dns.flags.RA
    question = query.question[0]
    name = question.name
    for _ in range(16):
        node = zone.get_node(name)
        if node is None:
            response.set_rcode(dns.rcode.NXDOMAIN)
            break
        alias = zone.get_rrset(name, dns.rdatatype.CNAME)
        found = zone.get_rrset(name, question.rdtype)
        if found is not None:
            response.answer.append(_absolute(found, zone))
        if alias is None or found is not None:
            break
        response.answer.append(_absolute(alias, zone))
        name = alias[0].target.derelativize(zone.origin or dns.name.root)
    return response


def _absolute(records: Any, zone: dns.zone.Zone) -> Any:
    origin = zone.origin or dns.name.root
    whole = dns.rrset.RRset(records.name.derelativize(origin), records.rdclass, records.rdtype)
    whole.update_ttl(records.ttl)
    for record in records:
        whole.add(record.replace(target=record.target.derelativize(origin)) if hasattr(record, "target") else record)
    return whole


def main() -> None:
    """Run one stand-in until it is stopped."""
    kind, *rest = sys.argv[1:]
    if kind == "dns":
        running = dns_server(Path(rest[0]).read_text(encoding="utf-8"), int(rest[1]))
    else:
        running = address_echo(int(rest[0]))
    with running as port:
        sys.stderr.write(f"{kind} stands at {LOOPBACK}, port {port}; stop it with Ctrl-C\n")
        try:
            threading.Event().wait()
        except KeyboardInterrupt:
            return


if __name__ == "__main__":
    main()
