"""Linux connection tracking as XML (`conntrack -L -o xml`, `-E -o xml,timestamp`): one `flow` element after the other.

Elements are cut out by their tags and never handed to a parser that resolves entities: a file cannot grow while it is
read.
"""

import re
from collections.abc import Iterator
from datetime import UTC, datetime

from fenrask.records.batch import Batch
from fenrask.records.readers.contract import Reader, Source
from fenrask.records.readers.entries import Entry, Pairing

__all__ = ["MARKED", "marked_entries"]

_META = re.compile(rb'<meta direction="(original|reply|independent)">(.*?)</meta>', re.DOTALL)
_TYPE = re.compile(rb'<flow(?: type="(new|update|destroy)")?')
_NUMBER = re.compile(rb'<layer4 protonum="(\d{1,3})"')
_WHEN = re.compile(rb"<when>(.*?)</when>", re.DOTALL)
_END = b"</flow>"
_MOST = 1 << 20
"""Bytes of one element: what is longer is none."""


def marked_entries(source: Source) -> Iterator[Entry]:
    """The elements that are entries; those that are not go to what is not read."""
    waiting, offset = b"", 0
    while True:
        part = source.stream.read(1 << 16)
        *whole, waiting = (waiting + part).split(_END)
        for text in whole:
            where = f"{source.name}, byte {offset}"
            offset += len(text) + len(_END)
            entry = _entry(text)
            if entry is None:
                source.unread.add("no entry of connection tracking", where)
            else:
                yield entry
        if len(waiting) > _MOST:
            source.unread.add("an element of over a megabyte", f"{source.name}, byte {offset}")
            offset, waiting = offset + len(waiting), b""
        if not part:
            if b"<flow" in waiting:
                source.unread.add("an element cut short", f"{source.name}, byte {offset}")
            return


def _entry(text: bytes) -> Entry | None:
    kind, meta = _TYPE.search(text), dict(_META.findall(text))
    original, reply, apart = (meta.get(name, b"") for name in (b"original", b"reply", b"independent"))
    number = _NUMBER.search(original)
    source, target = _text(original, b"src"), _text(original, b"dst")
    if kind is None or number is None or not source or not target:
        return None
    event = (kind[1] or b"").upper().decode()
    left, lasted = _text(apart, b"timeout"), _text(apart, b"deltatime")
    return Entry(
        _time(text), event, int(number[1]), source, target, _count(original, b"sport"), _count(original, b"dport"),
        _text(reply, b"dst"), _count(reply, b"dport"), _text(apart, b"state").decode("ascii", errors="replace"),
        int(left) if left.isdigit() else None, (_count(original, b"bytes"), _count(reply, b"bytes")),
        float(lasted) if lasted.isdigit() else None, b"<unreplied/>" not in text, b"<assured/>" in text,
    )  # fmt: skip


def _text(inside: bytes, name: bytes) -> bytes:
    found = re.search(b"<" + name + b">([^<]{1,64})</" + name + b">", inside)
    return found[1] if found else b""


def _count(inside: bytes, name: bytes) -> int:
    text = _text(inside, name)
    return int(text) if text.isdigit() and len(text) < 19 else 0


def _time(text: bytes) -> float | None:
    """When the event was, to the second, in the clock that wrote it; it says no zone and is taken as UTC."""
    when = _WHEN.search(text)
    if when is None:
        return None
    year, month, day, hour, minute, second = (
        _count(when[1], name) for name in (b"year", b"month", b"day", b"hour", b"min", b"sec")
    )
    try:
        return datetime(year, month, day, hour, minute, second, tzinfo=UTC).timestamp()
    except (ValueError, OverflowError):
        return None


def _read(source: Source) -> Iterator[Batch]:
    pairing = Pairing(source)
    yield from pairing.batches(marked_entries(source))
    yield from pairing.rest()


MARKED = Reader("Linux connection tracking (XML)", lambda head: head[:5] == b"<?xml" and b"<conntrack>" in head, _read)
