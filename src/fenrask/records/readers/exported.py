"""NetFlow v5 and v9 (RFC 3954) and IPFIX (RFC 7011; files: RFC 5655): messages one after the other.

NAT session events (RFC 8158) in either are put together by pairs of begin and end.

Records of one template are decoded together through a structured array. Templates come, change and are withdrawn as the
messages say; enterprise elements and what is of variable length are passed over; gaps in the sequence are counted.
"""

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from fenrask.records.batch import CLOSED, CONTINUED, IDLE, UNKNOWN, Addresses, Batch, ending_of_flags, texts
from fenrask.records.readers.contract import Reader, Source
from fenrask.records.readers.entries import Entry, Pairing

__all__ = ["EXPORTED", "nat_entries"]

_V5_RECORD = np.dtype(
    [
        ("source", ">u4"), ("target", ">u4"), ("hop", ">u4"), ("in", ">u2"), ("out", ">u2"), ("packets", ">u4"),
        ("octets", ">u4"), ("first", ">u4"), ("last", ">u4"), ("sport", ">u2"), ("dport", ">u2"), ("pad", "u1"),
        ("flags", "u1"), ("protocol", "u1"), ("tos", "u1"), ("as1", ">u2"), ("as2", ">u2"), ("masks", ">u2"),
        ("end", ">u2"),
    ]
)  # fmt: skip
_ELEMENTS = {
    1: "octets", 4: "protocol", 6: "flags", 7: "sport", 8: "source", 11: "dport", 12: "target", 21: "last_up",
    22: "first_up", 27: "source6", 28: "target6", 34: "interval", 136: "reason", 150: "first_s", 151: "last_s",
    152: "first_ms", 153: "last_ms", 160: "boot_ms", 85: "octets_total", 86: "packets_total", 305: "packet_interval",
    225: "outside", 227: "outside_port", 230: "nat_event", 281: "outside6", 322: "seen_s", 323: "seen_ms",
}  # fmt: skip
"""The information elements (IANA) that are read."""
_SIZES = {"source": (4,), "target": (4,), "outside": (4,), "source6": (16,), "target6": (16,), "outside6": (16,)}
"""The lengths that an element may have; numbers may be shortened (RFC 7011, section 6.2)."""
_VARIABLE, _ENTERPRISE = 65535, 0x8000
_REASONS = {1: IDLE, 2: CONTINUED, 3: CLOSED}
_BEGINS, _ENDS = (1, 4, 6), (2, 5, 7)
"""Of NAT events (RFC 8158, table 2; the first of each is historic): a session of NAT44 or NAT64 begins, or ends."""
_RUN_OUT = {3: "addresses", 12: "ports", 13: "a host's quota"}
_MOST_FIELDS, _MOST_LENGTH = 512, 65535


Columns = dict[str, NDArray[Any]]


@dataclass(frozen=True)
class _Clock:
    """An exporter's time in ms since it began, which starts anew after 2^32, against a moment in seconds since 1970."""

    moment_s: float
    uptime_ms: int

    def at(self, uptime_ms: NDArray[Any]) -> NDArray[np.float64]:
        """Times of the exporter in seconds since 1970: the nearest to the moment that they can mean."""
        ahead = (uptime_ms.astype(np.int64) - self.uptime_ms + 2**31) % 2**32 - 2**31
        found: NDArray[np.float64] = self.moment_s + ahead / 1e3
        return found


@dataclass
class _Template:
    fields: list[tuple[int, int]]
    """Element (0 for one of an enterprise) and length."""
    scopes: int = 0
    """Of an options template: how many of the fields are its scope."""

    @property
    def length(self) -> int | None:
        """The length of a record; None where it varies."""
        return None if any(size == _VARIABLE for _, size in self.fields) else sum(size for _, size in self.fields)


@dataclass
class _State:
    """What earlier messages of a file have said."""

    templates: dict[tuple[int, int], _Template] = field(default_factory=dict)
    next_number: dict[tuple[int, int], int] = field(default_factory=dict)
    clocks: dict[int, _Clock] = field(default_factory=dict)
    """By observation domain: as the message says, or an options record that tells when the exporter began."""
    sampled: set[int] = field(default_factory=set)
    """Observation domains that look at some packets only."""
    offset: int = 0


def _knows(head: bytes) -> bool:
    return len(head) >= 16 and head[:2] in (b"\x00\x05", b"\x00\x09", b"\x00\x0a")


