"""Break-even volumes of a flow, as a page."""

from collections.abc import Collection

from fenrask.designs import BreakEven, DesignsBreakEven
from fenrask.units import cents
from fenrask.views.page import Column, Page, Table

__all__ = ["break_even_page", "designs_break_even_page"]

_WORDS = {"cross": "change places", "touch": "touch", "coincide": "cost the same"}
_OPTIONS = (
    Column("offer", "offer"),
    Column("kind", "kind"),
    Column("places", "places", "count"),
    Column("fixed_amount", "fixed", "money"),
    Column("month_amount", "month", "money"),
)
_RIVALS = (
    Column("design", "design"),
    Column("fixed_amount", "without it", "money"),
    Column("month_amount", "month", "money"),
    Column("fails", "fails", "list"),
)
_MEETINGS = (
    Column("one", "one"),
    Column("other", "other"),
    Column("how", "they"),
    Column("volume", "at volume", "figure"),
    Column("until_volume", "up to", "figure", sparse=True),
    Column("hosts", "hosts", "figure"),
)
_ZONES = (Column("one", "offer"), Column("other", "and offer"), Column("zones", "zones", "figure"))


def break_even_page(estate: str, found: BreakEven) -> Page:
    """The offers at the flow's volume, the cheapest first; where any two cost the same."""
    options = [(one.offer, one.kind, one.places, one.fixed, one.curve.at(found.volume)) for one in found.options]
    summary = [f"no offer carries {found.flow}"]
    if found.options:
        best = found.options[0]
        cost = f"{cents(best.curve.at(found.volume)):,} {found.currency} a month"
        summary = [f"{found.flow} carries {float(found.volume):,.6g} {found.unit}: {best.offer} is cheapest, {cost}"]
        summary += _nearest(found, best.offer)
    title = f"Month's cost at {float(found.volume):,.6g} {found.unit}, in {found.currency}"
    tables = (
        Table("offers", title, _OPTIONS, options),
        _met(found),
        Table("zones", "Number of zones at which two cost the same, at this volume", _ZONES, found.zones),
    )
    facts = {"currency": found.currency, "volume_unit": found.unit, "volume": found.volume}
    return Page("break_even", estate, tuple(summary), tables, facts)


def designs_break_even_page(estate: str, found: DesignsBreakEven) -> Page:
    """The designs at the flow's volume, the cheapest that meets every need first; where any two cost the same."""
    rivals = [(one.design, one.curve.start, one.curve.at(found.volume), one.fails) for one in found.rivals]
    best = found.rivals[0]
    cost = f"{cents(best.curve.at(found.volume)):,} {found.currency} a month"
    word = f"fails {', '.join(best.fails)} and costs" if best.fails else "is the cheapest that meets every need,"
    summary = [f"{found.flow} carries {float(found.volume):,.6g} {found.unit}: {best.design} {word} {cost}"]
    summary += _nearest(found, best.design, {one.design for one in found.rivals if one.fails})
    title = f"Month's cost of the whole at {float(found.volume):,.6g} {found.unit} of {found.flow}, in {found.currency}"
    tables = (Table("designs", title, _RIVALS, rivals), _met(found))
    facts = {"currency": found.currency, "volume_unit": found.unit, "volume": found.volume}
    not_counted = ("ports and addresses stay as they are: as many connections, of more or fewer bytes",)
    return Page("break_even", estate, tuple(summary), tables, facts, not_counted)


def _nearest(found: BreakEven | DesignsBreakEven, best: str, failing: Collection[str] = ()) -> list[str]:
    """The change of places of the best one that lies nearest to today's volume, with one that fails no need."""
    beyond = [one for one in found.meetings if best in (one.one, one.other) and one.at.kind == "cross"]
    beyond = [one for one in beyond if not ({one.one, one.other} - {best}) & {*failing}]
    return [
        f"it changes places with {one.other if one.one == best else one.one} at {float(one.at.volume):,.6g} "
        f"{found.unit} a month"
        for one in sorted(beyond, key=lambda each: abs(each.at.volume - found.volume))[:1]
    ]


def _met(found: BreakEven | DesignsBreakEven) -> Table:
    rows = [(one.one, one.other, _WORDS[one.at.kind], one.at.volume, one.at.until, one.hosts) for one in found.meetings]
    title = f"Where two cost the same, {found.unit} a month both ways"
    return Table("break_even", title, _MEETINGS, rows, empty="nowhere: each is dearer than the next at any volume")
