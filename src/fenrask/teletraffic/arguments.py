"""The checks that all public functions make of their numbers, before any of them is used."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

from fenrask.errors import Place, Problem, UnusableInput

__all__ = ["Floats", "broadcast", "check_target", "check_whole", "unusable"]

Floats = NDArray[np.float64]


def broadcast(**named: ArrayLike) -> list[Floats]:
    """The arguments as float arrays of one shape; UnusableInput for NaN, infinite or negative values."""
    arrays = []
    for name, value in named.items():
        try:
            array = np.asarray(value, dtype=np.float64)
        except (TypeError, ValueError):
            raise unusable(name, repr(value), "numbers") from None
        if not np.all(np.isfinite(array)) or np.any(array < 0):
            bad = array[~(np.isfinite(array) & (array >= 0))].flat[0]
            raise unusable(name, f"{bad:g}", "finite numbers, at least 0")
        arrays.append(array)
    return [np.array(one) for one in np.broadcast_arrays(*arrays)]


def check_target(target: Floats) -> None:
    if np.any((target <= 0) | (target >= 1)):
        bad = target[(target <= 0) | (target >= 1)].flat[0]
        raise unusable("blocking", f"{bad:g}", "a share above 0 and below 1")


def unusable(name: str, found: str, expected: str) -> UnusableInput:
    return UnusableInput([Problem(Place(path=name), found, expected)])


def check_whole(name: str, values: Floats) -> None:
    """UnusableInput for a number that has to be whole and is not."""
    if np.any(values != np.floor(values)):
        raise unusable(name, f"{values[values != np.floor(values)].flat[0]:g}", "whole numbers")
