"""NetFlow v5 and v9 (RFC 3954) and IPFIX (RFC 7011; files: RFC 5655): messages one after the other.

NAT session events (RFC 8158) in either are put together by pairs of begin and end. Records of one template are decoded
together, over many messages. Templates come, change and are withdrawn as the messages say; enterprise elements and what
is of variable length are passed over, but for the reverse elements of both directions (RFC 5103); gaps in the sequence
are counted. Samples (RFC 5477) say how many packets stand for one.
"""

import struct
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, BinaryIO, NamedTuple

import numpy as np
from numpy.typing import NDArray

from fenrask.records.batch import CLOSED, CONTINUED, FLAGGED, IDLE, OPEN, UNKNOWN, Addresses, Batch, Unread, texts
from fenrask.records.readers.contract import Reader, Source
from fenrask.records.readers.entries import Entry, Pairing
from fenrask.records.readers.gathering import Gathering, Raw, keys_of

__all__ = ["EXPORTED", "Columns", "Decoder", "nat_entries", "nat_events", "whole_message"]

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
    22: "first_up", 27: "source6", 28: "target6", 34: "interval", 48: "sampler", 50: "random_interval",
    136: "reason", 150: "first_s", 151: "last_s", 152: "first_ms", 153: "last_ms", 154: "first_ntp", 155: "last_ntp",
    156: "first_ntp", 157: "last_ntp", 158: "first_ago_us", 159: "last_ago_us", 160: "boot_ms", 161: "lasted_ms",
    162: "lasted_us", 85: "octets_total", 231: "octets_out", 232: "octets_back", 225: "outside", 227: "outside_port",
    230: "nat_event", 281: "outside6", 302: "sampler", 305: "packet_interval", 306: "packet_space", 309: "of_size",
    310: "of_population", 322: "seen_s", 323: "seen_ms",
}  # fmt: skip
"""The information elements (IANA) that are read."""
_REVERSE = 29305
"""Whose elements are the same of the other direction (RFC 5103, section 6.1)."""
_REVERSED = {1: "octets_back", 85: "octets_back", 6: "flags_back"}
_SIZES = {"source": (4,), "target": (4,), "outside": (4,), "source6": (16,), "target6": (16,), "outside6": (16,)}
"""The lengths that an element may have; numbers may be shortened (RFC 7011, section 6.2)."""
_VARIABLE, _ENTERPRISE = 65535, 0x8000
_REASONS = {1: IDLE, 2: CONTINUED, 3: CLOSED, 4: OPEN, 5: OPEN}
"""Why a record was exported (RFC 5102, section 5.11.3): silent, at the active timeout, seen to end; or by force."""
_BEGINS, _ENDS = (1, 4, 6), (2, 5, 7)
"""Of NAT events (RFC 8158, table 2; the first of each is historic): a session of NAT44 or NAT64 begins, or ends."""
_RUN_OUT = {3: "addresses", 12: "ports", 13: "a host's quota"}
_MOST_FIELDS, _MOST_LENGTH, _MOST_NUMBER = 512, 65535, 8
_NTP_S = 2_208_988_800
"""From 1900, where times with a fraction are counted from, to 1970 (RFC 7011, section 6.1.9; RFC 5905)."""
_ANEW = 100_000
"""By how many records a message may be late; one that is farther behind is of an exporter that was restarted."""
_TOGETHER = 1 << 16
"""Records that are decoded at once."""
_CHUNK = 1 << 22
"""Bytes that are read at once."""
_MOST_KNOWN = 1000
"""Templates, or sequences, up to which messages are gone through together."""

Columns = dict[str, NDArray[Any]]


@dataclass(frozen=True)
class _Clock:
    """An exporter's time in ms since it began, which starts anew after 2^32, against a moment in seconds since 1970."""

    moment_s: float
    uptime_ms: int


