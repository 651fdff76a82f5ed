"""`python -m fenrask`, and the console script."""

import os

# Validation must not depend on what else is installed, and looking for plugins costs start-up time.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")

from fenrask.cli.app import run  # noqa: E402 - the setting above has to come first

__all__ = ["main"]


def main() -> None:
    """Run the command line and leave with its exit status."""
    raise SystemExit(run())


if __name__ == "__main__":
    main()
