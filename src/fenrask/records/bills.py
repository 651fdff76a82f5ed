"""A month's bill as the provider wrote it, against the modelled one: the open FOCUS specification, CSV or Parquet.

Columns of FOCUS 1.x (FinOps Open Cost and Usage Specification) that are read: BilledCost, BillingCurrency, ResourceId,
ResourceName, ChargeDescription, ServiceName; and, where rates are drawn from a bill, PricingQuantity and PricingUnit,
or ConsumedQuantity and ConsumedUnit, SkuMeter, BillingPeriodStart, ChargePeriodStart; ServiceCategory and
ChargeCategory, by which tax, and what is no networking and belongs to no exit, are set aside.
"""

import csv
import io
import re
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence
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
from fenrask.units import cents, counted

__all__ = ["Billed", "about_ways_out", "confirm_bill", "item_of", "owners_of", "read_bill"]

_NEAR = Fraction(5, 100)
_TAX = "Tax"
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
    category: str = ""
    """The category of the service in the words of the specification, or `Tax`; empty where the bill does not say."""

    def is_about(self, owner: str) -> bool:
        """Whether it may be about a way out: of networking, of no category, or of an exit, by name."""
        return self.category != _TAX and (bool(owner) or self.category.lower() in ("", "networking", "other"))


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
        of_service = str(row.get("ServiceCategory") or "").strip()
        category = _TAX if str(row.get("ChargeCategory") or "").strip().title() == _TAX else of_service
        found.append(Billed(resource, words, cost, told, charge, quantity, unit, where, begins, charged_from, category))
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


def _guessed(described: Described, billed: Sequence[Billed], stated: Mapping[str, str]) -> dict[str, str]:
    """The exit of each resource: as stated, else the one whose name it carries as a word of its own; else none."""
    exits = {name: exit_.listed_addresses for name, exit_ in described.estate.exits.items()}
    found = owners_of(billed, exits)
    return found | {resource: stated[resource] for resource in found if resource in stated}


def owners_of(billed: Sequence[Billed], exits: Mapping[str, Iterable[object]]) -> dict[str, str]:
    """The exit of each resource, see `owner_of`."""
    return {resource: owner_of(resource, exits) for resource in dict.fromkeys(row.resource for row in billed)}


def owner_of(resource: str, exits: Mapping[str, Iterable[object]]) -> str:
    """The exit whose name, the longest, a resource carries as a word of its own, else an address; empty for none.

    exits: the public addresses of each.
    """
    longest = sorted(exits, key=len, reverse=True)
    named = next((one for one in longest if _carries(resource, one)), "")
    return named or next((one for one in exits if any(_carries(resource, str(own)) for own in exits[one])), "")


def _carries(resource: str, word: str) -> bool:
    return word in resource and re.search(rf"(?<![\w-]){re.escape(word)}(?![\w-])", resource) is not None


def about_ways_out(billed: Sequence[Billed], owners: Mapping[str, str]) -> tuple[list[Billed], str]:
    """The rows that may be about ways out, and what the others come to, in words; nothing where there are none."""
    kept = [row for row in billed if row.is_about(owners.get(row.resource, ""))]
    others = [row for row in billed if not row.is_about(owners.get(row.resource, ""))]
    if not others:
        return kept, ""
    cost = cents(sum((row.cost for row in others), Fraction(0)))
    named = some(dict.fromkeys(row.category for row in others))
    rows = counted(len(others), "row")
    return kept, f"{rows} about something else ({named}), {cost:,} {others[0].currency}"


ITEMS: tuple[tuple[str, str], ...] = (
    (r"address", "addresses"), (r"process|carried|inspected", "processed"), (r"region", "region crossing"),
    (r"zone", "zone crossing"), (r"network", "network crossing"), (r"service", "service out"),
    (r"internet|egress|transfer out|data out", "internet out"), (r"hour|uptime|running", "hours"),
)  # fmt: skip
"""The items of a bill by words in what a row is charged for, tried in this order."""


def item_of(row: Billed) -> str:
    """The item that a row is charged for; empty where its words tell none."""
    text = (row.charge or row.description).lower()
    return next((item for words, item in ITEMS if re.search(words, text)), "")