@dataclass
class _Template:
    fields: list[tuple[str, int]]
    """Name (empty for what is not read) and length."""
    scopes: int = 0
    """Of an options template: how many of the fields are its scope."""

    def __post_init__(self) -> None:
        sizes = [size for _, size in self.fields]
        self.length = None if _VARIABLE in sizes else sum(sizes)
        """Of a record; None where it varies."""
        self.is_events = any(name == "nat_event" for name, _ in self.fields)
        """Whether its records are NAT events."""


@dataclass
class _Group:
    """Sets of records of one template that wait to be decoded together, with each message's clock and time."""

    template: _Template
    domain: int
    bodies: list[Any] = field(default_factory=list)
    counts: list[int] = field(default_factory=list)
    moments: list[float] = field(default_factory=list)
    uptimes: list[int] = field(default_factory=list)
    sent: list[float] = field(default_factory=list)


@dataclass
class _State:
    """What earlier messages of a file have said."""

    templates: dict[tuple[int, int], _Template] = field(default_factory=dict)
    next_number: dict[tuple[int, int], int] = field(default_factory=dict)
    missing: dict[tuple[int, int], int] = field(default_factory=dict)
    """By version and observation domain: what did not come, by the sequence."""
    clocks: dict[int, _Clock] = field(default_factory=dict)
    """By observation domain: as the message says, or an options record that tells when the exporter began."""
    factors: dict[tuple[int, int], float] = field(default_factory=dict)
    """By observation domain and sampler (-1: whichever): how many packets stand for each that is looked at."""
    groups: dict[tuple[int, int], _Group] = field(default_factory=dict)
    waiting: int = 0
    offset: int = 0
    learned: int = 0
    """How often templates came or went."""


def _knows(head: bytes) -> bool:
    return len(head) >= 16 and head[:2] in (b"\x00\x05", b"\x00\x09", b"\x00\x0a")


def _read(source: Source) -> Iterator[Batch]:
    gathering, pairing = Gathering(source), Pairing(source)
    # Every share reads all messages; what is wrong with them is reported by the first, which takes what is not divided.
    is_first = not source.share.number
    for columns, raw in _decoded(source if is_first else replace(source, unread=Unread({}))):
        if "nat_event" in columns and not is_first:
            continue
        if "nat_event" in columns:
            yield from pairing.batches(nat_events(columns, source))
        elif raw is not None:
            yield from gathering.take(raw)
    yield from gathering.rest()
    yield from pairing.rest()


def nat_entries(source: Source) -> Iterator[Entry]:
    """The NAT session events of a file (RFC 8158), as they come."""
    for columns, _ in _decoded(source):
        if "nat_event" in columns:
            yield from nat_events(columns, source)


def _decoded(source: Source) -> Iterator[tuple[Columns, Raw | None]]:
    """The columns of sets of records, and what they are as connections where they have times and addresses."""
    decoder, ahead = Decoder(source), _Ahead(source.stream)
    while True:
        yield from decoder.take_plain(ahead)
        if (message := _message(ahead, source, decoder.state)) is None:
            break
        yield from decoder.take(message)
    yield from decoder.rest()


class _Ahead:
    """A stream of messages, of which some are read ahead."""

    def __init__(self, stream: BinaryIO) -> None:
        self._stream, self._is_over = stream, False
        self.content, self.at = b"", 0

    def fill(self, size: int = _MOST_LENGTH) -> None:
        """Have this many bytes at hand, unless the stream ends before."""
        if len(self.content) - self.at < size and not self._is_over:
            more = self._stream.read(max(_CHUNK, size))
            self._is_over = len(more) < max(_CHUNK, size)
            self.content, self.at = self.content[self.at :] + more, 0

    def peek(self, size: int) -> bytes:
        """What comes next."""
        self.fill(size)
        return self.content[self.at : self.at + size]

    def read(self, size: int) -> bytes:
        """The same, taken."""
        found = self.peek(size)
        self.at += len(found)
        return found


