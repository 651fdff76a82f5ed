"""Records collected as exporters send them: NetFlow v5, v9 and IPFIX over UDP, IPFIX over TCP (RFC 7011, section 10).

Each exporter is known by the address and port that it sends from, with templates of its own. Nothing that is sent makes
it grow without bound: exporters, waiting bytes and connections that are followed are all limited, and what goes beyond
is counted.
"""

import selectors
import socket
import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from io import BytesIO
from time import monotonic

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.records.batch import Batch, Unread
from fenrask.records.matching import Pairs
from fenrask.records.readers import Quiet, Source
from fenrask.records.readers.entries import Pairing
from fenrask.records.readers.exported import Columns, Decoder, nat_events, whole_message
from fenrask.records.readers.gathering import Gathering, Raw
from fenrask.records.runs import Room
from fenrask.records.summary import Summary
from fenrask.records.tallying import summarised

__all__ = ["Collector", "Listener"]

_MOST_EXPORTERS, _MOST_STREAMS = 256, 64
_MOST_BYTES = 1 << 16
"""Of a message: its length has 16 bits."""
_ROOM_BYTES = 1 << 22
"""That the system may keep waiting for us."""
_TICK_S = 1.0


@dataclass
class _Exporter:
    source: Source
    decoder: Decoder
    gathering: Gathering
    pairing: Pairing
    heard_s: float = 0.0


class Collector:
    """Takes messages of exporters, and says at any time what they come to.

    room: what of it memory may hold, and where the rest goes; all of it where there is none.
    """

    def __init__(self, pairs: Pairs, quiet: Quiet, room: Room | None = None) -> None:
        self.pairs, self.quiet, self.room, self.unread = pairs, quiet, room, Unread({})
        self.messages = 0
        self._exporters: dict[str, _Exporter] = {}
        self._done, self._waiting = Summary(), list[Batch]()

    @property
    def exporters(self) -> tuple[str, ...]:
        """Who sends, by address and port."""
        return tuple(self._exporters)

    def take(self, exporter: str, message: bytes, now_s: float) -> None:
        """A message, whole; what is none is counted."""
        if not whole_message(message):
            self.unread.add("datagrams that are no message of NetFlow v5, v9 or IPFIX", exporter)
            return
        self.messages += 1
        known = self._exporter(exporter)
        known.heard_s = now_s
        self._decoded(known, known.decoder.take(message))

    def _exporter(self, name: str) -> _Exporter:
        if name not in self._exporters:
            if len(self._exporters) >= _MOST_EXPORTERS:
                longest = min(self._exporters, key=lambda exporter: self._exporters[exporter].heard_s)
                self.unread.add("exporters beyond those that are followed: the one longest silent ended", longest)
                self._end(self._exporters.pop(longest))
            source = Source(name, BytesIO(), self.unread, quiet=self.quiet)
            self._exporters[name] = _Exporter(source, Decoder(source), Gathering(source), Pairing(source))
        return self._exporters[name]

    def _decoded(self, exporter: _Exporter, found: Iterator[tuple[Columns, Raw | None]]) -> None:
        for columns, raw in found:
            if "nat_event" in columns:
                self._waiting += exporter.pairing.batches(nat_events(columns, exporter.source))
            elif raw is not None:
                self._waiting += exporter.gathering.take(raw)

    def flush(self) -> None:
        """Take in what waits for more of its kind."""
        for exporter in self._exporters.values():
            self._decoded(exporter, exporter.decoder.flushed())
        if self._waiting:
            self._done = (self._done + summarised(self._waiting, self.pairs)).kept_in(self.room)
            self._waiting = []

    def so_far(self) -> Summary:
        """What all that came comes to, as if nothing else came; it goes on all the same."""
        self.flush()
        return self._done + summarised(self._open(), self.pairs)

    def _open(self) -> Iterator[Batch]:
        for exporter in self._exporters.values():
            yield from exporter.gathering.so_far()
            yield from exporter.pairing.so_far()

    def end(self) -> Summary:
        """The same at the end."""
        for exporter in self._exporters.values():
            self._end(exporter)
        self._exporters = {}
        self.flush()
        return self._done

    def _end(self, exporter: _Exporter) -> None:
        self._decoded(exporter, exporter.decoder.rest())
        self._waiting += exporter.gathering.rest()
        self._waiting += exporter.pairing.rest()


