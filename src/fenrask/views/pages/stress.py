"""Cases of stress, as a page: a row each, counts before names."""

from collections.abc import Sequence

from fenrask.capacity import ExitLimits
from fenrask.estate.suggestions import some
from fenrask.units import cents, counted, percent, span_text
from fenrask.views.page import MACHINES, Column, Page, Table
from fenrask.what_if import Outcome

__all__ = ["stress_page"]


def stress_page(estate: str, currency: str, outcomes: Sequence[Outcome]) -> Page:
    """Every case, the worst first; then why flows are cut off and exits overloaded."""
    ordered = sorted(outcomes, key=lambda outcome: outcome.severity, reverse=True)
    columns = (
        Column("case", "case", is_answer=True),
        Column("cut_off_count", "flows cut off", "count", is_answer=True),
        Column("without_hosts_count", "flows without hosts", "count", least_width=120),
        Column("overloaded_count", "exits overloaded", "count", is_answer=True),
        Column("blocking", "no free port", "share", is_answer=True),
        Column("full_after_s", "ports full after", "figure", least_width=MACHINES),
        Column("hit", "which", is_answer=True),
        Column("cut_off", "cut off", "list", least_width=MACHINES),
        Column("hosts_lost", "workloads that lose all hosts", "list", least_width=MACHINES),
        Column("overloaded", "overloaded", "list", least_width=MACHINES),
        Column("helps", f"remedy ({currency}/month)", "list", is_answer=True),
    )
    rows = [
        (
            one.case,
            len(one.cut_off),
            len(one.lost_flows),
            len(_overloaded(one)),
            one.blocking,
            min(one.full_after.values(), default=None),
            _hit(one),
            [*one.cut_off],
            one.lost,
            _overloaded(one),
            [f"{each.what} ({cents(each.month):+,})" for each in one.helps],
        )
        for one in ordered
    ]
    why = [(one.case, some(flows), reason) for one in ordered for reason, flows in one.reasons.items()]
    why += [(one.case, each.name, _verdict(one, each)) for one in ordered for each in (*one.overloaded, *one.worse)]
    why += [(one.case, name, reason) for one in ordered for name, reason in one.too_fast.items()]
    why += [(one.case, name, reason) for one in ordered for name, reason in one.taken_over.items()]
    reasons = (Column("case", "case"), Column("what", "flows or exit"), Column("why", "why"))
    tables = (
        Table("cases", "Cases, the worst first", columns, rows, empty="no case", shown=18),
        Table("reasons", "Why", reasons, why, empty="nothing is cut off, nothing overloaded", shown=10),
    )
    return Page("stress", estate, _summary(ordered), tables, {"currency": currency})


def _verdict(outcome: Outcome, each: ExitLimits) -> str:
    """What an exit runs out of, and how soon after the case begins, where that is not at once."""
    full_after = outcome.full_after.get(each.name)
    return f"{each.verdict}; full after {span_text(full_after)}" if full_after else each.verdict


def _overloaded(outcome: Outcome) -> list[str]:
    return list(dict.fromkeys([*(each.name for each in (*outcome.overloaded, *outcome.worse)), *outcome.too_fast]))


def _hit(outcome: Outcome) -> str:
    parts = [some([*outcome.cut_off], 3)] if outcome.cut_off else []
    parts += [f"hosts lost: {some(outcome.lost, 3)}"] if outcome.lost else []
    if overloaded := _overloaded(outcome):
        parts.append(f"overloaded: {some(overloaded, 3)}")
    return "; ".join(parts)


def _summary(ordered: Sequence[Outcome]) -> tuple[str, ...]:
    harmful = [one for one in ordered if not one.is_harmless]
    if not harmful:
        return (f"{counted(len(ordered), 'case')}: nothing is cut off, nothing overloaded.",)
    many = "cuts flows off, takes hosts or overloads" if len(harmful) == 1 else "cut flows off, take hosts or overload"
    summary = [f"{len(harmful)} of {counted(len(ordered), 'case')} {many} an exit."]
    worst = harmful[0]
    parts = []
    if worst.cut_off:
        parts.append(f"cuts off {counted(len(worst.cut_off), 'flow')} ({some([*worst.cut_off], 3)})")
    if worst.lost_flows:
        workloads, flows = some(worst.lost, 3), counted(len(worst.lost_flows), "flow")
        parts.append(f"takes all hosts of {workloads} ({flows})")
    if parts:
        summary.append(f"Worst: {worst.case} {' and '.join(parts)}.")
    loaded = max(harmful, key=lambda outcome: (bool(outcome.overloaded), outcome.blocking))
    if loaded.overloaded:
        short = max(loaded.overloaded, key=lambda exit_: exit_.blocking)
        share = f": {percent(short.blocking)} of new connections fail for want of a port" if short.blocking else ""
        summary.append(f"{loaded.case} overloads {short.name}{share}.")
    return tuple(summary)
