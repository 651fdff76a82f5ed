"""What is under way: shown on a terminal alone, once it takes long; and what was known when it is stopped."""

import io
import sys
import unittest
from collections.abc import Iterator
from itertools import islice
from time import monotonic, sleep
from typing import Any
from unittest.mock import patch

from fenrask.cli import progress
from fenrask.cli import stress as command
from fenrask.cli.progress import Underway
from fenrask.progress import gone_through, listening, tell
from tests.support import InFolder


class Terminal(io.StringIO):
    def isatty(self) -> bool:
        return True


class Told(unittest.TestCase):
    def test_each_thing_is_told_as_it_is_begun_and_to_the_innermost_listener(self) -> None:
        heard, inside = list[Any](), list[Any]()
        with listening(lambda *told: heard.append(told)):
            for one in gone_through("ab", "letter"):
                tell(one)
            with listening(lambda *told: inside.append(told)):
                list(gone_through(iter("c"), "other"))
        list(gone_through("d", "unheard"))
        self.assertEqual(heard, [("letter", 0, 2), ("a", 0, None), ("letter", 1, 2), ("b", 0, None)])
        self.assertEqual(inside, [("other", 0, None)])


class Shown(unittest.TestCase):
    def seen(self, stderr: io.StringIO, shown: bool = True, patience: float = 0.0) -> str:
        with patch.object(sys, "stderr", stderr), patch.object(progress, "_PATIENCE_S", patience):
            with Underway(shown) as underway:
                until = monotonic() + 10
                for _ in gone_through(range(5), "case"):
                    while patience == 0 and stderr.isatty() and shown and not stderr.getvalue():
                        # The timer has a thread of its own.
                        self.assertLess(monotonic(), until)
                        tell("case", 0, 5)
                        sleep(0.01)
                    tell("case", 2, 5)
                underway.end()
                before = stderr.getvalue()
                tell("case", 3, 5)
            self.assertEqual(stderr.getvalue(), before)
        return before

    def test_on_a_terminal_once_it_takes_long(self) -> None:
        with patch.dict("os.environ", {"TERM": "xterm", "COLUMNS": "80"}):
            self.assertIn("case 3 of 5", self.seen(Terminal()))
            self.assertEqual(self.seen(Terminal(), patience=60), "")
            self.assertEqual(self.seen(Terminal(), shown=False), "")
            self.assertEqual(self.seen(io.StringIO()), "")


class Stopped(InFolder):
    def test_cases_that_were_looked_at_are_told(self) -> None:
        self.estate({})
        known = command.stress

        def stopped(*given: Any) -> Iterator[Any]:
            yield from islice(known(*given), 1)
            raise KeyboardInterrupt

        whole = self.json("stress", status=None)["cases"]
        self.assertGreater(len(whole), 1)
        with patch.object(command, "stress", stopped):
            done = self.program("stress", "--table", "cases", "--all", columns=160)
            self.assertEqual(done.returncode, 130, done.stderr)
            self.assertEqual(done.stdout.count("not looked at, stopped before"), len(whole) - 1)
        with patch.object(command, "stress", side_effect=KeyboardInterrupt):
            done = self.program("stress")
            self.assertEqual((done.returncode, done.stdout), (130, ""))


if __name__ == "__main__":
    unittest.main()
