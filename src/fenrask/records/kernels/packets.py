"""Compiled loops over captured packets: where each is in the file, what it is, and which connection it belongs to."""

import numpy as np

from fenrask.compiling import FEW, compiled, compiled_beyond
from fenrask.records.kernels.ends import STREAM_S, bucket, place_of, put_in, taken_out, turned

__all__ = [
    "ACKED", "ANSWERED", "NEW", "CONNECTION", "FIN_BACK", "FIN_OUT", "REPLIED", "RST_BACK", "RST_OUT", "SYN",
    "classic", "decoded", "enhanced", "quiet_s", "tracked",
]  # fmt: skip

_FIN, _SYN, _RST, _ACK = 1, 2, 4, 16
_TCP, _UDP = 6, 17
NEW, SYN, ANSWERED, REPLIED, ACKED, FIN_OUT, FIN_BACK, RST_OUT, RST_BACK = (1 << n for n in range(9))
"""What was seen of a connection: its beginning; its SYN; anything from the other end, and what was no RST; anything but
SYNs from who began it; and by whom it was closed or reset."""
_ENDED = FIN_OUT | FIN_BACK
CONNECTION = np.dtype(
    [
        ("key", np.uint64, (5,)),
        ("start", np.float64), ("last", np.float64), ("out", np.int64), ("back", np.int64),
        ("number", np.uint32), ("seen", np.uint16), ("used", np.uint8),
    ]
)  # fmt: skip
"""A connection as it is followed; `number`: the sequence number of its SYN (RFC 9293)."""
_ENDED_S = 60.0
"""How long after its end packets may come that belong to a connection."""
_ETHERNET, _COOKED, _COOKED_2, _LOOPBACK = 1, 113, 276, 0
_TAGS = (0x8100, 0x88A8, 0x9100)
_MOST_TAGS, _MOST_HEADERS = 4, 8
_AT_ONCE = 1 << 16
"""Packets of pcapng that are looked at before what tells of interfaces is looked for again."""


@compiled
def _word(content, at, size, big):
    value = np.uint64(0)
    for n in range(size):
        part = np.uint64(content[at + n] if big else content[at + size - 1 - n])
        value = value << np.uint64(8) | part
    return value


@compiled_beyond(FEW)
def classic(content, big, unit, most):
    """Places, lengths and times of the packets that are whole; where the next begins; whether it is longer than any.

    content: bytes from the beginning of a packet's head, shape (n_bytes,); unit: ticks of the second word in a second.
    """
    room = content.size // 16 + 1
    places, sizes, times = np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room, np.float64)
    n, at, wrong = 0, 0, False
    while at + 16 <= content.size:
        kept = np.int64(_word(content, at + 8, 4, big))
        if kept > most:
            wrong = True
            break
        if at + 16 + kept > content.size:
            break
        times[n] = float(_word(content, at, 4, big)) + float(_word(content, at + 4, 4, big)) / unit
        places[n], sizes[n] = at + 16, kept
        n, at = n + 1, at + 16 + kept
    return places[:n], sizes[:n], times[:n], at, wrong


@compiled_beyond(FEW)
def enhanced(content, big, links, units, most):
    """The same of some of pcapng's packet blocks, with the link type of each; ends before one that tells of interfaces.

    links, units: link type and seconds of a tick of each interface, shape (n_interfaces,).
    """
    room = min(content.size // 12 + 1, _AT_ONCE)
    places, sizes, times = np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room, np.float64)
    kinds = np.empty(room, np.int64)
    n, at, wrong = 0, 0, False
    while at + 12 <= content.size and n < room:
        kind, length = _word(content, at, 4, big), np.int64(_word(content, at + 4, 4, big))
        if kind == 1 or kind == 0x0A0D0D0A:
            break
        if length < 12 or length > most:
            wrong = True
            break
        if at + length > content.size:
            break
        if kind == 6 and length >= 32:
            interface, kept = np.int64(_word(content, at + 8, 4, big)), np.int64(_word(content, at + 20, 4, big))
            if interface < links.size and kept <= length - 32:
                ticks = _word(content, at + 12, 4, big) << np.uint64(32) | _word(content, at + 16, 4, big)
                times[n], kinds[n] = float(ticks) * units[interface], links[interface]
                places[n], sizes[n] = at + 28, kept
                n += 1
        at += length
    return places[:n], sizes[:n], times[:n], kinds[:n], at, wrong


