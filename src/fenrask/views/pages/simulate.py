"""What the simulation showed, beside what the formulas say, as a page."""

from collections.abc import Sequence
from typing import Any

from fenrask.teletraffic.backoff import waits_of
from fenrask.teletraffic.simulation import Found
from fenrask.units import clock_text, counted, percent, span_text
from fenrask.views.cells import share_text
from fenrask.views.page import MACHINES, Column, Page, Table
from fenrask.what_if import Simulated

__all__ = ["simulate_page"]

_BLOCKED = (
    Column("exit", "exit", is_answer=True),
    Column("pool", "pool", is_answer=True),
    Column("blocking", "no free port", "share", is_answer=True),
    Column("interval", "95% interval", is_answer=True),
    Column("blocking_low", "from", "share", least_width=MACHINES),
    Column("blocking_high", "to", "share", least_width=MACHINES),
    Column("formula_share", "formula", "share", is_answer=True),
    Column("worst_minute", "worst minute"),
    Column("worst_minute_blocking", "no free port then", "share"),
    Column("recovers_s", "recovers after, min", "minutes", sparse=True),
    Column("standing_back", "always open, come back", "rough", sparse=True, least_width=100),
    Column("standing_without", "without a port until the end", "rough", sparse=True),
    Column("lost_for_good", "lost for good", "share", sparse=True),
    Column("mean_wait_s", "mean wait, s", "rough", sparse=True),
    Column("p95_wait_s", "95%, s", "rough", sparse=True),
    Column("setting", "setting", least_width=140),
    Column("runs", "runs", "count", least_width=110),
    Column("attempts", "connections", "count", least_width=MACHINES),
    Column("blocked_connections", "failed connections", "count", least_width=MACHINES),
)
_CONCURRENT = (
    Column("exit", "exit", is_answer=True),
    Column("pool", "pool", is_answer=True),
    Column("from", "from"),
    Column("mean_ports_in_use", "ports in use", "count"),
    Column("low_ports_in_use", "5th percentile", "count"),
    Column("high_ports_in_use", "95th percentile", "count"),
    Column("blocking", "no free port", "share", is_answer=True),
)


def simulate_page(
    estate: str, target: float, results: Sequence[tuple[Simulated, Found]], case: str = "", not_run: Sequence[str] = ()
) -> Page:
    """The blocking of each pool with its interval beside the formula's; ports in use and blocking over time."""
    rows: list[tuple[Any, ...]] = []
    concurrent: list[tuple[Any, ...]] = []
    not_counted = list(not_run)
    for simulated, found in results:
        worst_s, worst = simulated.worst_minute(found)
        rows.append(
            (
                simulated.exit,
                simulated.pool,
                found.share,
                f"{100 * found.low:.1f}-{percent(found.high)}",
                found.low,
                found.high,
                simulated.formula,
                clock_text(worst_s) if found.blocked else "none",
                worst,
                simulated.recovers_s(found, target),
                simulated.standing_back or None,
                simulated.standing_without if simulated.standing_back else None,
                *_waits(found),
                simulated.what,
                found.runs,
                found.attempts,
                found.blocked,
            )
        )
        concurrent += [
            (simulated.exit, simulated.pool, clock_text(begins), round(mean), round(low), round(high), blocked)
            for begins, mean, low, high, blocked in simulated.by_period(found)
        ]
        not_counted += [f"{simulated.exit}, {simulated.pool}: {words}" for words in simulated.not_counted]
        if found.at_host:
            share = found.at_host / (found.at_host + found.attempts)
            words = f"{share_text(share)} of connections, which hosts do not open by their own limit"
            not_counted.append(f"{simulated.exit}, {simulated.pool}: {words}")
        if found.let_go:
            not_counted.append(
                f"{simulated.exit}, {simulated.pool}: {found.let_go:,} retries that were too many to follow"
            )
        if found.interrupted:
            not_counted.append(f"{simulated.exit}, {simulated.pool}: stopped after {found.runs} runs")
    tables = (
        Table("pools", "New connections that find no free port, simulated and by formula", _BLOCKED, rows),
        Table(
            "ports_in_use",
            "Ports in use, and connections that find none free, over time",
            _CONCURRENT,
            concurrent,
            shown=14,
        ),
    )
    summary = _summary(results, target, case)
    if not_run and not results:
        summary = ("Nothing was simulated; see the notes below.",)
    return Page("simulate", estate, summary, tables, {"case": case}, tuple(not_counted))


def _waits(found: Found) -> tuple[float | None, float | None, float | None]:
    """Lost for good, and the waits of the others, s; nothing where no connection is tried again."""
    if len(found.served) < _TRIED_AGAIN or not found.blocked:
        return None, None, None
    felt = waits_of([*found.served], found.share)
    return felt.lost, felt.mean_s, felt.p95_s


_TRIED_AGAIN = 3
"""Served at once, after one retry, never: as many numbers at least where any connection is tried again."""


def _summary(results: Sequence[tuple[Simulated, Found]], target: float, case: str) -> tuple[str, ...]:
    when = f" in the case {case}" if case else ""
    if not results:
        return ("Nothing was simulated: no translating exit has any load.",)
    simulated, found = max(results, key=lambda pair: (pair[0].standing_share, pair[1].share))
    if simulated.standing_without:
        waits = (
            f"{simulated.standing_without:,.0f} of {simulated.standing_back:,.0f} always-open connections "
            f"that come back to {simulated.exit} find no port until the case is over "
            f"({share_text(simulated.standing_share)})"
        )
        if not found.blocked:
            return (waits,)
        summary = [waits]
    elif not found.blocked:
        total = sum(each.attempts for _, each in results)
        fullest = max((each for each, _ in results), key=lambda each: each.formula_peak)
        if not total and fullest.formula_peak > 0:
            short = share_text(fullest.formula_peak)
            return (
                f"Nothing new arrives that could be simulated: all connections are always open. By the formula {short} "
                f"of those of {fullest.pool} find no port at {fullest.exit}.",
            )
        return (f"All {total:,} simulated connections found a port{when}.",)
    else:
        summary = []
    summary.append(
        f"{share_text(found.share)} of new connections to {simulated.pool} find no free port at {simulated.exit}{when} "
        f"(95% confidence interval {100 * found.low:.1f}-{share_text(found.high)}, {counted(found.runs, 'run')})"
    )
    worst_s, worst = simulated.worst_minute(found)
    summary.append(f"worst minute: from {clock_text(worst_s)}, {share_text(worst)}")
    if simulated.formula is not None:
        inside = found.low <= simulated.formula <= found.high
        points = 100 * (simulated.formula - found.share)
        word = "within that interval" if inside else f"{abs(points):.1f} points {'higher' if points > 0 else 'lower'}"
        summary.append(f"formula: {share_text(simulated.formula)}, {word}")
    if simulated.storm_s is not None:
        recovers = simulated.recovers_s(found, target)
        end = (
            "it does not recover in the time simulated" if recovers is None else f"it recovers in {span_text(recovers)}"
        )
        begins = "after all connections are opened again,"
        if simulated.lasts_s is not None:
            at = clock_text(simulated.moment_s(round(simulated.storm_s / simulated.step_s)))
            begins = f"the case strikes at {at}, for {span_text(simulated.lasts_s)};"
        summary.append(f"{begins} {end}")
    return tuple(summary)