def _read(source: Source) -> Iterator[Batch]:
    pending, pairing = list[Batch](), Pairing(source)
    for columns, batch in _decoded(source):
        if "nat_event" in columns:
            yield from pairing.batches(_nat_events(columns, source))
        elif batch is not None and len(batch):
            pending.append(batch)
        if sum(map(len, pending)) >= _FLUSH:
            yield from pending
            pending = []
    yield from pending
    yield from pairing.rest()


def nat_entries(source: Source) -> Iterator[Entry]:
    """The NAT session events of a file (RFC 8158), as they come."""
    for columns, _ in _decoded(source):
        if "nat_event" in columns:
            yield from _nat_events(columns, source)


def _decoded(source: Source) -> Iterator[tuple[Columns, Batch | None]]:
    """The columns of every set of records, and the batch that they make where they have times and addresses."""
    state = _State()
    while True:
        message = _message(source, state)
        if message is None:
            return
        version, body = message
        if version == 5:
            yield from (({}, batch) for batch in _five(body))
        else:
            yield from _templated(version, body, source, state)


def _nat_events(columns: Columns, source: Source) -> Iterator[Entry]:
    n = columns["nat_event"].size
    nothing = np.zeros(n, dtype=np.uint64)
    inner, target, outside = (_addresses(columns, name, n) for name in ("source", "target", "outside"))
    seen = columns["seen_ms"] / 1e3 if "seen_ms" in columns else columns.get("seen_s", nothing).astype(np.float64)
    ports, outside_ports = columns.get("sport", nothing), columns.get("outside_port", nothing)
    target_ports, protocols = columns.get("dport", nothing), columns.get("protocol", nothing)
    for row, event in enumerate(columns["nat_event"].tolist()):
        if event in _RUN_OUT:
            source.unread.add(f"the translator says that {_RUN_OUT[event]} ran out", source.name)
        elif event not in _BEGINS + _ENDS:
            source.unread.add("a NAT event that is no session", source.name)
        elif inner is None or target is None or not seen[row]:
            source.unread.add("a NAT event without its time or addresses", source.name)
        else:
            yield Entry(
                float(seen[row]), "NEW" if event in _BEGINS else "DESTROY", int(protocols[row]),
                texts(inner, [row])[0].encode(), texts(target, [row])[0].encode(), int(ports[row]),
                int(target_ports[row]), texts(outside, [row])[0].encode() if outside else b"", int(outside_ports[row]),
                "", None, (0, 0),
            )  # fmt: skip


_FLUSH = 50_000


def _message(source: Source, state: _State) -> tuple[int, bytes] | None:
    """The next message whole; None at the end, and where what follows is none."""
    stream = source.stream
    head = stream.read(4)
    if not head:
        return None
    if len(head) < 4:
        source.unread.add("a message cut short", f"{source.name}, byte {state.offset}")
        return None
    version, word = struct.unpack(">HH", head)
    where = f"{source.name}, byte {state.offset}"
    if version == 5:
        rest = 20 + 48 * word
    elif version == 10 and word >= 16:
        rest = word - 4
    elif version == 9:
        return _nine(stream, head, word, source, state)
    else:
        source.unread.add("no message of NetFlow v5, v9 or IPFIX", where)
        return None
    body = stream.read(rest)
    if len(body) < rest:
        source.unread.add("a message cut short", where)
        return None
    state.offset += 4 + rest
    return version, head + body


def _nine(stream: BinaryIO, head: bytes, count: int, source: Source, state: _State) -> tuple[int, bytes] | None:
    """NetFlow v9 says how many records it has, not how long it is: sets are read until the next message begins."""
    body = head + stream.read(16)
    peek = getattr(stream, "peek", None)
    while True:
        ahead = bytes(peek(4))[:4] if peek else b""
        if len(ahead) < 4:
            break
        set_id, length = struct.unpack(">HH", ahead)
        if set_id in (5, 9, 10) or length < 4:
            break
        part = stream.read(length)
        body += part
        if len(part) < length:
            source.unread.add("a message cut short", f"{source.name}, byte {state.offset}")
            break
    state.offset += len(body)
    return (9, body) if len(body) >= 20 else None


