"""The choice, as a page: what to build and change, each flow's path, its runner-up, the next best mixes."""

from collections import Counter
from collections.abc import Iterator, Sequence
from fractions import Fraction

from fenrask.designs import Comparison, effort
from fenrask.estate.suggestions import some
from fenrask.optimise import Choice, Lost, Mix, Unit
from fenrask.units import cents, counted
from fenrask.views.page import Column, Page, Table
from fenrask.views.pages.built import BUILT, built

__all__ = ["choose_page", "frontier_page", "headrooms_page"]

_FLOWS = (
    Column("flows", "flows", "list", most=4, is_answer=True),
    Column("network", "network"),
    Column("exits", "path", "list", most=2, is_answer=True),
    Column("down_min_per_month", "down min/month", "number", decimals=2, least_width=100, sparse=True),
    Column("runner_up", "next best path"),
    Column("more_amount", "extra cost", "number", decimals=2, is_answer=True),
    Column("why", "reason", is_answer=True),
)
_NEXT = (
    Column("rank", "rank", "count"),
    Column("month_amount", "cost", "number", decimals=2),
    Column("more_amount", "extra cost", "number", decimals=2, is_answer=True),
    Column("difference", "what differs", "list", most=3),
)
_LOST = (
    Column("flows", "flows", "list", is_answer=True),
    Column("network", "network", least_width=110),
    Column("option", "option", is_answer=True),
    Column("more_amount", "extra cost", "number", decimals=2, is_answer=True),
    Column("why", "reason", is_answer=True),
)


def choose_page(choice: Choice, comparison: Comparison) -> Page:
    """The optimum and its proof; what to change; each flow's path and runner-up; the next best mixes; all options."""
    evaluation = choice.evaluation
    currency = evaluation.bill.currency
    money = f"{currency}/month"
    ranked = [
        (number, mix.month, mix.month - choice.mix.month, _difference(choice.mix, mix))
        for number, mix in enumerate((one.mix for one in choice.next_best), 2)
    ]
    changes = [*built(choice.current.described if choice.current else None, choice.patch, evaluation)]
    tables = (
        Table("changes", "What to build and change", BUILT, changes, empty="nothing", shown=10),
        Table(
            "flows", f"Every flow's path, and the next best; extra cost in {money}", _FLOWS, [*_flows(choice)], shown=8
        ),
        Table("next_best", f"The next best mixes, {money}", _NEXT, ranked, shown=3),
        Table(
            "options",
            f"Why the other options lost; extra cost in {money}",
            _LOST,
            [*_lost(choice.lost)],
            behind_all=True,
        ),
    )
    facts = {
        "currency": currency,
        "month_amount": evaluation.bill.total,
        "bound_amount": choice.bound,
        "gap": choice.gap,
        "proven": choice.is_proven,
        "options_count": choice.options,
        "seconds": choice.seconds,
        "meets_all": evaluation.meets_all,
        "design": choice.design,
        "entries_to_change": choice.effort.entries,
        "exits_to_change": choice.effort.exits,
        "routes_to_change": choice.effort.routes,
        "change_amount": choice.change_month,
        "fewest_changes_month_amount": choice.steady.evaluation.bill.total if choice.steady else None,
    }
    summary = tuple(_summary(choice, comparison))
    return Page("choose", evaluation.described.estate.estate, summary, tables, facts, choice.not_counted)


def _summary(choice: Choice, comparison: Comparison) -> Iterator[str]:
    bill = choice.evaluation.bill
    money = f"{bill.currency}/month"
    meets = " meets every need" if choice.evaluation.meets_all else ""
    yield f"{cents(bill.total):,} {money}{meets} ({_proof(choice)})"
    if not choice.patch:
        yield "the estate as it is; there is nothing to change"
    elif choice.current is not None:
        saved = choice.current.bill.total - bill.total
        short = "" if choice.current.meets_all else ", which does not meet every need"
        yield f"{_beside(saved)} the current estate{short}"
    best = comparison.cheapest
    if best is not None and best.patch != choice.patch:
        saved = best.evaluation.bill.total - bill.total
        yield f'{_beside(saved)} "{best.design.name}", the cheapest standard design that meets every need'
    yield from _asked_of_others(choice)
    if given := _hosts_made_public(choice):
        yield f"{counted(given, 'host gets', 'hosts get')} a public address of its own"
    if not choice.evaluation.meets_all:
        broken = [f"{one.flow}: {one.need}" for one in choice.evaluation.broken]
        verdicts = [one.verdict for one in choice.evaluation.short]
        yield f"evaluated as a whole it falls short: {'; '.join([*broken, *verdicts])}"


