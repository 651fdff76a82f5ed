"""Gateways and routed endpoints, and in-subnet endpoints where they pay or a need asks for one."""

from collections.abc import Sequence

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import Draft
from fenrask.designs.endpoints import IN_SUBNET as IN_SUBNET_KIND
from fenrask.designs.endpoints import ROUTED as ROUTED_KIND
from fenrask.designs.endpoints import (
    ServiceUse,
    add_each,
    add_in_subnet,
    add_routed,
    endpoints_of,
    service_uses,
)
from fenrask.designs.standard.gateways import GATEWAY, place_exits
from fenrask.errors import NoAnswer
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate

__all__ = ["IN_SUBNET", "ROUTED"]


def _in_subnet_too(described: Described) -> Patch:
    """Endpoint by endpoint: one stays where it mends a need, or lowers the month's cost and breaks none."""
    uses = service_uses(described)
    routed = add_each(Draft(described), uses, add_routed)
    open_uses = add_each(Draft(described), [use for use in uses if use not in routed], add_in_subnet)
    chosen: list[ServiceUse] = []
    patch = _with(described, chosen)
    now = evaluate(described.patched(patch, "draft"))
    for use in open_uses:
        tried = _with(described, [*chosen, use])
        then = evaluate(described.patched(tried, "draft"), like=now)
        if _score(then) < _score(now):
            chosen, patch, now = [*chosen, use], tried, then
    if not chosen:
        raise NoAnswer("no in-subnet endpoint pays, and no need asks for one")
    return patch


def _score(evaluation: Evaluation) -> tuple[int, object]:
    return evaluation.flows_with_broken_needs, evaluation.bill.total


def _with(described: Described, in_subnet: Sequence[ServiceUse]) -> Patch:
    inner = endpoints_of(described, IN_SUBNET_KIND)
    kept = [inner[key] for use in in_subnet if (key := (use.network, use.destination)) in inner]
    draft = Draft(described, kept=[*kept, *endpoints_of(described, ROUTED_KIND).values()])
    place_exits(draft, GATEWAY, "gateway", per_zone=True)
    add_each(draft, in_subnet, add_in_subnet)
    add_each(draft, [use for use in service_uses(described) if use not in in_subnet], add_routed)
    return draft.patch()


IN_SUBNET = Design(
    "with in-subnet endpoints", "the same, and in-subnet endpoints where they pay", _in_subnet_too, (GATEWAY,)
)


def _routed(described: Described) -> Patch:
    draft = Draft(described, kept=endpoints_of(described, ROUTED_KIND).values())
    place_exits(draft, GATEWAY, "gateway", per_zone=True)
    if not add_each(draft, service_uses(described), add_routed):
        raise NoAnswer("no flow uses a service that a routed endpoint reaches")
    return draft.patch()


ROUTED = Design("with routed endpoints", "gateway per zone, and routed endpoints to services", _routed, (GATEWAY,))
