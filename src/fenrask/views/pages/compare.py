"""Designs side by side, as a page; and their patches as files."""

import json
from collections.abc import Iterator, Mapping, Sequence
from fractions import Fraction

from fenrask.designs import Candidate, Comparison, FlowChange
from fenrask.units import cents, counted
from fenrask.views.page import MACHINES, Column, Page, Table
from fenrask.what_if import Outcome

__all__ = ["changes_page", "compare_page", "patch_files"]

Losses = Mapping[str, Sequence[Outcome]]
"""What the loss of each zone does, by design."""

_DESIGNS = (
    Column("design", "design"),
    Column("meets_all", "meets all"),
    Column("month_amount", "month", "money"),
    Column("difference_to_first_amount", "to as is", "difference"),
    Column("fixed_amount", "fixed", "money", least_width=130),
    Column("by_volume_amount", "by volume", "money", least_width=MACHINES),
    Column("addresses", "addr.", "count"),
    Column("most_entries", "allow", "count", least_width=110),
    Column("binding", "binds first", least_width=150),
    Column("binding_headroom", "headroom", "share", least_width=100),
    Column("zone_loss", "zone lost", least_width=100),
    Column("hosts_with_public", "public hosts", "count", least_width=MACHINES),
    Column("upkeep_hours", "upkeep h", "number", least_width=MACHINES),
    Column("routes_to_change", "routes", "count", least_width=110),
)
_NEEDS = (
    Column("design", "design"),
    Column("need", "need"),
    Column("flows", "flows or exit", "list"),
    Column("why", "why it is not met (the first)"),
)


def compare_page(comparison: Comparison, losses: Losses, weights: Mapping[str, float] | None = None) -> Page:
    """Every design in one table, then each need that is not met, by design."""
    first = comparison.candidates[0].evaluation
    needs = [(one.design.name, *unmet) for one in comparison.ranked for unmet in _unmet(one)]
    facts = {"currency": first.bill.currency}
    tables = (
        Table(
            "designs",
            f"Designs, {first.bill.currency} a month",
            _DESIGNS if not weights else (*_DESIGNS[:2], _SCORE, *_DESIGNS[2:]),
            _rows(comparison, losses, weights or {}),
        ),
        Table("needs_not_met", "Needs not met", _NEEDS, needs),
    )
    not_counted = tuple(f"{one.design.name}: {one.why}" for one in comparison.not_counted)
    return Page("compare", first.described.estate.estate, _summary(comparison), tables, facts, not_counted)


def _summary(comparison: Comparison) -> tuple[str, ...]:
    best = comparison.cheapest
    if best is None:
        return ("No design meets every need.",)
    bill = best.evaluation.bill
    cheaper = [one for one in comparison.candidates if one.evaluation.bill.total < bill.total]
    short = "; ".join(f"{one.design.name} ({_short(one)})" for one in cheaper)
    summary = f"Cheapest that meets every need: {best.design.name}, {cents(bill.total):,} {bill.currency} a month."
    return (summary, f"Cheaper, but short of a need: {short}.") if short else (summary,)


_SCORE = Column("score", "score", "number")


def _rows(comparison: Comparison, losses: Losses, weights: Mapping[str, float]) -> list[tuple[object, ...]]:
    """Every design; with weights by their score, which is shown."""
    if not weights:
        return [_row(comparison, losses, one) for one in comparison.ranked]
    scored = [(_row(comparison, losses, one), score) for one, score in comparison.scored(weights)]
    return [(*row[:2], score, *row[2:]) for row, score in scored]


def _row(comparison: Comparison, losses: Losses, one: Candidate) -> tuple[object, ...]:
    evaluation, binding = one.evaluation, one.evaluation.binding
    return (
        one.design.name,
        "yes" if evaluation.meets_all else f"no: {_short(one)}",
        evaluation.bill.total,
        comparison.difference(one),
        evaluation.bill.fixed,
        evaluation.bill.by_volume,
        evaluation.addresses,
        evaluation.most_entries,
        f"{binding[1].limit} of {binding[0]}" if binding else "",
        binding[1].headroom if binding else None,
        _loss(losses.get(one.design.name, ())),
        evaluation.hosts_with_public,
        evaluation.upkeep_hours,
        one.routes_to_change,
    )


def _loss(losses: Sequence[Outcome]) -> str:
    """The worst that the loss of a zone does."""
    if not losses:
        return ""
    worst = max(losses, key=lambda each: each.severity)
    words = []
    if worst.cut_off:
        words.append(f"{len(worst.cut_off)} cut off")
    if worst.overloaded:
        words.append(f"{len(worst.overloaded)} overloaded")
    return ", ".join(words) or "no harm"


def _short(one: Candidate) -> str:
    """What a design fails, in few words: how many flows, and exits that cannot carry their load."""
    words = []
    if one.evaluation.broken:
        words.append(counted(one.evaluation.flows_with_broken_needs, "flow"))
    if one.evaluation.short:
        words.append(counted(len(one.evaluation.short), "exit"))
    return ", ".join(words)


def _unmet(one: Candidate) -> Iterator[tuple[str, list[str], str]]:
    """Each need that is not met, the flows that it is not met for, and why the first is not."""
    for short in one.evaluation.short:
        yield "capacity", [short.exit], short.verdict
    for need in dict.fromkeys(broken.need for broken in one.evaluation.broken):
        alike = [broken for broken in one.evaluation.broken if broken.need == need]
        yield need, [broken.flow for broken in alike], alike[0].why


def patch_files(comparison: Comparison) -> dict[str, str]:
    """Each design's patch as JSON (RFC 7396), by file name; the design as described has none."""
    made = [one for one in comparison.candidates if one.patch]
    return {f"{_file_name(one.design.name)}.json": json.dumps(one.patch, indent=2) + "\n" for one in made}


def _file_name(name: str) -> str:
    return "-".join(name.split())


_CHANGES = (
    Column("flow", "flow"),
    Column("way_before", "way before"),
    Column("way_now", "way now"),
    Column("source_before", "seen as before", least_width=120),
    Column("source_now", "seen as now", least_width=120),
    Column("before_amount", "before", "money"),
    Column("now_amount", "now", "money"),
    Column("difference_amount", "more", "difference"),
)


def changes_page(estate: str, currency: str, changes: Sequence[FlowChange], total: Fraction) -> Page:
    """The flows that change, way, source and cost; those that do not are counted."""
    changed = [one for one in changes if one.is_change]
    rows = [(one.flow, *one.paths, *one.sources, *one.amounts, one.difference) for one in changed]
    paths = sum(one.paths[0] != one.paths[1] for one in changed)
    sources = sum(one.sources[0] != one.sources[1] for one in changed)
    summary = (
        f"{counted(paths, 'flow takes', 'flows take')} another way, "
        f"{counted(sources, 'is', 'are')} seen as another source; {cents(total):+,} {currency} a month in all",
    )
    table = Table("changes", f"Flows that change; {currency} a month", _CHANGES, rows, empty="no flow changes")
    facts = {"currency": currency, "difference_amount": total, "unchanged": len(changes) - len(changed)}
    return Page("changes", estate, summary, (table,), facts)
