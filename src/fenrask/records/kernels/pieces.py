"""Compiled: records of an exporter as connections: pieces of one, and both directions, together; doubled ones once."""

import numpy as np

from fenrask.compiling import compiled
from fenrask.records.kernels.ends import bucket, place_of, put_in, taken_out

__all__ = ["CONNECTION", "FLAGGED", "gathered", "over"]

_FIN, _SYN, _RST, _ACK = 1, 2, 4, 16
_TCP = 6
FLAGGED = 0x100
"""Beside the flags of TCP: that the record tells them."""
CONNECTION = np.dtype(
    [
        ("key", np.uint64, (5,)), ("start", np.float64), ("end", np.float64), ("out", np.int64), ("back", np.int64),
        ("flags", np.uint16), ("back_flags", np.uint16), ("ending", np.uint8), ("both", np.uint8), ("used", np.uint8),
        ("seen", np.int64), ("at", np.float64, (8,)), ("lasted", np.float64, (8,)), ("octets", np.int64, (8,)),
        ("is_back", np.uint8, (8,)),
    ]
)  # fmt: skip
"""A connection so far; `ending`: of its newest record; `both`: 1 where a record of the other direction came, 2 where
one told both; then how many records there were, and what the newest of them said."""
_NEWEST = 8
_CLOSED, _RESET, _CONTINUED, _REJECTED = 1, 2, 4, 6
"""Endings as in a batch."""
_SKEW_S, _SAME_S = 2.0, 0.002
"""By how much two exporters' clocks may differ, and the durations that they give to one flow."""
_LATE_S = 60.0
"""How much later than its like a record of the other direction may come."""


@compiled
def _is_over(one):
    """Whether it was seen to end."""
    flags = one.flags | one.back_flags
    closed = one.flags & _FIN != 0 and (one.back_flags & _FIN != 0 or not one.both)
    return flags & _RST != 0 or closed or one.ending == _CLOSED or one.ending == _RESET or one.ending == _REJECTED


@compiled
def _quiet_s(one, quiet):
    """How long it may be silent and go on, s; quiet: as of packets."""
    if one.key[4] >> np.uint64(32) & np.uint64(0xFF) == np.uint64(_TCP):
        return quiet[0]
    if not one.both and one.back == 0:
        return quiet[2]
    return max(quiet[3], quiet[4])


@compiled
def over(slots, now, quiet, old):
    """Which connections are over by a time, so that nothing more of them comes; filled into `old`, bool."""
    for place in range(slots.size):
        one = slots[place]
        waits = _LATE_S if _is_over(one) else _LATE_S + _quiet_s(one, quiet)
        old[place] = one.used == 1 and now - one.end > waits


@compiled
def _goes_on(one, start, end, flags, is_out, quiet):
    """Whether a record belongs to a connection that has its ends."""
    gap = max(start - one.end, one.start - end, 0.0)
    if not is_out:
        # The other direction: its record is of the same time, or a later piece.
        return gap <= (_SKEW_S if _is_over(one) else _quiet_s(one, quiet))
    if gap > _quiet_s(one, quiet) or (_is_over(one) and start > one.end):
        return False
    if one.key[4] >> np.uint64(32) & np.uint64(0xFF) != np.uint64(_TCP):
        return True
    if one.ending == _CONTINUED:
        return True
    if not flags & FLAGGED:
        return False
    # The later piece has no SYN; or it is the same SYN, sent again.
    alone = _SYN | FLAGGED
    later = flags if start >= one.start else one.flags
    return not later & _SYN or (flags == alone and one.flags == alone and not one.both)


@compiled
def _is_double(one, start, end, octets, is_out):
    """Whether it is one of the newest records once more, from another exporter, or from another file."""
    for n in range(min(one.seen, _NEWEST)):
        if (
            (one.is_back[n] == 0) == is_out and one.octets[n] == octets and abs(one.at[n] - start) <= _SKEW_S
            and abs(one.lasted[n] - (end - start)) <= _SAME_S
        ):  # fmt: skip
            return True
    return False


@compiled
def gathered(keys, start, end, out, back, flags, back_flags, ending, first, slots, heads, nexts, free, quiet, done):
    """Take records into connections; what another one at the same ends follows goes to `done`.

    Starts with record `first`, ends where no slot is free. Returned: the next record, the first free slot, how many are
    done, how many records were of the other direction, and how many were there already.
    """
    finished, others, doubles = 0, 0, 0
    for row in range(first, start.size):
        at = bucket(keys[row], heads.size)
        place, before, is_out = place_of(slots, heads, nexts, keys[row], at)
        if place >= 0 and _is_double(slots[place], start[row], end[row], out[row], is_out):
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
                slots[place].key[part] = keys[row, part]
            slots[place].start, slots[place].end = start[row], end[row]
            slots[place].out, slots[place].back = out[row], back[row]
            slots[place].flags, slots[place].back_flags = flags[row], back_flags[row]
            slots[place].ending = ending[row]
            slots[place].both = 2 if back[row] > 0 or back_flags[row] & 0xFF else 0
            slots[place].seen = 0
        else:
            one = slots[place]
            if is_out:
                one.out += out[row]
                one.back += back[row]
                one.flags |= flags[row]
                one.back_flags |= back_flags[row]
                if end[row] >= one.end:
                    one.ending = ending[row]
            else:
                others += 1
                one.both = max(one.both, 1)
                one.back += out[row]
                one.back_flags |= flags[row]
            one.start, one.end = min(one.start, start[row]), max(one.end, end[row])
        newest = slots[place].seen % _NEWEST
        slots[place].seen += 1
        slots[place].at[newest], slots[place].lasted[newest] = start[row], end[row] - start[row]
        slots[place].octets[newest], slots[place].is_back[newest] = out[row], 0 if is_out else 1
    return start.size, free, finished, others, doubles
