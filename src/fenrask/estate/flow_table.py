"""The flows of a table as columns: checked column by column, and a flow made as it is asked for."""

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from fenrask.estate.flows import Flow
from fenrask.estate.rows import Rows
from fenrask.estate.yaml_tree import scalar

__all__ = ["FlowTable"]

_TEXTS = ("from", "to", "profile")
_NUMBERS = re.compile(r"(?:-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][-+]?[0-9]+)?\n)*")
"""Cells that YAML reads as numbers, one a line."""


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
        texts, others = [], {}
        for key, cells in rows.columns.items():
            if key in _TEXTS:
                texts += [text for text in set(cells) if text]
            else:
                others[key] = cells
        if any(scalar(text) != text for text in texts) or not _NUMBERS.fullmatch(_lines(others.values())):
            return None
        numbers = {key: np.array([cell or "nan" for cell in cells]).astype(np.float64) for key, cells in others.items()}
        given = np.array([[bool(cell) for cell in cells] for cells in rows.columns.values()], dtype=bool)
        whole = set(np.unique(given, axis=1, return_index=True)[1].tolist()) if len(rows) else set()
        for key, column in numbers.items():
            stated = np.flatnonzero(~np.isnan(column))
            if key in Flow.HANG_TOGETHER:
                whole.update(stated.tolist())
            # A whole number and one with a point are two types.
            pointed = np.array([not others[key][row].lstrip("-").isdigit() for row in stated.tolist()], dtype=bool)
            for some in (stated[pointed], stated[~pointed]):
                if some.size:
                    whole |= {int(some[np.argmin(column[some])]), int(some[np.argmax(column[some])])}
        table = cls(rows, numbers)
        try:
            for row in whole:
                table[rows.names[row]]
        except ValidationError:
            return None
        return table

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


def _lines(columns: Any) -> str:
    """All cells that are not empty, one a line."""
    return "".join(f"{chr(10).join(filter(None, cells))}\n" for cells in columns if any(cells))
