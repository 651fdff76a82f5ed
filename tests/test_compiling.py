"""What Numba keeps of a compiled function is not used once a function in another file, which it calls, has changed."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

_CALLED = "from fenrask.compiling import compiled\n@compiled\ndef called(x):\n    return x + {more}\n"
_CALLER = """
from fenrask.compiling import compiled
from kernels.called import called

@compiled
def caller(x):
    return 10 * called(x)
"""


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