def _five(message: bytes) -> list[Batch]:
    _, count, uptime, seconds, nanos = struct.unpack(">HHIII", message[:16])
    sampling = struct.unpack(">H", message[22:24])[0] & 0x3FFF
    rows = np.frombuffer(message, dtype=_V5_RECORD, count=count, offset=24)
    clock = _Clock(seconds + nanos / 1e9, uptime)
    return [
        Batch(
            clock.at(rows["first"]),
            clock.at(rows["last"]),
            Addresses(rows["source"].astype(np.uint32)),
            Addresses(rows["target"].astype(np.uint32)),
            rows["sport"].astype(np.uint16),
            rows["dport"].astype(np.uint16),
            rows["protocol"].astype(np.uint8),
            rows["octets"].astype(np.int64),
            np.zeros(count, dtype=np.int64),
            ending_of_flags(rows["flags"]),
            sampled=sampling > 1,
        )
    ]


def _templated(version: int, message: bytes, source: Source, state: _State) -> Iterator[tuple[Columns, Batch | None]]:
    if version == 10:
        exported, sequence, domain = struct.unpack(">III", message[4:16])
        begins = 16
    else:
        uptime, exported, sequence, domain = struct.unpack(">IIII", message[4:20])
        state.clocks[domain], begins = _Clock(float(exported), uptime), 20
    records, at = 0, begins
    while at + 4 <= len(message):
        set_id, length = struct.unpack(">HH", message[at : at + 4])
        if length < 4 or at + length > len(message):
            source.unread.add(
                "a set longer than its message", f"{source.name}, byte {state.offset - len(message) + at}"
            )
            return
        body = message[at + 4 : at + length]
        at += length
        if set_id in (0, 1, 2, 3):
            _learn(set_id, body, version, domain, source, state)
        elif set_id >= 256:
            template = state.templates.get((domain, set_id))
            if template is None:
                source.unread.add("records before their template", source.name)
                continue
            found = list(_records(template, body, source))
            records += sum(n for _, n in found)
            for columns, n in found:
                if template.scopes:
                    _options(columns, domain, state)
                else:
                    yield columns, _batch(columns, n, state.clocks.get(domain), domain in state.sampled)
    _count_gap(version, domain, sequence, records, source, state)


def _count_gap(version: int, domain: int, sequence: int, records: int, source: Source, state: _State) -> None:
    """IPFIX counts data records, NetFlow v9 messages."""
    due = state.next_number.get((version, domain))
    if due is not None and sequence != due:
        missed = (sequence - due) % 2**32
        if missed < 2**31:
            what = "records" if version == 10 else "messages"
            source.unread.add(f"{what} missing by their sequence", source.name, missed)
    state.next_number[version, domain] = (sequence + (records if version == 10 else 1)) % 2**32


def _learn(set_id: int, body: bytes, version: int, domain: int, source: Source, state: _State) -> None:
    """Templates, options templates and withdrawals of one set."""
    options = set_id in (1, 3)
    at = 0
    while at + 4 <= len(body):
        number, count = struct.unpack(">HH", body[at : at + 4])
        at += 4
        if number < 256:
            return
        scopes = 0
        if options and (version == 9 or count) and at + 2 > len(body):
            source.unread.add("a template that is cut short or too long", source.name)
            return
        if options and version == 9:
            scope_bytes, option_bytes = count, struct.unpack(">H", body[at : at + 2])[0]
            at += 2
            count, scopes = (scope_bytes + option_bytes) // 4, max(1, scope_bytes // 4)
        elif count == 0:
            state.templates.pop((domain, number), None)
            continue
        elif options:
            scopes = struct.unpack(">H", body[at : at + 2])[0]
            at += 2
        fields, at_after = _fields(body, at, count)
        if fields is None:
            source.unread.add("a template that is cut short or too long", source.name)
            return
        at = at_after
        state.templates[domain, number] = _Template(fields, scopes)


def _fields(body: bytes, at: int, count: int) -> tuple[list[tuple[int, int]] | None, int]:
    if count > _MOST_FIELDS:
        return None, at
    fields = []
    for _ in range(count):
        if at + 4 > len(body):
            return None, at
        element, size = struct.unpack(">HH", body[at : at + 4])
        at += 4
        if element & _ENTERPRISE:
            element, at = 0, at + 4
        fields.append((element, size))
    total = sum(size for _, size in fields if size != _VARIABLE)
    return (fields, at) if 0 < total <= _MOST_LENGTH or any(size == _VARIABLE for _, size in fields) else (None, at)


