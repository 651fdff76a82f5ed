"""Files measured one by one, or by shares, wherever they are read: each gives a summary, and summaries add up."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from fenrask.records.batch import Unread
from fenrask.records.matching import Pairs
from fenrask.records.readers import WHOLE, Quiet, Share, read_records
from fenrask.records.runs import Room
from fenrask.records.summary import Summary, settled, spanned
from fenrask.records.tallying import summarised

__all__ = ["Part", "Reading", "part_of", "whole_of"]


@dataclass(frozen=True)
class Part:
    """What one file, or a share of it, came to."""

    file: str
    format: str
    guessed: Mapping[str, str]
    summary: Summary
    unread: Unread


@dataclass(frozen=True)
class Reading:
    """How records are read: the columns that are named for fields, the pairs to count by, and what ends in silence."""

    columns: Mapping[str, str]
    pairs: Pairs
    quiet: Quiet


def part_of(file: str, reading: Reading, share: Share = WHOLE, room: Room | None = None) -> Part:
    """One file, or a share of it, read where this runs: here, in another process, on a machine that sees the file."""
    unread = Unread({})
    kind, guessed, batches = read_records(file, unread, reading.columns, reading.quiet, share)
    spans: dict[str, tuple[int, int]] = {}
    summary = summarised(spanned(batches, file, spans), reading.pairs, is_share=share.of > 1, room=room)
    summary.spans |= spans
    return Part(file, kind, guessed, summary, unread)


def whole_of(shares: Sequence[Part]) -> Part:
    """All shares of one file as one: the same as if it was read at once."""
    unread, guessed = Unread({}), dict[str, str]()
    for share in shares:
        unread += share.unread
        guessed |= share.guessed
    whole = Summary.total([one.summary for one in shares])
    return replace(shares[0], guessed=guessed, summary=settled(whole), unread=unread)
