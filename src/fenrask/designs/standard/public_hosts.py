"""A public address on every host, and no translation."""

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import DEFAULT, Draft, sending_subnets
from fenrask.estate import Described

__all__ = ["DESIGN"]


def _patch(described: Described) -> Patch:
    draft = Draft(described)
    for name in sending_subnets(described):
        draft.lead([name], DEFAULT, draft.door(described.estate.subnets[name].network))
    senders = dict.fromkeys(flow.from_ for flow in described.estate.flows.values())
    draft.workloads = {name: {"public_address": True} for name in senders}
    return draft.patch()


DESIGN = Design("public address on each host", "every host with a public address of its own, straight out", _patch)