def _beside(saved: Fraction) -> str:
    """How much less it costs than another, or more."""
    if not cents(saved):
        return "the same cost as"
    return f"{cents(abs(saved)):,} {'less' if saved > 0 else 'more'} than"


def _asked_of_others(choice: Choice) -> Iterator[str]:
    """What it changes for others, and the mix that changes less for a little more."""
    own = choice.effort
    if not choice.patch or choice.current is None:
        return
    lists = f" ({some(own.partners)})" if own.partners else ""
    entries = counted(own.entries, "allow-list entry", "allow-list entries")
    spread = ""
    if choice.change_month:
        spread = f"; {cents(Fraction(choice.change_month)):,} a month for that, until it is paid"
    yield f"changes {entries}{lists}, {counted(own.exits, 'exit')} and {counted(own.routes, 'route')}{spread}"
    if choice.steady is None:
        return
    more = choice.steady.evaluation.bill.total - choice.evaluation.bill.total
    other = effort(choice.current, choice.steady.evaluation, choice.steady.patch)
    words = []
    if other.entries < own.entries:
        lists = counted(other.entries, "allow-list entry changes", "allow-list entries change")
        words.append(lists if other.entries else "no partner changes its list")
    if stays := [name for name in own.removed if name not in other.removed]:
        words.append(f"{' and '.join(stays)} {'stays' if len(stays) == 1 else 'stay'}")
    if other.exits < own.exits or other.routes < own.routes:
        words.append(f"{counted(other.exits, 'exit')} and {counted(other.routes, 'route')} change")
    share = float(more / choice.evaluation.bill.total) if choice.evaluation.bill.total else 0.0
    yield f"{cents(more):,} ({share:.1%}) more with fewer changes (--fewest-changes): {'; '.join(words)}"


def _proof(choice: Choice) -> str:
    among = f"among {choice.options:,} options"
    longer = "" if choice.longer_s is None else f"; `--seconds {choice.longer_s:g}` looks at more"
    if choice.design and longer:
        found = f'the standard design "{choice.design}", cheaper than every mix found'
        return f"{found} {among}: optimality gap at most {choice.gap:.2%}{longer}"
    if choice.design:
        return f'the standard design "{choice.design}", cheaper than every mix {among}: not proven optimal'
    if choice.is_proven:
        return f"proven optimal {among}"
    if choice.fewest_changes:
        return f"with the fewest changes, at most {choice.gap:.2%} above the optimum {among}"
    if choice.month < choice.bound * (1 - 1e-6):
        return f"below every mix as computed {among}: not proven optimal"
    return f"optimality gap at most {choice.gap:.2%} {among}{longer}"


def _hosts_made_public(choice: Choice) -> int:
    estate, was = choice.evaluation.described.estate, choice.current
    known = was.described.estate.workloads if was else {}
    return sum(
        one.hosts
        for name, one in estate.workloads.items()
        if one.public_address and not (name in known and known[name].public_address)
    )


def _flows(choice: Choice) -> Iterator[tuple[object, ...]]:
    """The flows of each path, those that cost most to move first: the nearest of what they did not take."""
    rows: dict[tuple[str, tuple[str, ...]], list[tuple[Unit, Lost | None, str]]] = {}
    paths, down = choice.evaluation.paths, choice.evaluation.down_minutes
    lost: dict[tuple[object, ...], list[Lost]] = {}
    for missed in choice.lost:
        lost.setdefault((missed.unit.flows, missed.unit.subnets), []).append(missed)
    for unit, _ in choice.mix.options:
        own = [path for name in unit.examples for path in paths.by_flow.get(name, []) if unit.holds(path)]
        exits = dict.fromkeys(" > ".join(path.trace.exits) or "local" for path in own)
        runner_up = _runner_up(lost.get((unit.flows, unit.subnets), ()))
        rows.setdefault((unit.network, (*exits,)), []).append((unit, *runner_up))
    for (network, taken), same_path in rows.items():
        labels = [label for unit, *_ in same_path for label in unit.flows]
        costs = [(best.more or 0.0, best.option.name, why) for _, best, why in same_path if best]
        longest = max((down[one] for one in labels if one in down), default=None)
        if costs:
            more, name, why = min(costs)
            yield (labels, network, taken, longest, name, more or None, why)
        else:
            yield (labels, network, taken, longest, "", None, same_path[0][2])


