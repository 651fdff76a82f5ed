"""Ports and every other limit, as a page."""

from collections.abc import Container, Iterator, Sequence

from fenrask.capacity import Capacity, ExitCapacity, ExitLimits, LimitUse, beyond_range, table_entries
from fenrask.units import clock_text, counted, figure, percent
from fenrask.views.page import MACHINES, Column, LaterRows, Page, Table

__all__ = ["capacity_page"]

_EXITS = (
    Column("exit", "exit", is_answer=True),
    Column("addresses", "addresses", "count", is_answer=True),
    Column("addresses_needed", "needs", "count", is_answer=True),
    Column("addresses_needed_after_fault", "after a fault", "count", sparse=True, is_answer=True),
    Column("worst_fault", "the worst", sparse=True, least_width=100),
    # Where the width does not do, what has the greatest least width goes first; the verdict goes last.
    Column("binding_pool", "busiest destination", least_width=60),
    Column("peak_at", "peak", least_width=63),
    Column("peak_at_s", "peak s", "number", least_width=MACHINES),
    Column("ports_wanted", "ports wanted", "number", decimals=0, least_width=61, is_answer=True),
    Column("ports", "ports", "count", least_width=62),
    Column("port_headroom", "headroom", "share", least_width=100),
    Column("blocking", "no free port", "share", is_answer=True),
    Column("blocked_per_day", "fail a day", "count", least_width=120),
    Column("fits", "fits", "yes", is_answer=True),
)
_LIMITS = (
    Column("exit", "exit", is_answer=True),
    Column("limit", "limit", is_answer=True),
    Column("use", "peak use", "rough"),
    Column("capacity", "capacity", "rough"),
    Column("unit", "unit", least_width=MACHINES),
    Column("headroom", "headroom", "share", is_answer=True),
    Column("growth_share", "load may grow", "growth"),
    Column("detail", "where and when"),
)
_FULL = (
    Column("exit", "exit", is_answer=True),
    Column("assignment", "port assignment"),
    Column("affected", "who finds no free port"),
    Column("refusal", "the sender sees"),
    Column("first_tries_dropped", "first SYNs dropped", "share", sparse=True, least_width=100),
    Column("lost_for_good", "lost for good", "share", sparse=True),
    Column("mean_wait_s", "mean wait, s", "rough", sparse=True),
    Column("p95_wait_s", "95%, s", "rough", sparse=True),
    Column("syns_per_connection", "SYNs each", "rough", sparse=True, least_width=120),
    Column("retries", "retries", "count", sparse=True, least_width=MACHINES),
    Column("detail", "", sparse=True),
)
_ENTRIES = (
    Column("exit", "exit", is_answer=True),
    Column("state", "state"),
    Column("entries", "entries", "number", decimals=0),
    Column("timer_s", "stays, s", "rough"),
)
_SPLIT = (
    Column("exit", "exit", is_answer=True),
    Column("gateway", "gateway", "count"),
    Column("network", "network"),
    Column("zone", "zone"),
    Column("addresses", "addresses", "count", is_answer=True),
    Column("subnets", "subnets", "list"),
)
_SUMMARY = 5
_NAMES = {
    "bits per second of a connection": "one connection, Gbit/s",
    "bits per second": "throughput, Gbit/s",
    "new per second": "new connections/s",
    "bits sent per second": "sent, Gbit/s",
    "bits received per second": "received, Gbit/s",
    "packets per second": "packets/s",
}


