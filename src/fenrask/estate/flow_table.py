"""The flows of a table as columns: checked column by column, and a flow made as it is asked for."""

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.estate.flows import Flow
from fenrask.estate.rows import Rows
from fenrask.estate.yaml_tree import scalar

__all__ = ["FlowTable"]

_TEXTS = ("from", "to", "profile")
_SIGNS = frozenset("0123456789.-+eE\n")
_NAME = re.compile(r"\n[-+]?0[0-9]")
"""Digits with leading zeros, which are read as text."""


class FlowTable(Mapping[str, Flow]):
    """Flows by name, of a table that was checked by its columns."""

    def __init__(self, rows: Rows, numbers: Mapping[str, NDArray[np.float64]]) -> None:
        self.rows, self.numbers = rows, numbers
        self._made: dict[str, Flow] = {}

    @classmethod
    def of(cls, rows: Rows) -> "FlowTable | None":
        """The flows of rows; None where any column has what its check cannot tell: then each row has to be read.

        What is allowed under a key is an interval, so that the least and the greatest of a column stand for all between
        them: their rows are read whole, as is one for each choice of keys, and all with keys that hang on others.
        """
        texts = {text for key in _TEXTS for text in rows.columns.get(key, ()) if text}
        others = {key: cells for key, cells in rows.columns.items() if key not in _TEXTS}
        lines = {key: "\n".join(("", *filter(None, cells), "")) for key, cells in others.items()}
        if any(scalar(text) != text for text in texts) or any(map(_may_be_text, lines.values())):
            return None
        try:
            numbers = {key: _numbers(cells) for key, cells in others.items()}
            table = cls(rows, numbers)
            for row in table._telling(lines):
                table[rows.names[row]]
        except ValueError:
            # Of pydantic too: a validation error is one.
            return None
        return table

    def _telling(self, lines: Mapping[str, str]) -> set[int]:
        """The rows that stand for all; lines: by key, the cells that are not empty, one a line."""
        rows = self.rows
        given = np.array([[bool(cell) for cell in cells] for cells in rows.columns.values()], dtype=bool)
        whole = set(np.unique(given, axis=1, return_index=True)[1].tolist()) if len(rows) else set()
        for key, column in self.numbers.items():
            stated = np.flatnonzero(~np.isnan(column))
            if key in Flow.HANG_TOGETHER:
                whole.update(stated.tolist())
            # A whole number and one with a point are two types.
            pointed = _pointed(lines[key], stated.size)
            for some in (stated[pointed], stated[~pointed]):
                if some.size:
                    whole |= {int(some[np.argmin(column[some])]), int(some[np.argmax(column[some])])}
        return whole

    def __getitem__(self, name: str) -> Flow:
        if name not in self._made:
            self._made[name] = Flow.model_validate(self.rows[name])
        return self._made[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self.rows)

    def __len__(self) -> int:
        return len(self.rows)

    def __contains__(self, name: object) -> bool:
        return name in self.rows.number

    @property
    def has_inward(self) -> bool:
        """Whether any flow comes in."""
        column = self.numbers.get("port")
        return column is not None and not bool(np.all(np.isnan(column)))

    def texts(self, key: str) -> Sequence[str]:
        """The texts under a key, empty where a flow states none."""
        return self.rows.columns.get(key) or [""] * len(self)

    def stated(self, key: str) -> NDArray[np.float64]:
        """The numbers under a key; not a number where a flow states none. Shape (n_flows,)."""
        found = self.numbers.get(key)
        return np.full(len(self), np.nan) if found is None else found

    @cached_property
    def defaults(self) -> dict[str, Any]:
        """What a flow that does not state a key has there."""
        return {key: one.default for key, one in Flow.model_fields.items()}


def _may_be_text(lines: str) -> bool:
    """Whether cells, one a line, hold more than what numbers are written with, or what reads as a name."""
    return not _SIGNS.issuperset(set(lines)) or bool(_NAME.search(lines))


def _numbers(cells: Sequence[str]) -> NDArray[np.float64]:
    """The numbers in cells; not a number for an empty one. ValueError for what is none."""
    return np.array([cell or "nan" for cell in cells]).astype(np.float64)


def _pointed(lines: str, count: int) -> NDArray[np.bool_]:
    """Which of `count` numbers, one a line, are written with a point or an exponent."""
    if "e" not in lines.lower() and lines.count(".") in (0, count):
        return np.full(count, "." in lines)
    return np.array([not cell.lstrip("+-").isdigit() for cell in lines.split("\n")[1:-1]], dtype=bool)
