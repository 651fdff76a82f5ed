"""Files measured one by one, wherever they are read: each gives a summary, and summaries add up."""

from collections.abc import Mapping
from dataclasses import dataclass

from fenrask.records.batch import Unread
from fenrask.records.matching import Pairs
from fenrask.records.readers import Quiet, read_records
from fenrask.records.summary import Summary, spanned
from fenrask.records.tallying import summarised

__all__ = ["Part", "part_of"]


@dataclass(frozen=True)
class Part:
    """What one file came to."""

    file: str
    format: str
    guessed: Mapping[str, str]
    summary: Summary
    unread: Unread


def part_of(file: str, columns: Mapping[str, str], pairs: Pairs, quiet: Quiet) -> Part:
    """One file, read where this runs: here, in another process, or on another machine that sees the file."""
    unread = Unread({})
    kind, guessed, batches = read_records(file, unread, columns, quiet)
    spans: dict[str, tuple[int, int]] = {}
    summary = summarised(spanned(batches, file, spans), pairs)
    summary.spans |= spans
    return Part(file, kind, guessed, summary, unread)
