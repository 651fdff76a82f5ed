"""A catalogue's rates drawn from a bill: what a unit costs, by meter and step; each row is right to a cent."""

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from fenrask.records.bills import Billed
from fenrask.records.existing.draft import CATALOGUE, Assumed, Draft

__all__ = ["put_rates"]

_HALF_CENT = Fraction(1, 200)
_HOURS_PER_MONTH = 730


@dataclass(frozen=True)
class _Meter:
    """What rows of a bill are charged for, by a word in them, and the key of the catalogue that states its rate.

    by_exit: whether the rate is of the offer of the exit that the row names.
    """

    words: str
    keys: tuple[str, ...]
    by_exit: bool = False
    is_time: bool = False

    def knows(self, text: str) -> bool:
        return re.search(self.words, text) is not None


_METERS = (
    _Meter(r"address", ("addresses", "hour"), is_time=True),
    _Meter(r"process|carried|inspected", ("rates", "processed_per_gb"), by_exit=True),
    _Meter(r"region", ("transfer", "cross_region_per_gb")),
    _Meter(r"zone", ("transfer", "cross_zone_per_gb")),
    _Meter(r"network", ("transfer", "cross_network_per_gb")),
    _Meter(r"service", ("transfer", "service_out_per_gb")),
    _Meter(r"internet|egress|transfer out|data out", ("transfer", "internet_out_per_gb")),
    _Meter(r"hour|uptime|running", ("rates", "hour"), by_exit=True, is_time=True),
)
"""Tried in this order on what a row says in words."""
_VOLUMES = {"gb": "GB", "gigabyte": "GB", "gigabytes": "GB", "gib": "GiB", "gibibyte": "GiB", "gibibytes": "GiB"}


def put_rates(rows: Sequence[Billed], draft: Draft) -> None:
    """Set the rates that rows bear out; rows that tell none, and such as a rate does not explain, are listed."""
    if not rows:
        return
    currencies, begun = Counter(one.currency for one in rows if one.currency), min(one.begins for one in rows)
    first = rows[0].where
    draft.bills |= {row.where.rpartition(" row ")[0] for row in rows}
    if currencies:
        draft.put(CATALOGUE, "currency", value=currencies.most_common(1)[0][0], where=first)
    if begun:
        draft.put(CATALOGUE, "read_on", value=begun, where=f"{first}, the billing period")
    parts: dict[tuple[str, ...], list[Billed]] = {}
    if bare := [row for row in rows if row.quantity is None]:
        why = f"the quantity (PricingQuantity) in {_places(bare)} rows: no rate can be drawn from them"
        draft.lack(CATALOGUE, "rates", why=why if len(bare) > 1 else why.replace(" rows", ""))
    for row in (one for one in rows if one.quantity is not None):
        steps = _rate_of(row, draft)
        if steps:
            parts.setdefault(steps, []).append(row)
    _units(parts, draft)
    for steps, some in parts.items():
        _put_rate(steps, some, draft)
    services = [name for name, entry in draft.of("destinations").items() if entry.get("service")]
    if services and _INTERNET in parts and _SERVICE not in parts:
        why = f"no row of the bill is for what goes to the provider's own services ({', '.join(services[:3])})"
        draft.assume(*_SERVICE, value=0, why=why)
    _counts(parts, draft)


_INTERNET, _SERVICE = (CATALOGUE, "transfer", "internet_out_per_gb"), (CATALOGUE, "transfer", "service_out_per_gb")


def _rate_of(row: Billed, draft: Draft) -> tuple[str, ...]:
    """The steps to the rate that a row is charged by; empty, and listed, where that is not plain."""
    text = f"{row.charge or row.description}".lower()
    meter = next((one for one in _METERS if one.knows(text)), None)
    told = (
        f"{row.where}: {row.cost.numerator / row.cost.denominator:,.2f} {row.currency} for {row.charge or 'no words'}"
    )
    if meter is None:
        draft.lack(CATALOGUE, "rates", why=f"what is charged in {told}")
        return ()
    if not meter.by_exit:
        return (CATALOGUE, *meter.keys)
    owner = owner_of(row.resource, draft)
    offer = draft.of("exits").get(owner, {}).get("offer")
    if not offer:
        draft.lack(
            CATALOGUE, *meter.keys, why=f"which exit {row.resource or 'a resource without a name'} is, in {told}"
        )
        return ()
    return (CATALOGUE, "offers", str(offer), *meter.keys)