class Decoder:
    """Decodes the messages of one exporter as they come; most records wait for more of their template."""

    def __init__(self, source: Source) -> None:
        self.source, self.state = source, _State()
        self._fives, self._waiting_fives = _Group(_Template([]), -1), 0
        self._known, self._places = (0, _known({})), np.empty(0, dtype=np.uint8)

    def take_plain(self, ahead: _Ahead) -> Iterator[tuple[Columns, Raw | None]]:
        """All messages that have nothing but data of known templates, up to the first that has anything else."""
        from fenrask.records.kernels.messages import PLACE, plain_messages

        state = self.state
        if len(state.next_number) > _MOST_KNOWN:
            # Each would be looked at for each message.
            return
        if not self._places.size:
            self._places = np.empty(_CHUNK >> 8, dtype=PLACE)
        while True:
            ahead.fill()
            before = ahead.at
            if self._known[0] != state.learned:
                self._known = state.learned, _known(state.templates)
            sequences = _sequences(state.next_number)
            content, room = np.frombuffer(ahead.content, np.uint8), _TOGETHER - state.waiting - self._waiting_fives
            at, found, records, is_full = plain_messages(
                content, ahead.at, *self._known[1], *sequences, room, self._places
            )
            is_moved, ahead.at = at > ahead.at, at
            state.offset += at - before
            state.next_number.update(zip([*state.next_number], sequences[2].tolist(), strict=True))
            if found and self._places[0]["version"] == _FIVE:
                _put_fives(content, self._places[:found], self._fives)
                self._waiting_fives += records
            elif found:
                _put_sets(content, self._places[:found], state, self._known[1])
                state.waiting += records
            if is_full and (is_moved or room < _TOGETHER):
                yield from self.flushed()
            elif not is_moved:
                return

    def take(self, message: bytes) -> Iterator[tuple[Columns, Raw | None]]:
        """The next message, whole, of whatever version."""
        if message[:2] != b"\x00\x05":
            yield from _templated(message, self.source, self.state)
            return
        _take_five(message, self._fives)
        self._waiting_fives += self._fives.counts[-1]
        if self._waiting_fives >= _TOGETHER:
            yield from self.flushed()

    def flushed(self) -> Iterator[tuple[Columns, Raw | None]]:
        """What waits."""
        self._waiting_fives = 0
        yield from _fives(self._fives)
        yield from _flushed(self.source, self.state)

    def rest(self) -> Iterator[tuple[Columns, Raw | None]]:
        """What waits at the end; what did not come is counted."""
        yield from self.flushed()
        _count_missing(self.source, self.state)


_FIVE, _NINE = 5, 9
_INTERVAL = 0x3FFF
_Known = tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]


def _known(templates: Mapping[tuple[int, int], _Template]) -> _Known:
    """Domain, number and length of templates; the length is 0 of those whose records are not taken as they are."""
    if len(templates) > _MOST_KNOWN:
        templates = {}
    names = np.array([*templates], dtype=np.int64).reshape(-1, 2)
    plain = [0 if one.scopes or one.is_events else one.length or 0 for one in templates.values()]
    return np.ascontiguousarray(names[:, 0]), np.ascontiguousarray(names[:, 1]), np.array(plain, dtype=np.int64)


def _sequences(due: Mapping[tuple[int, int], int]) -> _Known:
    """Version and domain of sequences, and the next number of each."""
    names = np.array([*due], dtype=np.int64).reshape(-1, 2)
    numbers = np.array([*due.values()], dtype=np.int64)
    return np.ascontiguousarray(names[:, 0]), np.ascontiguousarray(names[:, 1]), numbers


def _put_fives(content: NDArray[np.uint8], places: NDArray[Any], waiting: _Group) -> None:
    """Have the records of messages of NetFlow v5 wait to be decoded together."""
    from fenrask.records.kernels.messages import cut_out

    waiting.bodies.append(cut_out(content, places["at"], places["records"] * _V5_RECORD.itemsize))
    waiting.counts += places["records"].tolist()
    waiting.moments += (places["exported"] + places["parts"] / 1e9).tolist()
    waiting.uptimes += places["uptime"].tolist()
    waiting.sent += np.maximum(places["sampling"] & _INTERVAL, 1).astype(np.float64).tolist()


