"""Client, translator and server in network namespaces of their own; real sockets in them, one loop over all.

Nothing leaves the namespaces: they are joined to each other alone. Addresses are those of documentation (RFC 5737).
"""

import errno
import heapq
import os
import selectors
import socket
import struct
import subprocess
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from itertools import count
from pathlib import Path
from time import monotonic
from typing import Self

from fenrask.rehearsal.kernel import inside

__all__ = ["CLIENTS", "OUTSIDE", "SERVER", "Connection", "Lab"]

CLIENTS = [f"192.0.2.{number}" for number in range(11, 43)]
OUTSIDE = ["198.51.100.1", "198.51.100.2"]
SERVER = "198.51.100.200"
WAIT_S = 0.45
"""A connection not there by then is refused: its first packet is sent again after a second only."""
_RESET = struct.pack("ii", 1, 0)


def _run(*words: str, text: str = "") -> str:
    return subprocess.run(words, input=text, capture_output=True, text=True, check=True).stdout


@dataclass
class Connection:
    """One connection from a client: established or not, and what the server saw of it."""

    socket: socket.socket
    began: float
    established: bool | None = None
    """None while it is not known."""
    then: Callable[["Connection"], None] | None = None
    wait_s: float = WAIT_S


@dataclass
class Lab:
    """Three namespaces, joined in a row; use as a context."""

    name: str = field(default_factory=lambda: f"fenrask-{os.getpid()}")
    _selector: selectors.BaseSelector = field(default_factory=selectors.DefaultSelector)
    _pending: list[Connection] = field(default_factory=list)
    _timers: list[tuple[float, int, Callable[[], None]]] = field(default_factory=list)
    _numbers: Iterator[int] = field(default_factory=count)
    seen: list[tuple[str, int, int]] = field(default_factory=list)
    """Source address, source port and own port of every connection that the server accepted."""
    datagrams: set[tuple[str, int]] = field(default_factory=set)
    kept: list[Connection] = field(default_factory=list)
    """Connections that stay open until the lab is left."""
    _senders: list[socket.socket] = field(default_factory=list)

    def __enter__(self) -> Self:
        try:
            self._build()
        except BaseException:
            self._clear()
            raise
        return self

    def __exit__(self, *_: object) -> None:
        for key in list(self._selector.get_map().values()):
            key.fileobj.close()  # type: ignore[union-attr]
        for one in (*self._senders, *(each.socket for each in self.kept)):
            one.close()
        self._selector.close()
        self._clear()

    def _spaces(self) -> tuple[str, str, str]:
        return f"{self.name}-client", f"{self.name}-host", f"{self.name}-server"

    def _build(self) -> None:
        client, host, server = self._spaces()
        for one in (client, host, server):
            _run("ip", "netns", "add", one)
            _run("ip", "-n", one, "link", "set", "lo", "up")
        for (one, near), (other, far) in (((client, "eth0"), (host, "in0")), ((host, "out0"), (server, "eth0"))):
            _run("ip", "-n", one, "link", "add", near, "type", "veth", "peer", "name", far, "netns", other)
        addresses = [(client, "eth0", one) for one in CLIENTS] + [(host, "in0", "192.0.2.1")]
        addresses += [(host, "out0", one) for one in OUTSIDE] + [(server, "eth0", SERVER)]
        for space, link, address in addresses:
            _run("ip", "-n", space, "address", "add", f"{address}/24", "dev", link)
        for space, link in ((client, "eth0"), (host, "in0"), (host, "out0"), (server, "eth0")):
            _run("ip", "-n", space, "link", "set", link, "up")
        _run("ip", "-n", client, "route", "add", "default", "via", "192.0.2.1")
        self.set(host, "net/ipv4/ip_forward", 1)
        # Hosts' own ports lie apart from the translator's, which keeps a port that lies in its range and is free.
        self.set(client, "net/ipv4/ip_local_port_range", "1500 32000")
        for space in (client, server):
            self.set(space, "net/ipv4/tcp_max_syn_backlog", 8192)
            self.set(space, "net/core/somaxconn", 8192)
        self.set(client, "net/ipv4/tcp_tw_reuse", 0)

    def _clear(self) -> None:
        for one in self._spaces():
            subprocess.run(("ip", "netns", "del", one), capture_output=True, check=False)

    def set(self, space: str, key: str, value: object) -> None:
        """A kernel setting inside a namespace; left alone where the kernel does not have it there."""
        words = (
            "ip",
            "netns",
            "exec",
            space,
            "sh",
            "-c",
            f"test ! -e /proc/sys/{key} || echo '{value}' > /proc/sys/{key}",
        )
        _run(*words)

    def read(self, key: str) -> str:
        """A kernel setting of the translator."""
        return _run("ip", "netns", "exec", self._spaces()[1], "cat", f"/proc/sys/{key}").strip()

    def load(self, rules: str, check_only: bool = False) -> None:
        """Rules onto the translator, in place of all that were there; what it knew of connections is forgotten."""
        host = self._spaces()[1]
        if not check_only:
            _run("ip", "netns", "exec", host, "nft", "flush", "ruleset")
        _run("ip", "netns", "exec", host, "nft", *(["-c"] if check_only else []), "-f", "-", text=rules)

    def listen(self, *ports: int) -> None:
        """The server takes TCP connections, and answers datagrams, on these ports."""
        with inside(self._spaces()[2]):
            for port in ports:
                stream = socket.socket()
                stream.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                stream.bind((SERVER, port))
                stream.listen(8192)
                datagrams = socket.socket(type=socket.SOCK_DGRAM)
                datagrams.bind((SERVER, port))
                for one, heard in ((stream, self._accept), (datagrams, self._answer)):
                    one.setblocking(False)
                    self._selector.register(one, selectors.EVENT_READ, heard)

    def serve(self, address: str, port: int) -> None:
        """A host behind the translator takes TCP connections at a port."""
        with inside(self._spaces()[0]):
            stream = socket.socket()
            stream.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            stream.bind((address, port))
            stream.listen(64)
        stream.setblocking(False)
        self._selector.register(stream, selectors.EVENT_READ, self._accept)

    def call(self, address: str, port: int) -> Connection:
        """An attempt from outside, at the server's place, to connect to an address and port of the translator."""
        with inside(self._spaces()[2]):
            one = socket.socket()
        return self._begin(one, (address, port), None, WAIT_S)

    def without_default(self) -> None:
        """Hosts behind the translator lose their default route."""
        _run("ip", "-n", self._spaces()[0], "route", "del", "default")

    def _accept(self, listening: socket.socket) -> None:
        while True:
            try:
                one, (address, port) = listening.accept()
            except BlockingIOError:
                return
            one.setblocking(False)
            own = listening.getsockname()[1]
            self.seen.append((address, port, own))
            self._selector.register(one, selectors.EVENT_READ, self._read)

    def _read(self, one: socket.socket) -> None:
        """The server does as it is told by one letter: close, reset; and closes when the client has."""
        try:
            said = one.recv(16)
        except (BlockingIOError, ConnectionError):
            said = b""
        if said == b"r":
            one.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, _RESET)
        if said in (b"", b"c", b"r"):
            self._selector.unregister(one)
            one.close()

    def _answer(self, one: socket.socket) -> None:
        while True:
            try:
                said, sender = one.recvfrom(64)
            except BlockingIOError:
                return
            self.datagrams.add(sender)
            one.sendto(said, sender)

    def open(
        self, port: int, source: str = "", then: Callable[[Connection], None] | None = None, wait_s: float = WAIT_S
    ) -> Connection:
        """A client's attempt to connect; `then` is called when it is known how it went, by `wait_s` at the latest."""
        with inside(self._spaces()[0]):
            one = socket.socket()
        one.setblocking(False)
        if source:
            one.setsockopt(socket.IPPROTO_IP, 24, 1)  # IP_BIND_ADDRESS_NO_PORT: the port when it connects
            one.bind((source, 0))
        return self._begin(one, (SERVER, port), then, wait_s)

    def _begin(
        self, one: socket.socket, to: tuple[str, int], then: Callable[[Connection], None] | None, wait_s: float
    ) -> Connection:
        one.setblocking(False)
        began = Connection(one, monotonic(), then=then, wait_s=wait_s)
        code = one.connect_ex(to)
        if code not in (0, errno.EINPROGRESS):
            raise OSError(code, os.strerror(code))
        self._selector.register(one, selectors.EVENT_WRITE, lambda _: self._known(began))
        self._pending.append(began)
        return began

    def _known(self, one: Connection) -> None:
        if one.established is not None:
            return
        one.established = one.socket.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR) == 0
        self._selector.unregister(one.socket)
        if not one.established:
            one.socket.close()
        if one.then:
            one.then(one)

    def _give_up(self, one: Connection) -> None:
        one.established = False
        self._selector.unregister(one.socket)
        one.socket.close()
        if one.then:
            one.then(one)

    def later(self, seconds: float, action: Callable[[], None]) -> None:
        """Something to be done in a while, while the loop runs."""
        heapq.heappush(self._timers, (monotonic() + seconds, next(self._numbers), action))

    def run(self, seconds: float | None = None) -> None:
        """The loop: for a while, or until nothing is pending any more."""
        ends = None if seconds is None else monotonic() + seconds
        while True:
            now = monotonic()
            while self._timers and self._timers[0][0] <= now:
                heapq.heappop(self._timers)[2]()
            while self._pending and (
                self._pending[0].established is not None or now - self._pending[0].began > self._pending[0].wait_s
            ):
                first = self._pending.pop(0)
                if first.established is None:
                    self._give_up(first)
            if ends is not None and now >= ends:
                return
            if ends is None and not self._pending and not self._timers:
                return
            for key, _ in self._selector.select(0.002):
                key.data(key.fileobj)

    def fill(self, number: int, port: int, source: str = "", at_once: int = 100) -> list[bool]:
        """So many attempts, some at once, that stay open; whether each was established, in order."""
        tried = []
        for first in range(0, number, at_once):
            tried += [self.open(port, source) for _ in range(min(at_once, number - first))]
            self.run()
        self.kept += tried
        return [bool(one.established) for one in tried]

    def send(self, number: int, port: int, source: str = "") -> int:
        """So many datagrams from sockets of their own; how many of them the server saw from another address or port."""
        before = set(self.datagrams)
        with inside(self._spaces()[0]):
            senders = [socket.socket(type=socket.SOCK_DGRAM) for _ in range(number)]
        for one in senders:
            if source:
                one.bind((source, 0))
            one.connect((SERVER, port))
            one.send(b"x")
        self.run(0.5)
        self._senders += senders
        return len(self.datagrams - before)

    def end(self, one: Connection, how: str) -> None:
        """End a connection: closed or reset, by the client or the server; or leave it idle."""
        if how == "closed by the client":
            one.socket.close()
        elif how == "reset by the client":
            one.socket.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, _RESET)
            one.socket.close()
        elif how.endswith("by the server"):
            one.socket.send(b"c" if how.startswith("closed") else b"r")
            self.later(0.1, one.socket.close)


def read_facts() -> dict[str, str]:
    """The kernel that was asked."""
    return {"kernel": Path("/proc/sys/kernel/osrelease").read_text(encoding="ascii").strip()}
