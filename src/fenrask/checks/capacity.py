"""Rules about what runs out: ports at the peak, and every other limit of an offer."""

from collections.abc import Iterator
from math import inf
from typing import Any

from fenrask.capacity import ExitCapacity, given
from fenrask.checks.contract import Context, Doubt, Fix
from fenrask.estate.suggestions import some
from fenrask.evaluation import divided
from fenrask.units import counted, figure, rough

__all__ = ["client_pool_too_small", "host_limit_exceeded", "limit_exceeded", "port_exhaustion"]


def port_exhaustion(context: Context) -> Iterator[Doubt]:
    """An exit at which more new connections than the target allows find no free port at the peak."""
    for exit_ in context.evaluation.capacity.exits:
        if exit_.enough_addresses or exit_.ports is None:
            continue
        remedy, fix = _cure(context, exit_) if context.tells else ("", None)
        place = ("exits", exit_.exit, *(("addresses_for", exit_.toward) if exit_.toward else ()))
        yield Doubt(context.place(*place), exit_.verdict, remedy, fix)


def _cure(context: Context, exit_capacity: ExitCapacity) -> tuple[str, Fix | None]:
    """More addresses, where they are enough and the offer has them."""
    most = exit_capacity.most_addresses
    if exit_capacity.needed is None or (most is not None and exit_capacity.needed > most):
        return _divide(context, exit_capacity)
    exit_ = context.estate.exits[exit_capacity.exit]
    if exit_capacity.blocking_with(exit_capacity.needed) > exit_capacity.target or exit_.pool is not None:
        return "Divide its load over more exits, or lower it.", None
    # With what it needs after a fault that it is to survive, where that does: else addresses are bought twice.
    numbers = [number for number in (exit_capacity.most_needed, exit_capacity.needed) if number is not None]
    for number in dict.fromkeys(numbers) if context.seeks else ():
        # As single addresses; else in blocks, which take fewer entries of partners' allow-lists.
        for stated, at_least in ((number, None), ("auto", number)):
            fix: Fix = {"exits": {exit_capacity.exit: exit_capacity.with_addresses(stated, at_least)}}
            if (most is None or number <= most) and _does(context, exit_capacity, fix):
                return _more(context, exit_capacity, number), fix
    words = _more(context, exit_capacity, exit_capacity.needed)
    return f"{words} A partner's allow-list is too short for them (`fenrask addresses`).", None


def _more(context: Context, exit_capacity: ExitCapacity, number: int) -> str:
    """The sentence that asks for more addresses."""
    more, after = counted(number - exit_capacity.addresses, "more address", "more addresses"), exit_capacity.after_fault
    words = f"Give it {more}: {number} in all{_beside(exit_capacity)}"
    if after is not None and number != exit_capacity.needed:
        words += f" ({exit_capacity.needed} now, {number} with {after.fault})"
    own = context.estate.exits[exit_capacity.exit].listed_toward(exit_capacity.toward)
    return f"{words}. List them once assigned." if own else f"{words}."


def _does(context: Context, exit_capacity: ExitCapacity, fix: Fix) -> bool:
    """Whether an exit fits with it, no need more is broken, and no list becomes too short for what is needed then."""
    now, after = context.evaluation, context.evaluated(fix)
    then = after.capacity.of(exit_capacity.exit, exit_capacity.toward)
    if then is None or not then.fits:
        return False
    if not {(one.flow, one.need) for one in after.broken} <= {(one.flow, one.need) for one in now.broken}:
        return False
    too_short, before = (
        {(one.exit, one.destination) for one in found.plan.changes if not one.fits} for found in (after, now)
    )
    return too_short <= before


def _divide(context: Context, exit_capacity: ExitCapacity) -> tuple[str, Fix | None]:
    """Several exits instead of one, each for some of its subnets: as a patch where that does."""
    fix = None
    if exit_capacity.split and exit_capacity.split.too_much:
        named = some(each.subnet for each in exit_capacity.split.too_much)
        return f"No gateway carries {named} alone: divide what is in it, or lower the load.", None
    if context.seeks and context.trials > 0 and exit_capacity.split:
        context.trials -= 1
        fix = divided(context.evaluation, exit_capacity)
    if fix is not None and exit_capacity.split:
        return f"Divide its subnets over {counted(len(exit_capacity.split.shares), 'gateway')}.", dict(fix)
    into = (
        f"Divide its subnets over {counted(len(exit_capacity.split.shares), 'gateway')}"
        if exit_capacity.split
        else "Divide its load"
    )
    return f"{into} (`fenrask capacity` shows how), or lower the load.", None


