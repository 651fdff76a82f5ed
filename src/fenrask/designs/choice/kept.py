"""Flows that are to stay as they are: the one lane that is the way they have."""

from fenrask.designs.choice.places import passed, standing_site
from fenrask.designs.choice.units import Lane, Site, Unit
from fenrask.routing import Ways, broken_needs

__all__ = ["kept"]

_BY_SIZE = ("max_source_addresses", "one_source_per_host")
"""Needs that hang on how many addresses exits are given."""


def kept(ways: Ways, unit: Unit) -> Unit:
    """The unit with the way that it has as its only lane; with none where a subnet has several ways at once."""
    asis = [lane for lane in unit.lanes if not lane.sites]
    if asis:
        return Unit(unit.group, tuple(asis))
    described = ways.described
    known = {site.existing: site for lane in unit.lanes for site in lane.sites if site.existing}
    sites, first = list[Site](), list[str]()
    for subnet in unit.subnets:
        own = [way for way in ways.by_flow[unit.flows[0]] if unit.holds(way) and way.subnet == subnet]
        if len(own) != 1 or not own[0].walk.verdict.arrives:
            return Unit(unit.group, ())
        walk = own[0].walk
        paid = [name for name in walk.exits if described.estate.exits[name].offer_name]
        last = walk.source.exit if walk.source.kind == "exit" else paid[-1]
        sites.append(known.get(last) or standing_site(described, last))
        first.append(walk.exits[0])
    broken = {one.need for name in unit.flows for one in broken_needs(ways, name)} - {*_BY_SIZE, "arrives"}
    exits = ", ".join(dict.fromkeys(site.existing for site in sites))
    lane = Lane(
        f"by {exits}, as it is",
        tuple(sites),
        tuple(sorted(broken)),
        first=tuple(first),
        also=passed(ways, unit.group, sites),
    )
    return Unit(unit.group, (lane,))
