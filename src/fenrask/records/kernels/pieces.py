"""Compiled: records of an exporter as connections: pieces of one, and both directions, together; doubled ones once."""

import numpy as np

from fenrask.compiling import FEW, compiled, compiled_beyond
from fenrask.records.batch import (
    CLOSED,
    CONTINUED,
    FLAGGED,
    HALF_CLOSED,
    IDLE,
    OPEN,
    REJECTED,
    RESET,
    UNANSWERED,
    UNKNOWN,
)
from fenrask.records.kernels.ends import (
    bucket,
    place_of,
    put_in,
    taken_out,
    tcp_ending,
    turned,
    udp_ending,
)

__all__ = ["COLUMNS", "CONNECTION", "NEWEST", "gathered", "over", "put_out"]

_FIN, _SYN, _RST, _ACK = 1, 2, 4, 16
_TCP, _UDP = 6, 17
_NEWEST = 8
CONNECTION = np.dtype(
    [
        ("key", np.uint64, (5,)), ("start", np.float64), ("end", np.float64), ("out", np.int64), ("back", np.int64),
        ("flags", np.uint16), ("back_flags", np.uint16), ("ending", np.uint8), ("both", np.uint8), ("used", np.uint8),
    ],
    align=True,
)  # fmt: skip
"""A connection so far; `ending`: of its newest record; `both`: 1 where a record of the other direction came, 2 where
one told both."""
NEWEST = np.dtype(
    [
        ("seen", np.int64), ("at", np.float64, (_NEWEST,)), ("lasted", np.float64, (_NEWEST,)),
        ("octets", np.int64, (_NEWEST,)), ("is_back", np.uint8, (_NEWEST,)),
    ],
    align=True,
)  # fmt: skip
"""Beside it: how many records there were, and what the newest of them said."""
_SKEW_S, _SAME_S = 2.0, 0.002
"""By how much two exporters' clocks may differ, and the durations that they give to one flow."""
_LATE_S = 60.0
"""How much later than its like a record of the other direction may come."""


@compiled
def _is_over(connection):
    """Whether it was seen to end."""
    flags = connection["flags"] | connection["back_flags"]
    closed = connection["flags"] & _FIN != 0 and (connection["back_flags"] & _FIN != 0 or not connection["both"])
    return (
        flags & _RST != 0
        or closed
        or connection["ending"] == CLOSED
        or connection["ending"] == RESET
        or connection["ending"] == REJECTED
    )


@compiled
def _quiet_s(connection, quiet):
    """How long it may be silent and go on, s; quiet: as of packets."""
    if connection["key"][4] >> np.uint64(32) & np.uint64(0xFF) == np.uint64(_TCP):
        return quiet[0]
    if not connection["both"] and connection["back"] == 0:
        return quiet[2]
    return max(quiet[3], quiet[4])


@compiled_beyond(FEW)
def over(slots, now, quiet, old):
    """Which connections are over by a time, so that nothing more of them comes; filled into `old`, bool."""
    for place in range(slots.size):
        connection = slots[place]
        waits = _LATE_S if _is_over(connection) else _LATE_S + _quiet_s(connection, quiet)
        old[place] = connection["used"] == 1 and now - connection["end"] > waits


@compiled
def _goes_on(connection, start, end, flags, is_out, quiet):
    """Whether a record belongs to a connection that has its ends."""
    gap = max(start - connection["end"], connection["start"] - end, 0.0)
    if not is_out:
        # The other direction: its record is of the same time, or a later piece.
        return gap <= (_SKEW_S if _is_over(connection) else _quiet_s(connection, quiet))
    if gap > _quiet_s(connection, quiet) or (_is_over(connection) and start > connection["end"]):
        return False
    if connection["key"][4] >> np.uint64(32) & np.uint64(0xFF) != np.uint64(_TCP):
        return True
    if connection["ending"] == CONTINUED:
        return True
    if not flags & FLAGGED:
        return False
    # The later piece has no SYN; or it is the same SYN, sent again.
    alone = _SYN | FLAGGED
    later = flags if start >= connection["start"] else connection["flags"]
    return not later & _SYN or (flags == alone and connection["flags"] == alone and not connection["both"])


@compiled
def _is_double(held, start, end, octets, is_out):
    """Whether it is one of the newest records once more, from another exporter, or from another file."""
    for n in range(min(held["seen"], _NEWEST)):
        if (
            (held["is_back"][n] == 0) == is_out and held["octets"][n] == octets
            and abs(held["at"][n] - start) <= _SKEW_S and abs(held["lasted"][n] - (end - start)) <= _SAME_S
        ):  # fmt: skip
            return True
    return False