def _put_sets(content: NDArray[np.uint8], places: NDArray[Any], state: _State, known: _Known) -> None:
    """Have the records of sets wait for more of their templates."""
    from fenrask.records.kernels.messages import cut_out

    is_nine, names = places[0]["version"] == _NINE, [*state.templates]
    numbers, first = np.unique(places["template"], return_index=True)
    for number in numbers[np.argsort(first)].tolist():
        some = places[places["template"] == number]
        domain, set_id = names[number]
        group = state.groups.setdefault((domain, set_id), _Group(state.templates[domain, set_id], domain))
        group.bodies.append(cut_out(content, some["at"], some["records"] * known[2][number]))
        group.counts += some["records"].tolist()
        group.sent += some["exported"].astype(np.float64).tolist()
        if is_nine:
            state.clocks[domain] = _Clock(float(some["exported"][-1]), int(some["uptime"][-1]))
            group.moments += some["exported"].astype(np.float64).tolist()
            group.uptimes += some["uptime"].tolist()
        else:
            clock = state.clocks.get(domain, _NO_CLOCK)
            group.moments += [clock.moment_s] * some.size
            group.uptimes += [clock.uptime_ms] * some.size


def whole_message(content: bytes) -> bool:
    """Whether a datagram is a message of NetFlow v5, v9 or IPFIX, as long as it says."""
    if len(content) < 20:
        return False
    version, word = (int(one) for one in struct.unpack(">HH", content[:4]))
    lengths = {5: 24 + 48 * word, 9: len(content), 10: word}
    return lengths.get(version) == len(content)


def nat_events(columns: Columns, source: Source) -> Iterator[Entry]:
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


def _message(stream: _Ahead, source: Source, state: _State) -> bytes | None:
    """The next message whole; None at the end, and where what follows is none."""
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
    return bytes(head + body)


def _nine(stream: _Ahead, head: bytes, count: int, source: Source, state: _State) -> bytes | None:
    """NetFlow v9 says how many records it has, not how long it is: sets are read until the next message begins."""
    body = head + stream.read(16)
    while True:
        ahead = stream.peek(4)
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
    return body if len(body) >= 20 else None


def _take_five(message: bytes, waiting: _Group) -> None:
    _, count, uptime, seconds, nanos = struct.unpack(">HHIII", message[:16])
    waiting.bodies.append(message[24:])
    waiting.counts.append(count)
    waiting.moments.append(seconds + nanos / 1e9)
    waiting.uptimes.append(uptime)
    # The interval is meant where a mode is set: one in so many, or at random (the first two bits).
    waiting.sent.append(float(max(1, struct.unpack(">H", message[22:24])[0] & _INTERVAL)))


def _fives(waiting: _Group) -> Iterator[tuple[Columns, Raw | None]]:
    """The records of many messages of NetFlow v5 together."""
    if not waiting.counts:
        return
    rows = np.frombuffer(b"".join(waiting.bodies), dtype=_V5_RECORD)
    columns: Columns = {name: rows[name].astype(np.uint64) for name in ("source", "target", "sport", "dport")}
    columns |= {"flags": rows["flags"], "protocol": rows["protocol"].astype(np.uint64)}
    times = [_at(rows[name], waiting) for name in ("first", "last")]
    factor = np.repeat(waiting.sent, waiting.counts)
    flags, nothing = _flags(rows["flags"]), np.zeros(rows.size, dtype=np.int64)
    keys = keys_of(columns, rows.size)
    assert keys is not None
    ending = np.full(rows.size, UNKNOWN, dtype=np.uint8)
    octets = rows["octets"].astype(np.int64)
    none = np.zeros(rows.size, dtype=np.uint16)
    now_s = max(waiting.moments)
    raw = Raw(keys, times[0], np.maximum(*times), octets, nothing, flags, none, ending, factor, now_s)
    for some in (waiting.bodies, waiting.counts, waiting.moments, waiting.uptimes, waiting.sent):
        some.clear()
    yield {}, raw