@compiled
def _network(content, at, end, link):
    """Where a frame's IP packet begins; -1 for none."""
    if link in (_ETHERNET, _COOKED, _COOKED_2):
        place = at + (12 if link == _ETHERNET else 14 if link == _COOKED else 0)
        head = at + (14 if link == _ETHERNET else 16 if link == _COOKED else 20)
        if head > end:
            return -1
        kind = np.int64(_word(content, place, 2, True))
        for _ in range(_MOST_TAGS):
            if kind != _TAGS[0] and kind != _TAGS[1] and kind != _TAGS[2]:
                break
            if head + 4 > end:
                return -1
            kind = np.int64(_word(content, head + 2, 2, True))
            head += 4
        return head if kind == 0x0800 or kind == 0x86DD else -1
    if link in (_LOOPBACK, 108):
        return at + 4
    return at if link in (101, 12, 14, 228, 229) else -1


@compiled_beyond(FEW)
def decoded(content, places, sizes, links):
    """Keys, flags, bytes and sequence numbers of packets, and where their TCP or UDP begins; keys[:, 4] is 0 of others.

    Shapes (n_packets, 5) and (n_packets,). A fragment but the first is none.
    """
    n = places.size
    begins = np.zeros(n, np.int64)
    keys, flags = np.zeros((n, 5), np.uint64), np.zeros(n, np.uint8)
    octets, numbers = np.zeros(n, np.int64), np.zeros(n, np.uint32)
    for row in range(n):
        at, end = places[row], places[row] + sizes[row]
        at = _network(content, at, end, links[row])
        if at < 0 or at + 20 > end:
            continue
        version, protocol, inner = content[at] >> 4, 0, 0
        if version == 4:
            if _word(content, at + 6, 2, True) & np.uint64(0x1FFF):
                continue
            octets[row], protocol = np.int64(_word(content, at + 2, 2, True)), np.int64(content[at + 9])
            inner = at + (content[at] & 15) * 4
            keys[row, 1], keys[row, 3] = _word(content, at + 12, 4, True), _word(content, at + 16, 4, True)
        elif version == 6 and at + 40 <= end:
            octets[row], protocol = 40 + np.int64(_word(content, at + 4, 2, True)), np.int64(content[at + 6])
            inner = at + 40
            for _ in range(_MOST_HEADERS):
                # Extension headers (RFC 8200, section 4): hop by hop, routing, destination options; fragments.
                if protocol == 0 or protocol == 43 or protocol == 60:
                    if inner + 8 > end:
                        break
                    protocol, inner = np.int64(content[inner]), inner + 8 + np.int64(content[inner + 1]) * 8
                elif protocol == 44 and inner + 8 <= end:
                    if _word(content, inner + 2, 2, True) & np.uint64(0xFFF8):
                        protocol = 255
                        break
                    protocol, inner = np.int64(content[inner]), inner + 8
                else:
                    break
            for part in range(4):
                keys[row, part] = _word(content, at + 8 + 8 * part, 8, True)
        if (protocol != _TCP and protocol != _UDP) or inner + (14 if protocol == _TCP else 4) > end:
            continue
        if protocol == _TCP:
            flags[row], numbers[row] = content[inner + 13], np.uint32(_word(content, inner + 4, 4, True))
        ports = _word(content, inner, 4, True)
        keys[row, 4] = np.uint64(version) << np.uint64(40) | np.uint64(protocol) << np.uint64(32) | ports
        begins[row] = inner
    return keys, flags, octets, numbers, begins


@compiled
def _quiet_s(connection, quiet):
    """How long a connection may be silent and go on, s; quiet: see `quiet_s`."""
    seen = connection["seen"]
    if connection["key"][4] >> np.uint64(32) & np.uint64(0xFF) == np.uint64(_UDP):
        if seen & ANSWERED == 0:
            return quiet[2]
        return quiet[4] if connection["last"] - connection["start"] > STREAM_S else quiet[3]
    if _is_over(seen):
        return _ENDED_S
    return quiet[1] if seen & _ENDED else quiet[0]


