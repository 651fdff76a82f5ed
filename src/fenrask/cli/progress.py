"""A bar on a terminal's stderr with the time left; nothing where there is no terminal."""

import sys
from collections.abc import Callable
from types import TracebackType
from typing import Any, Self

__all__ = ["Progress"]


class Progress:
    """One bar for each thing that is begun."""

    def __init__(self, shown: bool) -> None:
        self._bars: Any = None
        if shown and sys.stderr.isatty():
            from rich.console import Console
            from rich.progress import BarColumn, TextColumn, TimeRemainingColumn
            from rich.progress import Progress as Bars

            columns = (TextColumn("{task.description}"), BarColumn(), TextColumn("{task.completed} runs"))
            self._bars = Bars(*columns, TimeRemainingColumn(), console=Console(stderr=True), transient=True)

    def __enter__(self) -> Self:
        if self._bars:
            self._bars.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._bars:
            self._bars.stop()

    def begun(self, name: str) -> Callable[[int, int], None]:
        """A new bar; what is returned takes how much is done, and of how much."""
        if not self._bars:
            return lambda done, total: None
        task = self._bars.add_task(name, total=None)
        return lambda done, total: self._bars.update(task, completed=done, total=total)
