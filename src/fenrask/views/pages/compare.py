"""Designs side by side, as a page; and their patches as files."""

import json
from collections.abc import Iterator

from fenrask.designs import Candidate, Comparison
from fenrask.units import cents, counted
from fenrask.views.page import Column, Page, Table

__all__ = ["compare_page", "patch_files"]

_DESIGNS = (
    Column("design", "design"),
    Column("meets_all", "meets all needs"),
    Column("addresses", "addr.", "count"),
    Column("port_use", "port use", "share"),
    Column("port_headroom", "headroom", "share", least_width=120),
    Column("binding", "binds first", least_width=120),
    Column("fixed_amount", "fixed", "money", least_width=100),
    Column("by_volume_amount", "by volume", "money", least_width=100),
    Column("month_amount", "month", "money"),
    Column("difference_to_first_amount", "to first", "difference"),
)
_NEEDS = (
    Column("design", "design"),
    Column("need", "need"),
    Column("flows", "flows or exit", "list"),
    Column("why", "why it is not met (the first)"),
)


def compare_page(comparison: Comparison) -> Page:
    """Every design in one table, then each need that is not met, by design."""
    first = comparison.candidates[0].judged
    needs = [(one.design.name, *unmet) for one in comparison.candidates for unmet in _unmet(one)]
    facts = {"currency": first.bill.currency}
    tables = (
        Table(
            "designs",
            f"Designs, {first.bill.currency} a month",
            _DESIGNS,
            [_row(comparison, c) for c in comparison.candidates],
        ),
        Table("needs_not_met", "Needs not met", _NEEDS, needs),
    )
    left_out = tuple(f"{one.design.name}: {one.why}" for one in comparison.left_out)
    return Page("compare", first.described.estate.estate, _answer(comparison), tables, facts, left_out)


def _answer(comparison: Comparison) -> tuple[str, ...]:
    best = comparison.cheapest
    if best is None:
        return ("No design meets every need.",)
    bill = best.judged.bill
    cheaper = [one for one in comparison.candidates if one.judged.bill.total < bill.total]
    short = "; ".join(f"{one.design.name} ({_short(one)})" for one in cheaper)
    answer = f"Cheapest that meets every need: {best.design.name}, {cents(bill.total):,} {bill.currency} a month."
    return (answer, f"Cheaper, but short of a need: {short}.") if short else (answer,)


def _row(comparison: Comparison, one: Candidate) -> tuple[object, ...]:
    judged = one.judged
    busiest, binding = judged.busiest, judged.binding
    ports = busiest.ports if busiest else None
    return (
        one.design.name,
        "yes" if judged.meets_all else f"no: {_short(one)}",
        judged.addresses,
        1 - ports.headroom if ports else None,
        ports.headroom if ports else None,
        f"{binding[1].limit} of {binding[0]}" if binding else "",
        judged.bill.fixed,
        judged.bill.by_volume,
        judged.bill.total,
        comparison.difference(one),
    )


def _short(one: Candidate) -> str:
    """What a design fails, in few words: how many flows, and exits that cannot carry their load."""
    words = []
    if one.judged.broken:
        words.append(counted(one.judged.flows_with_broken_needs, "flow"))
    if one.judged.short:
        words.append(counted(len(one.judged.short), "exit"))
    return ", ".join(words)


def _unmet(one: Candidate) -> Iterator[tuple[str, list[str], str]]:
    """Each need that is not met, the flows that it is not met for, and why the first is not."""
    for short in one.judged.short:
        yield "capacity", [short.exit], short.verdict
    for need in dict.fromkeys(broken.need for broken in one.judged.broken):
        alike = [broken for broken in one.judged.broken if broken.need == need]
        yield need, [broken.flow for broken in alike], alike[0].why


def patch_files(comparison: Comparison) -> dict[str, str]:
    """Each design's patch as JSON (RFC 7396), by file name; the design as described has none."""
    made = [one for one in comparison.candidates if one.patch]
    return {f"{_file_name(one.design.name)}.json": json.dumps(one.patch, indent=2) + "\n" for one in made}


def _file_name(name: str) -> str:
    return "-".join(name.split())
