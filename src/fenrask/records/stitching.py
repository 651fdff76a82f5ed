"""Records of one connection that was exported in pieces, put together: same ends, and a gap within the active timeout.

Exact duplicates count once. The gap is to the latest end so far; a piece that begins while the connection lasts belongs
to it. Records have to come about in order of time: what ended more than the timeout before the newest record is done.
"""

from collections.abc import Iterable, Iterator
from dataclasses import replace
from typing import Any

import numpy as np

from fenrask.records.batch import CONTINUED, UNKNOWN, Addresses, Batch, taken

__all__ = ["stitched"]

_LATE_S = 60.0
"""How far out of order records may come."""


def stitched(batches: Iterable[Batch], gap_s: float) -> Iterator[Batch]:
    """The same records with pieces put together; what may still go on is kept back until time has passed."""
    rest: Batch | None = None
    taken_in = 0
    for batch in batches:
        if batch.sampled > 1 or batch.listing is not None:
            yield batch
            continue
        taken_in += len(batch) if batch.records is None else batch.records
        whole = batch if rest is None else joined([rest, batch])
        together = _together(whole, gap_s)
        now = float(together.end_s.max(initial=0.0))
        open_ = together.end_s >= now - gap_s - _LATE_S
        done, rest = taken(together, ~open_), taken(together, open_)
        # What is kept back are records, too: at least one each.
        told = max(len(done), taken_in - len(rest))
        yield replace(done, records=told)
        taken_in -= told
    if rest is not None:
        yield replace(rest, records=taken_in)


def joined(batches: list[Batch]) -> Batch:
    """Batches as one."""
    first = batches[0]
    made: dict[str, Any] = {"sampled": first.sampled, "tells_both": any(one.tells_both for one in batches)}
    for name in ("source", "target"):
        columns = [getattr(one, name) for one in batches]
        begins = np.cumsum([0, *(len(one) for one in columns)])
        six = tuple((row + int(at), number) for one, at in zip(columns, begins, strict=False) for row, number in one.v6)
        made[name] = Addresses(np.concatenate([one.v4 for one in columns]), six)
    for name in ("start_s", "end_s", "source_port", "target_port", "protocol", "bytes_out", "bytes_in", "ending"):
        made[name] = np.concatenate([getattr(one, name) for one in batches])
    if any(one.is_new is not None for one in batches):
        every = [np.ones(len(one), dtype=bool) if one.is_new is None else one.is_new for one in batches]
        made["is_new"] = np.concatenate(every)
    return Batch(**made)


def _together(batch: Batch, gap_s: float) -> Batch:
    n = len(batch)
    if not n:
        return batch
    ends = [column.v4.astype(np.uint64) for column in (batch.source, batch.target)]
    for column, numbers in zip(ends, (batch.source.v6, batch.target.v6), strict=True):
        for row, number in numbers:
            column[row] = (number & (2**63 - 1)) | 2**63
    ports = batch.source_port.astype(np.uint64) << np.uint64(24) | batch.target_port.astype(np.uint64) << np.uint64(8)
    key = [ends[0], ends[1], ports | batch.protocol.astype(np.uint64)]
    order = np.lexsort((batch.end_s, batch.start_s, key[2], key[1], key[0]))
    same = np.ones(n, dtype=bool)
    for part in key:
        ordered = part[order]
        same[1:] &= ordered[1:] == ordered[:-1]
    same[0] = False
    start, end = batch.start_s[order], batch.end_s[order]
    twin = same.copy()
    for values in (start, end, batch.bytes_out[order], batch.bytes_in[order]):
        twin[1:] &= values[1:] == values[:-1]
    # The latest end so far within one key: times are shifted apart by key, so that one running maximum does.
    group = np.cumsum(~same)
    apart = group * (2.0 * (float(end.max()) - float(start.min()) + gap_s) + 1.0)
    latest = np.maximum.accumulate(end + apart) - apart
    begins = ~same
    begins[1:] |= start[1:] > latest[:-1] + gap_s
    piece = np.cumsum(begins) - 1
    firsts = np.flatnonzero(begins)
    lasts = np.concatenate([firsts[1:], [n]]) - 1
    rows = order[firsts]
    mask = np.zeros(n, dtype=bool)
    mask[rows] = True
    kept = taken(batch, mask)
    # `taken` keeps the order of the batch: the sums go to where each first piece is.
    place = np.argsort(rows)
    sums = {
        name: np.bincount(piece, weights=np.where(twin, 0, getattr(batch, name)[order]), minlength=firsts.size)
        for name in ("bytes_out", "bytes_in")
    }
    ending = batch.ending[order][lasts]
    return replace(
        kept,
        end_s=np.maximum.reduceat(end, firsts)[place],
        bytes_out=np.round(sums["bytes_out"]).astype(np.int64)[place],
        bytes_in=np.round(sums["bytes_in"]).astype(np.int64)[place],
        ending=np.where(ending == CONTINUED, UNKNOWN, ending).astype(np.uint8)[place],
    )
