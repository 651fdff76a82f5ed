"""A catalogue's rates drawn from a bill: what a unit costs, by meter and step; each row is right to a cent."""

from calendar import monthrange
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from fractions import Fraction
from typing import Any, NamedTuple

from fenrask.estate import suggestions
from fenrask.records.bills import Billed, about_ways_out, item_of, owners_of
from fenrask.records.existing.draft import CATALOGUE, Assumed, Draft
from fenrask.units import counted

__all__ = ["put_rates"]

_HALF_CENT = Fraction(1, 200)
_HOURS_PER_MONTH = 730


@dataclass(frozen=True)
class _Meter:
    """The key of the catalogue that states the rate of an item.

    by_exit: whether the rate is of the offer of the exit that the row names.
    """

    keys: tuple[str, ...]
    by_exit: bool = False


_METERS = {
    "addresses": _Meter(("addresses", "hour")),
    "processed": _Meter(("rates", "processed_per_gb"), by_exit=True),
    "region crossing": _Meter(("transfer", "cross_region_per_gb")),
    "zone crossing": _Meter(("transfer", "cross_zone_per_gb")),
    "network crossing": _Meter(("transfer", "cross_network_per_gb")),
    "service out": _Meter(("transfer", "service_out_per_gb")),
    "internet out": _Meter(("transfer", "internet_out_per_gb")),
    "hours": _Meter(("rates", "hour"), by_exit=True),
}
"""By what rows are charged for."""
_BYTES = {
    "kb": 10**3, "mb": 10**6, "gb": 10**9, "gigabyte": 10**9, "gigabytes": 10**9, "tb": 10**12,
    "kib": 2**10, "mib": 2**20, "gib": 2**30, "gibibyte": 2**30, "gibibytes": 2**30, "tib": 2**40,
}  # fmt: skip
"""Bytes of a unit of volume, by its name in small letters."""
_HOURS = ("h", "hr", "hrs", "hour", "hours", "address-h", "address-hour", "address-hours")
_UNITS = {10**9: "GB", 2**30: "GiB"}
_STEPPED = ("processed_per_gb", "internet_out_per_gb", "service_out_per_gb")
"""Rates that may have steps."""


def _charged_rows(rows: Sequence[Billed], draft: Draft) -> list[Billed]:
    """Those of one month and currency that are about ways out; the others, and such as lack a quantity, are listed."""
    of_month = _of_one_month(rows, draft)
    kept, others = about_ways_out(of_month, owners_of(of_month, _addresses(draft)))
    if others:
        draft.lack(CATALOGUE, "rates", why=f"what {others}, would change: not used")
    if bare := [row for row in kept if row.quantity is None]:
        why = f"the quantity (PricingQuantity) in {_places(bare)} rows: no rate can be drawn from them"
        draft.lack(CATALOGUE, "rates", why=why if len(bare) > 1 else why.replace(" rows", ""))
    return kept


def put_rates(rows: Sequence[Billed], draft: Draft) -> None:
    """Set the rates that rows bear out; rows that tell none, and such as a rate does not explain, are listed."""
    rows = _charged_rows(rows, draft) if rows else ()
    if not rows:
        return
    currencies, month = Counter(one.currency for one in rows if one.currency), rows[0].begins
    first = rows[0].where
    draft.bills |= {row.where.rpartition(" row ")[0] for row in rows}
    if currencies:
        draft.put(CATALOGUE, "currency", value=currencies.most_common(1)[0][0], where=first)
    if month:
        draft.put(CATALOGUE, "read_on", value=month, where=f"{first}, the billing period")
    parts: dict[tuple[str, ...], list[Billed]] = {}
    unit, unclear, owners = _unit(rows, draft), dict[_Unclear, list[Billed]](), owners_of(rows, _addresses(draft))
    for row in (one for one in rows if one.quantity is not None):
        found = _priced(row, unit, owners[row.resource], draft)
        if isinstance(found, _Unclear):
            unclear.setdefault(found, []).append(row)
        else:
            parts.setdefault(found.steps, []).append(found.row)
    _list_unclear(unclear, draft)
    _hours(parts, draft)
    is_rounded = all((100 * row.cost).denominator == 1 for row in rows)
    for steps, some in parts.items():
        _put_rate(steps, some, _half_cent if is_rounded else _of_its_digits, draft)
    services = [name for name, entry in draft.of("destinations").items() if entry.get("service")]
    if services and _INTERNET in parts and _SERVICE not in parts:
        why = f"no row of the bill is for traffic to the provider's own services ({', '.join(services[:3])})"
        draft.assume(*_SERVICE, value=0, why=why)
    _counts(parts, owners, draft)


