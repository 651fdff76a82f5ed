"""Names' addresses today against the prefixes on record: what came, what went, what stayed."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from fenrask.estate import Described
from fenrask.estate.history import Answered
from fenrask.prefixes import Address, Prefix, fewest_prefixes
from fenrask.records.names import Looked

__all__ = ["Drift", "drift_patch", "drifts"]


@dataclass(frozen=True)
class Drift:
    """One destination: prefixes on record that hold a looked-up address or none, and addresses that none holds."""

    destination: str
    looked: tuple[Looked, ...]
    unchanged: tuple[Prefix, ...]
    gone: tuple[Prefix, ...]
    added: tuple[Address, ...]

    @property
    def faults(self) -> tuple[str, ...]:
        return tuple(f"{one.name}: {one.fault}" for one in self.looked if one.fault)

    @property
    def drifted(self) -> bool:
        return bool(self.gone or self.added)

    @property
    def prefixes(self) -> tuple[Prefix, ...]:
        """The prefixes that should be on record."""
        return (*self.unchanged, *fewest_prefixes(self.added))


def drifts(described: Described, ask: Callable[[str], Looked], history: Sequence[Answered] = ()) -> list[Drift]:
    """Each destination with names, looked up by `ask`. Where a name gave no answer nothing is called gone.

    What a name answered earlier, by its `history`, counts as if it answered it now: a rotating name comes back to it.
    """
    earlier: dict[str, list[Address]] = {}
    for answered in history:
        earlier.setdefault(answered.name, []).append(answered.address)
    found = []
    for name, destination in described.estate.destinations.items():
        if not destination.names:
            continue
        looked = tuple(ask(one) for one in destination.names)
        addresses = [address for one in looked for address in (*one.addresses, *earlier.get(one.name, ()))]
        pieces = [piece for prefix in destination.prefixes for piece in _pieces(prefix, addresses)]
        holding = tuple(p for p in pieces if any(address in p for address in addresses))
        gone = tuple(p for p in pieces if p not in holding)
        added = tuple(dict.fromkeys(a for a in addresses if not any(a in p for p in destination.prefixes)))
        if any(one.fault for one in looked):
            holding, gone = (*holding, *gone), ()
        found.append(Drift(name, looked, holding, gone, added))
    return found


def _pieces(prefix: Prefix, addresses: Sequence[Address]) -> Sequence[Prefix]:
    """A prefix as it is; one of few addresses, some of which no name answers any more, address by address."""
    if prefix.num_addresses > _FEW or all(one in addresses for one in prefix):
        return [prefix]
    return [*prefix.subnets(new_prefix=prefix.max_prefixlen)] if any(one in prefix for one in addresses) else [prefix]


_FEW = 4
"""A prefix of no more addresses is these put together, not a range that its owner uses as he likes."""


def drift_patch(found: list[Drift]) -> dict[str, Any]:
    """The merge patch that brings the estate's prefixes up to date; empty where nothing drifted."""
    changed = {one.destination: {"prefixes": [str(p) for p in one.prefixes]} for one in found if one.drifted}
    return {"destinations": changed} if changed else {}
