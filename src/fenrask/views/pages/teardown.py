"""What is left over when exits go, as a page."""

from collections.abc import Iterator

from fenrask.estate.suggestions import some
from fenrask.units import cents, counted
from fenrask.views.handover import breaks_text
from fenrask.views.page import Column, Page, Table
from fenrask.what_if import Teardown

__all__ = ["teardown_page"]


def teardown_page(found: Teardown) -> Page:
    """What it saves and breaks; routes to remove, flows that change, what is still paid, entries to take off lists."""
    currency = found.before.bill.currency
    facts = {"currency": currency, "saved_amount": found.saved, "flows_cut_off": found.lost}
    facts["unused_before_amount"] = found.idle_before
    facts["after_amount"] = found.after.bill.total
    facts["held"] = [name for name, _ in found.held]
    money, name = f"{currency}/month", found.before.described.estate.estate
    return Page("teardown", name, _summary(found, money), tuple(_tables(found, money)), facts)


def _summary(found: Teardown, money: str) -> tuple[str, ...]:
    less = "saves" if found.saved >= 0 else "costs"
    summary = [
        f"Without {some(found.exits)}: {less} {cents(abs(found.saved)):,} {money}; "
        + (f"{counted(len(found.lost), 'flow')} cut off ({some(found.lost)})." if found.lost else "no flow is cut off.")
    ]
    still = sum(one.month for one in found.still_paid)
    if still:
        in_all = f"; {cents(found.idle_before + still):,} with what is unused already" if found.idle_before else ""
        summary.append(f"Still paid and unused: {cents(still):,} {money}{in_all}.")
    elif found.idle_before:
        summary.append(f"Unused already: {cents(found.idle_before):,} {money}.")
    summary.append(f"Paid after it: {cents(found.after.bill.total):,} {money}.")
    if found.held:
        held = some(f"{name} ({address})" for name, address in found.held)
        summary.append(f"Still held, and on no exit: {held}.")
    entries = counted(len(found.may_remove), "allow-list entry", "allow-list entries")
    summary.append(f"To remove: {counted(len(found.routes), 'route')}, {entries}.")
    return tuple(summary)


def _tables(found: Teardown, money: str) -> Iterator[Table]:
    yield _steps(found)
    columns: tuple[Column, ...] = (
        Column("flow", "flow"),
        Column("path_before", "path before"),
        Column("path_now", "path after"),
        Column("difference_amount", money, "difference"),
    )
    changes = [(one.flow, one.paths[0], one.paths[1], one.difference) for one in found.changes]
    yield Table("changes", "Flows that change", columns, changes, empty="none", shown=12)
    columns = (Column("table", "table"), Column("prefix", "for"), Column("exit", "exit"))
    yield Table("routes", "Routes that point to them", columns, found.routes, empty="none", shown=12)
    columns = (Column("what", "what"), Column("month_amount", money, "money"))
    paid = [(one.what, one.month) for one in found.still_paid]
    yield Table("still_paid", "Still paid, and used by no flow", columns, paid, empty="nothing")
    columns = (Column("destination", "destination"), Column("exit", "exit"), Column("entry", "entry"))
    title = "Allow-list entries that partners may remove"
    yield Table("may_remove", title, columns, found.may_remove, empty="none", shown=12)
    yield _findings(found)


def _steps(found: Teardown) -> Table:
    columns = (
        Column("step", "step", "count"),
        Column("what", "what"),
        Column("breaks", "connections that break", "count"),
        Column("fails", "what fails then", sparse=True),
    )
    rows = [
        (number, one.what, round(sum(flow.breaks for flow in one.moved)), breaks_text(one))
        for number, one in enumerate(found.steps, 1)
    ]
    return Table("steps", "In this order", columns, rows, empty="nothing is built of them", shown=12)


def _findings(found: Teardown) -> Table:
    columns = (
        Column("severity", "severity", "severity"),
        Column("rule", "rule"),
        Column("path", "path"),
        Column("cause", "cause"),
    )
    rows = [(one.severity.word, one.rule, one.place.path, one.cause) for one in found.findings]
    return Table("findings", "What check finds then, and did not before", columns, rows, empty="nothing", shown=8)
