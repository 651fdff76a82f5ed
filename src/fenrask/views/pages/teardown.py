"""What is left over when exits go, as a page."""

from fenrask.estate.suggestions import some
from fenrask.units import cents, counted
from fenrask.views.handover import breaks_text
from fenrask.views.page import Column, Page, Table
from fenrask.what_if import Teardown

__all__ = ["teardown_page"]


def teardown_page(found: Teardown) -> Page:
    """What it saves and breaks; routes to remove, flows that change, what is still paid, entries to take off lists."""
    currency = found.before.bill.currency
    money = f"{currency}/month"
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
    tables = (
        Table(
            "steps",
            "In this order",
            (
                Column("step", "step", "count"),
                Column("what", "what"),
                Column("breaks", "connections that break", "count"),
                Column("fails", "what fails then", sparse=True),
            ),
            [
                (number, one.what, round(sum(flow.breaks for flow in one.moved)), breaks_text(one))
                for number, one in enumerate(found.steps, 1)
            ],
            empty="nothing is built of them",
            shown=12,
        ),
        Table(
            "changes",
            "Flows that change",
            (
                Column("flow", "flow"),
                Column("path_before", "path before"),
                Column("path_now", "path after"),
                Column("difference_amount", money, "difference"),
            ),
            [(one.flow, one.paths[0], one.paths[1], one.difference) for one in found.changes],
            empty="none",
            shown=12,
        ),
        Table(
            "routes",
            "Routes that point to them",
            (Column("table", "table"), Column("prefix", "for"), Column("exit", "exit")),
            found.routes,
            empty="none",
            shown=12,
        ),
        Table(
            "still_paid",
            "Still paid, and used by no flow",
            (Column("what", "what"), Column("month_amount", money, "money")),
            [(one.what, one.month) for one in found.still_paid],
            empty="nothing",
        ),
        Table(
            "may_remove",
            "Allow-list entries that partners may remove",
            (Column("destination", "destination"), Column("exit", "exit"), Column("entry", "entry")),
            found.may_remove,
            empty="none",
            shown=12,
        ),
        Table(
            "findings",
            "What check finds then, and did not before",
            (
                Column("severity", "severity", "severity"),
                Column("rule", "rule"),
                Column("path", "path"),
                Column("cause", "cause"),
            ),
            [(one.severity.word, one.rule, one.place.path, one.cause) for one in found.findings],
            empty="nothing",
            shown=8,
        ),
    )
    facts = {"currency": currency, "saved_amount": found.saved, "flows_cut_off": found.lost}
    facts["unused_before_amount"] = found.idle_before
    facts["after_amount"] = found.after.bill.total
    facts["held"] = [name for name, _ in found.held]
    return Page("teardown", found.before.described.estate.estate, tuple(summary), tables, facts)
