"""What an estate lacks to hold all that was measured, as a merge patch to begin from."""

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from fenrask.estate import Estate
from fenrask.prefixes import parse_address
from fenrask.records.measuring import Measured
from fenrask.records.summary import Summary

__all__ = ["proposal"]

_MOST = 50
_MOST_GROWTH = 0.9
"""A share a month, up or down, beyond which no growth is proposed."""
_PROTOCOLS = {6: "tcp", 17: "udp"}


def proposal(estate: Estate, summary: Summary, found: Sequence[Measured], save: Path | None) -> dict[str, Any]:
    """Destinations for unmatched targets of our own subnets, a workload for each subnet without one, flows, and growth.

    Names are made up of what is known; hosts are 1 where nothing says how many there are. Growth is that of loads which
    were measured over three weeks or more, for flows that state none.
    """
    patch: dict[str, Any] = {}
    for (source, target, port, protocol), _ in sorted(summary.unmatched.items(), key=lambda pair: -pair[1])[:_MOST]:
        inside = estate.subnets_at(parse_address(source.split("/")[0]))
        if len(inside) != 1 or protocol not in _PROTOCOLS or not port:
            continue
        name = f"seen-{target.split('/')[0].replace('.', '-').replace(':', '-')}-{port}"
        entry = {"prefixes": [target], "port": port, "protocol": _PROTOCOLS[protocol]}
        patch.setdefault("destinations", {})[name] = entry
    known = {
        (subnet, one.to) for one in estate.outward_flows.values() for subnet in estate.workloads[one.from_].subnets
    }
    for measured in found:
        if (measured.subnet, measured.destination) in known:
            continue
        owner = next((name for name, each in estate.workloads.items() if [*each.subnets] == [measured.subnet]), "")
        if not owner:
            owner = f"hosts-of-{measured.subnet}"
            patch.setdefault("workloads", {})[owner] = {"subnets": [measured.subnet], "hosts": 1}
        flow: dict[str, Any] = {"from": owner, "to": measured.destination}
        flow |= (
            {"measured": save.name}
            if save
            else {"per_host_per_s": round(measured.new_per_s, 6), "duration_s": measured.duration_s}
        )
        patch.setdefault("flows", {})[f"{owner}-to-{measured.destination}"] = flow | _growth(measured)
    for name, grown in _grown(estate, found):
        patch.setdefault("flows", {})[name] = grown
    return patch


def _grown(estate: Estate, found: Sequence[Measured]) -> Iterator[tuple[str, dict[str, Any]]]:
    """The growth of flows that state none: of those from several subnets that of the one with the most connections."""
    for name, flow in estate.outward_flows.items():
        subnets = estate.workloads[flow.from_].subnets
        own = [one for one in found if one.subnet in subnets and one.destination == flow.to and one.days.growth]
        if own and not flow.growth_per_month and flow.growth is None:
            yield name, _growth(max(own, key=lambda measured: measured.connections))


def _growth(measured: Measured) -> dict[str, Any]:
    """What it grows by a month, within what an estate may state."""
    if measured.days.growth is None:
        return {}
    bounds = ((name, min(_MOST_GROWTH, max(-_MOST_GROWTH, each))) for name, each in vars(measured.days.growth).items())
    return {"growth_per_month": {name: round(each, 4) for name, each in bounds}}