def _runner_up(lost: Sequence[Lost]) -> tuple[Lost | None, str]:
    """Of the options that a group of flows did not take the one that costs least, and why; or what they break."""
    others = sorted(lost, key=_nearness)
    best = next((one for one in others if one.more is not None), None)
    if best is not None:
        return best, "" if best.more else best.why
    breaking = Counter(one.why for one in others if one.fails).most_common(1)
    if not breaking:
        return None, "no other option"
    why, number = breaking[0]
    return None, f"{counted(number, 'option')} excluded: {why.removeprefix('breaks ')}"


def _difference(chosen: Mix, other: Mix) -> list[str]:
    now = {unit.name: option.name for unit, option in chosen.options}
    changed = [(unit.name, option.name) for unit, option in other.options if now.get(unit.name) != option.name]
    return [f"{name} through {option}" for name, option in changed] or ["the same paths, through other exits"]


def _lost(lost: Sequence[Lost]) -> Iterator[tuple[object, ...]]:
    for missed in sorted(lost, key=_nearness):
        yield (missed.unit.flows, missed.unit.network, missed.option.name, missed.more, missed.why)


def _nearness(lost: Lost) -> tuple[bool, int, float]:
    return (lost.more is None, len(lost.fails), lost.more or 0.0)


def _least_cost(money: str) -> tuple[Column, ...]:
    """The columns of mixes, by what they cost."""
    return (
        Column("addresses", "addresses", "count"),
        Column("month_amount", money, "number", decimals=2),
        Column("more_amount", "extra cost", "number", decimals=2, is_answer=True),
    )


def frontier_page(estate: str, currency: str, mixes: Sequence[Mix]) -> Page:
    """The least cost for each number of addresses."""
    money = f"{currency}/month"
    first = mixes[0].month if mixes else 0.0
    rows: list[tuple[object, ...]] = [(mix.addresses, mix.month, mix.month - first) for mix in mixes]
    summary = ["No mix meets every need."]
    if mixes:
        few = mixes[-1]
        summary = [
            f"Cheapest with {counted(mixes[0].addresses, 'address', 'addresses')}: {first:,.2f} {money}; "
            f"with the fewest, {few.addresses}: {few.month - first:+,.2f}."
        ]
    title = "Least cost by number of public addresses"
    table = Table("frontier", title, _least_cost(money), rows)
    return Page("frontier", estate, tuple(summary), (table,), {"currency": currency})


def headrooms_page(estate: str, currency: str, found: Sequence[tuple[float | None, Mix]]) -> Page:
    """The least cost for each share of ports that stays free when any one zone is lost."""
    money = f"{currency}/month"
    first = found[0][1].month if found else 0.0
    rows: list[tuple[object, ...]] = [
        (_free(headroom), mix.addresses, mix.month, mix.month - first) for headroom, mix in found
    ]
    summary = ["No mix meets every need."]
    if found:
        carried = [mix for headroom, mix in found if headroom is not None]
        cost = f"{carried[0].month - first:+,.2f} {money} over" if carried else "no mix does;"
        summary = [f"To carry the load of a lost zone: {cost} the cheapest, {first:,.2f}."]
    heading = Column("zone_headroom", "ports free after a zone loss")
    title = "Least cost by port headroom after a zone loss"
    table = Table("headrooms", title, (heading, *_least_cost(money)), rows)
    return Page("headrooms", estate, tuple(summary), (table,), {"currency": currency})


def _free(headroom: float | None) -> str:
    return "not required" if headroom is None else f"{headroom:.0%}"
