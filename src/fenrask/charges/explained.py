"""How a month's bill is computed."""

from collections.abc import Iterator

from fenrask.charges.bill import Bill
from fenrask.charges.lines import Line
from fenrask.derivation import Step
from fenrask.units import cents, figure

__all__ = ["explain_bill"]


def explain_bill(bill: Bill, most: int | None = None) -> Iterator[Step]:
    """The total as fixed and by volume, then its lines, the largest first, `most` of them: quantity, rate, reason."""
    total = f"{cents(bill.total):,} {bill.currency}/month"
    parts = f"{cents(bill.fixed):,} fixed + {cents(bill.by_volume):,} by volume, {len(bill.lines)} lines in all"
    yield Step("the bill", "total", total, parts)
    for line in sorted(bill.lines, key=lambda line: -abs(line.amount))[:most]:
        yield _line(line, bill.currency)


def _line(line: Line, currency: str) -> Step:
    amount = f"{cents(line.amount):,} {currency}"
    working = f"{figure(float(line.quantity))} {line.unit} x {line.rate:f} {currency}; {line.reason}"
    return Step(line.about or "the estate", line.item, amount, working, "the catalogue's rate")
