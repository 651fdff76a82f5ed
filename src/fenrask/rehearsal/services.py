"""The provider's services as those who send, such as health checks: their network delivers it, and takes replies."""

from fenrask.estate import Onward
from fenrask.prefixes import PRIVATE
from fenrask.rehearsal.attempts import Try, is_service, service_of
from fenrask.rehearsal.laboratory import ROWS, Space, Wire
from fenrask.rehearsal.places import DELIVER, Places
from fenrask.rehearsal.rules import among, hook, table

__all__ = ["Services"]

_HANDED_OVER = 120
"""The table of an endpoint, and of the internet, for what they hand over to services that asked."""
_REPLIES = 8
"""The mark of what hosts send back to them."""


class Services:
    """Services wired into the subnets of hosts that they ask; replies come as the catalogue says.

    By the route tables they get to an endpoint of the service, or to the internet, which hand them over: what comes
    from the port that was asked, since the same addresses may be asked themselves.
    """

    def __init__(self, places: Places) -> None:
        self.places, self.estate, self.lab = places, places.estate, places.lab
        self._is_direct = places.described.catalogue.behaviour.service_replies == "direct"
        asked: dict[str, list[Try]] = {}
        for try_ in places.tries:
            if is_service(try_.space):
                asked.setdefault(try_.space, []).append(try_)
        for name, tries in asked.items():
            self._stand(self.lab.space(name), tries)
        if asked and not self._is_direct:
            self._guard(self.lab.space("internet"))

    def _stand(self, space: Space, tries: list[Try]) -> None:
        space.forwards = False
        space.looks_up(ROWS)
        wires: dict[str, Wire] = {}
        for target in dict.fromkeys(one.target for one in tries):
            workloads = [self.estate.workloads[each.workload] for each in tries if each.target == target]
            for subnet in self.estate.subnets_at(target):
                if any(subnet in each.subnets for each in workloads):
                    wires.setdefault(subnet, self._wire(space, subnet))
                    space.route(ROWS, target, wires[subnet])
        if self._is_direct:
            return
        origin = service_of(space.name)
        exits = self.estate.exits.items()
        takers = [self.places.exit(name) for name, one in exits if one.onward is Onward.SERVICE]
        takers = [one for one in takers if origin in (self.estate.exits[one.is_exit].carries or ())]
        for taker in (*takers, self.lab.space("internet")):
            self._hand_over(taker, space, tries)

    def _wire(self, space: Space, subnet: str) -> Wire:
        """Into a subnet, whose filters it passes; and back, where replies need no route."""
        router = self.places.subnet(subnet)
        near, far = self.lab.wire(space, router)
        self.places.edges[subnet].outer.append(far)
        router.from_wire(far, DELIVER)
        if self._is_direct:
            router.default(far.table, far)
            router.rules.append(f"fwmark {far.table} lookup {far.table} priority 50")
            lines = [
                f"iifname {far.name} ct mark set {far.table}",
                f"ct direction reply ct mark {far.table} meta mark set {far.table}",
            ]
            router.statements.append(
                table("inet", f"straight_{far.name}", [hook("p", "prerouting", lines, "filter", -50)])
            )
        return near

    def _hand_over(self, taker: Space, space: Space, tries: list[Try]) -> None:
        """Replies that get to an endpoint, or to the internet, go on to the service that asked."""
        near, _ = self.lab.wire(taker, space)
        lines = []
        for sender, protocol, port in dict.fromkeys((one.sender, one.protocol, one.received_at) for one in tries):
            taker.route(_HANDED_OVER, sender, near)
            to = among("daddr", [sender], sender.version)
            lines.append(f"{to} {protocol} sport {port} meta mark set {_REPLIES}")
        taker.sends_on(_REPLIES, _HANDED_OVER)
        label = f"handed_{near.name}"
        taker.statements.append(table("inet", label, [hook("p", "prerouting", lines, "filter", -40)]))

    @staticmethod
    def _guard(internet: Space) -> None:
        """The internet forwards nothing else, and nothing from private addresses."""
        internet.forwards = True
        lines = [f"{among('saddr', PRIVATE, version)} drop" for version in (4, 6)]
        lines.append(f"meta mark != {_REPLIES} drop")
        internet.statements.append(table("inet", "onward", [hook("f", "forward", lines)]))
