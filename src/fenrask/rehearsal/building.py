"""From an estate as it is described to what is to stand in the kernel; the traced paths have no part in it."""

from collections.abc import Iterable
from dataclasses import dataclass

from fenrask.estate import Described
from fenrask.rehearsal.attempts import Try
from fenrask.rehearsal.exit_rules import ExitRules, Marked
from fenrask.rehearsal.laboratory import Laboratory
from fenrask.rehearsal.outside import Outside
from fenrask.rehearsal.places import Places
from fenrask.rehearsal.relays import Relay, Relays
from fenrask.rehearsal.services import Services
from fenrask.rehearsal.shown import Shown
from fenrask.rehearsal.ways import Ways

__all__ = ["Built", "build"]


@dataclass(frozen=True)
class Built:
    """What is to be made, which sets are to be filled for each try, and whose the addresses are."""

    laboratory: Laboratory
    marked: list[Marked]
    shown: Shown
    relays: list[Relay]


def build(described: Described, tries: Iterable[Try]) -> Built:
    """The laboratory of an estate in which these can be tried."""
    places = Places(described, list(tries))
    ways = Ways(places)
    relays = Relays(places)
    Outside(places)
    Services(places)
    rules = ExitRules(places, ways)
    return Built(places.lab, rules.marked, places.shown, relays.relays)
