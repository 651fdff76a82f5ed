"""Real connections and datagrams in a laboratory that stands, and what became of each."""

import errno
import resource
import selectors
import socket
import struct
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from time import monotonic
from typing import Any, NamedTuple, Self

from fenrask.prefixes import Address, parse_address
from fenrask.rehearsal.attempts import Try
from fenrask.rehearsal.kernel import Standing, inside
from fenrask.rehearsal.outside import LISTENING
from fenrask.rehearsal.relays import Relay
from fenrask.rehearsal.shown import Shown

__all__ = ["Answered", "Ends"]

_ALL_FILES = 1 << 16
_RESET = struct.pack("ii", 1, 0)
"""What makes closing a connection reset it, so that nothing of it lingers."""
_FAMILY = {4: socket.AF_INET, 6: socket.AF_INET6}


class Answered(NamedTuple):
    """What became of a try: whether its answer came back; and as whose it was received, if it was."""

    arrives: bool
    source: Address | None = None


@dataclass
class _Open:
    number: int
    connection: socket.socket
    answered: bool = False
    behalf: socket.socket | None = None
    """Who asked for it, and is given the answer."""


@dataclass
class Ends:
    """The sockets at both ends, as a context: who listens stays, who sends comes and goes."""

    standing: Standing
    shown: Shown
    _selector: selectors.BaseSelector = field(default_factory=selectors.DefaultSelector)
    _received: dict[int, Address] = field(default_factory=dict)
    _tries: dict[int, Try] = field(default_factory=dict)
    _between: list[socket.socket] = field(default_factory=list)
    """The connections that relays have taken and opened."""

    def __enter__(self) -> Self:
        soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
        most = _ALL_FILES if hard == resource.RLIM_INFINITY else hard
        with suppress(ValueError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (max(soft, min(most, _ALL_FILES)), hard))
        return self

    def __exit__(self, *_: object) -> None:
        for key in list(self._selector.get_map().values()):
            key.fileobj.close()  # type: ignore[union-attr]
        self._selector.close()

    def listen(self, wanted: Iterable[tuple[str, Address, int]]) -> None:
        """Every space that answers to an address takes connections, or datagrams, to its ports."""
        every = list(dict.fromkeys(wanted))
        for name, space in self.standing.laboratory.spaces.items():
            if own := [one for one in every if one[1] in space.local]:
                with inside(self.standing.namespace[name]):
                    for end in own:
                        self._listen(*end)

    def relay(self, relays: Iterable[Relay]) -> None:
        """Take connections, and datagrams, at exits that open others for them."""
        for each in relays:
            with inside(self.standing.namespace[each.space]):
                self._listen(each.protocol, each.address, each.port, each)

    def _listen(self, protocol: str, address: Address, port: int, relay: Relay | None = None) -> None:
        kind = socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM
        listening = socket.socket(_FAMILY[address.version], kind)
        listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        listening.setsockopt(socket.SOL_SOCKET, socket.SO_MARK, LISTENING)
        listening.bind((str(address), port))
        listening.setblocking(False)
        if protocol == "tcp":
            listening.listen(128)
            self._on(listening, lambda: self._accept(listening, relay))
        else:
            self._on(listening, lambda: self._answer(listening, relay))

    def _on(self, connection: socket.socket, heard: Callable[[], None], what: int = selectors.EVENT_READ) -> None:
        self._selector.register(connection, what, heard)

    def _off(self, connection: socket.socket) -> None:
        with suppress(KeyError, ValueError):
            self._selector.unregister(connection)
        connection.close()

    def _accept(self, listening: socket.socket, relay: Relay | None) -> None:
        with suppress(BlockingIOError, ConnectionError):
            connection, peer = listening.accept()
            connection.setblocking(False)
            self._on(connection, lambda: self._read(connection, parse_address(peer[0]), relay))

    def _read(self, connection: socket.socket, peer: Address, relay: Relay | None) -> None:
        try:
            said = connection.recv(16)
        except BlockingIOError:
            return
        except OSError:
            said = b""
        if not said:
            self._off(connection)
            return
        if relay is not None:
            self._pass_on(int(said), relay, connection)
            return
        self._received[int(said)] = peer
        with suppress(OSError):
            connection.send(said)

    def _pass_on(self, number: int, relay: Relay, behalf: socket.socket) -> None:
        """Open what was asked for, from the relay's own address."""
        tried = self._tries.get(number)
        if tried is None:
            return
        with inside(self.standing.namespace[relay.space]):
            began = self._open(number, tried.protocol, (relay.source, 0), (tried.target, tried.port))
        if began is not None:
            began.behalf = behalf
            self._between += [began.connection, behalf]

    def _answer(self, connection: socket.socket, relay: Relay | None) -> None:
        with suppress(OSError):
            said, sender = connection.recvfrom(16)
            if relay is not None:
                with inside(self.standing.namespace[relay.space]):
                    behalf = socket.socket(connection.family, connection.type)
                    behalf.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                    behalf.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
                    behalf.bind((str(relay.address), relay.port))
                    behalf.connect(sender)
                self._pass_on(int(said), relay, behalf)
                return
            self._received[int(said)] = parse_address(sender[0])
            connection.sendto(said, sender)

    def send(self, tries: Sequence[tuple[int, Try]], wait_s: float) -> dict[int, Answered]:
        """All of these at once, each with a number of its own, at most `AT_ONCE` of them; they wait this long."""
        self._received.clear()
        self._tries = dict(tries)
        opened: list[_Open] = []
        for number, tried in tries:
            with inside(self.standing.namespace[tried.space]):
                began = self._begin(number, tried)
            if began is not None:
                opened.append(began)
        ends = monotonic() + wait_s
        while (now := monotonic()) < ends and not all(one.answered for one in opened):
            for key, _ in self._selector.select(min(0.05, ends - now)):
                key.data()
        found = {number: Answered(False) for number, _ in tries}
        for begun in opened:
            self._off(begun.connection)
            found[begun.number] = Answered(begun.answered, self._received.get(begun.number))
        for between in self._between:
            self._off(between)
        self._between.clear()
        # What was closed is heard before numbers are used again.
        for key, _ in self._selector.select(0):
            key.data()
        return found

    def _begin(self, number: int, try_: Try) -> _Open | None:
        protocol, port = try_.opens
        return self._open(number, protocol, (try_.sender, try_.source_port), (self.shown.aim(try_), port))

    def _open(self, number: int, protocol: str, own: tuple[Address, int], to: tuple[Address, int]) -> _Open | None:
        """A connection from an address and port to another, which is known by a number; None where there is no way."""
        address, port = own
        kind = socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM
        connection = socket.socket(_FAMILY[address.version], kind)
        connection.setblocking(False)
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, _RESET)
        if address.version == 4:
            connection.setsockopt(socket.IPPROTO_IP, socket.IP_TOS, number << 2)
        else:
            connection.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_TCLASS, number << 2)
        began = _Open(number, connection)
        try:
            connection.bind((str(address), port))
            code = connection.connect_ex((str(to[0]), to[1]))
            if code not in (0, errno.EINPROGRESS):
                raise OSError(code, "connect")
            if protocol == "udp":
                connection.send(b"%d" % number)
        except OSError:
            connection.close()
            return None
        what = selectors.EVENT_READ if protocol == "udp" else selectors.EVENT_WRITE
        self._on(connection, lambda: self._heard(began), what)
        return began

    def _heard(self, begun: _Open) -> None:
        """The connection is there, so that it says its number; or its answer came; or neither ever will."""
        key: Any = self._selector.get_key(begun.connection)
        try:
            if key.events & selectors.EVENT_WRITE:
                if begun.connection.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR):
                    self._selector.unregister(begun.connection)
                    return
                begun.connection.send(b"%d" % begun.number)
                self._selector.modify(begun.connection, selectors.EVENT_READ, key.data)
            else:
                begun.answered = begun.connection.recv(16) == b"%d" % begun.number
                self._selector.unregister(begun.connection)
                if begun.answered and begun.behalf is not None:
                    begun.behalf.send(b"%d" % begun.number)
        except BlockingIOError:
            return
        except OSError:
            with suppress(KeyError):
                self._selector.unregister(begun.connection)
