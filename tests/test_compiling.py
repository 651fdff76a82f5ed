"""Loops are compiled when it is worth it; what is kept of one is not used once another that it calls has changed."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np

from fenrask.compiling import compiled, compiled_beyond

_CALLED = "from fenrask.compiling import compiled\n@compiled\ndef called(x):\n    return x + {more}\n"
_CALLER = """
from fenrask.compiling import compiled
from kernels.called import called

@compiled
def caller(x):
    return 10 * called(x)
"""


@compiled
def _twice(x):  # type: ignore[no-untyped-def]
    return x + x


@compiled_beyond(10)
def _sum_of(numbers):  # type: ignore[no-untyped-def]
    total = 0
    for one in numbers:
        total += _twice(one)
    return total


class ForMuch(unittest.TestCase):
    def test_little_is_done_as_it_is_written(self) -> None:
        self.assertEqual([_sum_of(np.arange(4)), _sum_of(np.arange(5))], [12, 20])
        self.assertNotIn("machine", {**vars(_sum_of), **vars(_twice)})
        self.assertEqual([_sum_of(np.arange(2)), _sum_of(np.arange(100_000))], [2, 9_999_900_000])
        self.assertIn("machine", vars(_sum_of))
        self.assertIn("machine", vars(_twice))

    def test_numbers_of_64_bits_go_round_either_way(self) -> None:
        most = np.array([2**63 - 1], dtype=np.int64)
        with np.errstate(over="ignore"):
            self.assertEqual([one(most[0]) for one in (_twice.as_written, _twice.machine)], [-2, -2])


class KernelsInSeveralFiles(unittest.TestCase):
    def test_a_caller_follows_the_called(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            kernels = Path(folder) / "kernels"
            kernels.mkdir()
            (kernels / "caller.py").write_text(_CALLER)
            found = []
            for more in (1, 1, 2):
                (kernels / "called.py").write_text(_CALLED.format(more=more))
                done = subprocess.run(
                    [sys.executable, "-c", "from kernels.caller import caller; print(caller(1))"],
                    cwd=folder,
                    env={**os.environ, "NUMBA_CACHE_DIR": str(Path(folder) / "kept"), "PYTHONDONTWRITEBYTECODE": "1"},
                    capture_output=True,
                    text=True,
                    check=True,
                )
                found.append(int(done.stdout))
            self.assertEqual(found, [20, 20, 30])


if __name__ == "__main__":
    unittest.main()
