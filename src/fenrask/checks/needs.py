"""Flows whose paths break a need: which rule tells of it, and what cures it."""

from collections.abc import Callable, Iterator, Mapping
from functools import cached_property
from typing import Any

from fenrask.capacity import given
from fenrask.checks.contract import Context, Doubt, Fix
from fenrask.checks.endpoints import routed_endpoints_for
from fenrask.checks.exits import assigned_at
from fenrask.evaluation import BrokenNeed, Evaluation, not_allowed
from fenrask.prefixes import is_public

__all__ = ["need_not_met"]


def need_not_met(context: Context) -> Iterator[Doubt]:
    """A flow whose path breaks one of its other needs."""
    cures = _Cures(context)
    for broken in context.evaluation.broken:
        has_own_rule = _OWN_RULES.get(broken.need)
        if has_own_rule is not None and has_own_rule(context, broken):
            continue
        where = cures.where(broken)
        remedy, fix = next(cures.of(broken), ("", None))
        if not remedy:
            remedy = f"Route it through an exit that meets {broken.need} (`fenrask compare` shows designs), or remove"
            remedy = f"{remedy} {where}.needs.{broken.need}."
        cause = f"{broken.flow} breaks {broken.need}: {broken.why}"
        yield Doubt(context.place("flows", broken.flow), cause, remedy, fix)


class _Cures:
    """What cures a broken need, in words and as a patch that was tried."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def of(self, broken: BrokenNeed) -> Iterator[tuple[str, Fix | None]]:
        """The first that helps; nothing where nothing is known to."""
        cure = _CURES.get(broken.need)
        return cure(self, broken) if cure is not None else iter(())

    def where(self, broken: BrokenNeed) -> str:
        """Where the need is stated: at the destination, or at the workload."""
        flow = self._context.estate.flows[broken.flow]
        stated = self._context.estate.remotes[flow.remote].needs
        is_there = getattr(stated, broken.need, None)
        return f"destinations.{flow.other_end}" if is_there else f"workloads.{flow.workload}"

    def privately(self, broken: BrokenNeed) -> Iterator[tuple[str, Fix | None]]:
        """Off the internet: by a private endpoint."""
        if not self._context.estate.flows[broken.flow].is_inward:
            endpoints = routed_endpoints_for(self._context, broken.flow)
            if fix := self._context.first_that_cures(broken.flow, endpoints, broken.need):
                yield "Route it to a private endpoint.", fix

    def in_blocks(self, broken: BrokenNeed) -> Iterator[tuple[str, Fix | None]]:
        """Fewer entries of an allow-list: by blocks of addresses."""
        if fix := _in_blocks(self._context, broken):
            yield "Take its addresses in blocks, which take fewer entries of the allow-list.", fix

    def after_faults(self, broken: BrokenNeed) -> Iterator[tuple[str, Fix | None]]:
        """After a fault: by more addresses."""
        if fix := self._more_addresses.get(broken.flow):
            named = "; ".join(f"{name}: {_numbers(keys)}" for name, keys in fix["exits"].items())
            yield f"Give its exits what they need after the fault ({named}).", fix

    @cached_property
    def _more_addresses(self) -> dict[str, Fix]:
        return _for_faults(self._context)

    def closed(self, broken: BrokenNeed) -> Iterator[tuple[str, Fix | None]]:
        """Nothing may come in: by a filter that remembers what hosts opened, or by closing lines."""
        flow = self._context.estate.flows[broken.flow]
        if flow.is_inward:
            yield f"Remove the flow, or {self.where(broken)}.needs.{broken.need}: both cannot be meant.", None
            return
        filtered = {"workloads": {flow.workload: {"filters": {"outbound-only": {"stateful": True}}}}}
        exits = self._context.estate.exits.items()
        lines: Fix = {name: {"open_ports": []} for name, one in exits if one.known_beyond is not None}
        if fix := self._context.first_that_cures(broken.flow, [filtered, {"exits": lines}], broken.need):
            yield "Let nothing in but replies.", fix


_CURES: dict[str, Callable[[_Cures, BrokenNeed], Iterator[tuple[str, Fix | None]]]] = {
    "off_internet": _Cures.privately,
    "max_source_addresses": _Cures.in_blocks,
    "survives": _Cures.after_faults,
    "outbound_only": _Cures.closed,
}


def _list_lacks(context: Context, broken: BrokenNeed) -> bool:
    to = context.estate.flows[broken.flow].remote
    return any(is_public(address) for _, address in not_allowed(context.paths, to))


_OWN_RULES: dict[str, Callable[[Context, BrokenNeed], bool]] = {
    "arrives": lambda *_: True,
    "fixed_source": lambda context, broken: bool(assigned_at(context, broken.flow)),
    "allowed": _list_lacks,
}
"""By need: whether another rule tells of it: of what is lost, of an address that may change, or that a list lacks."""


def _in_blocks(context: Context, broken: BrokenNeed) -> Fix | None:
    """As many addresses as a destination sees now, in blocks, where it then takes their entries."""
    remote, exits = context.estate.flows[broken.flow].remote, dict[str, dict[str, Any]]()
    for name in context.paths.sources_at(remote):
        stated = context.estate.exits[name]
        sized = context.evaluation.capacity.of(name, stated.toward(remote))
        if sized is not None and sized.stated and not sized.toward and not stated.listed_addresses:
            exits[name] = sized.with_addresses("auto", sized.addresses)
    if not exits or not context.seeks or context.trials <= 0:
        return None
    context.trials -= 1
    fix: Fix = {"exits": exits}
    after = context.evaluated(fix).broken
    return fix if (broken.flow, broken.need) not in {(one.flow, one.need) for one in after} else None


def _for_faults(context: Context) -> dict[str, Fix]:
    """By flow: more addresses with which it survives what it is to, where its exits lack no more; none where none do.

    Those of all exits at once, so that one trial serves every flow.
    """
    short = [
        (one, one.most_needed)
        for one in context.evaluation.capacity.exits
        if one.most_needed is not None and one.most_needed > one.addresses
    ]
    before = {(one.flow, one.need) for one in context.evaluation.broken}
    too_much = _too_much(context.evaluation)
    # As single addresses; else in blocks, which take fewer entries of partners' allow-lists.
    blocks = {one.exit: one.with_addresses("auto", number) for one, number in short if not one.toward}
    found: dict[str, Fix] = {}
    for fix in (given(short), blocks):
        if not fix or context.trials <= 0:
            break
        context.trials -= 1
        evaluation = context.evaluated({"exits": fix})
        after = {(one.flow, one.need) for one in evaluation.broken}
        if _too_much(evaluation) <= too_much and after <= before:
            for flow, _ in {(flow, need) for flow, need in before if need == "survives"} - after:
                found.setdefault(flow, {"exits": fix})
    return found


def _too_much(evaluation: Evaluation) -> set[tuple[str, str]]:
    """What each exit does not carry: ports, and limits by name."""
    ports = {(one.name, "ports") for one in evaluation.capacity.every if not one.enough_addresses}
    return ports | {(one.name, limit.limit) for one in evaluation.capacity.every for limit in one.exceeded}


def _numbers(keys: Mapping[str, Any]) -> str:
    """How many addresses a patch of an exit states, in words."""
    own = keys.get("addresses_for", {})
    counts = [str(keys.get("at_least", keys["addresses"]))] if "addresses" in keys else []
    return ", ".join([*counts, *(f"{number} for {to}" for to, number in own.items())])
