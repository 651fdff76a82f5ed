"""Gateways and routed endpoints, and in-subnet endpoints where they pay or a need asks for one."""

from collections.abc import Sequence
from fractions import Fraction

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import Draft
from fenrask.designs.drafted import drafted
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
from fenrask.evaluation import Evaluation, every_broken_need

__all__ = ["IN_SUBNET", "ROUTED"]


_FEW = 12
"""Endpoints that are tried one by one; of more, what each brings is read off two bills."""


def _in_subnet_too(described: Described) -> Patch:
    """Endpoint by endpoint: one stays where it mends a need, or lowers the month's cost and breaks none."""
    uses = service_uses(described)
    routed = add_each(Draft(described), uses, add_routed)
    open_uses = add_each(Draft(described), [use for use in uses if use not in routed], add_in_subnet)
    chosen = _one_by_one(described, open_uses) if len(open_uses) <= _FEW else _by_bills(described, open_uses)
    if not chosen:
        raise NoAnswer("no in-subnet endpoint pays, and no need asks for one")
    return _with(described, chosen)


def _one_by_one(described: Described, open_uses: Sequence[ServiceUse]) -> list[ServiceUse]:
    chosen: list[ServiceUse] = []
    now = drafted(described, _with(described, chosen), "draft")
    for use in open_uses:
        then = drafted(described, _with(described, [*chosen, use]), "draft", like=now)
        if _score(then) < _score(now):
            chosen, now = [*chosen, use], then
    return chosen


def _by_bills(described: Described, open_uses: Sequence[ServiceUse]) -> list[ServiceUse]:
    """Those with which their flows cost less, or meet more needs, than without any; if they do so together."""
    without = drafted(described, _with(described, []), "draft")
    every = drafted(described, _with(described, open_uses), "draft", like=without)
    mended = {one.flow for one in without.broken} - {one.flow for one in every_broken_need(every.paths)}
    saved: dict[tuple[str, str], Fraction] = {}
    for flow, stated in described.estate.outward_flows.items():
        subnets = described.estate.workloads[stated.from_].subnets
        saves = without.bill.by_flow.get(flow, Fraction(0)) - every.bill.by_flow.get(flow, Fraction(0))
        for network in {described.estate.subnets[name].network for name in subnets}:
            key = (network, stated.to)
            saved[key] = saved.get(key, Fraction(0)) + saves
            if flow in mended:
                saved[key] = Fraction(10**12)
    chosen = [use for use in open_uses if saved.get((use.network, use.destination), Fraction(0)) > 0]
    if not chosen:
        return []
    then = drafted(described, _with(described, chosen), "draft", like=every)
    return chosen if _score(then) < _score(without) else []


def _score(evaluation: Evaluation) -> tuple[int, Fraction]:
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
