"""`python -m fenrask`, and the console script."""

import gc
import os

# A command lives for a second or two and makes few cycles: looking for them often only costs time.
gc.set_threshold(500_000, 50, 50)
# Validation must not depend on what else is installed, and looking for plugins costs start-up time.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")

__all__ = ["main"]

_STOPPED = 130


def main() -> None:
    """Run the command line and leave with its exit status."""
    try:
        from fenrask.cli.app import run

        raise SystemExit(run())
    except KeyboardInterrupt:
        # While modules are loaded, or at the very end: nothing was begun, or all is done.
        raise SystemExit(_STOPPED) from None


if __name__ == "__main__":
    main()
