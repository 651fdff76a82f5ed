"""`python -m fenrask`, and the console script."""

import gc
import os

# A command lives for a second or two and makes few cycles: looking for them often only costs time.
gc.set_threshold(100_000, 50, 50)
# Validation must not depend on what else is installed, and looking for plugins costs start-up time.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")

from fenrask.cli.app import run  # noqa: E402 - the settings above have to come first

__all__ = ["main"]


def main() -> None:
    """Run the command line and leave with its exit status."""
    raise SystemExit(run())


if __name__ == "__main__":
    main()