def owner_of(resource: str, draft: Draft) -> str:
    """The exit that a resource is: the longest name that it carries as a word of its own; empty for none."""
    exits = sorted(draft.of("exits"), key=len, reverse=True)
    return next((one for one in exits if re.search(rf"(?<![\w-]){re.escape(one)}(?![\w-])", resource)), "")


def _units(parts: dict[tuple[str, ...], list[Billed]], draft: Draft) -> None:
    """What a volume's unit is, and how many hours a month has."""
    volumes = Counter(
        (_VOLUMES[word], row.where)
        for steps, some in parts.items()
        for row in some
        if steps[-1] != "hour" and (word := row.unit.lower().strip()) in _VOLUMES
    )
    if volumes:
        (unit, where), _ = volumes.most_common(1)[0]
        draft.put(CATALOGUE, "volume_unit", value=unit, where=where)
    hours = Counter(
        row.quantity for steps, some in parts.items() if steps[1] == "offers" and steps[-1] == "hour" for row in some
    )
    if hours:
        usual = hours.most_common(1)[0][0]
        where = next(row.where for some in parts.values() for row in some if row.quantity == usual)
        draft.put(CATALOGUE, "hours_per_month", value=_number(usual or Fraction(0)), where=where)


def _put_rate(steps: tuple[str, ...], rows: list[Billed], draft: Draft) -> None:
    """One rate, or, where units cost differently, steps in the order in which the bill has them."""
    classes = _alike([row for row in rows if row.quantity])
    where = _places(rows)
    if not classes:
        return
    if len(classes) == 1:
        draft.put(*steps, value=_number(classes[0][0]), where=where)
        return
    if steps[-1] == "hour" or steps[1:] in (("transfer", "cross_zone_per_gb"), ("transfer", "cross_network_per_gb")):
        # A rate that has no steps: that which most is charged by, and the others are listed.
        classes.sort(key=lambda one: -sum(row.cost for row in one[1]))
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
    why = "a bill does not say in which order steps come: what is free is taken for the first, then the dearest"
    draft.assumed.append(Assumed((*steps, "tiers"), [one["rate"] for one in tiers], why))


def _places(rows: Sequence[Billed]) -> str:
    return rows[0].where if len(rows) == 1 else f"{rows[0].where} and {len(rows) - 1} more"


_Class = tuple[Fraction, list[Billed]]


def _alike(rows: list[Billed]) -> list[_Class]:
    """Rows by what a unit costs, as roundly as every amount allows: what is free first, then from dear to cheap."""
    spans: list[tuple[Fraction, Fraction, list[Billed]]] = []
    for row in sorted(rows, key=lambda one: -(one.quantity or 0)):
        quantity = row.quantity or Fraction(1)
        low, high = ((row.cost + sign * _HALF_CENT) / quantity for sign in (-1, 1))
        for number, (least, most, some) in enumerate(spans):
            if max(least, low) <= min(most, high):
                spans[number] = (max(least, low), min(most, high), [*some, row])
                break
        else:
            spans.append((low, high, [row]))
    found = [(_roundest(max(Fraction(0), low), high), some) for low, high, some in spans]
    return sorted(found, key=lambda one: (one[0] > 0, -one[0]))


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


def _counts(parts: dict[tuple[str, ...], list[Billed]], draft: Draft) -> None:
    """How many addresses exits hold, and for how many hours they ran, where no file told that."""
    month = Fraction(str(draft.catalogue.get("hours_per_month", _HOURS_PER_MONTH)))
    for row in parts.get((CATALOGUE, "addresses", "hour"), ()):
        owner = owner_of(row.resource, draft)
        number = (row.quantity or Fraction(0)) / month
        if owner and draft.of("exits")[owner].get("addresses") == "auto" and number.denominator == 1 and number:
            draft.put("exits", owner, "addresses", value=int(number), where=row.where)
            draft.assumed = [one for one in draft.assumed if one.steps != ("exits", owner, "addresses")]