def _at(uptime_ms: NDArray[Any], waiting: _Group) -> NDArray[np.float64]:
    """Times of an exporter in seconds since 1970: the nearest to each message's moment that they can mean."""
    moment, uptime = (np.repeat(some, waiting.counts) for some in (waiting.moments, waiting.uptimes))
    ahead = (uptime_ms.astype(np.int64) - uptime.astype(np.int64) + 2**31) % 2**32 - 2**31
    found: NDArray[np.float64] = moment + ahead / 1e3
    return found


class _Head(NamedTuple):
    """What a message says of itself: its version, the observation domain, and when it was sent, s since 1970."""

    version: int
    domain: int
    exported: float


def _templated(message: bytes, source: Source, state: _State) -> Iterator[tuple[Columns, Raw | None]]:
    version = struct.unpack(">H", message[:2])[0]
    if version == 10:
        exported, sequence, domain = struct.unpack(">III", message[4:16])
        begins = 16
    else:
        uptime, exported, sequence, domain = struct.unpack(">IIII", message[4:20])
        state.clocks[domain], begins = _Clock(float(exported), uptime), 20
    head, records, at = _Head(version, domain, float(exported)), 0, begins
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
            # What waits is of the templates that were in force.
            yield from _flushed(source, state)
            _learn(set_id, body, head, source, state)
        elif set_id >= 256:
            number, found = _set(set_id, body, head, source, state)
            records += number
            yield from found
    _count_gap(version, domain, sequence, records, state)


def _set(
    set_id: int, body: bytes, head: _Head, source: Source, state: _State
) -> tuple[int, list[tuple[Columns, Raw | None]]]:
    """A set of data: how many records, and what is decoded by now; most waits for more of its template."""
    domain, exported = head.domain, head.exported
    template = state.templates.get((domain, set_id))
    if template is None:
        source.unread.add("records before their template", source.name)
        return 0, []
    if template.scopes or template.is_events or template.length is None:
        found = list(_records(template, body, source))
        number = sum(n for _, n in found)
        if template.scopes:
            done = list(_flushed(source, state))
            for columns, _ in found:
                _options(columns, domain, state)
            return number, done
        if template.is_events:
            return number, [(columns, None) for columns, _ in found]
        clock = state.clocks.get(domain, _NO_CLOCK)
        group = _Group(template, domain, [], [number], [clock.moment_s], [clock.uptime_ms], [exported])
        return number, [({}, _raw(columns, n, group, source, state)) for columns, n in found]
    number = len(body) // template.length if template.length else 0
    group = state.groups.setdefault((domain, set_id), _Group(template, domain))
    clock = state.clocks.get(domain, _NO_CLOCK)
    group.bodies.append(body[: number * template.length])
    group.counts.append(number)
    group.moments.append(clock.moment_s)
    group.uptimes.append(clock.uptime_ms)
    group.sent.append(exported)
    state.waiting += number
    return number, list(_flushed(source, state)) if state.waiting >= _TOGETHER else []


_NO_CLOCK = _Clock(float("nan"), 0)


def _flushed(source: Source, state: _State) -> Iterator[tuple[Columns, Raw | None]]:
    """What waits, template by template."""
    groups, state.groups, state.waiting = state.groups, {}, 0
    for group in groups.values():
        for columns, n in _records(group.template, b"".join(group.bodies), source):
            yield {}, _raw(columns, n, group, source, state)


def _count_gap(version: int, domain: int, sequence: int, records: int, state: _State) -> None:
    """IPFIX counts data records, NetFlow v9 messages: what the numbers leave out is missing, unless it comes later."""
    key, step = (version, domain), records if version == 10 else 1
    due, after = state.next_number.get(key), (sequence + step) % 2**32
    missed = 0 if due is None else (sequence - due) % 2**32
    if 2**31 <= missed < 2**32 - _ANEW:
        # Far behind: the exporter was restarted.
        missed = 0
    elif missed >= 2**31:
        # An older message, overtaken by others.
        state.missing[key] = max(0, state.missing.get(key, 0) - step)
        return
    state.missing[key] = state.missing.get(key, 0) + missed
    state.next_number[key] = after


