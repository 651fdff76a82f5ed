"""Prefixes of a routing table dump in MRT format (RFC 6396): TABLE_DUMP and TABLE_DUMP_V2, unicast."""

import struct
from collections.abc import Iterator
from ipaddress import IPv4Network, IPv6Network

from fenrask.prefixes import Prefix

__all__ = ["mrt_prefixes"]

_HEADER = struct.Struct("!IHHI")
_TABLE_DUMP, _TABLE_DUMP_V2 = 12, 13
_RIB_FAMILY = {2: 4, 4: 6, 8: 4, 10: 6}
"""The IP version of TABLE_DUMP_V2's unicast subtypes, those with path identifiers (RFC 8050) included."""


def mrt_prefixes(content: bytes) -> tuple[Prefix, ...]:
    """The distinct prefixes of a dump, in its order; records of other kinds are passed over.

    ValueError, with the offset, where a record is cut short or is no prefix.
    """
    return tuple(dict.fromkeys(_prefixes(content)))


def _prefixes(content: bytes) -> Iterator[Prefix]:
    at = 0
    while at < len(content):
        if len(content) - at < _HEADER.size:
            raise ValueError(f"a record cut short at byte {at}")
        _, kind, subtype, length = _HEADER.unpack_from(content, at)
        body = content[at + _HEADER.size : at + _HEADER.size + length]
        if len(body) < length:
            raise ValueError(f"a record cut short at byte {at}")
        try:
            if kind == _TABLE_DUMP_V2 and subtype in _RIB_FAMILY:
                yield _prefix(_RIB_FAMILY[subtype], body[5:], body[4])
            elif kind == _TABLE_DUMP and subtype in (1, 2):
                size = 4 if subtype == 1 else 16
                yield _prefix(4 if subtype == 1 else 6, body[4 : 4 + size], body[4 + size])
        except (IndexError, ValueError):
            raise ValueError(f"no prefix in the record at byte {at}") from None
        at += _HEADER.size + length


def _prefix(version: int, octets: bytes, length: int) -> Prefix:
    size = 4 if version == 4 else 16
    number = int.from_bytes(octets[: (length + 7) // 8].ljust(size, b"\0"), "big")
    if len(octets) < (length + 7) // 8:
        raise ValueError
    return IPv4Network((number, length)) if version == 4 else IPv6Network((number, length))
