"""Loops that are compiled when they are first called, and kept for the next run where there is a place to keep them."""

import hashlib
from collections.abc import Callable
from functools import cache, cached_property
from pathlib import Path
from types import FunctionType
from typing import Any

import numpy as np

__all__ = ["FEW", "Compiled", "compiled", "compiled_beyond", "first_use"]

FEW = 1 << 16
"""Numbers in arrays that a loop goes through as it is written in less than the time that loading it compiled takes."""


class Compiled:
    """A function that Numba compiles, without the interpreter's lock, when it is first called.

    few: how many numbers in arrays it goes through as it is written before. Both ways do the same, of which tests make
    sure; importing Numba and loading what it kept take half a second.
    """

    def __init__(self, function: Callable[..., Any], few: int = 0) -> None:
        assert isinstance(function, FunctionType)
        self._function, self._few = function, few
        self.__doc__, self.__name__ = function.__doc__, function.__name__

    def __call__(self, *args: Any) -> Any:
        if self._few > 0:
            self._few -= sum(one.size for one in args if isinstance(one, np.ndarray) and one.ndim == 1)
            if self._few > 0:
                # Whole numbers of 64 bits go round, as those of compiled loops do.
                with np.errstate(over="ignore"):
                    return self.as_written(*args)
        return self.machine(*args)

    @cached_property
    def as_written(self) -> Callable[..., Any]:
        """The function in Python, and all compiled ones that it calls."""
        return self._calling({name: one.as_written for name, one in self._called.items()})

    @cached_property
    def machine(self) -> Any:
        """The function compiled by Numba, as are those that it calls.

        In a read-only installation without a home folder Numba finds no place for its cache and refuses; then it
        compiles each time, which takes some seconds more. Numba keeps what it compiled under the function's name and
        looks whether its own file has changed, not whether those have that it calls: in a folder of kernels the name
        says what all of them are.
        """
        from numba import njit

        function = self._calling({name: one.machine for name, one in self._called.items()})
        file = Path(function.__code__.co_filename)
        if file.parent.name == "kernels":
            function.__qualname__ += "_" + _contents(file.parent)
        try:
            return njit(cache=True, nogil=True)(function)
        except RuntimeError:
            return njit(nogil=True)(function)

    @property
    def _called(self) -> dict[str, "Compiled"]:
        """The compiled functions that this one calls, by the names that it has for them."""
        known = self._function.__globals__
        return {
            name: called for name in self._function.__code__.co_names if isinstance(called := known.get(name), Compiled)
        }

    def _calling(self, others: dict[str, Any]) -> FunctionType:
        """The function with others in the place of those that it calls."""
        known = self._function
        found = FunctionType(known.__code__, known.__globals__ | others, known.__name__, known.__defaults__)
        found.__qualname__, found.__module__ = known.__qualname__, known.__module__
        return found


def compiled(function: Callable[..., Any]) -> Compiled:
    """A function that is compiled."""
    return Compiled(function)


def compiled_beyond(few: int) -> Callable[[Callable[..., Any]], Compiled]:
    """A function that is compiled once it has gone through `few` numbers."""
    return lambda function: Compiled(function, few)


@cache
def _contents(folder: Path) -> str:
    """A short name of what the modules of a folder say."""
    return hashlib.sha256(b"".join(file.read_bytes() for file in sorted(folder.glob("*.py")))).hexdigest()[:8]


def first_use(function: Compiled) -> str:
    """What is to be said before a compiled function is used that has not been compiled here yet; else nothing."""
    kept = function.machine.stats.cache_path
    if kept is None:
        again = "each time, since there is no folder to keep it in; NUMBA_CACHE_DIR names one"
        return f"compiling for this machine first ({again})"
    if any(Path(kept).glob(f"*.{function.machine.py_func.__qualname__}-*.nbi")):
        return ""
    return "compiling for this machine first; it takes up to half a minute, once"
