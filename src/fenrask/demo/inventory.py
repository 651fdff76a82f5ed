"""What the sample's machines know of it, as an engineer would export it: the beginning of a drafted estate."""

import csv
import io
from collections.abc import Iterable, Sequence

from fenrask.estate import Described
from fenrask.evaluation import Evaluation
from fenrask.views.handover.models import nat_file
from fenrask.views.handover.routes import route_files

__all__ = ["INVENTORY", "inventory_of"]

INVENTORY = "inventory"
"""The folder of these files."""
_FIRST_HOST = 10


def inventory_of(evaluation: Evaluation) -> dict[str, bytes]:
    """Networks, subnets, hosts, exits and routes as tables, translation as YANG, by the file's name."""
    estate = evaluation.described.estate
    subnets = [(name, one.network, str(one.prefix), one.zone, one.routes) for name, one in estate.subnets.items()]
    networks = [(name, one.region, " ".join(map(str, one.prefixes))) for name, one in estate.networks.items()]
    exits = [(name, *(_cell(getattr(one, key, None)) for key in _OF_EXITS)) for name, one in estate.exits.items()]
    services = [
        (name, " ".join(map(str, one.prefixes)), one.port, "true")
        for name, one in estate.destinations.items()
        if one.service
    ]
    routes = {one.name: one.content for one in route_files(evaluation.paths)}
    nat = nat_file(evaluation.capacity, evaluation.plan)
    return {
        "networks.csv": _table(("Network", "Region", "CIDR blocks"), networks),
        "subnets.csv": _table(("Subnet", "Network", "CIDR", "Availability zone", "Route table"), subnets),
        "hosts.csv": _table(("Hostname", "IP address", "Service"), _hosts(evaluation.described)),
        "gateways.csv": _table(("name", *_OF_EXITS), exits),
        "services.csv": _table(("name", "prefixes", "port", "service"), services),
        "routes.csv": routes["routes.csv"],
        nat.name: nat.content,
    }


_OF_EXITS = (
    "kind", "subnet", "network", "subnets", "networks", "destination", "hub", "third_party", "received", "advertised"
)  # fmt: skip
"""What an export tells of a gateway, an endpoint, a hub or a line."""


def _cell(value: object) -> str:
    return f"[{', '.join(map(str, value))}]" if isinstance(value, tuple) and value else str(value or "")


def _hosts(described: Described) -> Iterable[tuple[str, str, str]]:
    """Each workload's hosts, in turn over its subnets."""
    estate = described.estate
    for name, workload in estate.workloads.items():
        for number in range(workload.hosts):
            subnet = estate.subnets[workload.subnets[number % len(workload.subnets)]]
            address = subnet.prefix[_FIRST_HOST + number // len(workload.subnets)]
            yield f"{name}-{number + 1}", str(address), name


def _table(heading: Sequence[str], rows: Iterable[Sequence[object]]) -> bytes:
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(heading)
    writer.writerows(rows)
    return text.getvalue().encode()
