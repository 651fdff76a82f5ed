"""Cases of stress, as a page."""

from collections.abc import Sequence

from fenrask.units import cents, counted
from fenrask.views.page import Column, Page, Table
from fenrask.what_if import Outcome

__all__ = ["stress_page"]

_CASES = (
    Column("case", "case"),
    Column("cut_off", "cut off", "list"),
    Column("hosts_lost", "hosts lost of", "list", least_width=120),
    Column("overloaded", "overloaded", "list"),
    Column("blocking", "refused", "share"),
    Column("helps", "would have helped, money a month", "list"),
)
_WHY = (
    Column("case", "case"),
    Column("what", "what"),
    Column("why", "why"),
)


def stress_page(estate: str, currency: str, outcomes: Sequence[Outcome]) -> Page:
    """Every case, the worst first; then why flows are cut off and exits overloaded."""
    ordered = sorted(outcomes, key=lambda one: one.severity, reverse=True)
    rows = [
        (
            one.case,
            [*one.cut_off, *one.lost_flows],
            one.lost,
            [*dict.fromkeys([*(each.exit for each in one.overloaded), *one.too_fast])],
            one.blocking,
            [f"{each.what} ({cents(each.month):+,})" for each in one.helps],
        )
        for one in ordered
    ]
    why = [(one.case, flow, reason) for one in ordered for flow, reason in one.cut_off.items()]
    why += [(one.case, each.exit, each.verdict) for one in ordered for each in one.overloaded]
    why += [(one.case, name, reason) for one in ordered for name, reason in one.too_fast.items()]
    tables = (
        Table("cases", f"The worst first; amounts in {currency}", _CASES, rows, empty="no case"),
        Table("reasons", "Why", _WHY, why, empty="nothing is cut off, nothing overloaded"),
    )
    return Page("stress", estate, _summary(ordered), tables, {"currency": currency})


def _summary(ordered: Sequence[Outcome]) -> tuple[str, ...]:
    harmful = [one for one in ordered if not one.is_harmless]
    if not harmful:
        return (f"{counted(len(ordered), 'case')}: nothing is cut off, nothing overloaded",)
    many = "cuts flows off or overloads" if len(harmful) == 1 else "cut flows off or overload"
    summary = [f"{len(harmful)} of {counted(len(ordered), 'case')} {many} an exit"]
    worst = harmful[0]
    if worst.cut_off:
        summary.append(f"worst: {worst.case} cuts off {', '.join(worst.cut_off)}")
    loaded = max(harmful, key=lambda one: (one.blocking, len(one.too_fast)))
    if loaded.overloaded:
        short = max(loaded.overloaded, key=lambda one: one.blocking)
        summary.append(f"{loaded.case} overloads {short.exit}: {short.blocking:.1%} refused at worst")
    return tuple(summary)
