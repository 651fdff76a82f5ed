"""The rules of `check`. A new rule is one function and one entry of `RULES`."""

from collections.abc import Collection, Iterator, Sequence
from dataclasses import replace

from fenrask.checks import addressing, arrival, capacity, endpoints, exits, filters, inward, lines, money, needs, routes
from fenrask.checks.contract import Context, Doubt, Rule
from fenrask.checks.trying import tried
from fenrask.evaluation import Evaluation
from fenrask.findings import Finding, Severity

__all__ = ["RULES", "Context", "Doubt", "Rule", "check", "errors_of", "without_remedies"]

_E, _W, _N = Severity.ERROR, Severity.WARNING, Severity.NOTE

RULES: list[Rule] = [
    Rule("black-hole", _E, "a route points to an exit that does not exist",
         "route_tables: {private: {198.51.100.0/25: gone}}", routes.black_hole),
    Rule("host-route-as-default", _E, "a default route is written as the route to one address",
         "route_tables: {private: {0.0.0.0: gate}}", routes.host_route_as_default),
    Rule("unreachable", _E, "a flow finds no route, or a next hop that does not carry it",
         "route_tables: {private: {}}", arrival.unreachable, is_verdict=True),
    Rule("exit-out-of-reach", _E, "a flow is routed to an exit of a network that is not joined, or not open to it",
         "route_tables: {private: {0.0.0.0/0: gate-of-another-network}}", arrival.exit_out_of_reach, is_verdict=True),
    Rule("route-loop", _E, "an exit's own subnet sends its traffic back to it",
         "exits: {gate: {subnet: S}}, and the table of S: {0.0.0.0/0: gate}", routes.route_loop, is_verdict=True),
    Rule("subnet-on-two-gateways", _E, "a subnet's routes name two translation gateways",
         "route_tables: {private: {0.0.0.0/0: gate-a, 198.51.100.0/24: gate-b}}", routes.subnet_on_two_gateways),
    Rule("gateway-without-internet-route", _E, "a translating exit is in a subnet without a route to an internet exit",
         "exits: {gate: {subnet: private-subnet}}", exits.gateway_without_internet_route, is_verdict=True),
    Rule("gateway-without-address", _E, "a translating exit has no public address",
         "exits: {gate: {addresses: 0}}", exits.gateway_without_address),
    Rule("zone-offer-for-network", _W, "an exit of a whole network has an offer that serves one zone",
         "exits: {gate: {network: net}} with an offer of scope zone", exits.zone_offer_for_network),
    Rule("port-exhaustion", _E, "more new connections than the target find no free port at the peak",
         "exits: {gate: {addresses: 1}} for a load that needs two", capacity.port_exhaustion, is_verdict=True),
    Rule("limit-exceeded", _E, "an exit exceeds a limit of its offer at the peak",
         "limits: {connections: 1000} and 2,000 concurrent connections", capacity.limit_exceeded, is_verdict=True),
    Rule("host-limit-exceeded", _E, "a host's own interface cannot carry what it sends and receives at the peak",
         "workloads: {app: {interface: {gbit_per_s: 1}}} and 2 Gbit/s of each host", capacity.host_limit_exceeded,
         is_verdict=True),
    Rule("forwarding-off", _E, "a translator host does not forward",
         "exits: {host: {kind: translator-host, forwarding: false}}", exits.forwarding_off, is_verdict=True),
    Rule("flow-denied", _E, "a flow is denied by a rule, or by a peering",
         "exits: {wall: {rules: {none: {action: deny}}}}", arrival.flow_denied, is_verdict=True),
    Rule("reply-denied", _E, "a flow's replies are denied by a stateless filter",
         "subnets: {app: {filters: {list: {stateful: false, in: {web: {action: allow, ports: [443]}}}}}}",
         arrival.reply_denied, is_verdict=True),
    Rule("no-return-route", _E, "a flow's replies find no path back",
         "exits: {line: {kind: circuit, advertised: []}}", arrival.no_return_route, is_verdict=True),
    Rule("asymmetric-return", _E, "replies return past an exit that keeps connection state, so they are dropped",
         "exits: {wall: {rewrites_toward: []}} in front of a gateway without a route back to wall",
         arrival.asymmetric_return, is_verdict=True),
    Rule("inward-lost", _E, "a flow that comes in does not get to its hosts, or its replies do not get out",
         "flows: {visits: {from: internet, to: app, port: 443}} and no exit that publishes it", inward.inward_lost,
         is_verdict=True),
    Rule("published-unused", _W, "an exit publishes a port to which no flow comes in",
         "exits: {wall: {publishes: {web: {port: 443, to: app}}}} and no flow to app with port: 443",
         inward.published_unused),
    Rule("ip-version-not-supported", _E, "a flow is routed to an exit that does not carry its IP version",
         "exits: {door: {kind: routed-endpoint, ip_families: [6]}}", arrival.ip_version_not_supported, is_verdict=True),
    Rule("ip-version-lost", _W, "a flow loses the IP version that it asks for first, and goes over the other",
         "subnets: {app: {prefix_v6: 2001:db8:1::/64}} and a table without a route for IPv6",
         arrival.ip_version_lost),
    Rule("protocol-not-translated", _E, "a flow is routed to a translator that does not translate its protocol",
         "offers: {gate: {protocols: [tcp]}} and a destination with protocol: udp", arrival.protocol_not_translated,
         is_verdict=True),
    Rule("source-may-change", _E, "a flow needs a fixed source but leaves with an address that may change",
         "needs: {fixed_source: true} and no default beside a dynamic-address", exits.source_may_change,
         is_verdict=True),
    Rule("need-not-met", _E, "a flow's path breaks one of its needs",
         "destinations: {store: {needs: {off_internet: true}}} reached through a gateway", needs.need_not_met,
         is_verdict=True),
    Rule("required-unreachable", _E, "a workload's platform does not reach what it requires",
         "workloads: {managed: {requires: [control]}} behind a firewall that denies control",
         arrival.required_unreachable),
    Rule("reaches-forbidden", _E, "hosts reach what they must not",
         "workloads: {vault: {must_not_reach: [web]}} and a default route", arrival.reaches_forbidden),
    Rule("overlapping-prefixes", _E, "subnets, joined networks, or a third party's prefixes overlap",
         "two networks with 10.1.0.0/16, and a peering of both", addressing.overlapping_prefixes),
    Rule("subnet-outside-network", _E, "a subnet is outside its network's prefixes",
         "networks: {net: {prefixes: [10.0.0.0/16]}}, subnets: {app: {prefix: 10.1.0.0/24}}",
         addressing.subnet_outside_network),
    Rule("address-used-twice", _E, "one public address on two exits",
         "exits: {a: {addresses: [203.0.113.1]}, b: {addresses: [203.0.113.1]}}", addressing.address_used_twice),
    Rule("address-of-wrong-class", _E, "an exit's address is private, or of a class that exits do not take",
         "exits: {gate: {addresses: [10.0.0.1]}}", addressing.address_of_wrong_class),
    Rule("allow-list-too-short", _E, "a partner does not allow an address that it will see, or has no entry left",
         "destinations: {partner: {allowed: [203.0.113.0/31]}} and a gateway with 203.0.113.2",
         addressing.allow_list_too_short, is_verdict=True),
    Rule("router-one-sided", _E, "a router's session is set up on one side only",
         "exits: {line: {routers: {r1: {peered: near}}}}", lines.router_one_sided),
    Rule("session-down", _E, "no session of a private line is up",
         "exits: {line: {routers: {r1: {session: down}}}}", lines.session_down),
    Rule("endpoint-in-another-region", _E, "an endpoint is in another region than its service",
         "destinations: {store: {region: south}} and an endpoint of a network in north",
         endpoints.endpoint_in_another_region),
    Rule("endpoint-without-route", _W, "a routed endpoint that no table has a route to",
         "exits: {objects: {kind: routed-endpoint}} and no route `store: objects`", endpoints.endpoint_without_route),
    Rule("route-to-named-endpoint", _E, "a route names an endpoint that hosts reach by name",
         "route_tables: {private: {store: inner}} and inner of kind in-subnet-endpoint",
         endpoints.route_to_named_endpoint),
    Rule("endpoint-names-public", _W, "an in-subnet endpoint whose service's names still resolve publicly",
         "exits: {inner: {kind: in-subnet-endpoint, names: public}}", endpoints.endpoint_names_public),
    Rule("endpoint-open-to-anyone", _W, "an endpoint's access policy is open to anyone, as providers ship it",
         "exits: {objects: {kind: routed-endpoint}} without `access: listed`", endpoints.endpoint_open_to_anyone),
    Rule("free-endpoint-unused", _W, "a service is reached by a charged exit although a free endpoint exists",
         "a flow to a service through a gateway, and a free offer of kind routed-endpoint",
         endpoints.free_endpoint_unused),
    Rule("rule-allows-everything", _W, "a firewall rule, or its default, lets anything pass",
         "exits: {wall: {rules: {any: {action: allow}}}}", exits.rule_allows_everything),
    Rule("path-mtu-hidden", _W, "a path takes only small packets, and a filter drops the ICMP that says so",
         "exits: {line: {mtu: 1400}}, subnets: {app: {filters: {list: {drops_icmp: true}}}}", filters.path_mtu_hidden),
    Rule("filter-rule-unused", _N, "a filter allows what no flow uses",
         "workloads: {app: {filters: {group: {out: {any: {action: allow, ports: [1-65535]}}}}}}", filters.unused_rule),
    Rule("advertised-too-much", _W, "an own prefix is announced to a third party beyond what it needs",
         "exits: {line: {advertised: [10.0.0.0/8]}} for one /24", lines.advertised_too_much),
    Rule("captured", _W, "a third party announces a destination of the internet, and flows go to it over its line",
         "exits: {line: {received: [198.51.100.0/24]}} and a destination in it", lines.captured),
    Rule("client-pool-too-small", _E, "requests come faster than a client's connections can carry them",
         "flows: {ask: {requests_per_host_per_s: 50, duration_s: 0.2, pool_max: 8}}", capacity.client_pool_too_small),
    Rule("keepalive-exceeds-idle-timeout", _W, "a connection is kept, and quiet past the exit's idle timeout",
         "flows: {pay: {keepalive_s: 600}} through a gateway with idle: 300", exits.keepalive_exceeds_idle_timeout),
    Rule("idle-exit", _W, "an exit costs money and no flow uses it",
         "exits: {spare: {kind: translator-host}} and no route to it", money.idle_exit),
    Rule("unused-address", _W, "a public address that is paid for is on no exit, or no flow shows it",
         "public_addresses: {old: {address: 203.0.113.9}} that no exit lists", money.unused_address),
    Rule("upkeep-without-wage", _W, "machines take hours of work, and no wage is stated",
         "an offer with upkeep_hours, and no wage_per_hour", money.upkeep_without_wage),
    Rule("upkeep-exceeds-target", _E, "self-run machines take more hours of work a month than the target",
         "targets: {upkeep_hours_per_month: 8} and two machines of 7 hours each", money.upkeep_exceeds_target,
         is_verdict=True),
    Rule("crossing-without-rate", _W, "traffic crosses regions, and the catalogue has no rate for it",
         "transfer: {cross_network_per_gb: 0.01} and networks in two regions", money.crossing_without_rate),
    Rule("zone-crossing-default", _N, "a default route out of its subnet's zone",
         "a subnet in zone b, its default to a gateway in zone a", arrival.zone_crossing_default),
    Rule("table-too-long", _E, "a route table holds more routes than the provider allows",
         "routes_per_table: 50 and a line that announces 60 prefixes", routes.table_too_long),
    Rule("unused-table", _N, "no subnet, network or exit uses a route table",
         "route_tables: {old: {0.0.0.0/0: gate}} that no subnet names", routes.unused_table),
    Rule("made-up-figures", _W, "the catalogue's rates and limits are made up", "a catalogue with made_up: true",
         addressing.made_up_figures),
    Rule("rates-out-of-date", _N, "rates were read over a year ago", "read_on: 2020-01-01",
         addressing.rates_out_of_date),
    Rule("unused-exception", _N, "an exception that no finding matches any more",
         "accepted: {black-hole at route_tables.gone.0.0.0.0/0: why}", addressing.unused_exception),
]  # fmt: skip


