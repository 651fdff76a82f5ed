"""The division of an exit's subnets over several gateways, as a patch that was tried."""

from collections.abc import Mapping
from copy import deepcopy
from typing import Any

from fenrask.capacity import ExitCapacity
from fenrask.estate import Described
from fenrask.evaluation.stages import Evaluation
from fenrask.evaluation.trying import tried

__all__ = ["divided", "divisible"]

_ITS_OWN = ("addresses", "at_least", "addresses_for", "publishes")
"""Keys of an exit that another one like it does not take over."""


def divided(evaluation: Evaluation, exit_capacity: ExitCapacity) -> Mapping[str, Any] | None:
    """The patch that divides an exit as its `split` says; None where there is none, or it does not do.

    The first share keeps the exit. The subnets of each other one get tables of their own, which name an exit like it.
    """
    split = exit_capacity.split
    if split is None or split.too_much or len(split.shares) < 2:
        return None
    estate = evaluation.described.estate
    own = estate.network_of(estate.exits[exit_capacity.exit])
    if any(share.network != own for share in split.shares):
        # One in another network needs a subnet there.
        return None
    patch: dict[str, Any] = {"exits": {exit_capacity.exit: {"addresses": "auto"}}, "route_tables": {}, "subnets": {}}
    names = [exit_capacity.exit]
    for number, share in enumerate(split.shares[1:], 2):
        names.append(_add(evaluation.described, patch, exit_capacity.exit, number, share.subnets))
    after = tried(evaluation, patch, "a division")
    if after is None:
        return None
    sized = {each.exit: each for each in after.capacity.exits}
    return patch if all(name in sized and sized[name].fits for name in names) else None


def divisible(evaluation: Evaluation) -> frozenset[str]:
    """The exits that do not carry their load, and whose division does."""
    short = (one for one in evaluation.capacity.exits if not one.fits)
    return frozenset(one.name for one in short if divided(evaluation, one) is not None)


def _add(described: Described, patch: dict[str, Any], name: str, number: int, subnets: tuple[str, ...]) -> str:
    """Another exit like one, for some subnets; its name."""
    estate = described.estate
    other = f"{name}-{number}"
    while other in estate.exits:
        other += "-more"
    data = {key: deepcopy(value) for key, value in described.data["exits"][name].items() if key not in _ITS_OWN}
    patch["exits"][other] = {**data, "addresses": "auto"}
    for subnet in subnets:
        table = estate.table_of(subnet)
        new = f"{table or subnet}-{number}"
        written = described.data.get("route_tables", {}).get(table, {})
        patch["route_tables"][new] = {key: _instead(value, name, other) for key, value in written.items()}
        patch["subnets"][subnet] = {"routes": new}
    return other


def _instead(value: Any, name: str, other: str) -> Any:
    """What a route names, with another exit in the place of one."""
    if isinstance(value, list):
        return [_instead(one, name, other) for one in value]
    return other if value == name else deepcopy(value)