@compiled
def _is_over(seen):
    return seen & (RST_OUT | RST_BACK) != 0 or seen & _ENDED == _ENDED


@compiled
def quiet_s(some, quiet):
    """How long connections may be silent and go on, s, shape (n_connections,).

    quiet: of TCP, closed by none or by one end, of UDP one way, answered, streaming, shape (5,).
    """
    found = np.empty(some.size, np.float64)
    for row in range(some.size):
        found[row] = _quiet_s(some[row], quiet)
    return found


@compiled
def _goes_on(connection, time, flags, number, is_out, quiet):
    """Whether a packet belongs to a connection that has its ends."""
    seen = connection["seen"]
    if time - connection["last"] > _quiet_s(connection, quiet):
        return False
    if flags & _SYN == 0 or flags & _ACK:
        return True
    if _is_over(seen):
        return False
    # The same SYN again is sent for want of an answer; one with another number is of a new connection.
    return not (is_out and seen & REPLIED and seen & SYN and number != connection["number"])


@compiled_beyond(FEW)
def tracked(keys, flags, octets, numbers, times, first, slots, heads, nexts, free, done, since_s, quiet):
    """Take packets into the connections that are followed; those that ended go to `done`.

    Starts with packet `first`, ends where no slot is free. Returned: the next packet, the first free slot, how many are
    done, and how many packets belong to nothing. since_s: when the capture began; what may have been open then, and
    silent since, is taken to be of who sends from the higher port.
    """
    finished, strays = 0, 0
    for row in range(first, times.size):
        ports = keys[row, 4]
        if ports == 0:
            continue
        time, what = times[row], flags[row]
        is_tcp = ports >> np.uint64(32) & np.uint64(0xFF) == np.uint64(_TCP)
        back = turned(ports)
        at = bucket(keys[row], heads.size)
        place, before, is_out = place_of(slots, heads, nexts, keys[row], at)
        if place >= 0 and not _goes_on(slots[place], time, what, numbers[row], is_out, quiet):
            done[finished] = slots[place]
            finished += 1
            free, place = taken_out(slots, heads, nexts, place, before, at, free), -1
        if place < 0:
            if is_tcp and what & _RST:
                strays += 1
                continue
            if free < 0:
                return row, free, finished, strays
            is_syn = is_tcp and what & _SYN != 0
            is_out = what & _ACK == 0 if is_syn else True
            is_new = is_syn or time - since_s > (quiet[0] if is_tcp else quiet[2])
            if not is_new:
                is_out = ports >> np.uint64(16) & np.uint64(0xFFFF) >= ports & np.uint64(0xFFFF)
            place, free = free, put_in(slots, heads, nexts, at, free)
            for part in range(2):
                slots[place]["key"][part] = keys[row, part if is_out else part + 2]
                slots[place]["key"][part + 2] = keys[row, part + 2 if is_out else part]
            slots[place]["key"][4] = ports if is_out else back
            slots[place]["start"] = time
            slots[place]["out"], slots[place]["back"] = 0, 0
            slots[place]["number"] = numbers[row]
            slots[place]["seen"] = (NEW if is_new or not is_tcp else 0) | (SYN if is_syn else 0)
            slots[place]["last"] = time
        seen = slots[place]["seen"]
        if seen & (RST_OUT | RST_BACK) == 0:
            # What comes after a reset belongs to it, and changes nothing.
            slots[place]["last"] = max(slots[place]["last"], time)
        if is_out:
            slots[place]["out"] += octets[row]
            if not what & _SYN:
                seen |= ACKED
            if is_tcp and what & _FIN:
                seen |= FIN_OUT
            if is_tcp and what & _RST:
                seen |= RST_OUT
        else:
            slots[place]["back"] += octets[row]
            seen |= ANSWERED
            if is_tcp and what & _FIN:
                seen |= FIN_BACK
            if is_tcp and what & _RST:
                seen |= RST_BACK
            else:
                seen |= REPLIED
        slots[place]["seen"] = seen
    return times.size, free, finished, strays
