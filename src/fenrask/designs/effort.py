"""What a plan asks of others: allow-list entries, exits and routes that change."""

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from fractions import Fraction

from fenrask.charges import set_up, take_down
from fenrask.designs.contract import Patch
from fenrask.estate import ChangeCost
from fenrask.evaluation import Evaluation

__all__ = ["Effort", "effort", "partner_lists", "routes_to_change"]


@dataclass(frozen=True, order=True)
class Effort:
    """How much changes from one estate to another; less is compared in this order."""

    entries: int
    """Entries that are added to, or go from, allow-lists of those who let in only what they list."""
    exits: int
    """Exits that are put up or taken down."""
    routes: int
    """Routes that are set or removed, and subnets that get another table."""
    partners: tuple[str, ...] = field(default=(), compare=False)
    """Whose lists change."""
    removed: tuple[str, ...] = field(default=(), compare=False)
    """The exits that are taken down."""
    building: Fraction = field(default=Fraction(0), compare=False)
    """Money, once: what exits cost that are put up, and the work to put them up and to take others down."""

    def price(self, cost: ChangeCost) -> Fraction:
        """What it costs, once."""
        lists = len(self.partners) * cost.allow_list + self.entries * cost.allow_list_entry
        return Fraction(lists + self.exits * cost.exit + self.routes * cost.route) + self.building


def effort(base: Evaluation, now: Evaluation, patch: Patch) -> Effort:
    """What changes from an estate to the one that a patch makes of it."""
    was, is_ = dict(partner_lists(base)), dict(partner_lists(now))
    none = Counter[tuple[str, str]]()
    both = ((name, was.get(name, none), is_.get(name, none)) for name in {**was, **is_})
    changed = {name: (before - after).total() + (after - before).total() for name, before, after in both}
    exits = base.described.estate.exits.keys(), now.described.estate.exits.keys()
    partners = tuple(name for name, number in changed.items() if number)
    removed = tuple(name for name in exits[0] if name not in exits[1])
    building = sum((set_up(now.described, name) for name in exits[1] - exits[0]), Fraction(0))
    building += sum((take_down(base.described, name) for name in removed), Fraction(0))
    entries, routes = sum(changed.values()), routes_to_change(patch)
    return Effort(entries, len(exits[0] ^ exits[1]), routes, partners, removed, building)


def partner_lists(evaluation: Evaluation) -> Iterator[tuple[str, Counter[tuple[str, str]]]]:
    """By destination that lets in only what it lists: its entries, each with the exit that it is for."""
    exits = evaluation.described.estate.exits
    for partner in evaluation.plan.partners:
        if partner.fixed:
            # An address that is known is one entry, whichever exit shows it.
            known = {part.exit for part in partner.parts if exits[part.exit].listed_toward(part.toward)}
            parts = ((part.exit, block) for part in partner.parts for block in part.blocks)
            entries = Counter(("" if name in known else name, block) for name, block in parts)
            yield partner.destination, entries + Counter(("", str(prefix)) for prefix in partner.host_prefixes)


def routes_to_change(patch: Patch) -> int:
    """Routes that a patch sets or removes, and subnets that get another table."""
    tables = patch.get("route_tables") or {}
    routes = sum(len(one) if isinstance(one, Mapping) else 1 for one in tables.values())
    return routes + sum("routes" in (one or {}) for one in (patch.get("subnets") or {}).values())
