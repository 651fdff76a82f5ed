"""Flows whose load was measured: what `fenrask measure` wrote, put into the keys that state a load."""

import math
from collections.abc import Iterator, Mapping
from typing import Any

from fenrask.errors import Place, Problem
from fenrask.estate.flows import ENDINGS, LOADS, Flow
from fenrask.inputs import json_values

__all__ = ["likely_rate", "measured_pairs", "with_measured"]


def measured_pairs(content: bytes) -> Any:
    """The loads of a file that was measured, by subnet and destination; None for another file."""
    try:
        return json_values(content)["pairs"]
    except (ValueError, KeyError, TypeError, RecursionError):
        return None


_OTHER = ("no loads of subnets and destinations", "a file that `fenrask measure --save` wrote", "Measure it again.")


def with_measured(data: Any, flow: str, pairs: Any, place: Place, problems: list[Problem]) -> Any:
    """The estate with a flow's load, profile, duration, endings and volumes as measured; what the flow states wins.

    pairs: as `measured_pairs` has them.
    """
    stated = data["flows"][flow]
    if pairs is None:
        problems.append(Problem(place, *_OTHER))
        return data
    kept = {key: value for key, value in stated.items() if key != "measured"}
    profile = f"measured-{flow}"
    try:
        found = _load(list(_entries(data, stated, pairs)))
        load = None if found is None else {**_of_each_host(found, _workload(data, stated)), "profile": profile, **kept}
    except (ArithmeticError, AttributeError, KeyError, RecursionError, TypeError, ValueError) as error:
        problems.append(Problem(place, f"{type(error).__name__}: {error}", *_OTHER[1:]))
        return data
    if found is None or load is None:
        to, subnets = stated.get("to"), _subnets(data, stated)
        problems.append(
            Problem(place, f"no connection from {', '.join(map(str, subnets))} to {to}", "a load that was measured")
        )
        return data
    if any(key in kept for key in LOADS):
        problems.append(Problem(place, "`measured` beside a stated load", "one of the two"))
        return data
    profiles = {**(data.get("profiles") or {}), profile: found["multipliers"]}
    return {**data, "profiles": profiles, "flows": {**data["flows"], flow: load}}


def _of_each_host(found: Mapping[str, Any], workload: Mapping[str, Any]) -> dict[str, Any]:
    """A load by the keys of a flow."""
    hosts = workload.get("hosts", 1) or 1
    return {
        "per_host_per_s": _ranged(*(one / hosts for one in found["rate"])),
        "duration_s": found["duration"],
        **found["endings"],
        "out_kib_per_connection": found["out"],
        "in_kib_per_connection": found["in"],
        **found["uneven"],
    }


def _ranged(low: float, likely: float, high: float) -> Any:
    """The 5th and the 95th percentile about what is likely."""
    return {"low": max(low, likely * 0.01), "likely": likely, "high": high} if low < likely < high else likely


def _workload(data: Any, stated: Mapping[str, Any]) -> Mapping[str, Any]:
    found: Mapping[str, Any] = data.get("workloads", {}).get(stated.get("from"), {})
    return found


def _subnets(data: Any, stated: Mapping[str, Any]) -> list[str]:
    return [*_workload(data, stated).get("subnets", [])]


def _entries(data: Any, stated: Mapping[str, Any], pairs: Mapping[str, Any]) -> Iterator[Mapping[str, Any]]:
    for subnet in _subnets(data, stated):
        entry = pairs.get(subnet, {}).get(stated.get("to"))
        if entry:
            yield entry


def _load(entries: list[Mapping[str, Any]]) -> dict[str, Any] | None:
    """All subnets of a flow together: rates add up, what belongs to a connection is weighed by connections."""
    total = sum(one["connections"] for one in entries)
    if not total:
        return None
    # A single rate is of every hour of the day.
    hours = math.lcm(24, *(len(one["by_hour_per_s"]) for one in entries))
    by_hour = [sum(one["by_hour_per_s"][n % len(one["by_hour_per_s"])] for one in entries) for n in range(hours)]

    def weighed(of: Any) -> float:
        found: float = sum(of(one) * one["connections"] for one in entries) / total
        return found

    mean = sum(by_hour) / len(by_hour)
    return {
        "rate": [sum(some) for some in zip(*map(likely_rate, entries), strict=True)],
        "multipliers": [one / mean for one in by_hour],
        "duration": _duration(entries, total),
        "endings": _endings(entries),
        "out": weighed(lambda entry: entry["out_kib_per_connection"]),
        "in": weighed(lambda entry: entry["in_kib_per_connection"]),
        "uneven": _uneven(entries),
    }


def _endings(entries: list[Mapping[str, Any]]) -> dict[str, float]:
    """The shares of the ways to end, of those that say; where no record does, all are closed."""
    known = [one for one in entries if one["endings"]]
    total = sum(one["connections"] for one in known)
    if not total:
        return {"closed_share": 1.0}
    found = {"closed_share": 0.0}
    for key in (f"{name}_share" for name in ENDINGS if f"{name}_share" in Flow.model_fields):
        share = sum(one["endings"].get(key.removesuffix("_share"), 0.0) * one["connections"] for one in known) / total
        found |= {key: share} if share else {}
    return found


def likely_rate(entry: Mapping[str, Any]) -> tuple[float, float, float]:
    """The rate that is planned for, with its 5th and 95th percentile.

    Days vary beside it (`day_cv`), so that it is the mean day's; of one day alone, which tells nothing of that, it is
    the next day's. Subnets of one flow have good days and bad ones together.
    """
    likely = entry.get("planned_per_s", entry["new_per_s"])
    low, high = entry["next_day_per_s" if entry["days"] < 2 else "mean_day_per_s"]
    return low, likely, high


def _uneven(entries: list[Mapping[str, Any]]) -> dict[str, float]:
    """Jobs, batches and the variation of the rate, by connections: as if those of several subnets came together."""

    def weighed(key: str, otherwise: float, by: str = "") -> float:
        weights = [one["connections"] * (one.get(by, 0.0) if by else 1.0) for one in entries]
        values = [one.get(key, otherwise) for one in entries]
        whole = sum(weights)
        return sum(w * v for w, v in zip(weights, values, strict=True)) / whole if whole else otherwise

    found = {"batch": weighed("batch", 1.0), "rate_cv": weighed("rate_cv", 0.0), "day_cv": weighed("day_cv", 0.0)}
    if found["rate_cv"]:
        found["rate_steady_s"] = weighed("rate_steady_s", 300.0, "rate_cv")
    every = {float(one.get("every_s") or 0.0) for one in entries}
    if len(every) == 1 and all(every):
        found |= {"every_s": every.pop(), "spread_s": weighed("spread_s", 0.0)}
        found["job_share"] = weighed("job_share", 1.0)
    return found


def _duration(entries: list[Mapping[str, Any]], total: int) -> Any:
    if len(entries) == 1:
        return entries[0]["duration_s"]
    if all(one["duration_s"]["shape"] != "measured" for one in entries):
        parts = {
            f"part-{n}": {**one["duration_s"], "share": one["connections"] / total} for n, one in enumerate(entries)
        }
        return {"shape": "mixture", "parts": parts}
    values, shares = list[float](), list[float]()
    for entry in entries:
        law = entry.get("durations") or entry["duration_s"]
        several = law.get("values") or [law["mean"]]
        own = law.get("shares") or [1 / len(several)] * len(several)
        values += several
        shares += [share * entry["connections"] / total for share in own]
    return {"shape": "measured", "values": values, "shares": shares}