def capacity_page(capacity: Capacity, divisible: Container[str] = ()) -> Page:
    """What each exit needs and has, the worst first; its limits, that with the least room to grow first.

    divisible: the exits whose division over several was tried, and does.
    """
    described = capacity.demand.paths.described
    ordered = sorted(capacity.exits, key=lambda exit_capacity: (exit_capacity.fits, exit_capacity.port_limit.headroom))
    every = sorted(capacity.every, key=lambda exit_limits: (exit_limits.fits, _room(exit_limits)))
    limits = [(one, limit, limit.detail) for one in every for limit in one.limits]
    limits += [
        (one, limit, f"after a fault: {fault}") for one in every for fault, limit in one.over_after_faults.items()
    ]
    rows = [
        (one.name, _name(limit), limit.use, limit.capacity, limit.unit, limit.headroom, limit.growth, detail)
        for one, limit, detail in sorted(limits, key=lambda each: _grows(each[1]))
    ]
    rows += [
        (f"each host of {one.workload}", _name(limit), limit.use, limit.capacity, limit.unit, limit.headroom,
         limit.growth, limit.detail)
        for one in capacity.hosts for limit in one.limits
    ]  # fmt: skip
    full = [_affected(one) for one in ordered if one.ports and not one.enough_addresses]
    others = [_affected(one) for one in ordered if one.ports and one.enough_addresses]
    tables = [
        Table(
            "exits", "Translated ports", _EXITS, [_row(one) for one in ordered], empty="no exit translates", shown=12
        ),
        Table("limits", "Limits, the one that load reaches first on top", _LIMITS, rows, shown=10),
        Table("when_full", "When ports run out", _FULL, [*full, *others], shown=max(1, len(full))),
    ]
    entries = LaterRows(
        lambda: [
            (one.exit, each.state.replace("_", " "), each.entries, each.timer_s)
            for one in ordered
            if not one.toward
            for each in table_entries(capacity.demand, one.exit)
        ]
    )
    tables.append(Table("entries", "Entries of translators' tables at the peak", _ENTRIES, entries, behind_all=True))
    shares = [row for one in ordered for row in _shares(one)]
    if shares:
        tables.append(Table("gateways", "Subnets divided over more gateways", _SPLIT, shares, shown=12))
    facts: dict[str, object] = {"fits": capacity.fits, "target_blocking": described.estate.targets.blocking}
    not_counted = tuple(map(str, capacity.demand.not_counted))
    summary = _summary(capacity, every, divisible)
    summary = (*summary, *(words for one in capacity.every if one.fits for words in _short_then(one)))
    summary = (*summary, *(words for one in capacity.exits if (words := _at_hosts(one))))
    summary = (*summary, *(f"{one}." for one in capacity.hosts if one.exceeded))
    doubts = [(one.name, words) for one in capacity.exits for words in beyond_range(one)]
    facts["beyond_range"] = "; ".join(f"{name}: {words}" for name, words in doubts)
    if doubts:
        name, words = doubts[0]
        more = f", and {len(doubts) - 1} more of that" if len(doubts) > 1 else ""
        told = f"Beyond the range of the formulas (docs/validity.md): {name}, {words}{more}. Simulate it."
        summary = (*summary, told)
    if capacity.of_busy_day:
        days = described.estate.targets.days
        facts["days"] = days
        summary = (*summary, f"All figures are of the busy hour of {percent(days)} of days (targets.days).")
    return Page("capacity", described.estate.estate, summary, tuple(tables), facts, not_counted)


def _summary(capacity: Capacity, every: list[ExitLimits], divisible: Container[str]) -> tuple[str, ...]:
    if not every:
        return ("No exit has ports or limits to run out of.",)
    short = [one for one in every if not one.fits]
    if not short:
        tight = min(
            ((one, limit) for one in every for limit in one.limits if limit.growth is not None and limit.grows),
            key=lambda pair: pair[1].growth or 0.0,
            default=None,
        )
        then = _exits([one for one in every if not one.carries_faults])
        after = f" now, {then} not after a fault" if then else ""
        words = [f"{counted(_exits(every), 'exit')}: all carry their load{after}."]
        if tight:
            exit_limits, limit = tight
            grown = _grown(limit.growth or 0.0)
            words.append(f"First limit as load grows: {_name(limit)} of {exit_limits.name}, at {grown} load.")
        return tuple(words)
    words = [one.verdict for one in short[:_SUMMARY]]
    if len(short) > _SUMMARY:
        words[_SUMMARY - 1 :] = [f"and {len(short) - _SUMMARY + 1} more exits do not carry their load"]
    words += [one.felt for one in short[:_SUMMARY] if isinstance(one, ExitCapacity) and one.felt][:1]
    words += [_division(one, divisible) for one in short if isinstance(one, ExitCapacity) and one.split][:1]
    rest = _exits(every) - _exits(short)
    return tuple(
        [*words, (f"{counted(rest, 'other exit')} {'carries its' if rest == 1 else 'carry their'} load.")]
        if rest
        else words
    )


def _division(exit_capacity: ExitCapacity, divisible: Container[str]) -> str:
    """How its subnets are to be divided, and whether other tables are enough for that."""
    if exit_capacity.name in divisible:
        return f"{exit_capacity.split} (tried: `fenrask check` has the patch)."
    many = exit_capacity.split is not None and len(exit_capacity.split.shares) > 1 and not exit_capacity.split.too_much
    beside = " (other tables alone do not do: see what is before it, and what its flows need)" if many else ""
    return f"{exit_capacity.split}{beside}."