def _records(template: _Template, body: bytes, source: Source) -> Iterator[tuple[Columns, int]]:
    """The records of a set by element, as columns; those of varying length are cut into fixed ones first."""
    length = template.length
    if length is None:
        body, sizes = _cut(template, body, source)
        fields = [(element, size) for (element, _), size in zip(template.fields, sizes, strict=True)]
        length = sum(sizes)
    else:
        fields = template.fields
    n = len(body) // length if length else 0
    if not n:
        return
    raw = np.frombuffer(body, dtype=np.uint8, count=n * length).reshape(n, length)
    columns: Columns = {}
    at = 0
    for element, size in fields:
        name = _ELEMENTS.get(element)
        if name and name not in columns and size in _SIZES.get(name, range(1, 9)):
            columns[name] = raw[:, at : at + size] if size > 8 else _numbers(raw[:, at : at + size])
        at += size
    yield columns, n


def _numbers(part: NDArray[np.uint8]) -> NDArray[np.uint64]:
    """Big-endian numbers of up to eight bytes."""
    value = np.zeros(part.shape[0], dtype=np.uint64)
    for column in range(part.shape[1]):
        value = value << np.uint64(8) | part[:, column].astype(np.uint64)
    return value


def _cut(template: _Template, body: bytes, source: Source) -> tuple[bytes, list[int]]:
    """Records with fields of varying length without these fields, and the sizes that are left."""
    sizes = [0 if size == _VARIABLE else size for _, size in template.fields]
    kept, at = bytearray(), 0
    while at < len(body):
        record = bytearray()
        for _, size in template.fields:
            if size == _VARIABLE:
                if at >= len(body):
                    break
                size = body[at]
                at += 1
                if size == 255:
                    size = int.from_bytes(body[at : at + 2], "big")
                    at += 2
                at += size
            else:
                record += body[at : at + size]
                at += size
        if at > len(body) or len(record) < sum(sizes):
            if len(body) - at > 3:
                source.unread.add("a record longer than its set", source.name)
            break
        kept += record
        if not sum(sizes):
            break
    return bytes(kept), sizes


def _options(columns: Columns, domain: int, state: _State) -> None:
    """What an options record tells: sampling of one in N packets; when the exporter began."""
    if "boot_ms" in columns:
        state.clocks[domain] = _Clock(float(columns["boot_ms"][0]) / 1e3, 0)
    for name in ("interval", "packet_interval"):
        if name in columns and bool((columns[name] > 1).any()):
            state.sampled.add(domain)


def _batch(columns: Columns, n: int, clock: _Clock | None, sampled: bool) -> Batch | None:
    """The columns of one template as a batch; None where they have no time or no addresses."""
    if "boot_ms" in columns:
        clock = _Clock(float(columns["boot_ms"][0]) / 1e3, 0)
    start, end = _time(columns, "first", clock), _time(columns, "last", clock)
    source, target = _addresses(columns, "source", n), _addresses(columns, "target", n)
    if start is None or end is None or source is None or target is None:
        return None
    nothing = np.zeros(n, dtype=np.int64)
    ending = ending_of_flags(columns["flags"].astype(np.uint8)) if "flags" in columns else np.full(n, UNKNOWN, np.uint8)
    for reason, meaning in _REASONS.items():
        if "reason" in columns:
            ending = np.where((ending == UNKNOWN) & (columns["reason"] == reason), meaning, ending).astype(np.uint8)
    octets = columns.get("octets", columns.get("octets_total", nothing))
    return Batch(
        start,
        np.maximum(start, end),
        source,
        target,
        columns.get("sport", nothing).astype(np.uint16),
        columns.get("dport", nothing).astype(np.uint16),
        columns.get("protocol", nothing).astype(np.uint8),
        octets.astype(np.int64),
        nothing,
        ending,
        sampled or ("interval" in columns and bool((columns["interval"] > 1).any())),
    )


def _time(columns: Columns, which: str, clock: _Clock | None) -> NDArray[np.float64] | None:
    if f"{which}_ms" in columns:
        return columns[f"{which}_ms"].astype(np.float64) / 1e3
    if f"{which}_s" in columns:
        return columns[f"{which}_s"].astype(np.float64)
    if f"{which}_up" in columns and clock is not None:
        return clock.at(columns[f"{which}_up"])
    return None


def _addresses(columns: Columns, which: str, n: int) -> Addresses | None:
    if which in columns:
        return Addresses(columns[which].astype(np.uint32))
    if f"{which}6" in columns:
        raw = columns[f"{which}6"]
        numbers = tuple((row, int.from_bytes(raw[row].tobytes(), "big")) for row in range(n))
        return Addresses(np.zeros(n, dtype=np.uint32), numbers)
    return None


EXPORTED = Reader("NetFlow v5, v9 or IPFIX", _knows, _read)
