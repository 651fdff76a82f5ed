"""Each result by a second method, and what disagrees; and what was not looked at.

No second method shares code with the first beyond the estate itself, its paths, and the laws of holding times.
"""

from collections.abc import Iterator

from fenrask.evaluation import Evaluation
from fenrask.what_if.second_methods.bills import audited_bill
from fenrask.what_if.second_methods.choices import audited_choice
from fenrask.what_if.second_methods.contract import Audited, NotLookedAt
from fenrask.what_if.second_methods.loads import audited_loads
from fenrask.what_if.second_methods.ports import audited_by_drawing, audited_ports

__all__ = ["Audited", "NotLookedAt", "audit"]


def audit(evaluation: Evaluation) -> Iterator[Audited | NotLookedAt]:
    """Shares, connections over hops, allow-lists, the bill, blocking, ports wanted, addresses needed, the choice."""
    yield from audited_loads(evaluation)
    yield from audited_bill(evaluation)
    yield from audited_ports(evaluation)
    yield from audited_by_drawing(evaluation)
    yield from audited_choice(evaluation)
