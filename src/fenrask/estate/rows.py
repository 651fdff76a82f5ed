"""The rows of a table as columns of text, each made into values only as it is asked for."""

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

from fenrask.estate.yaml_tree import scalar

__all__ = ["Rows"]


class Rows(Mapping[str, dict[str, Any]]):
    """Rows by name, of a table whose columns are plain values; empty cells say nothing.

    columns: by key, the text of each row's cell without blanks around it, shape (n_rows,).
    """

    def __init__(self, names: Sequence[str], columns: Mapping[str, Sequence[str]]) -> None:
        self.names, self.columns = names, columns

    @cached_property
    def number(self) -> dict[str, int]:
        """The number of each row."""
        return {name: number for number, name in enumerate(self.names)}

    def values_at(self, number: int) -> dict[str, Any]:
        """A row as values, read like YAML scalars."""
        return {key: scalar(text) for key, cells in self.columns.items() if (text := cells[number])}

    def __getitem__(self, name: str) -> dict[str, Any]:
        return self.values_at(self.number[name])

    def __iter__(self) -> Iterator[str]:
        return iter(self.names)

    def __len__(self) -> int:
        return len(self.names)

    def having(self, key: str, known: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
        """The rows whose value under a key is not among these names, with that value."""
        cells = self.columns.get(key, ())
        unknown = {text: value for text in set(cells) if text and str(value := scalar(text)) not in known}
        for name, text in zip(self.names, cells, strict=True) if unknown else ():
            if text in unknown:
                yield name, unknown[text]
