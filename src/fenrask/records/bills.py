"""A month's bill as the provider wrote it, against the modelled one: the open FOCUS specification, CSV or Parquet.

Columns of FOCUS 1.x (FinOps Open Cost and Usage Specification) that are read: BilledCost, BillingCurrency, ResourceId,
ResourceName, ChargeDescription, ServiceName; and, where rates are drawn from a bill, PricingQuantity and PricingUnit,
or ConsumedQuantity and ConsumedUnit, SkuMeter, BillingPeriodStart, ChargePeriodStart.
"""

import csv
import io
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from decimal import Decimal, InvalidOperation
from fractions import Fraction
from typing import Any

from fenrask.charges import UPKEEP, Bill
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described
from fenrask.estate.suggestions import some
from fenrask.evaluation import Evaluation
from fenrask.records.compared import AS_PLANNED, DIFFERENT, NOT_SEEN, Compared
from fenrask.records.tables import accepted_tables
from fenrask.units import cents

__all__ = ["Billed", "compare_bill", "guessed", "named_in", "read_bill"]

_NEAR = Fraction(5, 100)
_COST, _CURRENCY = "BilledCost", "BillingCurrency"
_REMEDY = f"A bill has the columns of this: {accepted_tables('confirm --bill')}."


@dataclass(frozen=True)
class Billed:
    """One row: what was charged, for which resource."""

    resource: str
    description: str
    cost: Fraction
    currency: str = ""
    charge: str = ""
    """What is charged, in the bill's words, without the service's name."""
    quantity: Fraction | None = None
    """How much is charged for, in `unit`; None where the bill does not say."""
    unit: str = ""
    where: str = ""
    begins: str = ""
    """The day on which the billing period begins; empty where the bill does not say."""
    charged_from: str = ""
    """When the charge itself begins, of bills with a row for each hour or day; empty where the bill does not say."""


def read_bill(content: bytes, file: str, currency: str, problems: list[Problem]) -> list[Billed]:
    """The rows of a bill; those that cannot be read go to the problems, the rest stays.

    currency: that of the catalogue, in which all rows must be; empty where none is known. UnusableInput for a file that
    is no such bill.
    """
    rows = list(_parquet(content, file) if content[:4] == b"PAR1" else _csv(content))
    if not rows or _COST not in rows[0][1]:
        columns = ", ".join(list(rows[0][1])[:6]) if rows else "no row"
        raise UnusableInput([Problem(Place(file), columns, f"a bill with the column {_COST} (FOCUS)", _REMEDY)])
    found = list[Billed]()
    for number, row in rows:
        place = Place(file, number, 1)
        told = str(row.get(_CURRENCY) or currency)
        if currency and told != currency:
            problems.append(Problem(place, told, f"{currency}, as in the catalogue"))
            continue
        try:
            cost = Fraction(Decimal(str(row[_COST])))
        except (InvalidOperation, ValueError, OverflowError):
            problems.append(Problem(place, repr(row[_COST]), f"a number under {_COST}"))
            continue
        resource = str(row.get("ResourceName") or row.get("ResourceId") or "")
        words = " ".join(str(row.get(key) or "") for key in ("ServiceName", "ChargeDescription")).strip()
        charge = " ".join(str(row.get(key) or "") for key in ("SkuMeter", "ChargeDescription")).strip()
        quantity, unit = _quantity(row)
        begins, where = str(row.get("BillingPeriodStart") or "")[:10], f"{file} row {number}"
        charged_from = str(row.get("ChargePeriodStart") or "")
        found.append(Billed(resource, words, cost, told, charge, quantity, unit, where, begins, charged_from))
    return found


def _quantity(row: Mapping[str, Any]) -> tuple[Fraction | None, str]:
    """How much is priced, else consumed, and in which unit."""
    for of in ("Pricing", "Consumed"):
        text = row.get(f"{of}Quantity")
        if text not in (None, ""):
            with suppress(InvalidOperation, ValueError, OverflowError):
                return Fraction(Decimal(str(text))), str(row.get(f"{of}Unit") or "")
    return None, ""


def _csv(content: bytes) -> Iterator[tuple[int, dict[str, Any]]]:
    rows = csv.DictReader(io.StringIO(content.decode("utf-8-sig", errors="replace"), newline=""))
    for row in rows:
        yield rows.line_num, {key: value for key, value in row.items() if key}


def _parquet(content: bytes, file: str) -> Iterator[tuple[int, dict[str, Any]]]:
    import pyarrow.parquet as parquet

    try:
        table = parquet.read_table(io.BytesIO(content))
    except Exception as error:  # noqa: BLE001 - whatever the library says of a broken file is told as one sentence
        raise UnusableInput([Problem(Place(file), str(error).splitlines()[0], "a Parquet file")]) from None
    yield from enumerate(table.to_pylist(), 1)