def _count_missing(source: Source, state: _State) -> None:
    for (version, _), number in state.missing.items():
        what = "records" if version == 10 else "messages"
        source.unread.add(f"{what} missing by their sequence", source.name, number)


def _learn(set_id: int, body: bytes, head: _Head, source: Source, state: _State) -> None:
    """Templates, options templates and withdrawals of one set."""
    version, domain = head.version, head.domain
    options = set_id in (1, 3)
    state.learned += 1
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


def _fields(body: bytes, at: int, count: int) -> tuple[list[tuple[str, int]] | None, int]:
    if count > _MOST_FIELDS:
        return None, at
    fields = []
    for _ in range(count):
        if at + 4 > len(body):
            return None, at
        element, size = struct.unpack(">HH", body[at : at + 4])
        at += 4
        names = _ELEMENTS
        if element & _ENTERPRISE:
            enterprise = struct.unpack(">I", body[at : at + 4])[0] if at + 4 <= len(body) else 0
            names, at = _REVERSED if enterprise == _REVERSE else {}, at + 4
        fields.append((names.get(element & ~_ENTERPRISE, ""), size))
    total = sum(size for _, size in fields if size != _VARIABLE)
    return (fields, at) if 0 < total <= _MOST_LENGTH or any(size == _VARIABLE for _, size in fields) else (None, at)


def _records(template: _Template, body: bytes, source: Source) -> Iterator[tuple[Columns, int]]:
    """The records of a set by element, as columns; those of varying length are cut into fixed ones first."""
    length = template.length
    if length is None:
        body, sizes = _cut(template, body, source)
        fields = [(name, size) for (name, _), size in zip(template.fields, sizes, strict=True)]
        length = sum(sizes)
    else:
        fields = template.fields
    n = len(body) // length if length else 0
    if not n:
        return
    from fenrask.records.kernels.messages import numbers_at

    raw = np.frombuffer(body, dtype=np.uint8, count=n * length)
    columns: Columns = {}
    at = 0
    for name, size in fields:
        if name and name not in columns and size in _SIZES.get(name, range(1, 9)):
            wide = size > _MOST_NUMBER
            columns[name] = raw.reshape(n, length)[:, at : at + size] if wide else numbers_at(raw, length, at, size)
        at += size
    yield columns, n


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
    """What an options record tells: how many packets stand for one; when the exporter began."""
    if "boot_ms" in columns:
        state.clocks[domain] = _Clock(float(columns["boot_ms"][0]) / 1e3, 0)
    factors = _factors(columns)
    if factors is not None:
        samplers = columns["sampler"].tolist() if "sampler" in columns else [-1] * factors.size
        state.factors |= {(domain, int(one)): float(factor) for one, factor in zip(samplers, factors, strict=True)}


def _factors(columns: Columns) -> NDArray[np.float64] | None:
    """How many packets stand for each that was looked at, by what a record says of it (RFC 5477); None: nothing."""
    found: NDArray[np.float64] | None = None
    if "of_size" in columns and "of_population" in columns:
        found = columns["of_population"] / np.maximum(columns["of_size"].astype(np.float64), 1)
    elif "packet_interval" in columns and "packet_space" in columns:
        looked = np.maximum(columns["packet_interval"].astype(np.float64), 1)
        found = (looked + columns["packet_space"]) / looked
    else:
        name = next((one for one in ("random_interval", "interval") if one in columns), "")
        found = columns[name].astype(np.float64) if name else None
    return None if found is None else np.maximum(found, 1.0)


def _sampled(columns: Columns, n: int, domain: int, state: _State) -> NDArray[np.float64]:
    """The same of each record of data: as it says itself, or as options say of its sampler or of all."""
    own = _factors(columns)
    if own is not None:
        return own
    if not state.factors:
        return np.ones(n)
    whole = state.factors.get((domain, -1))
    if "sampler" not in columns:
        each = [factor for (of, _), factor in state.factors.items() if of == domain]
        return np.full(n, whole or max(each, default=1.0))
    numbers, place = np.unique(columns["sampler"], return_inverse=True)
    known = [state.factors.get((domain, int(one)), whole or 1.0) for one in numbers]
    found: NDArray[np.float64] = np.array(known)[place]
    return found


