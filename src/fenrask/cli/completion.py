"""Names that the shell completes, from the estate at hand; nothing where it cannot be read."""

from collections.abc import Callable, Iterable
from pathlib import Path

import typer

from fenrask.estate import Described, read_estate

__all__ = ["cases", "names", "rules", "subnet_and_destination"]

Completion = Callable[[typer.Context, str], list[str]]


def names(*sections: str) -> Completion:
    """The names in sections of the estate."""
    return _completed(lambda described: [one for section in sections for one in getattr(described.estate, section)])


def _all_cases(described: Described) -> Iterable[str]:
    from fenrask.what_if import all_cases

    return all_cases(described)


def rules(_: typer.Context, incomplete: str) -> list[str]:
    """The rules of `check`."""
    from fenrask.checks import RULES

    return [rule.name for rule in RULES if rule.name.startswith(incomplete)]


def subnet_and_destination(context: typer.Context, incomplete: str) -> list[str]:
    """Subnets, and after one the destinations."""
    words = [word for word in context.params.get("words") or [] if not word.endswith((".yaml", ".yml"))]
    return names("destinations" if words else "subnets")(context, incomplete)


def _completed(found: Callable[[Described], Iterable[str]]) -> Completion:
    def complete(context: typer.Context, incomplete: str) -> list[str]:
        try:
            return [name for name in found(read_estate(_estate(context))) if name.startswith(incomplete)]
        except Exception:  # noqa: BLE001 - a completion says nothing rather than break the line being typed
            return []

    return complete


def _estate(context: typer.Context) -> Path:
    given = [context.params.get("estate"), *(context.params.get("words") or [])]
    return next((Path(one) for one in given if one and str(one).endswith((".yaml", ".yml"))), Path("estate.yaml"))


cases = _completed(_all_cases)
"""The cases of `stress`."""
