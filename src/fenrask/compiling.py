"""Compiled loops: kept for the next run where there is a place to keep them, compiled anew where there is none."""

from collections.abc import Callable
from typing import Any

from numba import njit

__all__ = ["compiled"]


def compiled(function: Callable[..., Any]) -> Any:
    """A function compiled by Numba, which releases the interpreter while it runs.

    In a read-only installation without a home folder Numba finds no place for its cache and refuses; then it compiles
    each time, which takes some seconds more.
    """
    try:
        return njit(cache=True, nogil=True)(function)
    except RuntimeError:
        return njit(nogil=True)(function)
