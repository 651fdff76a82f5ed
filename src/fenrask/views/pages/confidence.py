"""With what confidence the plan holds, as a page."""

from collections.abc import Iterator, Mapping, Sequence

import numpy as np

from fenrask.designs import Comparison
from fenrask.estate.suggestions import some
from fenrask.units import counted, percent
from fenrask.views.page import Column, Page, Table
from fenrask.what_if import Confident, ExitConfidence

__all__ = ["bill_confidence_page", "capacity_confidence_page", "compare_confidence_page", "more_addresses"]

NO_RANGE = "No load is a range, so that nothing is uncertain about the mean load."
"""What is said where a confidence is asked for and nothing is uncertain."""
_EXITS = (
    Column("exit", "exit", is_answer=True),
    Column("addresses", "addresses", "count", is_answer=True),
    Column("confidence", "suffice with", "share", is_answer=True),
    Column("wanted", "needed", "count", is_answer=True),
    Column("needed_if_apart", "if ranges were independent", "count", least_width=110),
    Column("peak_low", "peak, 5%", "count"),
    Column("peak_middle", "median", "count"),
    Column("peak_high", "95%", "count"),
    Column("measure_first", "measure first", least_width=100),
    Column("weight", "of the spread", "share", least_width=100),
)
_STEPS = (
    Column("exit", "exit", is_answer=True),
    Column("addresses", "addresses", "count", is_answer=True),
    Column("confidence", "suffice with", "share", is_answer=True),
)
_LIMITS = (
    Column("exit", "exit", is_answer=True),
    Column("limit", "limit", is_answer=True),
    Column("confidence", "kept with", "share", is_answer=True),
    Column("use", "not above", "rough", is_answer=True),
    Column("capacity", "of", "rough", is_answer=True),
    Column("unit", "unit"),
)
_INPUTS = (
    Column("input", "input"),
    Column("low", "low (5%)", "rough"),
    Column("likely", "likely", "rough"),
    Column("high", "high (95%)", "rough"),
)


def capacity_confidence_page(estate: str, found: Confident) -> Page:
    """Each exit: how sure its addresses suffice, how many do with the confidence asked for, what to measure first."""
    ordered = sorted(found.exits, key=lambda at_exit: at_exit.now)
    rows = [
        (
            one.exit, one.sized.addresses, one.now, one.wanted, one.if_apart, *map(round, one.peaks),
            one.measure_first or "nothing", one.weight if one.measure_first else None,
        )
        for one in ordered
    ]  # fmt: skip
    summary = []
    if not found.inputs:
        sized = [f"{one.exit} {one.sized.needed}" for one in ordered if one.sized.needed is not None]
        told = f" Addresses needed for it: {', '.join(sized)}." if sized else ""
        summary.append(f"{NO_RANGE}{told}")
    for at_exit in ordered[:3] if found.inputs else ():
        has = counted(at_exit.sized.addresses, "address suffices", "addresses suffice")
        more = (
            "no number does"
            if at_exit.wanted is None
            else f"{at_exit.wanted} with {percent(at_exit.suffices[at_exit.wanted])}"
        )
        better = "" if at_exit.wanted == at_exit.sized.addresses else f"; {more}"
        summary.append(f"{at_exit.exit}: {has} with {percent(at_exit.now)} confidence{better}.")
    for at_exit in ordered[:3] if found.inputs else ():
        if at_exit.if_apart != at_exit.wanted:
            fewer = "none" if at_exit.if_apart is None else str(at_exit.if_apart)
            words = "ranges of one workload or destination are taken to move together"
            summary.append(f"{at_exit.exit}: {words}; were they independent, {fewer} would do.")
    short = [one for one in found.limits if one.kept < found.level]
    if short:
        each = some(f"{one.limit.limit} of {one.exit} ({percent(one.kept)})" for one in short)
        summary.append(f"Limits that are kept with less confidence: {each}.")
    if ordered and ordered[0].measure_first:
        first = ordered[0]
        summary.append(f"Measure first: {first.measure_first} ({percent(first.weight)} of the spread of {first.exit}).")
    if ordered and found.inputs:
        summary.append("Confidence is in the mean loads, as their ranges have them; chance is in every figure already.")
    steps = [(one.exit, n, share) for one in ordered for n, share in one.suffices.items() if share > 0.001]
    tables = (
        Table(
            "exits", f"Addresses, and {found.level:.1%} confidence", _EXITS, rows, empty="no exit translates", shown=12
        ),
        *_limits(found),
        Table("suffices", "By number of addresses", _STEPS, steps, shown=10),
        _inputs(found),
    )
    return Page("confidence", estate, tuple(summary), tables, {"level": found.level, "samples": found.samples})


