"""Compiled: to which pair of subnet and destination records belong, and what they count for there."""

import math

import numpy as np

from fenrask.compiling import FEW, compiled, compiled_beyond
from fenrask.records.batch import CONTINUED, OPEN, REJECTED, UDP_ALONE, UNANSWERED, UNKNOWN

__all__ = [
    "BINS", "CODES", "DECADES", "LEAST_S", "SUMS", "added", "marks_of", "pairs_of", "run_lengths", "slots_of",
    "tallied",
]  # fmt: skip

BINS, DECADES, LEAST_S = 1200, 10.0, 1e-3
"""Durations are counted in 120 bins a decade, from a millisecond on; bin 0 holds what is shorter."""
_BITS = 32
CODES = UDP_ALONE + 1
"""How many ways to end there are."""
_DURATION, _OUT, _BACK, _CONTINUING, _BEGUN, _ENDINGS = range(6)
SUMS = _ENDINGS + CODES
"""Columns of sums: of durations, ms; of bytes either way; of connections open before; begun; by ending."""
_NONE = -1
_MIXING = 0x9E3779B97F4A7C15
_FAR_S = 8.0


@compiled
def _held_by(starts, values, first, last, address):
    """The value of the range that holds an address, of those from `first` to `last`; the first begins at 0."""
    at, size = first, last - first
    while size > 1:
        # Which half it is cannot be foreseen: an assignment, and no way to go.
        half = size >> 1
        if starts[at + half] <= address:
            at += half
        size -= half
    return values[at]


@compiled_beyond(FEW)
def pairs_of(
    source, target, source_port, target_port, protocol, subnets, of, codes, firsts, starts, values, destinations
):
    """The pair of each record, int64, -1 for none, and whether it is a reply; shapes (n_records,).

    subnets, of: where ranges of addresses begin, in rising order from 0 on, and whose they are. codes: protocol x 2^16
    + port (0: any), in rising order; starts, values: the same of destinations, those of a code from its `firsts` on.
    """
    pair, is_reply = np.full(source.size, _NONE, np.int64), np.zeros(source.size, np.bool_)
    for row in range(source.size):
        for is_back in range(2):
            inner, outer = (target[row], source[row]) if is_back else (source[row], target[row])
            subnet = _held_by(subnets, of, 0, subnets.size, inner)
            if subnet < 0:
                continue
            # With the port first: the one without takes what is left.
            code = np.int64(protocol[row]) << 16 | np.int64(source_port[row] if is_back else target_port[row])
            found = _NONE
            for _ in range(2):
                low, place = 0, codes.size
                while low < place:
                    middle = (low + place) >> 1
                    if codes[middle] < code:
                        low = middle + 1
                    else:
                        place = middle
                if place < codes.size and codes[place] == code:
                    found = np.int64(_held_by(starts, values, firsts[place], firsts[place + 1], outer))
                    if found >= 0:
                        break
                code = code >> 16 << 16
            if found >= 0:
                pair[row], is_reply[row] = subnet * destinations + found, is_back == 1
                break
    return pair, is_reply


@compiled_beyond(FEW)
def slots_of(keys, places):
    """Put all pairs that have a slot into empty places; keys: the pair of each slot, shape (n_slots,)."""
    places[:] = _NONE
    for slot in range(keys.size):
        places[_place(keys, places, keys[slot])] = slot


@compiled
def _place(keys, places, pair):
    """Where a pair's slot is in `places`, or may be put."""
    mixed = np.uint64(pair) * np.uint64(_MIXING)
    at = np.int64(mixed >> np.uint64(20) & np.uint64(places.size - 1))
    while places[at] >= 0 and keys[places[at]] != pair:
        at = (at + 1) & (places.size - 1)
    return at


