"""`python -m fenrask`, and the console script."""

from fenrask.cli.app import run

__all__ = ["main"]


def main() -> None:
    """Run the command line and leave with its exit status."""
    raise SystemExit(run())


if __name__ == "__main__":
    main()
