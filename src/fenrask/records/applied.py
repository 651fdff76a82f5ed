"""An estate whose flows have the load that records show."""

from collections import Counter
from collections.abc import Sequence
from typing import Any

from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described
from fenrask.estate.measures import with_measured
from fenrask.records.measuring import Measured, measured_file

__all__ = ["with_loads"]


def with_loads(described: Described, found: Sequence[Measured]) -> tuple[Described, tuple[str, ...]]:
    """The estate with measured loads instead of stated ones, as by `measured:`; and the flows that got theirs.

    What several flows of a workload send to one destination is not told apart by records: these stay as they are, as do
    pools of connections that are always open.
    """
    estate, problems = described.estate, list[Problem]()
    seen = {(one.subnet, one.destination) for one in found}
    pairs = Counter((flow.from_, flow.to) for flow in estate.outward_flows.values())
    names = [
        name
        for name, flow in estate.outward_flows.items()
        if pairs[flow.from_, flow.to] == 1
        and flow.persistent_per_host is None
        and any((subnet, flow.to) in seen for subnet in estate.workloads[flow.from_].subnets)
    ]
    measured_loads = measured_file(found)["pairs"]
    patch: dict[str, Any] = {"flows": {}, "profiles": {}}
    for name in names:
        flow = estate.flows[name]
        asked = {**described.data, "flows": {name: {"from": flow.from_, "to": flow.to}}}
        loaded = with_measured(asked, name, measured_loads, Place(path=f"flows.{name}"), problems)
        stated = dict.fromkeys(described.data["flows"][name])
        patch["flows"][name] = {**stated, **loaded["flows"][name]}
        profile = loaded["flows"][name].get("profile")
        if profile:
            patch["profiles"][profile] = loaded["profiles"][profile]
    if problems:
        raise UnusableInput(problems)
    return described.patched(patch, "what was measured"), tuple(names)