@compiled_beyond(FEW)
def tallied(
    first, pair, is_reply, start_s, end_s, ending, is_new, address, out, back, coarse, time_bits,
    keys, used, places, sums, opened, ended, started, addresses, durations, cut,
):  # fmt: skip
    """Count records from `first` on, until there is no slot for another pair; those of no pair count for nothing.

    keys, places: pairs by slot (`used` of them), and slots by pair; sums: shape (n_slots, SUMS). The others are filled
    with keys, as a `Summary` has them: when connections open and end, by pair and time (in 2^coarse ms); of those that
    begin, second and address; of those that came about, duration. Returned: the next record, the slots used, and how
    many keys there are: of times, of beginnings, of durations, of those cut off.
    """
    n_opened, n_started, n_durations, n_cut = 0, 0, 0, 0
    row = first
    while row < pair.size:
        own = pair[row]
        if own < 0:
            row += 1
            continue
        at = _place(keys, places, own)
        slot = places[at]
        if slot < 0:
            if used == keys.size or 2 * used >= places.size:
                break
            slot = used
            keys[slot], places[at], used = own, slot, used + 1
        if is_reply[row]:
            sums[slot, _OUT] += back[row]
            sums[slot, _BACK] += out[row]
            row += 1
            continue
        sums[slot, _OUT] += out[row]
        sums[slot, _BACK] += back[row]
        begin_ms, end_ms = np.int64(np.rint(start_s[row] * 1e3)), np.int64(np.rint(end_s[row] * 1e3))
        opened[n_opened] = own << time_bits | begin_ms >> coarse
        ended[n_opened] = own << time_bits | end_ms >> coarse
        n_opened += 1
        code = ending[row]
        if is_new[row]:
            started[n_started] = own << _BITS | begin_ms // 1000
            addresses[n_started] = own << _BITS | address[row]
            n_started += 1
            sums[slot, _BEGUN] += 1
            if code != UNKNOWN and code != CONTINUED:
                sums[slot, _ENDINGS + code] += 1
            if code != UNANSWERED and code != REJECTED:
                sums[slot, _DURATION] += end_ms - begin_ms
                length = max(end_s[row] - start_s[row], 1e-12)
                place = math.floor(math.log10(length / LEAST_S) * (BINS / DECADES)) + 1
                which = own << _BITS | np.int64(min(max(place, 0.0), float(BINS)))
                durations[n_durations] = which
                n_durations += 1
                if code == OPEN:
                    cut[n_cut] = which
                    n_cut += 1
        else:
            sums[slot, _CONTINUING] += 1
        row += 1
    return row, used, n_opened, n_started, n_durations, n_cut


@compiled
def _mixed(number, part):
    """Another number of both, of 64 bits, which tells nothing of either."""
    number = (number ^ part) * np.uint64(_MIXING)
    return number ^ number >> np.uint64(29)


@compiled_beyond(FEW)
def marks_of(
    source, target, source_port, target_port, protocol, octets, start_s, end_s, ending, is_new, one_in, long_s
):
    """Numbers for one record in `one_in`, and for when some begin and stop: for one in `one_in` of all pairs of ends.

    The first is of a record's ends, bytes, duration and about its time, where it has ports: a doubled one has the same.
    Not of the second, since another exporter's clock may differ; not of the hour, since some services ask from one port
    a minute. The others are of ends and a second: of new records when they begin, and of those that last for `long_s`
    and are not open when they stop.
    """
    marks, begins, stops = (
        np.empty(source.size, np.int64), np.empty(source.size, np.int64), np.empty(source.size, np.int64)
    )  # fmt: skip
    n, n_begins, n_stops = 0, 0, 0
    for row in range(source.size):
        if source_port[row] == 0:
            continue
        ends = _mixed(np.uint64(source[row]), np.uint64(target[row]))
        ends = _mixed(_mixed(ends, np.uint64(source_port[row])), np.uint64(target_port[row]))
        ends = _mixed(ends, np.uint64(protocol[row]))
        lasted = end_s[row] - start_s[row]
        number = _mixed(_mixed(ends, np.uint64(octets[row])), np.uint64(np.int64(np.rint(lasted * 1e3))))
        number = _mixed(number, np.uint64(np.int64(start_s[row] // _FAR_S)))
        if number % np.uint64(one_in) == 0:
            marks[n] = np.int64(number >> np.uint64(1))
            n += 1
        if ends % np.uint64(one_in) == 0:
            if is_new[row]:
                begins[n_begins] = np.int64(_mixed(ends, np.uint64(np.int64(start_s[row]))) >> np.uint64(1))
                n_begins += 1
            if lasted >= long_s and ending[row] != OPEN:
                stops[n_stops] = np.int64(_mixed(ends, np.uint64(np.int64(end_s[row]))) >> np.uint64(1))
                n_stops += 1
    return marks[:n], begins[:n_begins], stops[:n_stops]


@compiled_beyond(FEW)
def run_lengths(ordered):
    """Keys in rising order, each once, and how often each is there."""
    keys, values, n = np.empty(ordered.size, np.int64), np.empty(ordered.size, np.int64), 0
    at = 0
    while at < ordered.size:
        begin, own = at, ordered[at]
        at += 1
        while at < ordered.size and ordered[at] == own:
            at += 1
        keys[n], values[n] = own, at - begin
        n += 1
    return keys[:n].copy(), values[:n].copy()


@compiled_beyond(FEW)
def added(keys, values, others, more):
    """Two sets of counts added up, each with keys in rising order; what comes to 0 goes."""
    size = keys.size + others.size
    found, sums = np.empty(size, np.int64), np.empty(size, np.int64)
    n, here, there = 0, 0, 0
    while here < keys.size and there < others.size:
        own, beside = keys[here], others[there]
        total = (values[here] if own <= beside else 0) + (more[there] if beside <= own else 0)
        found[n], sums[n] = min(own, beside), total
        here, there = here + (own <= beside), there + (beside <= own)
        n += total != 0
    while here < keys.size:
        found[n], sums[n] = keys[here], values[here]
        n, here = n + 1, here + 1
    while there < others.size:
        found[n], sums[n] = others[there], more[there]
        n, there = n + 1, there + 1
    return found[:n].copy(), sums[:n].copy()
