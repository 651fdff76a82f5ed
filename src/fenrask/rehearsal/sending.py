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
    tried: Try
    socket: socket.socket
    answered: bool = False


@dataclass
class Ends:
    """The sockets at both ends, as a context: who listens stays, who sends comes and goes."""

    standing: Standing
    shown: Shown
    _selector: selectors.BaseSelector = field(default_factory=selectors.DefaultSelector)
    _received: dict[int, Address] = field(default_factory=dict)

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

    def _listen(self, protocol: str, address: Address, port: int) -> None:
        kind = socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM
        one = socket.socket(_FAMILY[address.version], kind)
        one.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        one.setsockopt(socket.SOL_SOCKET, socket.SO_MARK, LISTENING)
        one.bind((str(address), port))
        one.setblocking(False)
        if protocol == "tcp":
            one.listen(128)
            self._on(one, lambda: self._accept(one))
        else:
            self._on(one, lambda: self._answer(one))

    def _on(self, one: socket.socket, heard: Callable[[], None], what: int = selectors.EVENT_READ) -> None:
        self._selector.register(one, what, heard)

    def _off(self, one: socket.socket) -> None:
        with suppress(KeyError, ValueError):
            self._selector.unregister(one)
        one.close()

    def _accept(self, listening: socket.socket) -> None:
        with suppress(BlockingIOError, ConnectionError):
            one, peer = listening.accept()
            one.setblocking(False)
            self._on(one, lambda: self._read(one, parse_address(peer[0])))

    def _read(self, one: socket.socket, peer: Address) -> None:
        try:
            said = one.recv(16)
        except BlockingIOError:
            return
        except OSError:
            said = b""
        if not said:
            self._off(one)
            return
        self._received[int(said)] = peer
        with suppress(OSError):
            one.send(said)

    def _answer(self, one: socket.socket) -> None:
        with suppress(OSError):
            said, sender = one.recvfrom(16)
            self._received[int(said)] = parse_address(sender[0])
            one.sendto(said, sender)

    def send(self, tries: Sequence[tuple[int, Try]], wait_s: float) -> dict[int, Answered]:
        """All of these at once, each with a number of its own, at most `AT_ONCE` of them; they wait this long."""
        self._received.clear()
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
            self._off(one.socket)
            found[one.number] = Answered(one.answered, self._received.get(one.number))
        # What was closed is heard before numbers are used again.
        for key, _ in self._selector.select(0):
            key.data()
        return found

    def _begin(self, number: int, one: Try) -> _Open | None:
        family = _FAMILY[one.target.version]
        kind = socket.SOCK_STREAM if one.protocol == "tcp" else socket.SOCK_DGRAM
        own = socket.socket(family, kind)
        own.setblocking(False)
        own.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        own.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, _RESET)
        if one.target.version == 4:
            own.setsockopt(socket.IPPROTO_IP, socket.IP_TOS, number << 2)
        else:
            own.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_TCLASS, number << 2)
        began = _Open(number, one, own)
        try:
            own.bind((str(one.sender), one.source_port))
            code = own.connect_ex((str(self.shown.aim(one)), one.port))
            if code not in (0, errno.EINPROGRESS):
                raise OSError(code, "connect")
            if one.protocol == "udp":
                own.send(b"%d" % number)
        except OSError:
            own.close()
            return None
        what = selectors.EVENT_READ if one.protocol == "udp" else selectors.EVENT_WRITE
        self._on(own, lambda: self._heard(began), what)
        return began

    def _heard(self, one: _Open) -> None:
        """The connection is there, so that it says its number; or its answer came; or neither ever will."""
        key: Any = self._selector.get_key(one.socket)
        try:
            if key.events & selectors.EVENT_WRITE:
                if one.socket.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR):
                    self._selector.unregister(one.socket)
                    return
                one.socket.send(b"%d" % one.number)
                self._selector.modify(one.socket, selectors.EVENT_READ, key.data)
            else:
                one.answered = one.socket.recv(16) == b"%d" % one.number
                self._selector.unregister(one.socket)
        except BlockingIOError:
            return
        except OSError:
            with suppress(KeyError):
                self._selector.unregister(one.socket)
