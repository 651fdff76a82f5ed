"""`fenrask demand`."""

from fenrask.cli.options import Call, estate_command
from fenrask.demand import demand
from fenrask.routing import flow_ways
from fenrask.views.pages.demand import demand_page

__all__ = ["command"]


@estate_command
def command(call: Call) -> int:
    call.show(demand_page(demand(flow_ways(call.read()))))
    return 0
