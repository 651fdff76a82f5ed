"""`fenrask addresses`."""

from fenrask.addresses import plan_addresses
from fenrask.capacity import capacity
from fenrask.cli.options import Call, estate_command
from fenrask.demand import demand
from fenrask.routing import flow_ways
from fenrask.views.pages.addresses import addresses_page

__all__ = ["command"]


@estate_command
def command(call: Call) -> int:
    described = call.read()
    plan = plan_addresses(capacity(demand(flow_ways(described))))
    call.show(addresses_page(described.estate.estate, plan))
    return int(not all(one.fits for one in plan.partners))