def confirm_bill(
    evaluation: Evaluation, billed: Sequence[Billed], stated: Mapping[str, str]
) -> tuple[list[Compared], str]:
    """A bill against the model, and what of it is about something else, in words.

    stated: the exits of resources, where their names do not tell them.
    """
    owners = _guessed(evaluation.described, billed, stated)
    kept, others = about_ways_out(billed, owners)
    return [*_compared(evaluation, kept, owners)], others


def _compared(evaluation: Evaluation, billed: Sequence[Billed], owners: Mapping[str, str]) -> Iterator[Compared]:
    """Each exit's cost and the total as billed, against the model; what belongs to no exit comes after the exits.

    Where rows name no exit, as those for transfer often do, they are held against the same item of the exits of which
    no row tells it. The work on machines of one's own is on no provider's bill.
    """
    currency, planned = evaluation.bill.currency, _charged(evaluation.bill)
    whole = sum((amount for items in planned.values() for amount in items.values()), Fraction(0))
    seen: dict[str, Fraction] = {}
    told: dict[str, set[str]] = {}
    bare: dict[str, list[Billed]] = {}
    for row in billed:
        if owner := owners.get(row.resource, ""):
            seen[owner] = seen.get(owner, Fraction(0)) + row.cost
            told.setdefault(owner, set()).add(item_of(row))
        else:
            bare.setdefault(item_of(row), []).append(row)
    by_item = [*_by_item(planned, bare, told, currency)]
    costs = {name: sum(items.values(), Fraction(0)) for name, items in planned.items()}
    for name in sorted({*costs, *seen} - {""}, key=lambda name: -costs.get(name, Fraction(0))):
        exit_ = _judged(name, "exit", costs.get(name, Fraction(0)), seen.get(name), currency)
        if exit_.verdict == DIFFERENT and (line := _one_line(evaluation.bill, name, seen[name] - costs.get(name, 0))):
            exit_ = replace(exit_, cause=line)
        yield exit_
    yield from by_item
    rest = [row for rows in bare.values() for row in rows]
    if rest or costs.get(""):
        cost = sum((row.cost for row in rest), Fraction(0)) if rest else None
        left = _judged("(no exit)", "rest", costs.get("", Fraction(0)), cost, currency)
        unknown = dict.fromkeys(each.resource or each.description for each in rest)
        if left.verdict == DIFFERENT and unknown:
            left = replace(
                left, cause=f"{left.cause}; of no exit: {some(unknown)}", check_next="--resource RESOURCE=EXIT"
            )
        yield left
    total = _judged("the bill", "total", whole, sum((row.cost for row in billed), Fraction(0)), currency)
    if own := cents(evaluation.bill.total - whole):
        work = f"{own:,} {currency} of own work on machines, in `fenrask charges`, is on no provider's bill"
        total = replace(total, cause=f"{total.cause}; {work}" if total.cause else work)
    yield total


def _by_item(
    planned: dict[str, dict[str, Fraction]],
    bare: dict[str, list[Billed]],
    told: Mapping[str, Container[str]],
    currency: str,
) -> Iterator[Compared]:
    """The items that rows without an exit have in common with exits of which no row tells them; both are taken out.

    told: the items of each exit's own rows; one in words that tell none may be of any.
    """
    for item in [item for item in bare if item]:
        alone = [
            name
            for name, items in planned.items()
            if item in items and not any(one in told.get(name, ()) for one in (item, ""))
        ]
        amount = sum((planned[name][item] for name in alone), Fraction(0))
        if cents(amount):
            cost = sum((row.cost for row in bare.pop(item)), Fraction(0))
            for name in alone:
                del planned[name][item]
                if not planned[name]:
                    del planned[name]
            yield _judged("(no exit)", item, amount, cost, currency)


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


def _charged(bill: Bill) -> dict[str, dict[str, Fraction]]:
    """What the provider charges for each exit, by item; the empty name holds what belongs to none."""
    found: dict[str, dict[str, Fraction]] = {}
    for line in bill.lines:
        for use, share in line.uses.items() if line.item != UPKEEP else ():
            items = found.setdefault(use.exit, {})
            items[line.item] = items.get(line.item, Fraction(0)) + line.amount * share
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