def _fewer(context: Context, exit_name: str, most: int) -> dict[str, Any]:
    """No more addresses of an exit than its offer allows, where they are enough: those go that are not needed."""
    rows = [one for one in context.evaluation.capacity.exits if one.exit == exit_name]
    spare, patch = sum(one.addresses for one in rows) - most, list[tuple[ExitCapacity, int]]()
    for row in sorted(rows, key=lambda each: (each.needed or 1) - each.addresses):
        gone = min(spare, max(0, row.addresses - (row.needed or 1)))
        patch += [(row, row.addresses - gone)] if gone else []
        spare -= gone
    return given(patch) if spare <= 0 else {}


def _beside(exit_capacity: ExitCapacity) -> str:
    return (
        f" for {exit_capacity.toward}"
        if exit_capacity.toward
        else f" beside {exit_capacity.beside} for one destination each"
        if exit_capacity.beside
        else ""
    )


def client_pool_too_small(context: Context) -> Iterator[Doubt]:
    """Requests that a client's connections cannot carry at the busiest hour, so that they wait without end."""
    traffic = context.described.traffic
    for row, pooled in traffic.pooled.items():
        flow = context.estate.flows[traffic.names[row]]
        if pooled.busiest.wait_s != inf or flow.pool_max is None:
            continue
        most = max(traffic.multipliers(traffic.profiles[traffic.asked_profile[row]]))
        asked = (flow.requests_per_host_per_s or 0.0) * most
        needed = int(asked * flow.duration_mean_s / flow.requests_at_once) + 1
        cause = (
            f"{traffic.names[row]} asks for {rough(asked)} requests/s of each host at its busiest, of "
            f"{flow.duration_mean_s:g} s: more than {counted(flow.pool_max, 'connection')} of a client can carry"
        )
        fix: Fix = {"flows": {traffic.names[row]: {"pool_max": needed}}}
        remedy = f"Allow {counted(needed, 'connection')} at least, or let several requests share one at a time."
        yield Doubt(context.place("flows", traffic.names[row], "pool_max"), cause, remedy, fix)


def host_limit_exceeded(context: Context) -> Iterator[Doubt]:
    """A host whose own interface does not carry its load at the peak."""
    for host in context.evaluation.capacity.hosts:
        if host.exceeded:
            place = context.place("workloads", host.workload, "interface")
            yield Doubt(place, str(host), "Give its load to more hosts, or hosts a larger interface.")


def limit_exceeded(context: Context) -> Iterator[Doubt]:
    """An exit that exceeds another limit of its offer at the peak."""
    for exit_limits in context.evaluation.capacity.every:
        for limit in exit_limits.exceeded:
            whose = f"{limit.of}'s limit of {limit.limit.removesuffix(f' at {limit.of}')}" if limit.of else limit.limit
            cause = f"{exit_limits.name} exceeds {whose}: {figure(limit.use)} of {figure(limit.capacity)} {limit.unit}"
            cause += f" {limit.detail}" if limit.detail else ""
            remedy = "Divide its load over more exits (`fenrask capacity` shows how), or take another offer."
            fix: Fix | None = None
            pool = context.estate.exits[exit_limits.exit].pool
            if limit.limit == "addresses" and pool is not None and limit.capacity >= 1:
                remedy = f"Give it a private pool of at most {limit.capacity:,.0f} addresses."
                longer = pool.max_prefixlen - (int(limit.capacity).bit_length() - 1)
                smaller: Fix = {"exits": {exit_limits.exit: {"private_pool": f"{pool.network_address}/{longer}"}}}
                fix = smaller if context.breaks_nothing(smaller) else None
            elif limit.limit == "addresses" and (fewer := _fewer(context, exit_limits.exit, int(limit.capacity))):
                fix, remedy = {"exits": fewer}, f"Its offer allows {limit.capacity:,.0f}."
            elif isinstance(exit_limits, ExitCapacity) and not limit.of and limit.grows and exit_limits.split:
                remedy, fix = _divide(context, exit_limits)
            elif limit.of and isinstance(exit_limits, ExitCapacity):
                remedy, fix = _cure(context, exit_limits)
            elif limit.of:
                remedy = f"Ask {limit.of} for more addresses of its translation, or send less over {exit_limits.exit}."
            yield Doubt(context.place("exits", exit_limits.exit), cause, remedy, fix)
