"""Break-even volumes of a flow, as a page."""

from fenrask.designs import BreakEven
from fenrask.units import cents
from fenrask.views.page import Column, Page, Table

__all__ = ["break_even_page"]

_WORDS = {"cross": "change places", "touch": "touch", "coincide": "cost the same"}
_OPTIONS = (
    Column("offer", "offer"),
    Column("kind", "kind"),
    Column("places", "places", "count"),
    Column("fixed_amount", "fixed", "money"),
    Column("month_amount", "month", "money"),
)
_MEETINGS = (
    Column("one", "offer"),
    Column("other", "and offer"),
    Column("how", "they"),
    Column("volume", "at volume", "figure"),
    Column("until_volume", "up to", "figure", sparse=True),
    Column("hosts", "hosts", "figure"),
)
_ZONES = (Column("one", "offer"), Column("other", "and offer"), Column("zones", "zones", "figure"))


def break_even_page(estate: str, found: BreakEven) -> Page:
    """The offers at the flow's volume, the cheapest first; where any two cost the same."""
    options = [(one.offer, one.kind, one.places, one.fixed, one.curve.at(found.volume)) for one in found.options]
    meetings = [
        (one.one, one.other, _WORDS[one.at.kind], one.at.volume, one.at.until, one.hosts) for one in found.meetings
    ]
    answer = [f"no offer carries {found.flow}"]
    if found.options:
        best = found.options[0]
        cost = f"{cents(best.curve.at(found.volume)):,} {found.currency} a month"
        answer = [f"{found.flow} carries {float(found.volume):,.6g} {found.unit}: {best.offer} is cheapest, {cost}"]
        beyond = [one for one in found.meetings if best.offer in (one.one, one.other) and one.at.kind == "cross"]
        for one in sorted(beyond, key=lambda each: abs(each.at.volume - found.volume))[:1]:
            other = one.other if one.one == best.offer else one.one
            answer.append(f"it changes places with {other} at {float(one.at.volume):,.6g} {found.unit} a month")
    title = f"Month's cost at {float(found.volume):,.6g} {found.unit}, in {found.currency}"
    tables = (
        Table("offers", title, _OPTIONS, options),
        Table("break_even", f"Where two cost the same, {found.unit} a month both ways", _MEETINGS, meetings),
        Table("zones", "Number of zones at which two cost the same, at this volume", _ZONES, found.zones),
    )
    facts = {"currency": found.currency, "volume_unit": found.unit, "volume": found.volume}
    return Page("break_even", estate, tuple(answer), tables, facts)
