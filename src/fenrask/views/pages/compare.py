"""Designs side by side, as a page; and their patches as files."""

import json
from collections.abc import Iterator, Mapping, Sequence
from fractions import Fraction

from fenrask.designs import Candidate, Comparison, FlowChange
from fenrask.units import cents, counted, rough
from fenrask.views.page import MACHINES, Column, Page, Table
from fenrask.views.quoting import file_name
from fenrask.what_if import Outcome

__all__ = ["changes_page", "compare_page", "patch_files"]

Losses = Mapping[str, Sequence[Outcome]]
"""What the loss of each zone does, by design."""

_NEEDS = (
    Column("design", "design", is_answer=True),
    Column("need", "need"),
    Column("flows", "flows or exit", "list", most=3),
    Column("why", "why it is not met (the first)"),
)


def _columns(money: str) -> tuple[Column, ...]:
    return (
        Column("design", "design", is_answer=True),
        Column("needs_met", "needs met", is_answer=True),
        Column("month_amount", money, "money", is_answer=True),
        Column("difference_to_current_amount", "vs current", "difference", is_answer=True),
        Column("fixed_amount", "fixed", "money", least_width=MACHINES),
        Column("by_volume_amount", "by volume", "money", least_width=MACHINES),
        Column("addresses", "addresses", "count"),
        Column("longest_allow_list_entries", "longest allow-list", "count", least_width=110),
        Column("binding", "first limit", least_width=140),
        Column("binding_headroom", "headroom", "share", least_width=90),
        Column("zone_loss", "if a zone fails"),
        Column("hosts_with_public", "public hosts", "count", least_width=MACHINES),
        Column("down_min_per_month", "down, min/month", "number", least_width=110, sparse=True),
        Column("upkeep_hours", "upkeep hours", "number", least_width=MACHINES),
        Column("routes_to_change", "route changes", "count", least_width=120),
    )


def compare_page(comparison: Comparison, losses: Losses, weights: Mapping[str, float] | None = None) -> Page:
    """Every design in one table, the cheapest that meets every need first; then each need not met, by design."""
    first = comparison.candidates[0].evaluation
    needs = [(one.design.name, *unmet) for one in comparison.ranked for unmet in _unmet(one)]
    facts = {"currency": first.bill.currency}
    columns = _columns(f"{first.bill.currency}/month")
    if weights:
        columns = (*columns[:2], Column("score", "score", "number"), *columns[2:])
    tables = (
        Table("designs", "Designs", columns, _rows(comparison, losses, weights or {})),
        Table("needs_not_met", "Needs not met", _NEEDS, needs, shown=4, is_answer=True),
    )
    not_counted = tuple(f"{one.design.name}: {one.why}" for one in comparison.not_counted)
    return Page("compare", first.described.estate.estate, _summary(comparison), tables, facts, not_counted)


def _summary(comparison: Comparison) -> tuple[str, ...]:
    choose = "`fenrask choose` also searches mixed designs."
    best = comparison.cheapest
    if best is None:
        return (f"No standard design meets every need. {choose}",)
    bill = best.evaluation.bill
    summary = [
        f'Cheapest standard design that meets every need: "{best.design.name}", {cents(bill.total):,} '
        f"{bill.currency}/month. {choose}"
    ]
    cheaper = [one for one in comparison.candidates if one.evaluation.bill.total < bill.total]
    if cheaper:
        short = "; ".join(f"{one.design.name} ({_short(one)})" for one in cheaper)
        summary.append(f"Cheaper, but does not meet every need: {short}.")
    return tuple(summary)


def _rows(comparison: Comparison, losses: Losses, weights: Mapping[str, float]) -> list[tuple[object, ...]]:
    """Every design; with weights by their score, which is shown."""
    if not weights:
        return [_row(comparison, losses, one) for one in comparison.ranked]
    scored = [(_row(comparison, losses, one), score) for one, score in comparison.scored(weights)]
    return [(*row[:2], score, *row[2:]) for row, score in scored]


def _row(comparison: Comparison, losses: Losses, candidate: Candidate) -> tuple[object, ...]:
    evaluation, binding = candidate.evaluation, candidate.evaluation.binding
    return (
        candidate.design.name,
        "yes" if candidate.passes else f"no: {_short(candidate)}",
        evaluation.bill.total,
        comparison.difference(candidate),
        evaluation.bill.fixed,
        evaluation.bill.by_volume,
        evaluation.addresses,
        evaluation.most_entries,
        f"{binding[1].limit} of {binding[0]}" if binding else "",
        binding[1].headroom if binding else None,
        _loss(losses.get(candidate.design.name, ())),
        evaluation.hosts_with_public,
        max(evaluation.down_minutes.values(), default=None),
        evaluation.upkeep_hours,
        candidate.routes_to_change,
    )