def guessed(described: Described, billed: Sequence[Billed], stated: Mapping[str, str]) -> dict[str, str]:
    """The exit of each resource: as stated, else the one whose name it carries as a word of its own; else none."""
    found: dict[str, str] = {}
    for row in billed:
        if row.resource in stated:
            found[row.resource] = stated[row.resource]
        elif row.resource not in found:
            found[row.resource] = named_in(row.resource, described.estate.exits)
    return found


def named_in(resource: str, names: Iterable[str]) -> str:
    """The longest name that a resource carries as a word of its own; empty for none."""
    longest = sorted(names, key=len, reverse=True)
    return next((one for one in longest if re.search(rf"(?<![\w-]){re.escape(one)}(?![\w-])", resource)), "")


def compare_bill(evaluation: Evaluation, billed: Sequence[Billed], owners: Mapping[str, str]) -> Iterator[Compared]:
    """Each exit's cost and the total as billed, against the model; what belongs to no exit comes after the exits.

    The work on machines of one's own is on no provider's bill.
    """
    currency, planned = evaluation.bill.currency, _charged(evaluation.bill)
    seen: dict[str, Fraction] = {}
    for row in billed:
        owner = owners.get(row.resource, "")
        seen[owner] = seen.get(owner, Fraction(0)) + row.cost
    for name in sorted({*planned, *seen} - {""}, key=lambda name: -planned.get(name, Fraction(0))):
        exit_ = _judged(name, "exit", planned.get(name, Fraction(0)), seen.get(name), currency)
        if exit_.verdict == DIFFERENT and (told := _one_line(evaluation.bill, name, seen[name] - planned.get(name, 0))):
            exit_ = replace(exit_, cause=told)
        yield exit_
    if planned.get("") or "" in seen:
        rest = _judged("(no exit)", "rest", planned.get("", Fraction(0)), seen.get(""), currency)
        unknown = dict.fromkeys(each.resource or each.description for each in billed if not owners.get(each.resource))
        if rest.verdict == DIFFERENT and unknown:
            rest = replace(
                rest, cause=f"{rest.cause}; of no exit: {some(unknown)}", check_next="--resource RESOURCE=EXIT"
            )
        yield rest
    whole = sum(planned.values(), Fraction(0))
    total = _judged("the bill", "total", whole, sum(seen.values(), Fraction(0)), currency)
    if own := cents(evaluation.bill.total - whole):
        work = f"{own:,} {currency} of own work on machines, in `fenrask charges`, is on no provider's bill"
        total = replace(total, cause=f"{total.cause}; {work}" if total.cause else work)
    yield total


def _one_line(bill: Bill, exit_name: str, more: Fraction) -> str:
    """Which line of an exit a difference is as large as, if one is: charged twice, or not at all."""
    lines: dict[str, Fraction] = {}
    for line in bill.lines:
        share = sum((part for use, part in line.uses.items() if use.exit == exit_name), Fraction(0))
        if share and line.item != UPKEEP:
            item = line.item if line.about in ("", exit_name) else f"{line.item} {line.about}"
            lines[item] = lines.get(item, Fraction(0)) + line.amount * share
    alike = (item for item, amount in lines.items() if amount and abs(abs(more) - amount) <= amount / 100)
    item = next(alike, "")
    if not item:
        return ""
    what = "once more: it may be charged on both sides" if more > 0 else "not charged: it may not be taken"
    return f"{cents(more):+,} {bill.currency} is its line `{item}` {what}"


def _charged(bill: Bill) -> dict[str, Fraction]:
    """What the provider charges for each exit; the empty name holds what belongs to none."""
    found: dict[str, Fraction] = {}
    for line in bill.lines:
        for use, share in line.uses.items() if line.item != UPKEEP else ():
            found[use.exit] = found.get(use.exit, Fraction(0)) + line.amount * share
    return found


def _judged(about: str, item: str, planned: Fraction, seen: Fraction | None, currency: str) -> Compared:
    told = f"{cents(planned):,} {currency}"
    if seen is None:
        verdict = AS_PLANNED if cents(planned) == 0 else NOT_SEEN
        return Compared("bill", about, item, told, "", verdict)
    texts = (told, f"{cents(seen):,} {currency}")
    if abs(seen - planned) <= _NEAR * max(abs(planned), Fraction(1)):
        return Compared("bill", about, item, *texts, AS_PLANNED)
    more = cents(seen - planned)
    cause = f"{more:+,} {currency}: another volume, another rate, or something that is not described"
    command = "fenrask charges" if item != "exit" else f"fenrask charges --exit {about}"
    return Compared("bill", about, item, *texts, DIFFERENT, cause, command)
