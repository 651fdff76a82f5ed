"""`fenrask charges`."""

from fenrask.cli.options import Call, estate_command
from fenrask.designs import judge
from fenrask.views.pages.charges import charges_page

__all__ = ["command"]


@estate_command
def command(call: Call) -> int:
    judged = judge(call.read())
    call.show(charges_page(judged))
    return 0
