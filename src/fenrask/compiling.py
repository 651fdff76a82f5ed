"""Compiled loops: kept for the next run where there is a place to keep them, compiled again where there is none."""

import hashlib
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

from numba import njit

__all__ = ["compiled", "first_use"]


def compiled(function: Callable[..., Any]) -> Any:
    """A function compiled by Numba, which releases the interpreter while it runs.

    In a read-only installation without a home folder Numba finds no place for its cache and refuses; then it compiles
    each time, which takes some seconds more.
    Numba keeps what it compiled under the function's name and looks whether its own file has changed, not whether
    those have that it calls: in a folder of kernels the name says what all of them are.
    """
    file = Path(function.__code__.co_filename)
    if file.parent.name == "kernels":
        function.__qualname__ += "_" + _contents(file.parent)
    try:
        return njit(cache=True, nogil=True)(function)
    except RuntimeError:
        return njit(nogil=True)(function)


@cache
def _contents(folder: Path) -> str:
    """A short name of what the modules of a folder say."""
    return hashlib.sha256(b"".join(file.read_bytes() for file in sorted(folder.glob("*.py")))).hexdigest()[:8]


def first_use(function: Any) -> str:
    """What is to be said before a compiled function is used that has not been compiled here yet; else nothing."""
    kept = function.stats.cache_path
    if kept is None:
        again = "each time, since there is no folder to keep it in; NUMBA_CACHE_DIR names one"
        return f"compiling for this machine first ({again})"
    if any(Path(kept).glob(f"*.{function.py_func.__qualname__}-*.nbi")):
        return ""
    return "compiling for this machine first; it takes up to half a minute, once"
