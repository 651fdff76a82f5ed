"""Ports and every other limit, as a page."""

from collections.abc import Iterator

from fenrask.capacity import Capacity, ExitCapacity
from fenrask.units import clock_text
from fenrask.views.page import MACHINES, Column, Page, Table

__all__ = ["capacity_page"]

_EXITS = (
    Column("exit", "exit"),
    Column("addresses", "has", "count"),
    Column("addresses_needed", "needs", "count"),
    Column("binding_pool", "busiest"),
    Column("busiest_at", "at"),
    Column("busiest_at_s", "at s", "number", least_width=MACHINES),
    Column("busiest_held_connections", "held", "number", decimals=0),
    Column("ports", "ports", "count"),
    Column("port_headroom", "headroom", "share", least_width=100),
    Column("blocking", "refused", "share"),
    Column("blocked_per_day", "refused a day", "count", least_width=120),
    Column("fits", "fits", "yes"),
)
_LIMITS = (
    Column("exit", "exit"),
    Column("limit", "limit"),
    Column("use", "busiest use", "figure"),
    Column("capacity", "capacity", "figure"),
    Column("unit", "unit", least_width=130),
    Column("headroom", "headroom", "share"),
    Column("growth_share", "may grow", "growth"),
    Column("detail", "where and when"),
)
_SUFFERS = (
    Column("exit", "exit"),
    Column("assignment", "ports are"),
    Column("suffers", "when full, refused is"),
    Column("refusal", "and gets"),
    Column("detail", "", sparse=True),
)
_SPLIT = (
    Column("exit", "exit"),
    Column("gateway", "gateway", "count"),
    Column("network", "network"),
    Column("zone", "zone"),
    Column("addresses", "addresses", "count"),
    Column("subnets", "subnets", "list"),
)


def capacity_page(capacity: Capacity) -> Page:
    """What each translating exit needs and has; each of its limits, the tightest first; who is refused; divisions."""
    described = capacity.demand.paths.described
    ordered = sorted(capacity.exits, key=lambda one: one.fits)
    limits = [
        (one.exit, limit.limit, limit.use, limit.capacity, limit.unit, limit.headroom, limit.growth, limit.detail)
        for one in ordered
        for limit in one.limits
    ]
    tables = [
        Table("exits", "Translated ports", _EXITS, [_row(one) for one in ordered], empty="no exit translates"),
        Table("limits", "Every limit, the tightest of each exit first", _LIMITS, limits),
        Table(
            "refusals", "Who is refused when ports run out", _SUFFERS, [_suffers(one) for one in ordered if one.ports]
        ),
    ]
    shares = [row for one in ordered for row in _shares(one)]
    if shares:
        tables.append(Table("gateways", "Subnets divided over more gateways", _SPLIT, shares))
    facts = {"fits": capacity.fits, "target_blocking": described.estate.targets.blocking}
    not_counted = tuple(map(str, capacity.demand.not_counted))
    summary = tuple(one.verdict for one in ordered) or ("no exit translates",)
    summary += tuple(str(one.split) for one in ordered if one.split)
    return Page("capacity", described.estate.estate, summary, tuple(tables), facts, not_counted)


def _row(one: ExitCapacity) -> tuple[object, ...]:
    ports = one.ports
    if ports is None:
        limit = one.port_limit
        nothing = ("nothing held", "", None, 0.0, round(limit.capacity), 1.0, 0.0, 0)
        return (one.exit, one.addresses, one.needed, *nothing, one.fits)
    return (
        one.exit,
        one.addresses,
        one.needed,
        ports.binding,
        "all day" if ports.level else clock_text(ports.time_s),
        ports.time_s,
        ports.concurrent,
        ports.capacity,
        ports.headroom,
        ports.blocking,
        round(ports.blocked_per_day),
        one.fits,
    )


def _suffers(one: ExitCapacity) -> tuple[object, ...]:
    assert one.ports is not None
    refusal = "silence: it sends again" if one.how.refusal == "dropped" else "an answer at once"
    return (one.exit, one.how.assignment, one.ports.suffers, refusal, one.ports.detail)


def _shares(one: ExitCapacity) -> Iterator[tuple[object, ...]]:
    for number, share in enumerate(one.split.shares if one.split else (), 1):
        yield (one.exit, number, share.network, share.zone or "", share.addresses, share.subnets)
