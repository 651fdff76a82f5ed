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
                    for one in own:
                        self._listen(*one)

    def relay(self, relays: Iterable[Relay]) -> None:
        """Take connections, and datagrams, at exits that open others for them."""
        for each in relays:
            with inside(self.standing.namespace[each.space]):
                self._listen(each.protocol, each.address, each.port, each)

    def _listen(self, protocol: str, address: Address, port: int, relay: Relay | None = None) -> None:
        kind = socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM
        one = socket.socket(_FAMILY[address.version], kind)
        one.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        one.setsockopt(socket.SOL_SOCKET, socket.SO_MARK, LISTENING)
        one.bind((str(address), port))
        one.setblocking(False)
        if protocol == "tcp":
            one.listen(128)
            self._on(one, lambda: self._accept(one, relay))
        else:
            self._on(one, lambda: self._answer(one, relay))

    def _on(self, one: socket.socket, heard: Callable[[], None], what: int = selectors.EVENT_READ) -> None:
        self._selector.register(one, what, heard)

    def _off(self, one: socket.socket) -> None:
        with suppress(KeyError, ValueError):
            self._selector.unregister(one)
        one.close()

    def _accept(self, listening: socket.socket, relay: Relay | None) -> None:
        with suppress(BlockingIOError, ConnectionError):
            one, peer = listening.accept()
            one.setblocking(False)
            self._on(one, lambda: self._read(one, parse_address(peer[0]), relay))

    def _read(self, one: socket.socket, peer: Address, relay: Relay | None) -> None:
        try:
            said = one.recv(16)
        except BlockingIOError:
            return
        except OSError:
            said = b""
        if not said:
            self._off(one)
            return
        if relay is not None:
            self._pass_on(int(said), relay, one)
            return
        self._received[int(said)] = peer
        with suppress(OSError):
            one.send(said)

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

    def _answer(self, one: socket.socket, relay: Relay | None) -> None:
        with suppress(OSError):
            said, sender = one.recvfrom(16)
            if relay is not None:
                with inside(self.standing.namespace[relay.space]):
                    behalf = socket.socket(one.family, one.type)
                    behalf.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                    behalf.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
                    behalf.bind((str(relay.address), relay.port))
                    behalf.connect(sender)
                self._pass_on(int(said), relay, behalf)
                return
            self._received[int(said)] = parse_address(sender[0])
            one.sendto(said, sender)

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
        for one in opened:
            self._off(one.connection)
            found[one.number] = Answered(one.answered, self._received.get(one.number))
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
        one = socket.socket(_FAMILY[address.version], kind)
        one.setblocking(False)
        one.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        one.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, _RESET)
        if address.version == 4:
            one.setsockopt(socket.IPPROTO_IP, socket.IP_TOS, number << 2)
        else:
            one.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_TCLASS, number << 2)
        began = _Open(number, one)
        try:
            one.bind((str(address), port))
            code = one.connect_ex((str(to[0]), to[1]))
            if code not in (0, errno.EINPROGRESS):
                raise OSError(code, "connect")
            if protocol == "udp":
                one.send(b"%d" % number)
        except OSError:
            one.close()
            return None
        what = selectors.EVENT_READ if protocol == "udp" else selectors.EVENT_WRITE
        self._on(one, lambda: self._heard(began), what)
        return began

    def _heard(self, one: _Open) -> None:
        """The connection is there, so that it says its number; or its answer came; or neither ever will."""
        key: Any = self._selector.get_key(one.connection)
        try:
            if key.events & selectors.EVENT_WRITE:
                if one.connection.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR):
                    self._selector.unregister(one.connection)
                    return
                one.connection.send(b"%d" % one.number)
                self._selector.modify(one.connection, selectors.EVENT_READ, key.data)
            else:
                one.answered = one.connection.recv(16) == b"%d" % one.number
                self._selector.unregister(one.connection)
                if one.answered and one.behalf is not None:
                    one.behalf.send(b"%d" % one.number)
        except BlockingIOError:
            return
        except OSError:
            with suppress(KeyError):
                self._selector.unregister(one.connection)
