"""What is under way, on a terminal's stderr, from its third second on; nothing where there is no terminal."""

import sys
from threading import RLock, Timer
from types import TracebackType
from typing import Any, Self

from fenrask.progress import listening

__all__ = ["Underway"]

_PATIENCE_S = 2.0
"""So long a command may take before anything is shown."""


class Underway:
    """A line with what is gone through, a bar where it is known of how much, and the time that it has taken."""

    def __init__(self, shown: bool) -> None:
        self._shown = shown and sys.stderr.isatty()
        self._heard: tuple[str, int, int | None] | None = None
        self._bars: Any = None
        self._task: Any = None
        self._timer = Timer(_PATIENCE_S, self._begin)
        self._timer.daemon = True
        self._waits, self._lock = True, RLock()
        self._listening = listening(self.hear)

    def __enter__(self) -> Self:
        if self._shown:
            self._listening.__enter__()
            self._timer.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._shown:
            self._listening.__exit__(kind, error, trace)
            self.end()

    def hear(self, what: str, done: int, of: int | None) -> None:
        """Take what the computation tells, and show it once it takes long."""
        with self._lock:
            self._heard = (what, done, of)
            if not self._waits:
                self._show()

    def end(self) -> None:
        """Take away what is shown: something is about to be printed."""
        self._timer.cancel()
        with self._lock:
            self._shown = False
            if self._bars:
                self._bars.stop()
                self._bars = None

    def _begin(self) -> None:
        with self._lock:
            self._waits = False
            self._show()

    def _show(self) -> None:
        if not self._shown or self._heard is None:
            return
        what, done, of = self._heard
        if self._bars is None:
            from rich.console import Console
            from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

            columns = (TextColumn("{task.description}"), BarColumn(bar_width=24), TimeElapsedColumn())
            self._bars = Progress(*columns, console=Console(stderr=True), transient=True)
            self._task = self._bars.add_task(what)
            self._bars.start()
        number = f" {done + 1:,} of {of:,}" if of else f" {done:,}" if done else ""
        self._bars.update(self._task, description=f"{what}{number}", completed=done, total=of)
