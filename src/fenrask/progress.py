"""How far a long computation has come, for whoever listens; nothing is printed here."""

from collections.abc import Callable, Iterable, Iterator, Sized
from contextlib import contextmanager
from contextvars import ContextVar
from typing import TypeVar

__all__ = ["Listener", "gone_through", "listening", "tell"]

Thing = TypeVar("Thing")
Listener = Callable[[str, int, int | None], None]
"""Takes what is gone through, how many are done, and of how many; None where that is not known."""

_LISTENER: ContextVar[Listener | None] = ContextVar("listener", default=None)


@contextmanager
def listening(listener: Listener) -> Iterator[None]:
    """Within it, the listener hears of what is begun and done in this thread."""
    before = _LISTENER.set(listener)
    try:
        yield
    finally:
        _LISTENER.reset(before)


def tell(what: str, done: int = 0, of: int | None = None) -> None:
    """Say what is being done, and how much of it is."""
    if (listener := _LISTENER.get()) is not None:
        listener(what, done, of)


def gone_through(things: Iterable[Thing], what: str) -> Iterator[Thing]:
    """The things one by one, each told as it is begun.

    >>> list(gone_through([3, 5], "cases"))
    [3, 5]
    """
    number = len(things) if isinstance(things, Sized) else None
    for done, thing in enumerate(things):
        tell(what, done, number)
        yield thing