@dataclass
class Listener:
    """Sockets for datagrams and streams at one address and port, and what they get.

    UnusableInput where the address cannot be had.
    """

    address: str
    port: int
    collector: Collector
    _streams: dict[socket.socket, tuple[str, bytearray]] = field(default_factory=dict)

    def __enter__(self) -> "Listener":
        self._selector = selectors.DefaultSelector()
        family = socket.AF_INET6 if ":" in self.address else socket.AF_INET
        self._datagrams, self._accepting = socket.socket(family, socket.SOCK_DGRAM), socket.socket(family)
        try:
            self._datagrams.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _ROOM_BYTES)
            self._datagrams.bind((self.address, self.port))
            self.port = self._datagrams.getsockname()[1]
            self._accepting.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            self._accepting.bind((self.address, self.port))
            self._accepting.listen(_MOST_STREAMS)
        except OSError as error:
            self.__exit__()
            found = (error.strerror or type(error).__name__).lower()
            where = f"{self.address}:{self.port}"
            raise UnusableInput(
                [Problem(Place(path="--listen"), f"{where}: {found}", "an address of its own")]
            ) from None
        for listening in (self._datagrams, self._accepting):
            listening.setblocking(False)
            self._selector.register(listening, selectors.EVENT_READ)
        return self

    def __exit__(self, *_: object) -> None:
        for open_socket in (self._datagrams, self._accepting, *self._streams):
            open_socket.close()
        self._selector.close()

    def run(self, for_s: float | None, every_s: float, report: Callable[[], None]) -> None:
        """Listen for so long, or until it is interrupted; `report` is called in between."""
        began = monotonic()
        next_flush, next_report = began + _TICK_S, began + every_s
        while for_s is None or monotonic() - began < for_s:
            left = _TICK_S if for_s is None else max(0.0, min(_TICK_S, began + for_s - monotonic()))
            for key, _ in self._selector.select(left):
                if key.fileobj is self._datagrams:
                    self._read_datagrams()
                elif key.fileobj is self._accepting:
                    self._accept()
                else:
                    assert isinstance(key.fileobj, socket.socket)
                    self._read_stream(key.fileobj)
            now = monotonic()
            if now >= next_flush:
                self.collector.flush()
                next_flush = now + _TICK_S
            if now >= next_report:
                report()
                next_report = now + every_s

    def _read_datagrams(self) -> None:
        """What waits, but for some at most: streams and the clock have their turn."""
        for _ in range(1000):
            try:
                content, sender = self._datagrams.recvfrom(_MOST_BYTES)
            except OSError:
                return
            self.collector.take(f"{sender[0]}:{sender[1]}", content, monotonic())

    def _accept(self) -> None:
        try:
            stream, sender = self._accepting.accept()
        except OSError:
            return
        name = f"{sender[0]}:{sender[1]}"
        if len(self._streams) >= _MOST_STREAMS:
            self.collector.unread.add("streams beyond those that are followed", name)
            stream.close()
            return
        stream.setblocking(False)
        self._streams[stream] = (name, bytearray())
        self._selector.register(stream, selectors.EVENT_READ)

    def _read_stream(self, stream: socket.socket) -> None:
        """Messages of IPFIX, one after the other, each as long as it says (RFC 7011, section 10.4)."""
        name, waiting = self._streams[stream]
        try:
            part = stream.recv(_MOST_BYTES)
        except BlockingIOError:
            return
        except OSError:
            part = b""
        waiting += part
        while len(waiting) >= 4:
            version, length = struct.unpack(">HH", waiting[:4])
            if version != 10 or length < 16:
                self.collector.unread.add("streams that are no IPFIX", name)
                self._leave(stream)
                return
            if len(waiting) < length:
                break
            self.collector.take(name, bytes(waiting[:length]), monotonic())
            del waiting[:length]
        if not part:
            if waiting:
                self.collector.unread.add("a message cut short", name)
            self._leave(stream)

    def _leave(self, stream: socket.socket) -> None:
        self._selector.unregister(stream)
        del self._streams[stream]
        stream.close()
