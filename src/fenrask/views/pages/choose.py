"""The choice, as a page: what is taken, its proof, what comes next, why the others lost."""

from collections.abc import Iterator, Sequence

from fenrask.designs import Comparison
from fenrask.estate import Workload
from fenrask.optimise import Choice, Lost, Mix
from fenrask.units import cents, counted
from fenrask.views.page import Column, Page, Table

__all__ = ["choose_page", "frontier_page", "headrooms_page"]

_TAKEN = (
    Column("flows", "flows", "list"),
    Column("network", "from"),
    Column("lane", "by"),
    Column("exits", "exits", "list"),
    Column("seen_as", "seen as", "list", least_width=120),
)
_NEXT = (
    Column("rank", "rank", "count"),
    Column("month_amount", "month", "number", decimals=2),
    Column("more_amount", "more", "number", decimals=2),
    Column("addresses", "addresses", "count"),
    Column("open", "with these exits open", "list"),
)
_LOST = (
    Column("flows", "flows", "list"),
    Column("network", "from", least_width=110),
    Column("lane", "instead by"),
    Column("more_amount", "costs more", "number", decimals=2),
    Column("why", "why not"),
)
_FRONTIER = (
    Column("addresses", "addresses", "count"),
    Column("month_amount", "month", "number", decimals=2),
    Column("more_amount", "more", "number", decimals=2),
)


def choose_page(choice: Choice, comparison: Comparison) -> Page:
    """The optimum and its proof first; then each flow's way, the next best mixes, and why each other lane lost."""
    evaluation = choice.evaluation
    currency = evaluation.bill.currency
    taken = []
    for unit, option in choice.mix.options:
        paths = [path for name in unit.flows for path in evaluation.paths.by_flow[name] if unit.holds(path)]
        exits = dict.fromkeys(" > ".join(path.trace.exits) for path in paths)
        seen = dict.fromkeys(str(path.trace.source) for path in paths)
        taken.append((unit.labels, unit.network, option.name, [*exits], [*seen]))
    ranked = [choice.mix, *choice.next_best]
    following = [
        (number, mix.month, mix.month - choice.mix.month, mix.addresses, _open(mix))
        for number, mix in enumerate(ranked, 1)
    ]
    tables = (
        Table("flows", "Every flow's way", _TAKEN, taken),
        Table("next_best", f"The next best whole mixes, {currency} a month", _NEXT, following),
        Table("lost", "Why not another: the cheapest lane of each other offer", _LOST, [*_lost(choice.lost)]),
    )
    facts = {
        "currency": currency,
        "month_amount": evaluation.bill.total,
        "bound_amount": choice.bound,
        "gap": choice.gap,
        "seconds": choice.seconds,
        "meets_all": evaluation.meets_all,
    }
    return Page("choose", evaluation.described.estate.estate, tuple(_summary(choice, comparison)), tables, facts)


def _summary(choice: Choice, comparison: Comparison) -> Iterator[str]:
    bill = choice.evaluation.bill
    proof = "proven: none is cheaper" if choice.gap <= 1e-6 else f"at most {choice.gap:.2%} above the cheapest there is"
    if choice.not_counted:
        proof += f", but for {', '.join(choice.not_counted)}"
    yield f"{cents(bill.total):,} {bill.currency} a month, {proof} ({choice.seconds:.1f} s)"
    best = comparison.cheapest
    if best is not None:
        saved = best.evaluation.bill.total - bill.total
        less = f"{cents(abs(saved)):,} {'less' if saved >= 0 else 'more'}"
        yield f"{less} than {best.design.name}, the best standard design that meets every need"
    if given := sum(one.hosts for one in _given_addresses(choice)):
        yield f"{given} hosts get a public address of their own; --private-hosts leaves such ways out"
    if not choice.evaluation.meets_all:
        told = [f"{one.flow}: {one.need}" for one in choice.evaluation.broken] + [
            one.verdict for one in choice.evaluation.short
        ]
        yield f"judged as a whole it falls short: {'; '.join(told)}"


def _given_addresses(choice: Choice) -> Iterator[Workload]:
    """The workloads whose hosts get public addresses of their own."""
    estate = choice.evaluation.described.estate
    names = {
        estate.flows[name].from_ for unit, option in choice.mix.options if option.own_addresses for name in unit.flows
    }
    yield from (estate.workloads[name] for name in names)


def _open(mix: Mix) -> list[str]:
    return sorted(site.name for site in mix.open_sites)


def _lost(lost: Sequence[Lost]) -> Iterator[tuple[object, ...]]:
    """Of each unit and offer the lane that is nearest to being taken."""
    best: dict[tuple[str, str, tuple[object, ...]], Lost] = {}
    for one in lost:
        path = one.option.sites[0] if one.option.sites else None
        how = (path.offer, one.option.before[:1]) if path and path.offer else (one.option.name,)
        key = (one.unit.name, one.unit.network, how)
        if key not in best or _nearness(one) < _nearness(best[key]):
            best[key] = one
    for one in best.values():
        yield (one.unit.labels, one.unit.network, one.option.name, one.more, one.why)


def _nearness(one: Lost) -> tuple[bool, int, float]:
    return (one.more is None, len(one.fails), one.more or 0.0)


def frontier_page(estate: str, currency: str, mixes: Sequence[Mix]) -> Page:
    """The least cost for every number of addresses."""
    if not mixes:
        return Page("frontier", estate, ("no mix meets every need",), (Table("frontier", "", _FRONTIER, []),))
    first = mixes[0].month
    rows = [(mix.addresses, mix.month, mix.month - first) for mix in mixes]
    few = mixes[-1]
    summary = (
        f"cheapest with {counted(mixes[0].addresses, 'address', 'addresses')}, {first:,.2f} {currency} a month; "
        f"as few as {few.addresses} do for {few.month - first:+,.2f}",
    )
    table = Table("frontier", f"Least cost by number of addresses, {currency} a month", _FRONTIER, rows)
    return Page("frontier", estate, summary, (table,), {"currency": currency})


_HEADROOMS = (
    Column("zone_headroom", "free when a zone is lost"),
    Column("addresses", "addresses", "count"),
    Column("month_amount", "month", "number", decimals=2),
    Column("more_amount", "more", "number", decimals=2),
)


def headrooms_page(estate: str, currency: str, found: Sequence[tuple[float | None, Mix]]) -> Page:
    """The least cost for each share of ports that stays free when any one zone is lost."""
    first = found[0][1].month if found else 0.0
    rows = [(_free(headroom), mix.addresses, mix.month, mix.month - first) for headroom, mix in found]
    summary = ["no mix meets every need"]
    if found:
        carried = [mix for headroom, mix in found if headroom is not None]
        cost = f"{carried[0].month - first:+,.2f} {currency} a month" if carried else "no mix"
        summary = [f"to carry the load of a lost zone: {cost} over the cheapest, {first:,.2f}"]
    table = Table("headrooms", f"Least cost by headroom after a zone's loss, {currency} a month", _HEADROOMS, rows)
    return Page("headrooms", estate, tuple(summary), (table,), {"currency": currency})


def _free(headroom: float | None) -> str:
    return "not asked" if headroom is None else f"{headroom:.0%} of ports"
