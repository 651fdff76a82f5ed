"""The rules of `check`. A new rule is one function and one line in `RULES`."""

from collections.abc import Collection

from fenrask.estate import Described
from fenrask.findings import Finding, Severity
from fenrask.routing.rules import addressing, exits, routes
from fenrask.routing.rules.contract import Case, Rule

__all__ = ["RULES", "Rule", "check"]

_E, _W, _N = Severity.ERROR, Severity.WARNING, Severity.NOTE

RULES: tuple[Rule, ...] = (
    Rule("black-hole", _E, "a route leads to an exit that does not exist", routes.black_hole),
    Rule("no-way-out", _E, "a flow finds no route, or a door that does not let it out", routes.no_way_out),
    Rule("route-loop", _E, "an exit's own subnet sends its traffic back to it", routes.route_loop),
    Rule("gateway-without-door", _E, "a translating exit stands where no door is", exits.gateway_without_door),
    Rule("source-may-change", _E, "a flow needs a fixed source but is lent one", exits.source_may_change),
    Rule("need-not-met", _E, "a flow's way breaks one of its needs", exits.need_not_met),
    Rule("overlapping-prefixes", _E, "subnets or networks overlap", addressing.overlapping_prefixes),
    Rule("subnet-outside-network", _E, "a subnet lies outside its network", addressing.subnet_outside_network),
    Rule("address-used-twice", _E, "one public address on two exits", addressing.address_used_twice),
    Rule("keepalive-too-slow", _W, "keep-alive comes after the exit gave up", exits.keepalive_too_slow),
    Rule("idle-exit", _W, "an exit costs money and carries nothing", exits.idle_exit),
    Rule("rates-out-of-date", _N, "rates were noted over a year ago", addressing.rates_out_of_date),
)


def check(described: Described, names: Collection[str] = ()) -> list[Finding]:
    """The findings of all rules (or of those named), the worst first, then by place."""
    case = Case(described)
    found = [f for rule in RULES if not names or rule.name in names for f in rule.findings(case)]
    return sorted(found, key=lambda f: (-f.severity, f.place.file, f.place.line, f.place.column))
