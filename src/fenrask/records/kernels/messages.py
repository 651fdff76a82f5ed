"""Compiled: where sets of data are in messages of NetFlow v5 and v9 and IPFIX that have nothing else in them."""

import numpy as np

from fenrask.compiling import FEW, compiled, compiled_beyond

__all__ = ["PLACE", "cut_out", "numbers_at", "plain_messages"]

PLACE = np.dtype(
    [
        ("version", np.int64), ("template", np.int64), ("at", np.int64), ("records", np.int64), ("exported", np.int64),
        ("uptime", np.int64), ("parts", np.int64), ("sampling", np.int64),
    ]
)  # fmt: skip
"""A set of data: of which version and template, where its first record begins, how many there are, and what its message
says of its time: seconds, parts of them (v5: nanoseconds), the exporter's uptime; of sampling (v5)."""
_FIVE, _NINE, _TEN = 5, 9, 10
_HEAD_5, _HEAD_9, _HEAD_10 = 24, 20, 16
_RECORD_5 = 48


@compiled
def _word(content, at, size):
    value = 0
    for n in range(size):
        value = value << 8 | np.int64(content[at + n])
    return value


@compiled_beyond(FEW)
def plain_messages(content, at, domains, numbers, lengths, versions, of, due, most, places):
    """Go through messages of one version, until one that is not plain, is not whole, or has more than `most` records.

    A plain one has sets of data alone, of templates that are known and of fixed length, and comes next in its sequence.
    domains, numbers, lengths: of the templates, shape (n_templates,), bytes of a record; versions, of, due: the
    exporters' sequences, by version and domain, shape (n_sequences,), with the next number, which is moved on. places:
    filled with the sets (`PLACE`). Returned: where the next message begins, how many sets and records were found, and
    whether there is no room for the next.
    """
    found, records, last, turn, full = 0, 0, 0, 0, False
    first_version = _word(content, at, 2) if at + 2 <= content.size else 0
    while at + _HEAD_5 <= content.size:
        version, word = _word(content, at, 2), _word(content, at + 2, 2)
        first, some = found, 0
        if version != first_version:
            full = True
            break
        if version == _FIVE:
            end = at + _HEAD_5 + word * _RECORD_5
            if end > content.size:
                break
            if records + word > most or found == places.size:
                full = True
                break
            slot = places[found]
            slot["version"], slot["at"], slot["records"] = _FIVE, at + _HEAD_5, word
            slot["uptime"], slot["exported"], slot["parts"] = (
                _word(content, at + 4, 4), _word(content, at + 8, 4), _word(content, at + 12, 4)
            )  # fmt: skip
            slot["sampling"] = _word(content, at + 22, 2)
            found, records, at = found + 1, records + word, end
            continue
        if version == _TEN:
            place, end = at + _HEAD_10, at + word
            if word < _HEAD_10 or end > content.size:
                break
            exported, sequence, domain, uptime = (
                _word(content, at + 4, 4), _word(content, at + 8, 4), _word(content, at + 12, 4), 0
            )  # fmt: skip
        elif version == _NINE:
            # Its end is where the next message begins.
            place, end = at + _HEAD_9, content.size
            uptime, exported, sequence, domain = (
                _word(content, at + 4, 4), _word(content, at + 8, 4), _word(content, at + 12, 4),
                _word(content, at + 16, 4),
            )  # fmt: skip
        else:
            break
        if not (turn < of.size and of[turn] == domain and versions[turn] == version):
            turn = 0
            while turn < of.size and not (of[turn] == domain and versions[turn] == version):
                turn += 1
        if turn == of.size or due[turn] != sequence:
            break
        is_plain = False
        while place + 4 <= end:
            number, length = _word(content, place, 2), _word(content, place + 2, 2)
            if version == _NINE and number in (_FIVE, _NINE, _TEN):
                is_plain, end = True, place
                break
            if number < 256 or length < 4 or place + length > end:
                break
            if found == places.size:
                full = True
                break
            if not (last < numbers.size and numbers[last] == number and domains[last] == domain):
                last = 0
                while last < numbers.size and not (numbers[last] == number and domains[last] == domain):
                    last += 1
                if last == numbers.size:
                    break
            if lengths[last] == 0:
                break
            slot = places[found]
            slot["version"], slot["template"], slot["at"] = version, last, place + 4
            slot["records"], slot["exported"], slot["uptime"] = (length - 4) // lengths[last], exported, uptime
            some += slot["records"]
            found, place = found + 1, place + length
        if version == _TEN:
            # Fewer than four bytes may be left over, as before.
            is_plain = place + 4 > end
        full = full or (is_plain and records + some > most)
        if full or not is_plain:
            found = first
            break
        due[turn] = (sequence + (some if version == _TEN else 1)) % 2**32
        records, at = records + some, end
    return at, found, records, full


@compiled_beyond(FEW)
def cut_out(content, at, sizes):
    """Pieces of `content` one after the other; at, sizes: where each begins, and its bytes, shape (n_pieces,)."""
    found, filled = np.empty(sizes.sum(), np.uint8), 0
    for piece in range(at.size):
        found[filled : filled + sizes[piece]] = content[at[piece] : at[piece] + sizes[piece]]
        filled += sizes[piece]
    return found


@compiled_beyond(FEW)
def numbers_at(content, length, at, size):
    """Big-endian numbers of up to eight bytes, of records of one length one after the other; shape (n_records,)."""
    found = np.empty(content.size // length, np.uint64)
    for row in range(found.size):
        value, begin = np.uint64(0), row * length + at
        for n in range(size):
            value = value << np.uint64(8) | np.uint64(content[begin + n])
        found[row] = value
    return found