def _limits(found: Confident) -> Iterator[Table]:
    """The limits beside ports that some samples exceed, where there are any."""
    rows = [
        (one.exit, one.limit.limit, one.kept, one.use, one.limit.capacity, one.limit.unit)
        for one in sorted(found.limits, key=lambda limit: limit.kept)
    ]
    if rows:
        title = f"Limits that some samples exceed, and {found.level:.1%} confidence"
        yield Table("limits", title, _LIMITS, rows, shown=12)


def more_addresses(exits: Sequence[ExitConfidence], level: float, has_ranges: bool) -> str:
    """Which exits need more addresses than they have for this confidence, in one sentence."""
    if not has_ranges:
        return NO_RANGE
    more = [
        f"{one.exit} needs {counted(one.wanted, 'address', 'addresses')} (it has {one.sized.addresses})"
        for one in exits
        if one.wanted is not None and one.wanted > one.sized.addresses
    ]
    never = [f"no number suffices at {one.exit}" for one in exits if one.wanted is None]
    told = "; ".join(more + never) or "the addresses that there are suffice"
    return f"With {percent(level)} confidence: {told}."


def compare_confidence_page(estate: str, comparison: Comparison, found: Mapping[str, Confident]) -> Page:
    """Each design's bill as an interval, and how often it is the cheapest of those that meet every need."""
    passing = [one.design.name for one in comparison.ranked if one.passes]
    currency = comparison.candidates[0].evaluation.bill.currency
    cheapest: dict[str, float] = {}
    if passing:
        least = np.argmin(np.stack([found[name].months for name in passing]), axis=0)
        cheapest = {name: float((least == n).mean()) for n, name in enumerate(passing)}
    rows = [
        (one.design.name, "yes" if one.passes else "no", cheapest.get(one.design.name), *found[one.design.name].month)
        for one in sorted(comparison.ranked, key=lambda candidate: -cheapest.get(candidate.design.name, -1.0))
    ]
    columns = (
        Column("design", "design"),
        Column("passes", "meets every need"),
        Column("cheapest", "cheapest in", "share"),
        *_interval(currency),
    )
    summary = ["No standard design meets every need."]
    if passing:
        best = max(passing, key=lambda name: cheapest[name])
        first = found[best]
        low, _, high = first.month
        summary = [
            f"{best} is the cheapest standard design in {percent(cheapest[best])} of {first.samples:,} samples: "
            f"{low:,.2f} to {high:,.2f} {currency}/month with {percent(first.level)} confidence."
        ]
        if not first.inputs:
            summary = [f"{best} is the cheapest standard design, {low:,.2f} {currency}/month. {NO_RANGE}"]
        if first.month_first:
            summary.append(f"Measure first: {first.month_first} ({percent(first.month_weight)} of its spread).")
    not_counted = ("steps of graduated rates: volumes are priced as in the likely bill",)
    tables = (Table("designs", "Designs", columns, rows, shown=20), _inputs(next(iter(found.values()))))
    return Page("compare_confidence", estate, tuple(summary), tables, {"currency": currency}, not_counted)


def bill_confidence_page(estate: str, currency: str, found: Confident) -> Page:
    """The bill as an interval, and what it depends on."""
    low, middle, high = found.month
    sure = percent(found.level)
    summary = [f"{low:,.2f} to {high:,.2f} {currency}/month with {sure} confidence (median {middle:,.2f})."]
    if not found.inputs:
        summary = [f"{middle:,.2f} {currency}/month. {NO_RANGE}"]
    if found.month_first:
        summary.append(f"Measure first: {found.month_first} ({percent(found.month_weight)} of the spread).")
    columns = _interval(currency)
    not_counted = ("steps of graduated rates: volumes are priced as in the likely bill",)
    tables = (Table("month", "The bill", columns, [found.month]), _inputs(found))
    facts = {"currency": currency, "samples": found.samples}
    return Page("bill_confidence", estate, tuple(summary), tables, facts, not_counted)


def _interval(currency: str) -> tuple[Column, ...]:
    """The columns of a bill that is an interval."""
    return (
        Column("low_amount", f"from, {currency}/month", "number", decimals=2),
        Column("middle_amount", "median", "number", decimals=2),
        Column("high_amount", "to", "number", decimals=2),
    )


def _inputs(found: Confident) -> Table:
    rows = [(one.name, one.low, one.likely, one.high) for one in found.inputs]
    return Table("inputs", "Inputs that are ranges", _INPUTS, rows, empty="none: every load is one number", shown=10)