_INTERNET, _SERVICE = (CATALOGUE, "transfer", "internet_out_per_gb"), (CATALOGUE, "transfer", "service_out_per_gb")


def _of_one_month(rows: Sequence[Billed], draft: Draft) -> list[Billed]:
    """Those of the newest billing period, in the currency of most: steps are of a month. The others are listed."""
    newest = max(one.begins for one in rows)
    [(currency, _)] = Counter(one.currency for one in rows if one.begins == newest).most_common(1)
    kept = [one for one in rows if (one.begins, one.currency) == (newest, currency)]
    for number, what in (
        (sum(one.begins != newest for one in rows), "of earlier billing periods"),
        (sum(one.begins == newest and one.currency != currency for one in rows), f"that are not in {currency}"),
    ):
        if number:
            draft.lack(CATALOGUE, "rates", why=f"what {counted(number, 'row')} {what} would change: not used")
    return kept


def _unit(rows: Sequence[Billed], draft: Draft) -> int:
    """The bytes of the unit of volume that most rows have, GB or GiB."""
    sizes = Counter(size for row in rows if (size := _BYTES.get(row.unit.lower().strip())) is not None)
    unit = 2**30 if sum(n for size, n in sizes.items() if size % 10**3) > sum(sizes.values()) / 2 else 10**9
    if sizes:
        where = next(row.where for row in rows if row.unit.lower().strip() in _BYTES)
        draft.put(CATALOGUE, "volume_unit", value=_UNITS[unit], where=where)
    return unit


class _Priced(NamedTuple):
    """The steps to the rate that a row is charged by, and the row in the rate's unit."""

    steps: tuple[str, ...]
    row: Billed


class _Unclear(NamedTuple):
    """Why rows tell no rate: the steps to what they might have told, in words, and what they are charged for."""

    steps: tuple[str, ...]
    words: str
    charge: str


_WHO = "{resources}"
_MOST_UNCLEAR = 12
"""What rows are charged for that is listed by itself, the most expensive first: a bill has far more than ways out."""


def _list_unclear(unclear: Mapping[_Unclear, Sequence[Billed]], draft: Draft) -> None:
    """What rows are charged for of which no rate is told, with its cost."""
    costs = {what: sum((row.cost for row in rows), Fraction(0)) for what, rows in unclear.items()}
    ordered = sorted(unclear, key=lambda what: -abs(costs[what]))
    for what in ordered[:_MOST_UNCLEAR]:
        rows = unclear[what]
        who = suggestions.some([*dict.fromkeys(row.resource or "a resource without a name" for row in rows)])
        amount = f"{_amount(costs[what])} {rows[0].currency} for {what.charge or 'no words'}"
        draft.lack(*what.steps, why=f"{what.words.replace(_WHO, who)} {_places(rows)}: {amount}")
    if rest := ordered[_MOST_UNCLEAR:]:
        rows, cost = [row for what in rest for row in unclear[what]], sum((costs[what] for what in rest), Fraction(0))
        amount = f"{_amount(cost)} {rows[0].currency} for {len(rest)} other things"
        draft.lack(CATALOGUE, "rates", why=f"what is charged in {_places(rows)}: {amount}")


def _amount(cost: Fraction) -> str:
    return f"{cost.numerator / cost.denominator:,.2f}"


def _priced(row: Billed, unit: int, owner: str, draft: Draft) -> _Priced | _Unclear:
    steps = _rate_of(row, owner, draft)
    if isinstance(steps, _Unclear):
        return steps
    known = _in_unit(row, unit, steps)
    return known if isinstance(known, _Unclear) else _Priced(steps, known)


