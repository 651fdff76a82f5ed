"""Ports and every other limit, as a page."""

from fenrask.capacity import Capacity, ExitCapacity
from fenrask.units import hour_text
from fenrask.views.page import Column, Page, Table

__all__ = ["capacity_page"]

_EXITS = (
    Column("exit", "exit"),
    Column("addresses", "has", "count"),
    Column("addresses_needed", "needs", "count"),
    Column("binding_tuple", "busiest tuple"),
    Column("busiest_at", "at", least_width=100),
    Column("busiest_held_connections", "held", "number"),
    Column("ports", "ports", "count"),
    Column("port_headroom", "headroom", "share", least_width=100),
    Column("refused_share", "refused", "share"),
    Column("refused_per_day", "refused a day", "count", least_width=120),
    Column("fits", "fits", "yes"),
)
_LIMITS = (
    Column("exit", "exit"),
    Column("limit", "limit"),
    Column("use", "busiest use", "figure"),
    Column("capacity", "capacity", "figure"),
    Column("unit", "unit", least_width=120),
    Column("headroom", "headroom", "share"),
    Column("detail", "where and when"),
)


def capacity_page(capacity: Capacity) -> Page:
    """What each translating exit needs and has; then each of its limits, the tightest first."""
    described = capacity.demand.ways.described
    ordered = sorted(capacity.exits, key=lambda one: one.fits)
    limits = [
        (one.exit, limit.limit, limit.use, limit.capacity, limit.unit, limit.headroom, limit.detail)
        for one in ordered
        for limit in one.limits
    ]
    tables = (
        Table("exits", "Translated ports", _EXITS, [_row(one) for one in ordered], empty="no exit translates"),
        Table("limits", "Every limit, the tightest of each exit first", _LIMITS, limits),
    )
    facts = {"fits": capacity.fits, "target_refused_share": described.estate.targets.refused_share}
    left_out = tuple(map(str, capacity.demand.left_out))
    answer = tuple(one.verdict for one in ordered) or ("no exit translates",)
    return Page("capacity", described.estate.estate, answer, tables, facts, left_out)


def _row(one: ExitCapacity) -> tuple[object, ...]:
    ports = one.ports
    if ports is None:
        return (
            one.exit,
            one.addresses,
            one.needed,
            "nothing held",
            "",
            0.0,
            round(one.port_limit.capacity),
            1.0,
            0.0,
            0,
            one.fits,
        )
    return (
        one.exit,
        one.addresses,
        one.needed,
        ports.binding,
        hour_text(ports.hour),
        ports.held,
        ports.capacity,
        ports.headroom,
        ports.refused_share,
        round(ports.refused_per_day),
        one.fits,
    )
