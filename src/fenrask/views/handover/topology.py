"""What is joined with what (RFC 8345), and with which prefixes (RFC 8346), as YANG instance data, JSON encoding."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Any
from urllib.parse import quote

from fenrask.addresses import AddressPlan
from fenrask.estate import Described, Estate, ExitModel
from fenrask.prefixes import Prefix
from fenrask.views.handover.contract import HandoverFile, json_text

__all__ = ["topology_file"]


def topology_file(described: Described, plan: AddressPlan) -> HandoverFile:
    """Networks, subnets, exits and third parties as nodes, each attachment as two links, one each way.

    A node's prefixes: a network's and a subnet's own, what a line or an appliance announces, what a third party does.
    Public addresses, where they are known, are those of a termination point.
    """
    estate = described.estate
    nodes = [_node("network", name, one.prefixes) for name, one in estate.networks.items()]
    nodes += [_node("subnet", name, one.prefixes) for name, one in estate.subnets.items()]
    listed: dict[str, list[Prefix]] = {}
    for each in plan.exits:
        listed.setdefault(each.exit, []).extend(each.listed)
    for name, exit_ in estate.exits.items():
        announces = exit_.offered if exit_.known_beyond is None else exit_.known_beyond
        nodes.append(_node("exit", name, announces, listed.get(name, ())))
    nodes += [_node("party", party, prefixes) for party, prefixes in _parties(estate).items()]
    whole = {
        "network-id": _id("estate", estate.estate),
        "network-types": {"ietf-l3-unicast-topology:l3-unicast-topology": {}},
        "node": nodes,
        "ietf-network-topology:link": [*_links(estate)],
    }
    about = "what is attached to what, with which prefixes, as YANG (ietf-l3-unicast-topology)"
    return HandoverFile("topology.yang.json", about, json_text({"ietf-network:networks": {"network": [whole]}}))


def _id(kind: str, name: str) -> str:
    return f"{kind}:{quote(name)}"


def _node(kind: str, name: str, prefixes: Iterable[Prefix], addresses: Sequence[Prefix] = ()) -> dict[str, Any]:
    """A node with what it announces or holds, and a termination point with its public addresses."""
    node: dict[str, Any] = {"node-id": _id(kind, name)}
    if some := [{"prefix": str(one)} for one in dict.fromkeys(prefixes)]:
        node["ietf-l3-unicast-topology:l3-node-attributes"] = {"prefix": some}
    if own := [str(address) for prefix in addresses for address in prefix]:
        attributes = {"ietf-l3-unicast-topology:l3-termination-point-attributes": {"ip-address": own}}
        node["ietf-network-topology:termination-point"] = [{"tp-id": "addresses", **attributes}]
    return node


def _parties(estate: Estate) -> dict[str, list[Prefix]]:
    """What each third party announces, over any of its lines."""
    found: dict[str, list[Prefix]] = {}
    for name, exit_ in estate.exits.items():
        if exit_.known_beyond is not None:
            found.setdefault(exit_.party or name, []).extend(exit_.announced)
    return found


def _links(estate: Estate) -> Iterator[dict[str, Any]]:
    """Each attachment, there and back."""
    pairs = [(_id("subnet", name), _id("network", one.network)) for name, one in estate.subnets.items()]
    for name, exit_ in estate.exits.items():
        pairs += [(_id("exit", name), other) for other in _attached(name, exit_)]
    for first, second in pairs:
        for source, target in ((first, second), (second, first)):
            ends = {"source": {"source-node": source}, "destination": {"dest-node": target}}
            yield {"link-id": f"{source}>{target}", **ends}


def _attached(name: str, exit_: ExitModel) -> Iterator[str]:
    """What an exit is attached to: its subnets or its network, the networks that it joins, its hub, its third party."""
    yield from (_id("subnet", one) for one in exit_.in_subnets)
    if not exit_.in_subnets and exit_.of_network:
        yield _id("network", exit_.of_network)
    yield from (_id("network", one) for one in exit_.joins)
    if exit_.attached_to:
        yield _id("exit", exit_.attached_to)
    if exit_.known_beyond is not None:
        yield _id("party", exit_.party or name)
