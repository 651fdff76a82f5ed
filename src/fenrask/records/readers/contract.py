"""What a reader of records is: it knows its files by their first bytes, and yields batches in bounded memory."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import BinaryIO

from fenrask.estate import Described, Ending
from fenrask.records.batch import Batch, Unread

__all__ = ["USUAL", "WHOLE", "Quiet", "Reader", "Share", "Source"]


@dataclass(frozen=True)
class Quiet:
    """For how long a connection may be silent and go on, s: as long as a translator keeps its port."""

    tcp_s: float = 3600.0
    half_closed_s: float = 120.0
    udp_one_way_s: float = 60.0
    udp_answered_s: float = 60.0
    udp_streaming_s: float = 60.0
    closed_s: float = 0.0
    """For how long a port is kept after a close."""

    @classmethod
    def of(cls, described: Described) -> "Quiet":
        """That of the exits that translate: the longest of each timer, or the default where none is stated."""
        timers = [
            offer.mapping_timeout_s
            for name, exit_ in described.estate.exits.items()
            if exit_.translates and (offer := described.limits_of(name)) is not None
        ]

        def longest(ending: Ending, otherwise: float) -> float:
            return max((one.after(ending) for one in timers), default=0.0) or otherwise

        return cls(
            longest("idle", cls.tcp_s),
            longest("half_closed", cls.half_closed_s),
            longest("udp_one_way", cls.udp_one_way_s),
            longest("udp_answered", cls.udp_answered_s),
            longest("udp_streaming", cls.udp_streaming_s),
            longest("closed", 0.0),
        )


USUAL = Quiet()
"""Where no translator says how long it keeps ports."""


@dataclass(frozen=True)
class Share:
    """The part of a file that is read: one of `of` parts, which have nothing in common and together are all of it."""

    number: int = 0
    of: int = 1

    def cut(self, begin: int, end: int) -> tuple[int, int]:
        """Its part of a range of whole numbers."""
        size = end - begin
        return begin + size * self.number // self.of, begin + size * (self.number + 1) // self.of


WHOLE = Share()


@dataclass(frozen=True)
class Source:
    """One file of records, opened and unpacked, and what the user says of it."""

    name: str
    stream: BinaryIO
    unread: Unread
    columns: Mapping[str, str] = field(default_factory=dict)
    """For tables: the column of each of our fields, where it is stated."""
    quiet: Quiet = USUAL
    share: Share = WHOLE
    is_packed: bool = False
    """Whether the stream is not the file as it is, or no file, so that it cannot be gone to a place in."""
    guessed: dict[str, str] = field(default_factory=dict)
    """For tables: the columns that were taken, to be shown and corrected; filled while reading."""


@dataclass(frozen=True)
class Reader:
    """One format: its name, whether it knows a file by its first bytes, and how it reads it."""

    name: str
    knows: Callable[[bytes], bool]
    read: Callable[[Source], Iterator[Batch]]
    divides: bool = False
    """Whether it reads the share of a source; another one reads all, as the first share."""
