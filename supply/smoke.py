"""The demo and some quick tests under each other Python that is here.

    python -m supply.smoke 3.12 3.13

installs the locked packages and the program into an environment of each version that uv finds, without downloading any,
and leaves with 1 where something fails. Versions that are not here are named and passed over.
"""

import subprocess
import sys
import tempfile
from pathlib import Path

__all__ = ["interpreter", "smoked"]

ROOT = Path(__file__).resolve().parent.parent
UV = str(Path(sys.executable).with_name("uv"))
TESTS = (
    "tests.test_package",
    "tests.capacity.test_assignments",
    "tests.estate.test_reading",
    "tests.charges.test_charges",
)


def interpreter(version: str) -> str | None:
    """The path of a Python of this version; None where there is none, or no uv to find it."""
    command = [UV, "python", "find", "--no-python-downloads", version]
    try:
        done = subprocess.run(command, capture_output=True, text=True, check=False)
    except FileNotFoundError:
        return None
    return done.stdout.strip() or None if done.returncode == 0 else None


def smoked(python: str) -> bool:
    """Whether the demo and the tests pass under this Python."""
    with tempfile.TemporaryDirectory() as folder:
        within = str(Path(folder) / "bin" / "python")
        install = [UV, "pip", "install", "--quiet", "--python", within, "--no-deps"]
        for command in (
            [UV, "venv", "--quiet", "--python", python, folder],
            [*install, "--require-hashes", "-r", "requirements.lock"],
            [*install, "--no-build-isolation", "--editable", "."],
            [within, "-m", "fenrask", "demo", str(Path(folder) / "demo")],
            [within, "-m", "unittest", *TESTS],
        ):
            done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, check=False)
            if done.returncode:
                print(f"{' '.join(command)}\n{done.stdout}{done.stderr}")
                return False
    return True


def main() -> int:
    """Exit status 1 where a version that is here fails."""
    failed = 0
    for version in sys.argv[1:]:
        python = interpreter(version)
        passed = python is None or smoked(python)
        failed += not passed
        print(f"Python {version}: {'not here' if python is None else 'passed' if passed else 'failed'}", flush=True)
    return int(failed > 0)


if __name__ == "__main__":
    sys.exit(main())
