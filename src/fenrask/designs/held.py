"""Public addresses that are held, and paid, in any case: a plan takes them before it buys others."""

from collections.abc import Container, Iterator

from fenrask.designs.contract import Patch
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.prefixes import Address

__all__ = ["idle_addresses", "with_held"]

_MOST = 4096
"""Addresses of held blocks that are looked at."""


def idle_addresses(described: Described, gone: Container[str], region: str) -> list[Address]:
    """The held IPv4 addresses that no exit lists but those that are gone, in a region; in the order of the estate.

    A block is in the region of the exits that list addresses of it; where none does, in any.
    """
    estate = described.estate
    listed = {address for name, one in estate.exits.items() if name not in gone for address in one.every_listed}
    found = [one for one, place in _held(described) if place in ("", region) and one not in listed]
    return found[:_MOST]


def _held(described: Described) -> Iterator[tuple[Address, str]]:
    estate, looked_at = described.estate, 0
    for held in estate.public_addresses.values():
        listing = (one for one in estate.exits.values() if any(address in held.address for address in one.every_listed))
        region = next((estate.region_of(one) for one in listing), "")
        for address in held.address if held.address.version == 4 else ():
            looked_at += 1
            if looked_at > _MOST:
                return
            yield address, region


def with_held(described: Described, patch: Patch, evaluation: Evaluation) -> tuple[Patch, Evaluation]:
    """The patch with held addresses at the exits that it adds, where these suffice; else as it is."""
    exits = patch.get("exits") or {}
    if not described.estate.public_addresses:
        return patch, evaluation
    gone = {name for name, stated in exits.items() if stated is None}
    taken: set[Address] = set()
    changed = {}
    for name, stated in exits.items():
        sized = evaluation.capacity.of(name)
        if stated is None or "kind" not in stated or stated.get("addresses") != "auto" or sized is None:
            continue
        region = evaluation.described.estate.region_of(evaluation.described.estate.exits[name])
        idle = [one for one in idle_addresses(described, {*gone, name}, region) if one not in taken]
        if sized.addresses <= len(idle):
            taken |= {*idle[: sized.addresses]}
            changed[name] = {**stated, "addresses": [str(one) for one in idle[: sized.addresses]]}
    if not changed:
        return patch, evaluation
    fuller = {**patch, "exits": {**exits, **changed}}
    after = evaluate(described.patched(fuller, "held addresses"), like=evaluation)
    better = after.bill.total < evaluation.bill.total and after.meets_all >= evaluation.meets_all
    return (fuller, after) if better else (patch, evaluation)
