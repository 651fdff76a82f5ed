"""Compiled: connections by their two ends, in buckets of linked slots.

A key is five numbers: both ends' addresses, high and low; and IP version (from bit 40), protocol (from 32), ports of
the first end (from 16) and of the second.
"""

import numpy as np

from fenrask.compiling import FEW, compiled, compiled_beyond
from fenrask.records.batch import (
    CLOSED,
    FLAGGED,
    HALF_CLOSED,
    REJECTED,
    RESET,
    UDP_ANSWERED,
    UDP_STREAMING,
    UNANSWERED,
)

__all__ = [
    "STREAM_S", "bucket", "linked", "place_of", "put_in", "shares_of", "taken_out", "tcp_ending", "tcp_endings",
    "turned", "udp_ending", "udp_endings",
]  # fmt: skip

_FIN, _SYN, _RST, _ACK = 1, 2, 4, 16
STREAM_S = 2.0
"""Longer exchanges of UDP are streams to the Linux kernel (nf_conntrack_udp_timeout_stream)."""


@compiled_beyond(FEW)
def turned(ports):
    """Version, protocol and ports with the ports of both ends exchanged."""
    low, high = ports & np.uint64(0xFFFF), ports >> np.uint64(16) & np.uint64(0xFFFF)
    return ports >> np.uint64(32) << np.uint64(32) | low << np.uint64(16) | high


@compiled
def _is_same(key, other, source, target):
    """Whether the first end of a key is what another one has at `source`, and its second what that has at `target`."""
    return (
        key[1] == other[source + 1] and key[3] == other[target + 1]
        and key[0] == other[source] and key[2] == other[target]
    )  # fmt: skip


@compiled
def bucket(key, size):
    """The same for both directions of a connection."""
    ports = key[4]
    ends = (key[0] ^ key[2]) * np.uint64(0x9E3779B97F4A7C15) ^ (key[1] + key[3]) * np.uint64(0xC2B2AE3D27D4EB4F)
    both = (ports & np.uint64(0xFFFF)) * (ports >> np.uint64(16) & np.uint64(0xFFFF)) + (ports >> np.uint64(32))
    mixed = (ends ^ both) * np.uint64(0x165667B19E3779F9)
    return np.int64((mixed ^ mixed >> np.uint64(29)) & np.uint64(size - 1))


@compiled_beyond(FEW)
def shares_of(keys, shares):
    """The share of each key, from 0 to `shares` - 1, shape (n_keys,): the same for both directions of a connection."""
    found = np.empty(keys.shape[0], np.int64)
    for row in range(keys.shape[0]):
        # Not by what tells buckets apart, so that each share fills all of them.
        found[row] = bucket(keys[row], 1 << 30) // 65536 % shares
    return found


@compiled_beyond(FEW)
def linked(slots, heads, nexts):
    """Put all connections in use into their buckets anew; the first unused slot, from which the unused are linked."""
    heads[:] = -1
    free = -1
    for place in range(slots.size - 1, -1, -1):
        if slots[place]["used"]:
            which = bucket(slots[place]["key"], heads.size)
            nexts[place] = heads[which]
            heads[which] = place
        else:
            nexts[place] = free
            free = place
    return free


@compiled
def place_of(slots, heads, nexts, key, at):
    """The slot with a key's ends in a bucket, the one before it, and whether it has them in this order; -1 for none."""
    back = turned(key[4])
    place, before = heads[at], -1
    while place >= 0:
        own = slots[place]["key"]
        if own[4] == key[4] and _is_same(own, key, 0, 2):
            return place, before, True
        if own[4] == back and _is_same(own, key, 2, 0):
            return place, before, False
        place, before = nexts[place], place
    return -1, -1, True


@compiled
def taken_out(slots, heads, nexts, place, before, at, free):
    """Free a slot of a bucket; the first free slot after that."""
    if before < 0:
        heads[at] = nexts[place]
    else:
        nexts[before] = nexts[place]
    slots[place]["used"] = 0
    nexts[place] = free
    return place


@compiled
def put_in(slots, heads, nexts, at, free):
    """Use the first free slot in a bucket; the first free slot after that."""
    after = nexts[free]
    nexts[free] = heads[at]
    heads[at] = free
    slots[free]["used"] = 1
    return after


@compiled
def tcp_ending(out, back, answered, rest):
    """How a connection of TCP ended, by the flags of both directions; `rest` where these do not say.

    out, back: with `FLAGGED`; 0 for a direction of which nothing was seen, whose silence says nothing. answered:
    whether anything came back. rest: the ending of what has neither FIN nor RST, and is no SYN without an answer.
    """
    alone = out & FLAGGED != 0 and out & (_SYN | _ACK | _FIN | _RST) == _SYN
    fin, fin_back = out & _FIN != 0, back & _FIN != 0
    if alone and answered and back & (_SYN | _FIN) == 0:
        return REJECTED
    if (out | back) & _RST:
        return RESET
    if (fin and fin_back) or (fin and back == 0) or (fin_back and out == 0):
        return CLOSED
    if fin or fin_back:
        return HALF_CLOSED
    return UNANSWERED if alone and not answered else rest


@compiled_beyond(FEW)
def tcp_endings(out, back, answered, rest):
    """The same of many, shape (n_connections,)."""
    found = np.empty(out.size, np.int64)
    for row in range(out.size):
        found[row] = tcp_ending(out[row], back[row], answered[row], rest[row])
    return found


@compiled
def udp_ending(lasted_s, answered, otherwise):
    """How an exchange of UDP ended; otherwise: what it is where nothing was seen to come back."""
    if not answered:
        return otherwise
    return UDP_STREAMING if lasted_s > STREAM_S else UDP_ANSWERED


@compiled_beyond(FEW)
def udp_endings(lasted_s, answered, otherwise):
    """The same of many, shape (n_exchanges,)."""
    found = np.empty(lasted_s.size, np.int64)
    for row in range(lasted_s.size):
        found[row] = udp_ending(lasted_s[row], answered[row], otherwise)
    return found
