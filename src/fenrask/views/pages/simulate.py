"""What the simulation showed, beside what the formulas say, as a page."""

from collections.abc import Sequence
from typing import Any

from fenrask.teletraffic.simulation import Found
from fenrask.units import clock_text, span_text
from fenrask.views.cells import share_text
from fenrask.views.page import MACHINES, Column, Page, Table
from fenrask.what_if import Simulated

__all__ = ["simulate_page"]

_REFUSED = (
    Column("exit", "exit"),
    Column("pool", "pool"),
    Column("blocking", "refused", "share"),
    Column("refused_low_share", "95 % from", "share"),
    Column("refused_high_share", "to", "share"),
    Column("formula_share", "formula", "share"),
    Column("worst_minute", "worst minute"),
    Column("worst_minute_share", "refused then", "share"),
    Column("recovers_s", "recovers min", "minutes", sparse=True),
    Column("setting", "setting", least_width=140),
    Column("runs", "runs", "count", least_width=110),
    Column("attempts", "connections", "count", least_width=MACHINES),
    Column("refused", "refused connections", "count", least_width=MACHINES),
)
_CONCURRENT = (
    Column("exit", "exit"),
    Column("pool", "pool"),
    Column("from", "from"),
    Column("mean_held_ports", "ports in use", "number"),
    Column("low_held_ports", "5 % below", "number"),
    Column("high_held_ports", "5 % above", "number"),
    Column("blocking", "refused", "share"),
)


def simulate_page(
    estate: str, target: float, results: Sequence[tuple[Simulated, Found]], case: str = "", not_run: Sequence[str] = ()
) -> Page:
    """The refused share of each pool with its interval beside the formula's; ports in use and refusals over time."""
    rows: list[tuple[Any, ...]] = []
    concurrent: list[tuple[Any, ...]] = []
    not_counted = list(not_run)
    for one, found in results:
        worst_s, worst = one.worst_minute(found)
        rows.append(
            (
                one.exit,
                one.pool,
                found.share,
                found.low,
                found.high,
                one.formula,
                clock_text(worst_s) if found.blocked else "none",
                worst,
                one.recovers_s(found, target),
                one.what,
                found.runs,
                found.attempts,
                found.blocked,
            )
        )
        concurrent += [
            (one.exit, one.pool, clock_text(begins), mean, low, high, blocked)
            for begins, mean, low, high, blocked in one.by_period(found)
        ]
        not_counted += [f"{one.exit}, {one.pool}: {words}" for words in one.not_counted]
        if found.let_go:
            not_counted.append(f"{one.exit}, {one.pool}: {found.let_go:,} retries that were too many to follow")
        if found.interrupted:
            not_counted.append(f"{one.exit}, {one.pool}: stopped after {found.runs} runs")
    tables = (
        Table("pools", "New connections refused, simulated and by the formula", _REFUSED, rows),
        Table("held", "Ports in use, and connections refused, over time", _CONCURRENT, concurrent),
    )
    summary = _summary(results, target, case)
    if not_run and not results:
        summary = ("nothing was simulated; why, is told below",)
    return Page("simulate", estate, summary, tables, {"case": case}, tuple(not_counted))


def _summary(results: Sequence[tuple[Simulated, Found]], target: float, case: str) -> tuple[str, ...]:
    when = f" in the case {case}" if case else ""
    if not results:
        return ("nothing was simulated: no exit that translates holds any connection",)
    one, found = max(results, key=lambda pair: pair[1].share)
    if not found.blocked:
        total = sum(each.attempts for _, each in results)
        return (f"none of {total:,} simulated connections was refused{when}",)
    summary = [
        f"{one.exit} refuses {share_text(found.share)} of new connections to {one.pool}{when}: "
        f"{share_text(found.low)} to {share_text(found.high)} with 95 % certainty"
    ]
    worst_s, worst = one.worst_minute(found)
    summary.append(f"in its worst minute, from {clock_text(worst_s)}, it refuses {share_text(worst)}")
    if one.formula is not None:
        inside = found.low <= one.formula <= found.high
        word = "within that interval" if inside else f"{abs(one.formula / found.share - 1):.1%} off"
        summary.append(f"the formula says {share_text(one.formula)}: {word}")
    if one.storm_s is not None:
        recovers = one.recovers_s(found, target)
        end = (
            "it does not recover in the time simulated" if recovers is None else f"it recovers in {span_text(recovers)}"
        )
        begins = "after all connections are opened anew"
        if one.lasts_s is not None:
            at = clock_text(one.moment_s(round(one.storm_s / one.step_s)))
            begins = f"the case strikes at {at}, for {span_text(one.lasts_s)};"
        summary.append(f"{begins} {end}")
    return tuple(summary)
