"""Many laws at once: those of one make become one law whose parameters are columns."""

from collections.abc import Hashable, Iterator, Sequence
from dataclasses import fields, is_dataclass
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.teletraffic.holding.contract import HoldingTime

__all__ = ["Stacks", "make_of", "stacked"]

_MOST = 4096
_SUMMED = 2048


def stacked(laws: Sequence[HoldingTime], most: int = _MOST) -> Iterator[tuple[list[int], HoldingTime]]:
    """Laws of one make and of like means together, `most` at once, with their numbers; measured ones alone."""
    by_make: dict[Any, list[int]] = {}
    for number, make in enumerate(map(make_of, laws)):
        by_make.setdefault(make, []).append(number)
    for numbers in by_make.values():
        # Short and long holds apart, so that the short ones need not be followed as far as the long.
        numbers.sort(key=lambda number: float(laws[number].mean_s))
        for start in range(0, len(numbers), most):
            some = numbers[start : start + most]
            yield some, _stack([laws[number] for number in some])


class Stacks(list[tuple[Sequence[int] | NDArray[np.intp], HoldingTime]]):
    """Laws stacked once, to be asked many times; with each stack the numbers of its laws."""

    @classmethod
    def of(cls, laws: Sequence[HoldingTime]) -> "Stacks":
        """The stacks of laws, in a size that sums can be worked out at once."""
        return cls(stacked(laws, _SUMMED))

    @property
    def laws(self) -> int:
        """How many laws there are in all."""
        return sum(len(numbers) for numbers, _ in self)


def make_of(value: Any) -> Any:
    """A law without its numbers: what two laws must have alike to be stacked; one that is not, is alike to itself."""
    if not getattr(value, "stacks", True):
        return value
    if isinstance(value, tuple):
        return tuple(map(make_of, value))
    if isinstance(value, float | int):
        return "number"
    kind: Any = type(value)
    return (kind, *(make_of(getattr(value, name)) for name in _names(kind)))


@cache
def _names(kind: Hashable) -> tuple[str, ...]:
    """The names of a law's parameters; none for what is no law."""
    return tuple(one.name for one in fields(kind)) if is_dataclass(kind) else ()


def _stack(values: Sequence[Any]) -> Any:
    first = values[0]
    if not getattr(first, "stacks", True):
        return first
    if isinstance(first, tuple):
        return tuple(_stack(some) for some in zip(*values, strict=True))
    kind: Any = type(first)
    if names := _names(kind):
        return type(first)(**{name: _stack([getattr(one, name) for one in values]) for name in names})
    return np.array(values, dtype=np.float64)[:, None]
