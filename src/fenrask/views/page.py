"""A page: the answer first, then the evidence in tables. The same page serves every format."""

from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import Any, Literal, TypeVar, overload

__all__ = ["MACHINES", "Column", "LaterRows", "MadeRows", "Page", "Table"]

Key = TypeVar("Key", bound=Hashable)
Kind = Literal[
    "text",
    "list",
    "count",
    "number",
    "figure",
    "rough",
    "code",
    "share",
    "rate",
    "money",
    "growth",
    "minutes",
    "difference",
    "series",
    "severity",
    "yes",
]


MACHINES = 10_000
"""The least width of a column that is for machines alone."""


@dataclass(frozen=True)
class Column:
    """One column: its key carries the unit for machines, its heading for people.

    `kind` says how its values read: `list` is a sequence of texts, `series` one of numbers through the
    day, `yes` a truth value, `figure` a number of six digits at most, `difference` money with its sign,
    `minutes` seconds told in minutes, `growth` a share more.
    A terminal narrower than `least_width` columns leaves it out; machines always get it.
    """

    key: str
    heading: str
    kind: Kind = "text"
    decimals: int = 1
    least_width: int = 0
    sparse: bool = False
    """Left out for people where no row has anything in it."""
    is_answer: bool = False
    """Whether a terminal shows it at any width: all others make room for it."""
    most: int = 0
    """Items of a list that a terminal shows without `--all`, and how many more there are; 0 for all."""
    below: str = ""
    """In a table of blocks: what stands before it on a line of its own."""

    @property
    def is_number(self) -> bool:
        return self.kind not in ("text", "list", "series", "severity", "yes")


class MadeRows(Sequence[Sequence[Any]]):
    """Rows that are made only as they are asked for: of many, a terminal shows few."""

    def __init__(self, keys: Sequence[Key], make: Callable[[Key], Sequence[Any]]) -> None:
        self._keys, self._make = keys, cache(make)

    def __len__(self) -> int:
        return len(self._keys)

    @overload
    def __getitem__(self, place: int) -> Sequence[Any]: ...
    @overload
    def __getitem__(self, place: slice) -> Sequence[Sequence[Any]]: ...
    def __getitem__(self, place: int | slice) -> Any:
        if isinstance(place, slice):
            return [self._make(key) for key in self._keys[place]]
        return self._make(self._keys[place])


class LaterRows(Sequence[Sequence[Any]]):
    """Rows that are made when any of them is asked for: of a table that a terminal does not show."""

    def __init__(self, make: Callable[[], Sequence[Sequence[Any]]]) -> None:
        self._make = cache(make)

    def __bool__(self) -> bool:
        """Whether there is anything to ask for; whether rows come of it is not known before."""
        return True

    def __len__(self) -> int:
        return len(self._make())

    @overload
    def __getitem__(self, place: int) -> Sequence[Any]: ...
    @overload
    def __getitem__(self, place: slice) -> Sequence[Sequence[Any]]: ...
    def __getitem__(self, place: int | slice) -> Any:
        return self._make()[place]


@dataclass(frozen=True, eq=False)
class Table:
    """Rows of raw values under columns. `as_blocks` prints rows as paragraphs, not as a grid."""

    name: str
    title: str
    columns: tuple[Column, ...]
    rows: Sequence[Sequence[Any]]
    empty: str = "none"
    as_blocks: bool = False
    shown: int = 0
    """Rows that a terminal shows without `--all`, of blocks lines; 0 for all of them. Machines always get all."""
    behind_all: bool = False
    """Whether a terminal shows the table with `--all` only, and otherwise names it."""
    is_answer: bool = False
    """Whether a terminal shows some of it however long the others are, as it does of the first."""
    joined: tuple[str, ...] = ()
    """Keys of columns in which rows may differ that a terminal shows as one; with `--all` it shows each."""
    is_whole: bool = False
    """Whether it was asked for by an option, so that a terminal shows all of it."""

    def records(self) -> Iterator[dict[str, Any]]:
        """Each row by column keys."""
        keys = [column.key for column in self.columns]
        for row in self.rows:
            yield dict(zip(keys, row, strict=True))


@dataclass(frozen=True)
class Page:
    """One command's result. The first table is the main one: the one that CSV holds."""

    name: str
    estate: str
    summary: tuple[str, ...]
    tables: tuple[Table, ...]
    facts: Mapping[str, Any] = field(default_factory=dict)
    """Single figures, with units in their keys, for machines; the answer says them to people."""
    not_counted: tuple[str, ...] = ()
    """What could not be counted in, and why."""