@compiled_beyond(FEW)
def gathered(
    keys, start, end, out, back, flags, back_flags, ending, first, slots, newest, heads, nexts, free, quiet, done
):
    """Take records into connections; what another one at the same ends follows goes to `done`.

    Starts with record `first`, ends where no slot is free. Returned: the next record, the first free slot, how many are
    done, how many records were of the other direction, and how many were there already.
    """
    finished, others, doubles = 0, 0, 0
    for row in range(first, start.size):
        at = bucket(keys[row], heads.size)
        place, before, is_out = place_of(slots, heads, nexts, keys[row], at)
        if place >= 0 and _is_double(newest[place], start[row], end[row], out[row], is_out):
            doubles += 1
            continue
        if place >= 0 and not _goes_on(slots[place], start[row], end[row], flags[row], is_out, quiet):
            done[finished] = slots[place]
            finished += 1
            free, place = taken_out(slots, heads, nexts, place, before, at, free), -1
        if place < 0:
            if free < 0:
                return row, free, finished, others, doubles
            place, free = free, put_in(slots, heads, nexts, at, free)
            for part in range(5):
                slots[place]["key"][part] = keys[row, part]
            slots[place]["start"], slots[place]["end"] = start[row], end[row]
            slots[place]["out"], slots[place]["back"] = out[row], back[row]
            slots[place]["flags"], slots[place]["back_flags"] = flags[row], back_flags[row]
            slots[place]["ending"] = ending[row]
            slots[place]["both"] = 2 if back[row] > 0 or back_flags[row] & 0xFF else 0
            newest[place]["seen"] = 0
        else:
            connection = slots[place]
            if is_out:
                connection["out"] += out[row]
                connection["back"] += back[row]
                connection["flags"] |= flags[row]
                connection["back_flags"] |= back_flags[row]
                if end[row] >= connection["end"]:
                    connection["ending"] = ending[row]
            else:
                others += 1
                connection["both"] = max(connection["both"], 1)
                connection["back"] += out[row]
                connection["back_flags"] |= flags[row]
            connection["start"], connection["end"] = (
                min(connection["start"], start[row]),
                max(connection["end"], end[row]),
            )
        said = newest[place]
        which = said["seen"] % _NEWEST
        said["seen"] += 1
        said["at"][which], said["lasted"][which] = start[row], end[row] - start[row]
        said["octets"][which], said["is_back"][which] = out[row], 0 if is_out else 1
    return start.size, free, finished, others, doubles


COLUMNS = (
    np.float64, np.float64, np.uint32, np.uint32, np.uint16, np.uint16, np.uint8, np.int64, np.int64, np.uint8, np.bool_
)  # fmt: skip
"""Of what `put_out` fills: begin, end, both addresses (of IPv4), both ports, protocol, bytes either way, ending, and
whether the beginning was seen."""


@compiled_beyond(FEW)
def put_out(
    done, order, now_s, is_last, quiet_s, one_way,
    start, end, source, target, source_port, target_port, protocol, out, back, ending, is_new,
):  # fmt: skip
    """Fill columns with connections in an order, from who opened them: of two records the one from the higher port.

    is_last: whether nothing else comes, so that what is not silent for as long as `quiet_s` may be open at `now_s`.
    one_way: the ending of UDP of which nothing was seen to come back. Returned: how many are of IPv6.
    """
    six = 0
    for row in range(order.size):
        connection = done[order[row]]
        ports = connection["key"][4]
        is_turned = connection["both"] == 1 and ports >> np.uint64(16) & np.uint64(0xFFFF) < ports & np.uint64(0xFFFF)
        octets, octets_back, flags, back_flags = (
            connection["out"],
            connection["back"],
            connection["flags"],
            connection["back_flags"],
        )
        near, far = connection["key"][1], connection["key"][3]
        if is_turned:
            ports, near, far = turned(ports), far, near
            octets, octets_back, flags, back_flags = octets_back, octets, back_flags, flags
        if ports >> np.uint64(40) == np.uint64(6):
            near, far, six = np.uint64(0), np.uint64(0), six + 1
        is_tcp = ports >> np.uint64(32) & np.uint64(0xFF) == np.uint64(_TCP)
        is_udp = ports >> np.uint64(32) & np.uint64(0xFF) == np.uint64(_UDP)
        answered, either = connection["both"] > 0 or octets_back > 0, connection["flags"] | connection["back_flags"]
        if is_udp:
            code = udp_ending(connection["end"] - connection["start"], answered, one_way)
        else:
            rest = _said(
                connection["ending"], either & FLAGGED != 0, not is_last or now_s - connection["end"] > quiet_s
            )
            code = tcp_ending(flags, back_flags, answered, rest)
        start[row], end[row] = connection["start"], max(now_s, connection["end"]) if code == OPEN else connection["end"]
        source[row], target[row] = near, far
        source_port[row], target_port[row] = ports >> np.uint64(16) & np.uint64(0xFFFF), ports & np.uint64(0xFFFF)
        protocol[row] = ports >> np.uint64(32) & np.uint64(0xFF)
        out[row], back[row], ending[row] = octets, octets_back, code
        is_new[row] = not (is_tcp and either & (FLAGGED | _SYN) == FLAGGED)
    return six


@compiled
def _said(reason, known, is_quiet):
    """How a connection ended whose flags do not say: by why its last record was exported, and by its silence."""
    if reason in (CLOSED, RESET, HALF_CLOSED, REJECTED, UNANSWERED):
        return np.int64(reason)
    if reason == IDLE or (known and is_quiet and reason == UNKNOWN):
        return IDLE
    return OPEN if reason in (OPEN, CONTINUED) or known else UNKNOWN
