"""Name records that private endpoints need (zone file, RFC 1035), and their access policies."""

from collections.abc import Iterator

from fenrask.estate import Described, PrivateEndpoint
from fenrask.views.handover.contract import HandoverFile, csv_text
from fenrask.views.quoting import comment, host_label

__all__ = ["endpoint_files"]

_BELOW = "endpoints.invalid."
"""Stands for names that the provider gives out when the endpoint is made (RFC 2606)."""
_TTL = 300


def endpoint_files(described: Described) -> Iterator[HandoverFile]:
    """The zone file, and a table of what each endpoint reaches, for whom."""
    endpoints = {name: one for name, one in described.estate.exits.items() if isinstance(one, PrivateEndpoint)}
    yield HandoverFile(
        "endpoints.zone", "name records for private endpoints", _zone(described, endpoints).encode("utf-8")
    )
    rows = [
        (
            name, one.kind, one.destination, " ".join(described.estate.destinations[one.destination].names),
            one.access, " ".join(_users(described, name)), " ".join(f"IPv{v}" for v in sorted(one.families)),
        )
        for name, one in endpoints.items()
        if one.destination in described.estate.destinations
    ]  # fmt: skip
    heading = ("endpoint", "kind", "service", "names", "access", "listed_for", "ip_versions")
    yield HandoverFile("endpoints.csv", "access policies of private endpoints", csv_text(heading, rows))


def _users(described: Described, endpoint: str) -> list[str]:
    """The subnets whose flows go to the endpoint's service: whom its policy has to list."""
    to = described.estate.exits[endpoint].carries or ()
    flows = [one for one in described.estate.outward_flows.values() if one.to in to]
    return list(dict.fromkeys(subnet for one in flows for subnet in described.estate.workloads[one.from_].subnets))


def _zone(described: Described, endpoints: dict[str, PrivateEndpoint]) -> str:
    lines = [
        "; Names that must lead to a private endpoint inside the network.",
        f"; Put the endpoint's own name, as it is given out when it is made, in the place of NAME.{_BELOW}",
        f"$TTL {_TTL}",
    ]
    for name, endpoint in endpoints.items():
        stated = described.estate.destinations.get(endpoint.destination)
        if not endpoint.found_by_name or stated is None:
            continue
        lines.append(
            f"; {comment(name)}: {comment(endpoint.destination)}, in {comment(', '.join(endpoint.in_subnets))}"
        )
        if not stated.names:
            lines.append("; the estate states no name of this service")
        lines += [f"{_absolute(text)} IN CNAME {host_label(name)}.{_BELOW}" for text in stated.names]
    return "\n".join(lines) + "\n"


def _absolute(name: str) -> str:
    return ".".join(one if one == "*" else host_label(one) for one in name.rstrip(".").split(".")) + "."
