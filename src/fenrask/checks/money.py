"""Rules about money: what is paid for and not used, and what moves or works without a rate."""

from collections.abc import Iterator
from decimal import Decimal

from fenrask.capacity.streams import parts_toward
from fenrask.charges import networks_left
from fenrask.checks.contract import Context, Doubt, Fix
from fenrask.estate.suggestions import some
from fenrask.units import cents, counted

__all__ = ["crossing_without_rate", "idle_exit", "unused_address", "upkeep_exceeds_target", "upkeep_without_wage"]


def idle_exit(context: Context) -> Iterator[Doubt]:
    """An exit that costs money, though no flow uses it."""
    used = {name for trace in context.paths.examples for name in trace.exits} | context.paths.standing_by
    candidates = [name for name in context.estate.exits if name not in used and context.described.offer_of(name)]
    if candidates:
        # What takes over where another is lost is paid for with reason.
        over = (trace for paths in context.after_losses for trace in paths.examples if trace.verdict.arrives)
        taking_over = {name for trace in over for name in trace.exits}
        candidates = [name for name in candidates if name not in taking_over]
    for name in candidates:
        bill = context.evaluation.bill
        month = cents(bill.by_exit.get(name, bill.total * 0))
        if month > 0:
            cause = f"no flow uses {name}; it costs {month:,} {bill.currency} a month"
            remedy = "Remove it and the routes to it, or add the missing route to it."
            routes = _routes_to(context, name)
            fix = {"exits": {name: None}} | ({"route_tables": routes} if routes else {}) | _unnamed(context, name)
            exits = context.estate.exits.items()
            hung = any(other.attached_to == name for _, other in exits)
            # The table of a subnet that holds another exit is not emptied for it.
            hung |= any(
                context.estate.table_of(place) in routes
                for one, other in exits
                if one != name
                for place in other.in_subnets
            )
            yield Doubt(context.place("exits", name), cause, remedy, None if hung else fix)


def unused_address(context: Context) -> Iterator[Doubt]:
    """A public address, or a block, that is paid for by name and that no exit lists; or that no destination sees."""
    bill = context.evaluation.bill
    for sized in context.evaluation.capacity.exits:
        if sized.toward and not parts_toward(context.evaluation.demand, sized.exit, sized.toward):
            number = counted(sized.addresses, "address", "addresses")
            cause = f"{sized.exit} has {number} for {sized.toward} alone, to which no flow goes over it"
            fix: Fix = {"exits": {sized.exit: {"addresses_for": {sized.toward: None}}}}
            place = context.place("exits", sized.exit, "addresses_for", sized.toward)
            yield Doubt(place, cause, "Drop it, or describe the flow.", fix)
    for held in context.evaluation.plan.held:
        month = sum((cents(line.amount) for line in bill.lines if line.about == held.name and held.idle), Decimal(0))
        size = int(held.prefix.num_addresses)
        if not month or not held.idle:
            continue
        place = context.place("public_addresses", held.name)
        if held.idle == size:
            cause = f"no exit lists {held.name} ({held.prefix}); it costs {month:,} {bill.currency} a month"
            yield Doubt(place, cause, "Give it back, or list it.", {"public_addresses": {held.name: None}})
        elif held.idle * 2 > size:
            cause = f"exits list {size - held.idle} of the {size} addresses of {held.name} ({held.prefix})"
            yield Doubt(place, cause, "Use a smaller block, or list the others.")


def _routes_to(context: Context, name: str) -> dict[str, dict[str, None]]:
    """The routes that name an exit alone, to be removed with it."""
    found: dict[str, dict[str, None]] = {}
    for table, routes in context.described.data.get("route_tables", {}).items():
        for key, value in routes.items():
            if value == name:
                found.setdefault(table, {})[key] = None
    return found


def _unnamed(context: Context, name: str) -> Fix:
    """The cases of `stress` without an exit that is removed; one that loses nothing else goes with it."""
    cases: Fix = {}
    for case, stated in context.estate.stress.items():
        exits = [one for one in stated.lose_exits if one != name]
        sessions = [one for one in stated.sessions_down if context.estate.session(one)[0] != name]
        changed: Fix = {}
        if len(exits) < len(stated.lose_exits):
            changed["lose_exits"] = exits or None
        if name in stated.lose_nodes:
            changed["lose_nodes"] = {name: None} if len(stated.lose_nodes) > 1 else None
        if len(sessions) < len(stated.sessions_down):
            changed["sessions_down"] = sessions or None
        written = context.described.data["stress"][case]
        gone = [key for key, value in changed.items() if value is None]
        if changed:
            cases[case] = None if {*written} <= {*gone} else changed
    return {"stress": cases} if cases else {}


def upkeep_without_wage(context: Context) -> Iterator[Doubt]:
    """Machines whose offer takes hours of work a month, in an estate that says not what an hour costs."""
    if context.estate.wage_per_hour or "wage_per_hour" in context.described.data:
        return
    for name in context.estate.exits:
        offer = context.described.offer_of(name)
        if offer is not None and offer.upkeep_hours:
            cause = f"{name} takes {offer.upkeep_hours:g} hours of work a month, and the estate has no wage_per_hour"
            yield Doubt(context.place("exits", name), cause, "Set wage_per_hour; 0 if the work is not to count.")


def upkeep_exceeds_target(context: Context) -> Iterator[Doubt]:
    """More hours of work a month than the target allows."""
    if why := context.evaluation.too_much_work:
        machines = [
            name for name in context.estate.exits if (offer := context.described.offer_of(name)) and offer.upkeep_hours
        ]
        remedy = f"Replace some of {some(machines)} by what a provider runs, or raise the target."
        yield Doubt(context.place("targets", "upkeep_hours_per_month"), why, remedy)


def crossing_without_rate(context: Context) -> Iterator[Doubt]:
    """Traffic between networks of two regions, in a catalogue without a rate for that where others have one."""
    seen: set[tuple[str, str]] = set()
    outward = context.paths.first_of_each(lambda trace: any(networks_left(context.described, trace)))
    for path in (*outward, *context.paths.inward):
        for left, entered in networks_left(context.described, path.example):
            regions = [context.estate.networks[name].region for name in (left, entered)]
            rates = context.described.catalogue.transfer_in(regions[0])
            crosses = regions[0] != regions[1] and all(regions)
            if crosses and rates.cross_network_per_gb and not rates.cross_region_per_gb and (left, entered) not in seen:
                seen.add((left, entered))
                cause = (
                    f"{path.flow} crosses from region {regions[0]} to {regions[1]}, "
                    "and the catalogue has no rate for it"
                )
                place = context.described.catalogue_tree.place(("transfer",))
                yield Doubt(place, cause, "Set transfer.cross_region_per_gb.")