def _loss(losses: Sequence[Outcome]) -> str:
    """The worst that the loss of a zone does."""
    if not losses:
        return ""
    worst = max(losses, key=lambda each: each.severity)
    words = []
    if lost := len(worst.cut_off) + len(worst.lost_flows):
        words.append(f"{lost} cut off")
    if overloaded := len(worst.overloaded) + len(worst.worse):
        words.append(f"{overloaded} overloaded")
    return ", ".join(words) or "no harm"


def _short(candidate: Candidate) -> str:
    """What a design fails, in few words: how many flows, and exits that cannot carry their load."""
    words = []
    if candidate.evaluation.broken:
        words.append(counted(candidate.evaluation.flows_with_broken_needs, "flow"))
    if candidate.evaluation.short:
        words.append(counted(len(candidate.evaluation.short), "exit"))
    if candidate.made_public and not candidate.public_hosts:
        words.append("makes hosts public")
    return ", ".join(words)


def _unmet(candidate: Candidate) -> Iterator[tuple[str, list[str], str]]:
    """Each need that is not met, the flows that it is not met for, and why the first is not."""
    for short in candidate.evaluation.short:
        yield "capacity", [short.exit], short.verdict
    if candidate.made_public and not candidate.public_hosts:
        why = "hosts stay private unless --public-hosts or may_be_public says otherwise"
        yield "private hosts", list(candidate.made_public), why
    for need in dict.fromkeys(broken.need for broken in candidate.evaluation.broken):
        some = [broken for broken in candidate.evaluation.broken if broken.need == need]
        yield need, [broken.flow for broken in some], some[0].why


def patch_files(comparison: Comparison) -> dict[str, str]:
    """Each design's patch as JSON (RFC 7396), by file name; the design as described has none."""
    made = [one for one in comparison.candidates if one.patch]
    return {file_name(one.design.name, ".json"): json.dumps(one.patch, indent=2) + "\n" for one in made}


def changes_page(estate: str, currency: str, changes: Sequence[FlowChange], total: Fraction) -> Page:
    """The flows that change: path, source and cost; those that do not are counted."""
    changed = [one for one in changes if one.is_change]
    columns = (
        Column("flow", "flow", is_answer=True),
        Column("path_before", "path before"),
        Column("path_now", "path now", is_answer=True),
        Column("source_before", "source before", least_width=120),
        Column("source_now", "source now", least_width=120),
        Column("before_amount", "before", "money"),
        Column("now_amount", "now", "money"),
        Column("difference_amount", "change", "difference", is_answer=True),
        Column("breaking_connections", "connections that break", "count"),
        Column("breaking_duration_s", "each of, s", "rough", least_width=120),
    )
    rows = [
        (one.flow, *one.paths, *one.sources, *one.amounts, one.difference, round(one.breaks), one.breaks_for_s or None)
        for one in changed
    ]
    lost = sum(one.is_lost for one in changed)
    paths = sum(one.paths[0] != one.paths[1] and not one.is_lost for one in changed)
    sources = sum(one.sources[0] != one.sources[1] and not one.is_lost for one in changed)
    parts = [f"{counted(paths, 'flow takes', 'flows take')} another path"] if paths else []
    parts += [f"{counted(sources, 'flow shows', 'flows show')} another source"] if sources else []
    parts += [f"{counted(lost, 'flow no longer arrives', 'flows no longer arrive')}"] if lost else []
    summary: tuple[str, ...] = (
        f"{', '.join(parts) or 'No flow changes its path or source'}; {cents(total):+,} {currency}/month in all.",
    )
    if breaks := sum(round(one.breaks) for one in changed):
        longest = max(one.breaks_for_s for one in changed)
        summary += (
            f"Moved at the peak, {breaks:,} open connections break; they last {rough(longest)} s at most in the mean.",
        )
    table = Table("changes", f"Flows that change; {currency}/month", columns, rows, empty="no flow changes", shown=20)
    facts = {"currency": currency, "difference_amount": total, "unchanged": len(changes) - len(changed)}
    return Page("changes", estate, summary, (table,), facts)
