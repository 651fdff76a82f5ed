"""What remains when exits go for good: routes into nothing, money still due, allow-list entries, flows cut off."""

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from fenrask.checks import without_remedies
from fenrask.designs import BuildStep, FlowChange, build_steps, moves
from fenrask.designs.contract import Patch
from fenrask.evaluation import Evaluation, evaluate
from fenrask.findings import Finding

__all__ = ["StillPaid", "Teardown", "teardown"]


@dataclass(frozen=True)
class StillPaid:
    """Something that is paid for and that no flow uses once the exits are gone."""

    what: str
    month: Fraction


@dataclass(frozen=True)
class Teardown:
    """An estate without some of its exits, and what is left over of them."""

    exits: tuple[str, ...]
    before: Evaluation
    after: Evaluation
    routes: tuple[tuple[str, str, str], ...]
    """Routes that point to them: table, what for, and which exit."""
    changes: tuple[FlowChange, ...]
    still_paid: tuple[StillPaid, ...]
    may_remove: tuple[tuple[str, str, str], ...]
    """Destination, exit, and the entry that its allow-list no longer needs."""
    findings: tuple[Finding, ...]
    """What `check` finds now and did not before."""
    patch: Patch
    """Takes the exits and the routes to them away."""
    steps: tuple[BuildStep, ...]
    """The order in which they go."""

    @property
    def saved(self) -> Fraction:
        """What a month costs less."""
        return self.before.bill.total - self.after.bill.total

    @property
    def idle_before(self) -> Fraction:
        """What a month costs that no flow uses as it is, but for these exits."""
        return sum(_idle(self.before, {*self.exits}).values(), Fraction(0))

    @property
    def held(self) -> list[tuple[str, str]]:
        """What is then held by name and on no exit: the names, and the addresses."""
        return [(held.name, str(held.prefix)) for held in self.after.plan.held if held.idle]

    @property
    def lost(self) -> list[str]:
        """The flows that arrived, in part at least, and no longer do."""
        return [one.flow for one in self.changes if one.is_lost]


def teardown(before: Evaluation, exits: Sequence[str]) -> Teardown:
    """The estate without these exits and the routes that name them alone, evaluated like any other."""
    gone, routes = set(exits), list[tuple[str, str, str]]()
    tables: dict[str, dict[str, None]] = {}
    for table, stated in before.described.data.get("route_tables", {}).items():
        for key, value in stated.items():
            if isinstance(value, str) and value in gone:
                routes.append((table, str(key), value))
                tables.setdefault(table, {})[key] = None
    patch: Patch = {"exits": dict.fromkeys(exits)}
    if tables:
        patch["route_tables"] = tables
    after = evaluate(before.described.patched(patch, "--without"), like=before)
    known = {(one.rule, one.place.path) for one in without_remedies(before)}
    found = [one for one in without_remedies(after) if (one.rule, one.place.path) not in known and not one.accepted]
    return Teardown(
        tuple(exits),
        before,
        after,
        tuple(routes),
        tuple(moves(before, after)),
        tuple(_still_paid(before, after, gone)),
        tuple(_may_remove(before, after)),
        tuple(found),
        patch,
        tuple(build_steps(before, after)),
    )


def _still_paid(before: Evaluation, after: Evaluation, gone: set[str]) -> list[StillPaid]:
    """Each line of the bill that no flow uses now, and that a flow or one of the exits used before."""
    was, now = _idle(before, gone), _idle(after, set())
    more = {what: month - was.get(what, Fraction(0)) for what, month in now.items()}
    return [StillPaid(what, month) for what, month in sorted(more.items(), key=lambda pair: -pair[1]) if month > 0]


def _idle(evaluation: Evaluation, but_for: set[str]) -> dict[str, Fraction]:
    """What is paid and not used, by item; but for what belongs to some exits."""
    found: dict[str, Fraction] = {}
    for line in evaluation.bill.lines:
        share = sum((part for use, part in line.uses.items() if not use.flow and use.exit not in but_for), Fraction(0))
        if share:
            what = f"{line.item} of {line.about}" if line.about else line.item
            found[what] = found.get(what, Fraction(0)) + line.amount * share
    return found


def _may_remove(before: Evaluation, after: Evaluation) -> list[tuple[str, str, str]]:
    """Entries that a destination sees no more, and those on its list that nothing will come from."""
    now = {one.destination: one for one in after.plan.partners}
    found = []
    for partner in before.plan.partners:
        kept = {part.exit for part in now[partner.destination].parts} if partner.destination in now else set()
        for part in partner.parts:
            if part.exit not in kept:
                found += [(partner.destination, part.exit, block) for block in part.blocks]
    return found
