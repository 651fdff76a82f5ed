"""What a reader of records is: it knows its files by their first bytes, and yields batches in bounded memory."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import BinaryIO

from fenrask.records.batch import Batch, Unread

__all__ = ["Reader", "Source"]


@dataclass(frozen=True)
class Source:
    """One file of records, opened and unpacked, and what the user says of it."""

    name: str
    stream: BinaryIO
    unread: Unread
    columns: Mapping[str, str] = field(default_factory=dict)
    """For tables: the column of each of our fields, where it is stated."""
    guessed: dict[str, str] = field(default_factory=dict)
    """For tables: the columns that were taken, to be shown and corrected; filled while reading."""


@dataclass(frozen=True)
class Reader:
    """One format: its name, whether it knows a file by its first bytes, and how it reads it."""

    name: str
    knows: Callable[[bytes], bool]
    read: Callable[[Source], Iterator[Batch]]