def _short_then(exit_limits: ExitLimits) -> Iterator[str]:
    """What an exit that carries its load now does not carry after a fault."""
    if (
        isinstance(exit_limits, ExitCapacity)
        and exit_limits.after_fault is not None
        and not exit_limits.enough_after_faults
    ):
        after, then = exit_limits.after_fault, exit_limits.after_fault.then
        needs = "no number suffices" if after.needed is None else f"it then needs {after.needed}"
        blocked = percent(then.blocking_with(exit_limits.addresses))
        yield f"{exit_limits.name} after a fault ({after.fault}): {blocked} of new connections find no port; {needs}."
    if exit_limits.most_over is not None:
        fault, limit = exit_limits.most_over
        more = len(exit_limits.over_after_faults) - 1
        beside = f", and after {counted(more, 'more fault')}" if more else ""
        over = f"{figure(limit.use)} of {figure(limit.capacity)} {limit.unit}"
        yield f"{exit_limits.name} after a fault ({fault}{beside}): {over}."


def _exits(some: Sequence[ExitLimits]) -> int:
    return len({one.exit for one in some})


def _at_hosts(exit_capacity: ExitCapacity) -> str:
    """What hosts do not open at the busiest moment of the pool that binds, by limits of their own."""
    if exit_capacity.ports is None or exit_capacity.ports.at_host <= exit_capacity.target:
        return ""
    what = f"{percent(exit_capacity.ports.at_host)} of new connections to {exit_capacity.ports.binding}"
    return f"{exit_capacity.name}: {what} are not opened at the peak, by the hosts' own limits."


def _grown(share: float) -> str:
    return f"{100 * share:+.0f}%" if share < 9 else f"{1 + share:,.0f} times the"


def _name(limit: LimitUse) -> str:
    """A limit's name with its unit."""
    for name, words in _NAMES.items():
        if limit.limit.startswith(name):
            return f"{words}{limit.limit.removeprefix(name)}"
    return limit.limit


def _grows(limit: LimitUse) -> tuple[bool, float]:
    """Limits by how much the load may grow until they are reached; those that load does not fill last."""
    return (limit.growth is None, limit.growth if limit.growth is not None else limit.headroom)


def _room(exit_limits: ExitLimits) -> float:
    return min((_grows(limit)[1] for limit in exit_limits.limits), default=1.0)


def _row(exit_capacity: ExitCapacity) -> tuple[object, ...]:
    ports = exit_capacity.ports
    if ports is None:
        limit = exit_capacity.port_limit
        nothing = ("no load", "", None, 0.0, round(limit.capacity), 1.0, 0.0, 0)
        return (
            exit_capacity.name,
            exit_capacity.addresses,
            exit_capacity.needed,
            *_after(exit_capacity),
            *nothing,
            exit_capacity.fits and exit_capacity.carries_faults,
        )
    return (
        exit_capacity.name,
        exit_capacity.addresses,
        exit_capacity.needed,
        *_after(exit_capacity),
        ports.binding,
        "all day" if ports.level else clock_text(ports.time_s),
        ports.time_s,
        ports.concurrent,
        ports.capacity,
        ports.headroom,
        ports.blocking,
        round(ports.blocked_per_day),
        exit_capacity.fits and exit_capacity.carries_faults,
    )


def _after(exit_capacity: ExitCapacity) -> tuple[object, ...]:
    after = exit_capacity.after_fault
    if after is None:
        return None, None
    return after.needed, after.fault if after.needed is not None else f"{after.fault}: no number suffices"


def _affected(exit_capacity: ExitCapacity) -> tuple[object, ...]:
    assert exit_capacity.ports is not None
    refusal = "a reset at once"
    if exit_capacity.how.refusal == "dropped":
        is_udp = exit_capacity.ports.binding.endswith("/udp")
        refusal = (
            "no reply: the datagram is dropped" if is_udp else "nothing: the packet is dropped, the SYN sent again"
        )
    felt = (
        exit_capacity.ports.waits
        if exit_capacity.how.refusal == "dropped" and exit_capacity.ports.blocking > exit_capacity.target
        else None
    )
    waits = (felt.dropped, felt.lost, felt.mean_s, felt.p95_s, felt.attempts, felt.retries) if felt else (None,) * 6
    return (
        exit_capacity.name,
        exit_capacity.how.assignment,
        exit_capacity.ports.suffers,
        refusal,
        *waits,
        exit_capacity.ports.detail,
    )


def _shares(exit_capacity: ExitCapacity) -> Iterator[tuple[object, ...]]:
    for number, share in enumerate(exit_capacity.split.shares if exit_capacity.split else (), 1):
        yield (exit_capacity.exit, number, share.network, share.zone or "", share.addresses, share.subnets)