def _in_unit(row: Billed, unit: int, steps: tuple[str, ...]) -> Billed | _Unclear:
    """A row with its quantity in hours, or in the unit of volume; else why no rate can come of it."""
    word, is_time = row.unit.lower().strip(), steps[-1] == "hour"
    known = dict.fromkeys(("", *_HOURS), 1) if is_time else {"": unit, **_BYTES}
    size = known.get(word, 0)
    if row.cost < 0 or row.quantity is None or row.quantity < 0 or not size:
        what = f"{row.unit!r} as a unit" if not size else "an amount below zero: a credit"
        return _Unclear(steps, f"what {what} means, so that it is not used, in", row.charge)
    return row if is_time else replace(row, quantity=row.quantity * size / unit)


def _rate_of(row: Billed, owner: str, draft: Draft) -> tuple[str, ...] | _Unclear:
    """The steps to the rate that a row is charged by; else why that is not plain. owner: its exit, empty for none."""
    meter = _METERS.get(item_of(row))
    if meter is None:
        return _Unclear((CATALOGUE, "rates"), "what is charged in", row.charge)
    if not meter.by_exit:
        return (CATALOGUE, *meter.keys)
    offer = draft.of("exits").get(owner, {}).get("offer")
    if not offer:
        return _Unclear((CATALOGUE, *meter.keys), f"which exit {_WHO} would be, in", row.charge)
    return (CATALOGUE, "offers", str(offer), *meter.keys)


def _addresses(draft: Draft) -> dict[str, list[str]]:
    """The public addresses of each exit, as far as they are listed."""
    stated = {name: entry.get("addresses") for name, entry in draft.of("exits").items()}
    return {name: own if isinstance(own, list) else [] for name, own in stated.items()}


def _hours(parts: dict[tuple[str, ...], list[Billed]], draft: Draft) -> None:
    """How many hours a month has: as many as most exits are charged for, over all the rows of each."""
    charged: dict[str, list[Billed]] = {}
    for steps, some in parts.items():
        for row in some if steps[1] == "offers" and steps[-1] == "hour" else ():
            charged.setdefault(row.resource, []).append(row)
    hours = {who: _through_the_month(some) for who, some in charged.items()}
    if not hours:
        return
    [(usual, _)] = Counter(hours.values()).most_common(1)
    where = _places(next(some for who, some in charged.items() if hours[who] == usual))
    if usual >= _ALMOST * _calendar_hours(next(iter(charged.values()))[0].begins):
        draft.put(CATALOGUE, "hours_per_month", value=_number(usual), where=where)
    else:
        why = f"{where} charge no exit for more than {_number(usual):,g} hours: the bill is of a part of a month"
        draft.assume(CATALOGUE, "hours_per_month", value=_HOURS_PER_MONTH, why=why)


_ALMOST = Fraction(97, 100)
"""The share of a month's hours that a bill of a whole month has at least: some providers count 720 or 730 in each."""


def _calendar_hours(begins: str) -> int:
    """The hours of the month that begins on a day; of the shortest, where no day is told."""
    try:
        first = date.fromisoformat(begins)
    except ValueError:
        return 28 * 24
    return 24 * monthrange(first.year, first.month)[1]


def _through_the_month(rows: Sequence[Billed]) -> Fraction:
    """The hours of one unit: what most rows of a charge period have, period by period."""
    periods: dict[str, Counter[Fraction]] = {}
    for row in rows:
        periods.setdefault(row.charged_from, Counter())[row.quantity or Fraction(0)] += 1
    return sum((some.most_common(1)[0][0] for some in periods.values()), Fraction(0))


