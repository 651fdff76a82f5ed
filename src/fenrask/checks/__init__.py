"""The rules of `check`. A new rule is one function and one entry of `RULES`."""

from collections.abc import Collection
from dataclasses import replace

from fenrask.checks import addressing, arrival, endpoints, exits, lines, routes
from fenrask.checks.addressing import accepted, stale
from fenrask.checks.contract import Case, Rule
from fenrask.estate import Described
from fenrask.findings import Finding, Severity

__all__ = ["RULES", "Rule", "check"]

_E, _W, _N = Severity.ERROR, Severity.WARNING, Severity.NOTE

RULES: tuple[Rule, ...] = (
    Rule("black-hole", _E, "a route leads to an exit that does not exist",
         "route_tables: {private: {198.51.100.0/25: gone}}", routes.black_hole),
    Rule("unreachable", _E, "a flow finds no route, or a door that does not let it out",
         "route_tables: {private: {}}", arrival.no_way_out),
    Rule("exit-out-of-reach", _E, "a flow is led to an exit of a network that is not joined, or not for its use",
         "route_tables: {private: {0.0.0.0/0: gate-of-another-network}}", arrival.exit_out_of_reach),
    Rule("route-loop", _E, "an exit's own subnet sends its traffic back to it",
         "exits: {gate: {subnet: S}}, and the table of S: {0.0.0.0/0: gate}", routes.route_loop),
    Rule("subnet-on-two-gateways", _E, "a subnet's routes lead to two translation gateways",
         "route_tables: {private: {0.0.0.0/0: gate-a, 198.51.100.0/24: gate-b}}", routes.subnet_on_two_gateways),
    Rule("gateway-without-internet-route", _E, "a translating exit stands where no door is",
         "exits: {gate: {subnet: private-subnet}}", exits.gateway_without_door),
    Rule("gateway-without-address", _E, "a translating exit has no public address",
         "exits: {gate: {addresses: 0}}", exits.gateway_without_address),
    Rule("forwarding-off", _E, "a translator host does not forward",
         "exits: {host: {kind: translator-host, forwarding: false}}", exits.forwarding_off),
    Rule("flow-denied", _E, "a flow is denied by a rule, or by a peering",
         "exits: {wall: {rules: {none: {action: deny}}}}", arrival.flow_denied),
    Rule("no-return-route", _E, "a flow's answers find no way back",
         "exits: {line: {kind: circuit, advertised: []}}", arrival.answer_lost),
    Rule("asymmetric-return", _E, "a flow's answers pass by an exit that keeps state",
         "exits: {wall: {rewrites_toward: []}} in front of a gateway without a route back to wall",
         arrival.answer_by_another_way),
    Rule("ip-version-not-supported", _E, "a flow is led to an exit that does not carry its IP version",
         "exits: {door: {kind: routed-endpoint, ip_families: [6]}}", arrival.family_not_carried),
    Rule("protocol-not-translated", _E, "a flow is led to a translator that does not translate its protocol",
         "offers: {gate: {protocols: [tcp]}} and a destination with protocol: udp", arrival.protocol_not_translated),
    Rule("source-may-change", _E, "a flow needs a fixed source but is lent one",
         "needs: {fixed_source: true} and no default beside a dynamic-address", exits.source_may_change),
    Rule("need-not-met", _E, "a flow's way breaks one of its needs",
         "destinations: {store: {needs: {off_internet: true}}} reached by a gateway", exits.need_not_met),
    Rule("required-unreachable", _E, "a workload's platform does not reach what it requires",
         "workloads: {managed: {requires: [control]}} behind a firewall that denies control",
         arrival.required_unreachable),
    Rule("overlapping-prefixes", _E, "subnets, joined networks, or a third party's prefixes overlap",
         "two networks with 10.1.0.0/16, and a peering of both", addressing.overlapping_prefixes),
    Rule("subnet-outside-network", _E, "a subnet lies outside its network",
         "networks: {net: {prefixes: [10.0.0.0/16]}}, subnets: {app: {prefix: 10.1.0.0/24}}",
         addressing.subnet_outside_network),
    Rule("address-used-twice", _E, "one public address on two exits",
         "exits: {a: {addresses: [203.0.113.1]}, b: {addresses: [203.0.113.1]}}", addressing.address_used_twice),
    Rule("address-of-wrong-class", _E, "an exit's address is private, or of a class that exits do not take",
         "exits: {gate: {addresses: [10.0.0.1]}}", addressing.address_of_wrong_class),
    Rule("allow-list-too-short", _E, "a partner does not allow an address that it will see",
         "destinations: {partner: {allowed: [203.0.113.0/31]}} and a gateway with 203.0.113.2",
         addressing.allow_list_too_short),
    Rule("router-one-sided", _E, "a router's session is set up on one side only",
         "exits: {line: {routers: {r1: {peered: near}}}}", lines.router_one_sided),
    Rule("session-down", _E, "no session of a private way stands",
         "exits: {line: {routers: {r1: {session: down}}}}", lines.session_down),
    Rule("endpoint-in-another-region", _E, "an endpoint stands in another region than its service",
         "destinations: {store: {region: south}} and an endpoint of a network in north",
         endpoints.endpoint_in_another_region),
    Rule("endpoint-without-route", _W, "a routed endpoint that no table leads to",
         "exits: {objects: {kind: routed-endpoint}} and no route `store: objects`", endpoints.endpoint_without_route),
    Rule("endpoint-names-public", _W, "an in-subnet endpoint whose service's names still resolve publicly",
         "exits: {inner: {kind: in-subnet-endpoint, names: public}}", endpoints.endpoint_names_public),
    Rule("endpoint-open-to-anyone", _W, "an endpoint's access policy is wide open",
         "exits: {objects: {access: anyone}}", endpoints.endpoint_open_to_anyone),
    Rule("free-endpoint-unused", _W, "a service is reached by a charged way although a free endpoint exists",
         "a flow to a service by a gateway, and a free offer of kind routed-endpoint", endpoints.free_endpoint_unused),
    Rule("rule-allows-everything", _W, "a firewall rule, or its default, lets anything pass",
         "exits: {wall: {rules: {any: {action: allow}}}}", exits.rule_allows_everything),
    Rule("advertised-too-much", _W, "an own prefix is announced to a third party beyond what it needs",
         "exits: {line: {advertised: [10.0.0.0/8]}} for one /24", lines.advertised_too_much),
    Rule("keepalive-exceeds-idle-timeout", _W, "keep-alive comes after the exit gave up",
         "flows: {pay: {keepalive_s: 600}} through a gateway with idle: 300", exits.keepalive_too_slow),
    Rule("idle-exit", _W, "an exit costs money and carries nothing",
         "exits: {spare: {kind: translator-host}} and no route to it", exits.idle_exit),
    Rule("zone-crossing-default", _N, "a default leads out of its subnet's zone",
         "a subnet in zone b, its default to a gateway in zone a", arrival.zone_crossing_default),
    Rule("table-too-long", _E, "a route table holds more routes than the provider lets it",
         "routes_per_table: 50 and a line that announces 60 prefixes", routes.table_too_long),
    Rule("unused-table", _N, "nothing obeys a route table",
         "route_tables: {old: {0.0.0.0/0: gate}} that no subnet names", routes.unused_table),
    Rule("rates-out-of-date", _N, "rates were noted over a year ago", "read_on: 2020-01-01",
         addressing.rates_out_of_date),
    Rule("unused-exception", _N, "an exception that no finding needs any more",
         "accepted: {black-hole at route_tables.gone.0.0.0.0/0: why}", stale),
)  # fmt: skip


def check(described: Described, only: Collection[str] = (), skip: Collection[str] = ()) -> list[Finding]:
    """The findings of all rules (or of `only` those named, without those to `skip`), the worst first.

    A finding that the estate accepts stays in the list, with its reason.
    """
    case = Case(described)
    chosen = [rule for rule in RULES if (not only or rule.name in only) and rule.name not in skip]
    found = [finding for rule in chosen if rule.find is not stale for finding in rule.findings(case)]
    found = [replace(finding, accepted=accepted(described, finding)) for finding in found]
    for rule in chosen:
        if rule.find is stale and not only and not skip:
            case.told.update(f"{finding.rule} at {finding.place.path}" for finding in found)
            found += rule.findings(case)
    return sorted(found, key=lambda f: (bool(f.accepted), -f.severity, f.place.file, f.place.line, f.place.column))