def _raw(columns: Columns, n: int, group: _Group, source: Source, state: _State) -> Raw | None:
    """The columns of one template as connections; None, and counted, where they have no time or no addresses."""
    if "boot_ms" in columns:
        group.moments = [float(columns["boot_ms"][0]) / 1e3] * len(group.counts)
        group.uptimes = [0] * len(group.counts)
    start, end = _times(columns, group)
    keys = keys_of(columns, n)
    if start is None or end is None or keys is None:
        lacking = "a time" if keys is not None else "both addresses"
        source.unread.add(f"records without {lacking} that is known here", source.name, n)
        return None
    nothing, none = np.zeros(n, dtype=np.int64), np.zeros(n, dtype=np.uint16)
    flags = _flags(columns["flags"]) if "flags" in columns else none
    back_flags = _flags(columns["flags_back"]) if "flags_back" in columns else none
    ending = np.full(n, UNKNOWN, dtype=np.uint8)
    for reason, meaning in _REASONS.items() if "reason" in columns else ():
        ending[columns["reason"] == reason] = meaning
    octets = next((columns[one] for one in ("octets", "octets_total", "octets_out") if one in columns), nothing)
    back = columns.get("octets_back", nothing)
    factor = _sampled(columns, n, group.domain, state)
    both = (octets.astype(np.int64), back.astype(np.int64))
    now_s = max(group.sent)
    return Raw(keys, start, np.maximum(start, end), *both, flags, back_flags, ending, factor, now_s)


def _flags(stated: NDArray[Any]) -> NDArray[np.uint16]:
    """The flags of TCP as a record tells them."""
    found: NDArray[np.uint16] = stated.astype(np.uint16) & np.uint16(0xFF) | np.uint16(FLAGGED)
    return found


def _times(columns: Columns, group: _Group) -> tuple[NDArray[np.float64] | None, NDArray[np.float64] | None]:
    """When records begin and end; from one of these and how long they lasted where the other is not said."""
    start, end = _time(columns, "first", group), _time(columns, "last", group)
    units = {"lasted_us": 1e6, "lasted_ms": 1e3}
    lasted = next((columns[name] / unit for name, unit in units.items() if name in columns), None)
    if lasted is not None and start is not None and end is None:
        return start, start + lasted
    if lasted is not None and end is not None and start is None:
        return end - lasted, end
    return start, end


def _time(columns: Columns, which: str, group: _Group) -> NDArray[np.float64] | None:
    if f"{which}_ntp" in columns:
        whole = columns[f"{which}_ntp"]
        seconds, part = whole >> np.uint64(32), whole & np.uint64(0xFFFFFFFF)
        # The era that begins in 2036 has the first bit of its seconds unset.
        era = np.where(seconds < 2**31, 2.0**32, 0.0)
        found: NDArray[np.float64] = seconds.astype(np.float64) + era - _NTP_S + part / 2.0**32
        return found
    if f"{which}_ms" in columns:
        return columns[f"{which}_ms"].astype(np.float64) / 1e3
    if f"{which}_s" in columns:
        return columns[f"{which}_s"].astype(np.float64)
    if f"{which}_ago_us" in columns:
        return np.repeat(group.sent, group.counts) - columns[f"{which}_ago_us"].astype(np.float64) / 1e6
    if f"{which}_up" in columns and not np.isnan(group.moments).any():
        return _at(columns[f"{which}_up"], group)
    return None


def _addresses(columns: Columns, which: str, n: int) -> Addresses | None:
    if which in columns:
        return Addresses(columns[which].astype(np.uint32))
    if f"{which}6" in columns:
        raw = columns[f"{which}6"]
        numbers = tuple((row, int.from_bytes(raw[row].tobytes(), "big")) for row in range(n))
        return Addresses(np.zeros(n, dtype=np.uint32), numbers)
    return None


EXPORTED = Reader("NetFlow v5, v9 or IPFIX", _knows, _read, divides=True)