def _put_rate(steps: tuple[str, ...], rows: list[Billed], slack: Callable[[Billed], Fraction], draft: Draft) -> None:
    """One rate, or, where units cost differently, steps in the order in which the bill has them.

    slack: by how much an amount may be off.
    """
    classes, where = _by_rate(rows, slack), _places(rows)
    if not classes:
        return
    if len(classes) == 1:
        draft.put(*steps, value=_number(classes[0][0]), where=where)
        return
    if steps[-1] not in _STEPPED:
        # A rate that has no steps: that which most is charged by, and the others are listed.
        classes.sort(key=lambda resource: -sum(row.cost for row in resource[1]))
        draft.put(*steps, value=_number(classes[0][0]), where=_places(classes[0][1]))
        for rate, some in classes[1:]:
            why = f"why {_places(some)} costs {float(rate):g} a unit, where others cost {float(classes[0][0]):g}"
            draft.lack(*steps, why=why)
        return
    tiers: list[dict[str, Any]] = []
    until = Fraction(0)
    for number, (rate, some) in enumerate(classes):
        until += sum((row.quantity or Fraction(0) for row in some), Fraction(0))
        ends = {"up_to_gb": _number(until)} if number < len(classes) - 1 else {}
        tiers.append({**ends, "rate": _number(rate)})
    draft.put(*steps, value={"sum_over": "estate", "tiers": tiers}, where=where)
    why = "a bill does not show the order of steps: the free one is assumed to be first, then the most expensive"
    draft.assumed.append(Assumed((*steps, "tiers"), [one["rate"] for one in tiers], why))


def _places(rows: Sequence[Billed]) -> str:
    return rows[0].where if len(rows) == 1 else f"{rows[0].where} and {len(rows) - 1} more"


_Class = tuple[Fraction, list[Billed]]


def _half_cent(row: Billed) -> Fraction:
    """By how much an amount may be off that is rounded to a cent."""
    return _HALF_CENT


def _of_its_digits(row: Billed) -> Fraction:
    """By how much an amount with more digits than cents may be off, since its quantity is rounded, too."""
    return min(_HALF_CENT, abs(row.cost) / 100_000)


def _by_rate(rows: Sequence[Billed], slack: Callable[[Billed], Fraction]) -> list[_Class]:
    """Rows by what a unit costs, as roundly as every amount allows: what is free first, then from dear to cheap."""
    spans: list[tuple[Fraction, Fraction, list[Billed]]] = []
    for row in sorted((row for row in rows if row.quantity), key=lambda row: -(row.quantity or 0)):
        quantity = row.quantity or Fraction(1)
        low, high = ((row.cost + sign * slack(row)) / quantity for sign in (-1, 1))
        for number, (least, most, some) in enumerate(spans):
            if _has_a_decimal(max(least, low), min(most, high)):
                spans[number] = (max(least, low), min(most, high), [*some, row])
                break
        else:
            spans.append((low, high, [row]))
    found = [(_roundest(max(Fraction(0), low), high), some) for low, high, some in spans]
    return sorted(found, key=lambda tier: (tier[0] > 0, -tier[0]))


def _has_a_decimal(low: Fraction, high: Fraction) -> bool:
    """Whether a number of finitely many decimals is between two: of a single number, whether it is one."""
    return low < high or (low == high and 10 ** low.denominator.bit_length() % low.denominator == 0)


def _roundest(low: Fraction, high: Fraction) -> Fraction:
    """The number with the fewest digits between two."""
    scale = 1
    while True:
        up = -(-low * scale // 1)
        if up <= high * scale:
            return Fraction(up, scale)
        scale *= 10


def _number(value: Fraction) -> int | float:
    return int(value) if value.denominator == 1 else float(value)


def _counts(parts: dict[tuple[str, ...], list[Billed]], owners: Mapping[str, str], draft: Draft) -> None:
    """How many addresses exits hold, where no file told that."""
    month = Fraction(str(draft.catalogue.get("hours_per_month", _HOURS_PER_MONTH)))
    charged: dict[str, list[Billed]] = {}
    for row in parts.get((CATALOGUE, "addresses", "hour"), ()):
        charged.setdefault(owners[row.resource], []).append(row)
    for owner, rows in charged.items():
        number = sum((row.quantity or Fraction(0) for row in rows), Fraction(0)) / month
        if owner and draft.of("exits")[owner].get("addresses") == "auto" and number.denominator == 1 and number:
            draft.put("exits", owner, "addresses", value=int(number), where=_places(rows))
            draft.assumed = [one for one in draft.assumed if one.steps != ("exits", owner, "addresses")]
