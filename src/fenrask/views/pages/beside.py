"""Two estates side by side in their main figures."""

from fractions import Fraction

from fenrask.checks import without_remedies
from fenrask.evaluation import Evaluation
from fenrask.findings import Severity
from fenrask.units import cents
from fenrask.views.page import Column, Page, Table

__all__ = ["beside_page"]


def beside_page(before: Evaluation, now: Evaluation) -> Page:
    """What a month costs, what is wrong, what is bought: before, now, and the difference."""
    currency = now.bill.currency
    columns = (
        Column("figure", "figure"),
        Column("before", "before"),
        Column("now", "now"),
        Column("more", "difference"),
    )
    money = f"{cents(now.bill.total - before.bill.total):+,} {currency}"
    rows = [("the month's bill", _money(before), _money(now), money)]
    for name, (was, is_) in _figures(before, now).items():
        rows.append((name, f"{was:,}", f"{is_:,}", f"{is_ - was:+,}" if is_ != was else "none"))
    better = "less" if now.bill.total < before.bill.total else "more"
    amount = abs(Fraction(now.bill.total - before.bill.total))
    line = f"{cents(amount):,} {currency} {better} a month than before." if amount else "The same bill as before."
    table = Table("figures", "Before and now", columns, rows)
    return Page("beside", now.described.estate.estate, (line,), (table,))


def _money(evaluation: Evaluation) -> str:
    return f"{cents(evaluation.bill.total):,} {evaluation.bill.currency}"


def _figures(before: Evaluation, now: Evaluation) -> dict[str, tuple[int, int]]:
    def counts(evaluation: Evaluation) -> dict[str, int]:
        findings = [each for each in without_remedies(evaluation) if not each.accepted]
        return {
            "errors": sum(each.severity is Severity.ERROR for each in findings),
            "warnings": sum(each.severity is Severity.WARNING for each in findings),
            "needs not met": len(evaluation.broken),
            "exits that do not carry their load": len(evaluation.short),
            "exits": len(evaluation.described.estate.exits),
            "public addresses paid for": sum(evaluation.plan.bought.values()),
        }

    was, is_ = counts(before), counts(now)
    return {name: (was[name], is_[name]) for name in was}