def check(evaluation: Evaluation, only: Collection[str] = (), skip: Collection[str] = ()) -> list[Finding]:
    """The findings of all rules (or of `only` those named, without those to `skip`), the worst first.

    A finding that the estate accepts stays in the list, with its reason.
    """
    context = Context(evaluation)
    chosen = [rule for rule in RULES if (not only or rule.name in only) and rule.name not in skip]
    found = sorted(
        _found(context, chosen, with_exceptions=not only and not skip),
        key=lambda f: (bool(f.accepted), -f.severity, f.place.file, f.place.line, f.place.column),
    )
    return tried(context, chosen, found, _found)


def without_remedies(evaluation: Evaluation) -> list[Finding]:
    """The findings of all rules, with what is to be done in words alone: no patch is looked for, or tried."""
    return [replace(one, fix=None) for one in _found(Context(evaluation, seeks=False), RULES)]


def errors_of(evaluation: Evaluation) -> Iterator[tuple[str, str]]:
    """The rules, and the places, of the errors among them that the estate does not accept, as they are found."""
    context = Context(evaluation, seeks=False, tells=False)
    for rule in RULES:
        if rule.severity is Severity.ERROR:
            for finding in rule.findings(context):
                if not addressing.accepted(context.described, finding):
                    yield rule.name, finding.place.path


def _found(context: Context, rules: Sequence[Rule], with_exceptions: bool = True) -> list[Finding]:
    """The findings of some rules, in their order; those that the estate accepts with its reason."""
    last = addressing.unused_exception
    found = [finding for rule in rules if rule.find is not last for finding in rule.findings(context)]
    found = [replace(one, accepted=addressing.accepted(context.described, one)) for one in found]
    for rule in rules if with_exceptions else ():
        if rule.find is last:
            context.reported.update(f"{finding.rule} at {finding.place.path}" for finding in found)
            found += rule.findings(context)
    return found
