"""Compiled loops: kept for the next run where there is a place to keep them, compiled again where there is none."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

from numba import njit

__all__ = ["compiled", "first_use"]


def compiled(function: Callable[..., Any]) -> Any:
    """A function compiled by Numba, which releases the interpreter while it runs.

    In a read-only installation without a home folder Numba finds no place for its cache and refuses; then it compiles
    each time, which takes some seconds more.
    """
    try:
        return njit(cache=True, nogil=True)(function)
    except RuntimeError:
        return njit(nogil=True)(function)


def first_use(function: Any) -> str:
    """What is to be said before a compiled function is used that has not been compiled here yet; else nothing."""
    kept = function.stats.cache_path
    if kept is None:
        again = "each time, since there is no folder to keep it in; NUMBA_CACHE_DIR names one"
        return f"compiling for this machine first ({again})"
    if any(Path(kept).glob(f"*.{function.__name__}-*.nbi")):
        return ""
    return "compiling for this machine first; it takes up to half a minute, once"
