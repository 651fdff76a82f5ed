"""A draft estate from what exists: the sample's own handover, inventory, records and bill give the sample back."""

import csv
import gzip
import io
import json
import os
import random
import shutil
import socket
import struct
import subprocess
import unittest
from collections.abc import Iterator
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import dns.message
import dns.rrset
from hypothesis import example, given, settings
from hypothesis import strategies as st

from fenrask.charges import UPKEEP
from fenrask.demo import VELLMOUTH, inventory_of
from fenrask.demo.records import day_of_records
from fenrask.errors import UnusableInput
from fenrask.estate import read_estate
from fenrask.estate.exits.contract import Passing
from fenrask.estate.filters import Filter, Filtered
from fenrask.evaluation import Evaluation, evaluate
from fenrask.prefixes import parse_address, parse_prefix
from fenrask.records.bills import Billed
from fenrask.records.existing import Draft, Files, drafted, read_files
from fenrask.records.existing.rates import put_rates
from fenrask.views.drafted import draft_files
from fenrask.views.handover import Handover
from fenrask.views.handover.access_lists import filter_files
from fenrask.views.handover.sheet import sheet_files
from tests.estate import test_companions as companions
from tests.records.test_exporters import BEGIN, capture, connections
from tests.routing import test_every_packet as packets
from tests.support import CATALOGUE, InFolder, many, merged

ROOT = Path(__file__).resolve().parent.parent.parent
DAY = 1_795_046_400
HEAD = "start,end,source,target,source_port,target_port,protocol,bytes_out,bytes_in,flags\n"


def records_of(evaluation: Evaluation, per_flow: int = 400) -> str:
    """A day of connections of every flow outward, from every host that it has, to several addresses."""
    estate, dice, rows = evaluation.described.estate, random.Random(7), list[tuple[Any, ...]]()
    for flow in estate.outward_flows.values():
        workload, to = estate.workloads[flow.from_], estate.destinations[flow.to]
        every = [address for prefix in to.prefixes for address in list(prefix)[:3]]
        for number in range(per_flow):
            subnet = estate.subnets[workload.subnets[number % len(workload.subnets)]]
            host = subnet.prefix[10 + number % workload.hosts]
            start, lasts = DAY + dice.random() * 86_000, dice.expovariate(1 / 5)
            port, volume = to.port or 443, dice.randrange(10**9)
            ends = (str(host), str(every[number % len(every)]), 20_000 + number, port, to.protocol)
            rows.append((round(start, 3), round(start + lasts, 3), *ends, volume, volume // 7, 27))
    rows.sort()
    return HEAD + "".join(",".join(map(str, row)) + "\n" for row in rows)


def bill_of(evaluation: Evaluation) -> str:
    """The month's bill by the open billing specification: every line of the provider's, to the cent."""
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(("BillingPeriodStart", "BillingCurrency", "BilledCost", "ResourceName", "ChargeDescription",
                   "PricingQuantity", "PricingUnit"))  # fmt: skip
    for line in evaluation.bill.lines:
        if line.item != UPKEEP:
            about = f"{line.item}: {line.about}" if "crossing" in line.item else line.item
            cost, quantity = float(round(line.amount, 2)), float(line.quantity)
            rows.writerow(("2026-10-01T00:00:00Z", "EUR", cost, line.about, about, quantity, line.unit))
    return out.getvalue()


def paths_of(evaluation: Evaluation) -> dict[tuple[str, str], set[Any]]:
    """By subnet and destination: the exits on the way, the verdict, and what the far end sees, in any order."""
    flows = evaluation.described.estate.outward_flows
    found: dict[tuple[str, str], set[Any]] = {}
    for name, several in evaluation.paths.by_flow.items():
        for path in several if name in flows else ():
            told = (path.trace.exits, path.trace.verdict, path.trace.source.exit, path.share)
            found.setdefault((path.subnet, flows[name].to), set()).add(told)
    return found


def lines_of(evaluation: Evaluation) -> Iterator[tuple[tuple[str, str, float], float]]:
    for line in evaluation.bill.lines:
        if line.item != UPKEEP:
            yield (line.item, line.about, float(line.rate)), float(line.amount)


class Again(InFolder):
    def setUp(self) -> None:
        super().setUp()
        for name, content in VELLMOUTH.contents().items():
            (self.folder / name).write_bytes(content)
        stated = read_estate(self.folder / "estate.yaml")
        (self.folder / "records.csv").write_text(records_of(evaluate(stated)))
        self.json("measure", "estate.yaml", "records.csv", "--save", "loads.json", status=None)
        outward = stated.estate.outward_flows
        flows = {name: {"from": one.from_, "to": one.to, "measured": "loads.json"} for name, one in outward.items()}
        without = self.write("without.json", {"flows": dict.fromkeys(stated.estate.flows), "stress": None})
        patches = [without, self.write("measured.json", {"flows": flows})]
        self.truth = evaluate(read_estate(self.folder / "estate.yaml", patches))
        for one in Handover(self.truth).files:
            file = self.folder / "handover" / one.name
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_bytes(one.content)
        (self.folder / "bill-of-october.csv").write_text(bill_of(self.truth))

    def files(self) -> list[str]:
        tables = ("networks", "subnets", "exits", "destinations", "workloads")
        own = [f"handover/sheet/{name}.csv" for name in tables]
        models = [
            f"handover/{name}"
            for name in ("routes.yang.json", "nat.yang.json", "topology.yang.json", "filters.yang.json")
        ]
        return [*own, *models, "records.csv", "bill-of-october.csv"]

    def draft(self, *files: str) -> Evaluation:
        ran = self.program("start", "mine", "--from", *files, "--force")
        self.assertEqual(ran.returncode, 0, ran.stderr)
        return evaluate(read_estate(self.folder / "mine" / "estate.yaml"))

    def demand(self, *words: str) -> list[tuple[str, list[float]]]:
        found = self.json("demand", *words, status=None)["exits"]
        return sorted((one["exit"], one["concurrent_by_quarter_hour_connections"]) for one in found)

    def test_what_is_handed_over_comes_back(self) -> None:
        drafted = self.draft(*self.files())
        self.assertEqual(paths_of(drafted), paths_of(self.truth))
        truth = self.demand("estate.yaml", "--patch", "without.json", "--patch", "measured.json")
        for (name, curve), (other, known) in zip(self.demand("mine/estate.yaml"), truth, strict=True):
            self.assertEqual(name, other)
            for at, (now, then) in enumerate(zip(curve, known, strict=True)):
                self.assertAlmostEqual(now, then, delta=0.02 * max(known), msg=f"{name}, quarter {at}")
        mine, theirs = dict(lines_of(drafted)), dict(lines_of(self.truth))
        self.assertEqual({*mine}, {*theirs})
        for key, amount in theirs.items():
            self.assertAlmostEqual(mine[key], amount, delta=0.01, msg=str((key, mine, theirs)))


def judged(one: Filter, source: str, target: str, port: int, protocol: str) -> bool:
    """Whether a filter lets such a packet out."""
    from_, to = parse_prefix(source), parse_prefix(target)
    packet = Filtered((from_,), (to,), frozenset(), (port, port), protocol)
    return one.toward("out").verdict(packet, from_[0], to[0])[0]


def without(content: bytes, columns: set[str]) -> str:
    """A table without some of its columns."""
    rows = [*csv.reader(io.StringIO(content.decode()))]
    kept = [place for place, heading in enumerate(rows[0]) if heading not in columns]
    out = io.StringIO()
    csv.writer(out).writerows([row[place] for place in kept] for row in rows)
    return out.getvalue()


class Drafting(InFolder):
    def drafted(self, *names: str, **columns: str) -> tuple[Files, Draft]:
        found = read_files([str(self.folder / name) for name in names], columns)
        return found, drafted(found, "mine", "2026-11-30", 0.01)

    def evaluated(self, draft: Draft, **more: Any) -> Evaluation:
        """The draft as anyone reads it, with sections that no file told."""
        draft.data.update(more)
        contents = draft_files(Files(), draft, "loads.json")
        for name, content in contents.items():
            (self.folder / (name if name in draft.beside else f"mine-{name}")).write_bytes(
                content.replace(b"catalogue: catalogue", b"catalogue: mine-catalogue")
            )
        return evaluate(read_estate(self.folder / "mine-estate.yaml"))


class Routes(Drafting):
    @given(st.integers(0, 10_000))
    @example(477)  # A firewall without rules that lets nothing by.
    @settings(max_examples=many(4), deadline=None)
    def test_tables_of_random_estates_give_their_paths_back(self, seed: int) -> None:
        """Exits of every kind, rules and filters, learned routes, leftovers; second method: the estate itself."""
        stated = packets.estate(seed)
        offers = merged(CATALOGUE, {"offers": packets.OFFERS, "behaviour": packets.behaviour(seed)})
        self.write("catalogue.yaml", offers)
        truth = evaluate(read_estate(self.write("estate.yaml", stated)))
        tables = {one.name.rpartition("/")[2]: one.content for one in sheet_files(truth)}
        names = [
            f"{name}.csv" for name in ("networks", "subnets", "exits", "destinations", "workloads", "route_tables")
        ]
        for name in names:
            self.write(name, without(tables[name], {"filters", "rules", "default"}))
        rules = next(one.content for one in filter_files(truth.described) if one.name == "filters.csv")
        self.write("filters.csv", rules.decode())
        _, draft = self.drafted(*names, "filters.csv")
        draft.catalogue["behaviour"] = offers["behaviour"]
        more = {key: stated[key] for key in ("flows", "profiles") if key in stated}
        self.assertEqual(paths_of(self.evaluated(draft, **more)), paths_of(truth))

    def test_access_lists_give_filters_back(self) -> None:
        rules = {
            "web": {"action": "allow", "prefixes": ["203.0.113.0/24"], "ports": [443, "8000-8010"], "protocol": "tcp"},
            "some": {"action": "deny", "sources": ["10.0.1.0/25"]},
            "all": {"action": "allow", "protocol": "udp"},
        }
        described = self.estate({"subnets": {"app": {"filters": {"list": {"out": rules, "stateful": False}}}}})
        for one in (*sheet_files(evaluate(described)), *filter_files(described)):
            (self.folder / one.name.rpartition("/")[2]).write_bytes(one.content)
        self.write("subnets.csv", without((self.folder / "subnets.csv").read_bytes(), {"filters"}))
        _, draft = self.drafted("networks.csv", "subnets.csv", "filters.yang.json")
        mine, theirs = self.evaluated(draft).described.estate.subnets["app"], described.estate.subnets["app"]
        own, known = mine.filters["list"], theirs.filters["list"]
        by_default = known.toward("out").allows_by_default
        self.assertEqual((own.stateful, own.toward("out").allows_by_default), (False, by_default))
        for source, target, port, protocol in (
            ("10.0.1.5", "203.0.113.9", 443, "tcp"), ("10.0.1.200", "203.0.113.9", 8010, "tcp"),
            ("10.0.1.200", "203.0.113.9", 8011, "tcp"), ("10.0.1.5", "198.51.100.9", 53, "udp"),
            ("10.0.1.200", "198.51.100.9", 53, "udp"), ("10.0.1.200", "198.51.100.9", 443, "tcp"),
        ):  # fmt: skip
            with self.subTest(source=source, target=target, port=port):
                self.assertEqual(*(judged(each, source, target, port, protocol) for each in (own, known)))

    @unittest.skipUnless(os.geteuid() == 0 and shutil.which("ip") and shutil.which("nft"), "needs root, ip and nft")
    def test_what_the_kernel_is_set_to_is_read(self) -> None:
        """A machine of the real kernel, with addresses, tables, source translation and a filter of its own."""
        script = """
        ip link add eth0 type veth peer name far; ip addr add 10.0.9.4/28 dev eth0
        ip link set eth0 up; ip link set far up
        ip route add default via 10.0.9.1; ip rule add from 10.0.1.0/24 lookup 100
        ip route add default via 10.0.9.5 table 100; ip route add 198.51.100.0/25 dev eth0 table 100
        nft -f rules.nft
        ip -j address > host.address.json; ip -j route show table all > main.json; ip -j rule > rules.json
        nft -j list ruleset > host.nft.json; cp host.nft.json app.nft.json"""
        self.write(
            "rules.nft",
            """
        table ip nat { ct timeout slow { protocol tcp; l3proto ip; policy = { established : 600, time_wait : 95 }; }
          chain out { type nat hook postrouting priority srcnat;
            oifname "eth0" meta l4proto tcp snat to 203.0.113.4-203.0.113.6:2000-65535; }
        }
        table inet own { chain out { type filter hook output priority 0; policy drop;
          ct state established accept; ip daddr 203.0.113.0/24 tcp dport { 443, 8000-8010 } accept; }
        }""",
        )
        subprocess.run(["unshare", "-n", "bash", "-ec", script], cwd=self.folder, check=True, capture_output=True)
        self.write("subnets.csv", "name,network,prefix\napp,net,10.0.1.0/24\nedge,net,10.0.9.0/28\n")
        self.write("machines.csv", "hostname,ip\nhost-2,10.0.9.5\n")
        names = ("machines.csv", "host.address.json", "main.json", "rules.json", "host.nft.json", "app.nft.json")
        found, draft = self.drafted("subnets.csv", *names)
        self.assertEqual(draft.data["subnets"]["app"]["routes"], "100")
        tables = draft.data["route_tables"]
        self.assertEqual(tables["100"], {"0.0.0.0/0": "host-2", "198.51.100.0/25": "eth0"})
        self.assertEqual(tables["main"], {"0.0.0.0/0": "10-0-9-1"})
        addresses = [f"203.0.113.{last}" for last in (4, 5, 6)]
        exits = {"kind": "translator-host", "subnet": "edge", "addresses": addresses, "offer": "translator-host"}
        self.assertEqual(draft.data["exits"]["host"], exits)
        offer = draft.catalogue["offers"]["translator-host"]
        self.assertEqual(offer["ports"]["per_address"], 65_535 - 2000 + 1)
        self.assertEqual((offer["mapping_timeout_s"]["idle"], offer["mapping_timeout_s"]["closed"]), (600, 95))
        own = self.evaluated(draft).described.estate.subnets["app"].filters["own"]
        self.assertTrue(own.stateful)
        for target, port, passes in (
            ("203.0.113.9", 8001, True),
            ("203.0.113.9", 80, False),
            ("198.51.100.1", 443, False),
        ):
            self.assertEqual(judged(own, "10.0.1.5", target, port, "tcp"), passes)
        self.assertTrue(all(fact.where for fact in found.facts.told.values()))

    @unittest.skipUnless(os.geteuid() == 0 and shutil.which("nft"), "needs root and nft")
    def test_what_a_machine_passes_on_is_a_firewall(self) -> None:
        """The kernel's listing of a chain for packets of others: rules of an exit, and of nothing else."""
        self.write(
            "rules.nft",
            """
        table inet way {
          chain more { accept; }
          chain through { type filter hook forward priority 0; policy drop;
          ct state established,related accept; ct state invalid drop; ct state new udp dport 53 accept;
          ip saddr 10.0.1.0/25 tcp dport { 80, 8000-8010 } accept; tcp dport 1000-2000 accept; tcp dport 25 jump more;
          ip daddr 203.0.113.0/24 ip saddr 10.0.1.0/24 tcp dport 443 accept; counter; }
        }""",
        )
        script = "nft -f rules.nft; nft -j list ruleset > wall.json"
        subprocess.run(["unshare", "-n", "bash", "-ec", script], cwd=self.folder, check=True, capture_output=True)
        self.write("subnets.csv", "name,network,prefix,routes\napp,net,10.0.1.0/24,mine\nedge,net,10.0.9.0/28,edge\n")
        self.write("routes.csv", "route table,destination,next hop\nmine,0.0.0.0/0,10.0.9.4\nedge,0.0.0.0/0,door\n")
        self.write("wall.address.json", json.dumps([{"ifname": "eth0", "addr_info": [
            {"local": "10.0.9.4", "prefixlen": 28, "scope": "global"}
        ]}]))  # fmt: skip
        found, draft = self.drafted("subnets.csv", "routes.csv", "wall.address.json", "wall.json")
        wall = self.evaluated(draft).described.estate.exits["wall"]
        self.assertEqual((wall.kind, wall.in_subnets, wall.translates, wall.default), (
            "inspecting-firewall", ("edge",), False, "deny"
        ))  # fmt: skip
        source, inside, outside = (parse_address(one) for one in ("10.0.1.5", "203.0.113.9", "198.51.100.9"))
        for address, port, protocol, passes in (
            (outside, 53, "udp", True), (outside, 53, "tcp", False), (outside, 8007, "tcp", True),
            (outside, 443, "tcp", False), (inside, 443, "tcp", True), (inside, 25, "tcp", False),
        ):  # fmt: skip
            packet = Passing(address, None, (), port, protocol, source)
            with self.subTest(address=address, port=port):
                self.assertEqual(wall.decides(packet).allowed, passes)
        skipped = [*found.facts.unused]
        self.assertEqual(
            skipped,
            [
                "a filter rule of nft that matches what is not modelled",
                "a filter rule of nft that leads to another chain",
            ],
        )
        # On a machine that is no exit they are nobody's; on one that is another kind of exit, neither.
        (self.folder / "app.json").write_bytes((self.folder / "wall.json").read_bytes())
        found, _ = self.drafted("subnets.csv", "app.json")
        self.assertIn("rules of app, of which nothing else is told", found.facts.unused)
        # Whose a file is can be said, where its name does not say it.
        (self.folder / "dump.json").write_bytes((self.folder / "wall.json").read_bytes())
        (self.folder / "eth.json").write_bytes((self.folder / "wall.address.json").read_bytes())
        files = [str(self.folder / one) for one in ("subnets.csv", "routes.csv", "dump.json", "eth.json")]
        same = drafted(read_files(files, {}, named=dict.fromkeys(files[2:], "wall")), "mine", "2026-11-30", 0.01)
        self.assertEqual(same.data["exits"], draft.data["exits"])
        self.write("exits.csv", "name,kind,network\nwall,translation-gateway,net\n")
        found, _ = self.drafted("subnets.csv", "routes.csv", "exits.csv", "wall.json")
        self.assertIn("rules of wall, which is no firewall (translation-gateway)", found.facts.unused)

    @unittest.skipUnless(os.geteuid() == 0 and shutil.which("nft"), "needs root and nft")
    def test_named_sets_and_ranges_are_what_they_hold(self) -> None:
        """The kernel's listing of a gateway that translates to the address of its own line."""
        self.write(
            "rules.nft",
            """
        table inet way {
          set lan { type ipv4_addr; flags interval; elements = { 10.0.1.0/25, 10.0.1.200-10.0.1.203 } }
          set web { type inet_service; elements = { 80, 443 } }
          set seen { type ipv4_addr; flags dynamic,timeout; timeout 1m; }
          chain through { type filter hook forward priority 0; policy drop;
          ct state established,related accept;
          ip saddr @lan tcp dport @web accept; ip saddr @seen udp dport 53 accept;
          ip saddr 10.0.1.64-10.0.1.127 accept; }
        }
        table ip nat { chain out { type nat hook postrouting priority 100;
          oifname "wan" ip saddr 10.0.1.0/24 masquerade; }
        }""",
        )
        script = "nft -f rules.nft; nft -j list ruleset > gw.nft.json"
        subprocess.run(["unshare", "-n", "bash", "-ec", script], cwd=self.folder, check=True, capture_output=True)
        self.write("subnets.csv", "name,network,prefix,routes\napp,net,10.0.1.0/24,mine\nedge,net,10.0.9.0/28,edge\n")
        self.write("routes.csv", "route table,destination,next hop\nmine,0.0.0.0/0,10.0.9.4\nedge,0.0.0.0/0,door\n")
        legs = (("lan", "10.0.9.4", 28), ("wan", "203.0.113.77", 28))
        addresses = [{"ifname": name, "addr_info": [{"local": own, "prefixlen": length, "scope": "global"}]}
                     for name, own, length in legs]  # fmt: skip
        self.write("gw.address.json", json.dumps(addresses))
        self.write("none.route.json", "[]")
        hops = {"default": ("203.0.113.65", "wan"), "10.0.1.0/25": ("10.0.9.2", "lan")}
        routes = [{"dst": to, "gateway": hop, "dev": leg} for to, (hop, leg) in hops.items()]
        self.write("gw.route.json", json.dumps(routes))
        self.write("routes.csv", "route table,destination,next hop\nmine,0.0.0.0/0,10.0.9.4\n")
        machine = ("gw.address.json", "gw.nft.json", "gw.route.json", "none.route.json")
        found, draft = self.drafted("subnets.csv", "routes.csv", *machine)
        # Its line is in the network that is told; what it passes on goes where it sends its own.
        self.assertEqual(draft.data["subnets"]["wan"]["network"], "net")
        door = {"0.0.0.0/0": "203-0-113-65"}
        self.assertEqual(draft.data["route_tables"], {"mine": {"0.0.0.0/0": "gw"}, "edge": door, "gw": door})
        gateway = draft.data["exits"]["gw"]
        self.assertEqual(gateway["addresses"], ["203.0.113.77"])
        lan = ["10.0.1.0/25", "10.0.1.200/30"]
        self.assertEqual(
            [*gateway["rules"].values()],
            [{"action": "allow", "sources": lan, "protocol": "tcp", "ports": [80, 443]},
             {"action": "allow", "sources": ["10.0.1.64/26"]}],
        )  # fmt: skip
        unused = ("a filter rule of nft that matches what is not modelled",
                  "a route to a subnet by a machine inside the network")  # fmt: skip
        self.assertEqual((*found.facts.unused,), unused)
        self.assertEqual([str(prefix) for prefix, _ in found.facts.served["gw"]], ["10.0.1.0/24"])


class Others(Drafting):
    def test_names_that_a_capture_answers_are_its_destinations(self) -> None:
        """An alias leads from the name that was asked for; a cut answer, and one that is none, are passed over."""
        asked = dns.message.make_query("Pay.Example.NET", "A")
        answer = dns.message.make_response(asked)
        for name, kind, text in (
            ("pay.example.net.", "CNAME", "edge.example.org."), ("edge.example.org.", "A", "198.51.100.7")
        ):  # fmt: skip
            answer.answer.append(dns.rrset.from_text(name, 60, "IN", kind, text))
        frames = []
        odd = dns.message.make_response(dns.message.make_query(r"no\032host.example.net", "A"))
        odd.answer.append(dns.rrset.from_text(r"no\032host.example.net.", 60, "IN", "A", "198.51.100.7"))
        for at, payload in enumerate((odd.to_wire(), answer.to_wire(), answer.to_wire()[:40], b"no answer")):
            ends = socket.inet_aton("192.0.2.53") + socket.inet_aton("10.0.1.5")
            datagram = struct.pack(">HHHH", 53, 40_000 + at, 8 + len(payload), 0) + payload
            head = struct.pack(">BBHHHBBH", 0x45, 0, 20 + len(datagram), 0, 0, 64, 17, 0)
            frames.append((BEGIN + at / 10, b"\2" * 12 + b"\x08\0" + head + ends + datagram))
        frames += [(at + 1, one) for at, one in connections()[0]]
        (self.folder / "seen.pcap").write_bytes(capture(frames))
        found, draft = self.drafted("seen.pcap")
        self.assertEqual([*found.kinds.values()], ["connection records (packet capture, with answers for 1 name)"])
        named = {name: one for name, one in draft.data["destinations"].items() if one.get("names")}
        self.assertEqual(
            {name: (one["names"], one["prefixes"]) for name, one in named.items()},
            {"pay-example-net": (["pay.example.net"], ["198.51.100.7/32"])},
        )
        self.assertEqual(found.unread.reasons["answers of DNS that cannot be read"][0], 2)
        self.assertEqual(found.unread.reasons["answers of DNS for what is no host name"][0], 1)

    def test_machines_and_lines_from_models(self) -> None:
        """Interfaces give subnets and the owners of next hops (RFC 8343, 8344); a dump what the only line receives."""
        interfaces = {"ietf-interfaces:interfaces": {"interface": [
            {"name": "inner", "ietf-ip:ipv4": {"address": [{"ip": "10.0.9.4", "prefix-length": 28}]}},
            {"name": "lo", "ietf-ip:ipv4": {"address": [{"ip": "127.0.0.1", "prefix-length": 8}]}},
        ]}}  # fmt: skip
        hop = {"ietf-ipv4-unicast-routing:next-hop-address": "10.0.9.4"}
        route = {"ietf-ipv4-unicast-routing:destination-prefix": "0.0.0.0/0", "next-hop": hop}
        ribs = {"ribs": {"rib": [{"name": "private", "routes": {"route": [route]}}]}}
        self.write("routes.json", json.dumps({"ietf-routing:routing": ribs}))
        self.write("gate-1.json", json.dumps(interfaces))
        self.write("exits.csv", "name,kind,network,third_party\ngate-1,host,,\nline,leased line,net,pilots\n")
        self.write("subnets.csv", "Subnet,Network,CIDR,Route table\napp,net,10.0.1.0/24,private\n")
        (self.folder / "pilots.mrt").write_bytes(companions.Dumps.CONTENT)
        # The routes come first: whose address a next hop is, a later file says.
        _, draft = self.drafted("routes.json", "exits.csv", "subnets.csv", "gate-1.json", "pilots.mrt")
        estate = self.evaluated(draft).described.estate
        self.assertEqual(estate.route_tables["private"]["0.0.0.0/0"], "gate-1")
        self.assertEqual(estate.exits["gate-1"].in_subnets, ("inner",))
        self.assertEqual([str(one) for one in estate.exits["line"].learned], list(companions.Dumps.PREFIXES))

    def test_tables_as_they_are_exported(self) -> None:
        """One network twice, in any order: what is local, machines of a type, next hops by kind or address."""
        plain = {
            "subnets.csv": "subnet,network id,cidr,zone name,route table id\n"
            "app,prod,10.30.0.0/24,1,priv\nedge,prod,10.30.9.0/28,1,pub\n",
            "routes.csv": "route table id,destination cidr,target\npriv,10.30.0.0/16,local\npriv,0.0.0.0/0,fw1\n"
            "pub,10.30.0.0/16,local\npub,0.0.0.0/0,net\n",
            "exits.csv": "name,type,subnet,public ip\nfw1,firewall,edge,203.0.113.5\nnet,internet gateway,,\n",
            "hosts.csv": "instance,private ip,subnet\nweb1,10.30.0.11,app\nweb2,10.30.0.12,app\n",
        }
        other = {
            "hosts.csv": "Hostname;Type;Private IP;Public IP\r\nfw1;large;10.30.9.5;203.0.113.5\r\n"
            "web1;small;10.30.0.11;\r\nweb2;small;10.30.0.12;\r\n",
            "routes.csv": "Route table,Destination prefix,Next hop type,Next hop IP\r\n"
            "priv,10.30.0.0/16,local,\r\npub,10.30.0.0/16,local,\r\n"
            "priv,0.0.0.0/0,appliance,10.30.9.5\r\npub,0.0.0.0/0,internet,\r\npriv,192.0.2.0/24,none,\r\n",
            "exits.csv": "Name,Kind\r\nnet,Internet Gateway\r\n",
            "subnets.csv": '\ufeff"Subnet Name",Virtual Network,Address Range,Availability Zone,Route Table\r\n'
            "app,prod,10.30.0.0/24,1,priv\r\nedge,prod,10.30.9.0/28,1,pub\r\n",
        }
        for number, files in enumerate((plain, other)):
            with self.subTest(number):
                for name, content in files.items():
                    (self.folder / name).write_bytes(content.encode())
                found, draft = self.drafted(*files)
                estate = self.evaluated(draft).described.estate
                self.assertEqual(draft.data["networks"], {"prod": {"prefixes": ["10.30.0.0/16"]}})
                self.assertEqual(estate.route_tables, {"priv": {"0.0.0.0/0": "fw1"}, "pub": {"0.0.0.0/0": "net"}})
                kinds = {name: (one.kind, [*map(str, one.listed_addresses)]) for name, one in estate.exits.items()}
                fw1 = ("inspecting-firewall", ["203.0.113.5"])
                self.assertEqual(kinds, {"fw1": fw1, "net": ("direct-internet", [])})
                self.assertEqual(estate.exits["fw1"].in_subnets, ("edge",))
                workloads = {name: (one.subnets, one.hosts) for name, one in estate.workloads.items()}
                self.assertEqual(workloads, {"app": (("app",), 2)})
                self.assertEqual([*found.facts.unused], ["a route to nowhere (none)"] if number else [])
        # The same as entries of JSON, whole or inside one mapping; labels as keys and values, or as a mapping.
        told = {"network": "prod", "zone": 1}
        subnets = [
            {"subnet": name, "cidr": prefix, "routeTable": {"id": to}, **told}
            for name, prefix, to in (("app", "10.30.0.0/24", "priv"), ("edge", "10.30.9.0/28", "pub"))
        ]
        labels = [{"key": "role", "value": "web"}]
        hosts = [{"name": f"web{n}", "privateIp": [f"10.30.0.1{n}"], "labels": labels} for n in (1, 2)]
        for name, data in {"subnets.json": {"subnets": subnets, "count": 2}, "hosts.json": hosts}.items():
            (self.folder / name).write_text(json.dumps(data))
        found, draft = self.drafted("subnets.json", "hosts.json")
        app = {"network": "prod", "zone": "1", "prefix": "10.30.0.0/24", "routes": "priv"}
        self.assertEqual(draft.data["subnets"]["app"], app)
        self.assertEqual(draft.where["subnets", "app", "prefix"], "subnets.json entry 1")
        self.assertEqual(draft.data["workloads"], {"web": {"subnets": ["app"], "hosts": 2}})
        # Names that a resolver of the subnet answered lie elsewhere.
        (self.folder / "hosts.csv").write_text("name,address,subnet\nweb1,10.30.0.11,app\npay.example,10.99.0.7,app\n")
        found, _ = self.drafted("hosts.csv", "subnets.csv")
        self.assertEqual([one.name for one in found.facts.hosts], ["web1"])
        self.assertEqual([*found.facts.names], ["pay.example"])

    def test_next_hops_by_kind_are_those_of_the_tables_network(self) -> None:
        """Two networks, each with a gateway and a door of its own; what joins them is in the table of one."""
        networks = "network,prefixes\ncore,10.1.0.0/16\nshop,10.2.0.0/16\n"
        subnets = (
            "name,network,prefix,zone,table\nc-app,core,10.1.0.0/24,a,c-priv\nc-edge,core,10.1.9.0/28,a,c-pub\n"
            "s-app,shop,10.2.0.0/24,a,s-priv\ns-edge,shop,10.2.9.0/28,a,s-pub\n"
        )
        routes = (
            "table,to,next hop,next hop type\nc-priv,default,,nat\nc-priv,10.2.0.0/16,peer-1,peering\n"
            "c-pub,default,,internet\nc-pub,::/0,,internet gateway\ns-priv,default,nat-s,nat\ns-pub,default,,internet\n"
            "s-priv,198.51.100.0/24,10.2.9.9,appliance\n"
        )
        for name, content in {"net.csv": networks, "subnets.csv": subnets, "routes.csv": routes}.items():
            (self.folder / name).write_text(content)
        rows = (f"2026-11-20T10:00:0{n}Z,2026-11-20T10:00:09Z,10.1.0.9,192.0.2.7,{5000 + n},443,tcp" for n in range(9))
        records = "\n".join(("first seen,last seen,src,dst,sport,dport,proto", *rows, ""))
        (self.folder / "records.csv").write_text(records)
        files = [f"--from={self.folder / name}" for name in ("routes.csv", "net.csv", "subnets.csv", "records.csv")]
        self.assertEqual(self.program("start", "twice", *files).returncode, 0)
        # The same files again change nothing, and no file of loads is written that says the same.
        again = self.program("start", "--update", "twice/estate.yaml", *files)
        self.assertEqual((again.returncode, again.stdout), (0, "{}\n"), again.stderr)
        self.assertEqual([one.name for one in (self.folder / "twice").glob("loads*")], ["loads.json"])
        _, draft = self.drafted("routes.csv", "net.csv", "subnets.csv")
        tables = self.evaluated(draft).described.estate.route_tables
        self.assertEqual(tables["c-priv"], {"0.0.0.0/0": "nat-core", "10.2.0.0/16": "peer-1"})
        self.assertEqual(tables["s-priv"], {"0.0.0.0/0": "nat-s", "198.51.100.0/24": "10-2-9-9"})
        self.assertEqual(tables["c-pub"], dict.fromkeys(("0.0.0.0/0", "::/0"), "internet-core"))
        self.assertEqual(tables["s-pub"], {"0.0.0.0/0": "internet-shop"})
        exits = draft.data["exits"]
        self.assertEqual(exits["peer-1"]["networks"], ["core", "shop"])
        self.assertEqual(exits["10-2-9-9"]["subnet"], "s-edge")
        of = {name: entry.get("network") for name, entry in exits.items()}
        self.assertEqual((of["nat-core"], of["nat-s"], of["internet-core"], of["internet-shop"]), ("core", "shop") * 2)

    def test_a_hub_leads_to_the_way_out_that_one_network_has(self) -> None:
        """Two networks without a gateway, and a third with one: as long as nobody tells the hub's own table."""
        self.write("net.csv", "network,prefixes\na,10.1.0.0/16\nb,10.2.0.0/16\nway,10.9.0.0/16\n")
        self.write(
            "subnets.csv",
            "name,network,prefix,zone,table\na-app,a,10.1.0.0/24,1,a-t\nb-app,b,10.2.0.0/24,1,b-t\n"
            "w-hub,way,10.9.1.0/24,1,w-hub\nw-pub,way,10.9.0.0/24,1,w-pub\n",
        )
        routes = (
            "table,to,next hop,next hop type\na-t,default,hub-1,transit\nb-t,default,hub-1,transit\n"
            "w-hub,default,nat-1,nat\nw-hub,10.0.0.0/8,hub-1,transit\nw-pub,default,door,internet\n"
            "w-pub,10.0.0.0/8,hub-1,transit\n"
        )
        self.write("routes.csv", routes)
        self.write(
            "exits.csv", "name,type,subnet,public ip\nhub-1,transit,,\nnat-1,nat,w-pub,203.0.113.4\ndoor,internet,,\n"
        )
        files = [f"--from={self.folder / name}" for name in ("net.csv", "subnets.csv", "routes.csv", "exits.csv")]
        self.assertEqual(self.program("start", "mine", *files).returncode, 0)
        to = {"destinations": {"far": {"prefixes": ["198.51.100.0/24"], "port": 443}}}
        work = {"workloads": {name: {"subnets": [f"{name}-app"], "hosts": 2} for name in ("a", "b")}}
        flows = {
            "flows": {name: {"from": name, "to": "far", "per_host_per_s": 1, "duration_s": 1} for name in ("a", "b")}
        }
        patch = [self.write("work.json", to | work | flows)]
        evaluation = evaluate(read_estate(self.folder / "mine" / "estate.yaml", patch))
        found = {flow: [path.trace.exits for path in several] for flow, several in evaluation.paths.by_flow.items()}
        self.assertEqual(found, dict.fromkeys(("a", "b"), [("hub-1", "nat-1", "door")]))
        self.assertEqual(evaluation.described.estate.exits["hub-1"].networks, ("a", "b", "way"))
        self.assertEqual(self.program("start", "--update", "mine/estate.yaml", *files).stdout, "{}\n")
        # Its own table, told later, takes the place of what was assumed.
        self.write("routes.csv", f"{routes}hub-1,default,nat-1,nat\n")
        told = json.loads(self.program("start", "--update", "mine/estate.yaml", *files).stdout)
        self.assertEqual(told["exits"], {"hub-1": {"routes": "hub-1"}})
        self.assertEqual(told["route_tables"]["hub-1"], {"0.0.0.0/0": "nat-1"})

    def test_what_two_files_say_differently_is_listed_and_the_first_believed(self) -> None:
        self.write("subnets.csv", "name,network,prefix\napp,net,10.0.1.0/24\n")
        self.write("other.tsv", "Subnet\tNetwork\tCIDR\napp\tnet\t10.0.1.0/25\n")
        found, draft = self.drafted("subnets.csv", "other.tsv")
        self.assertEqual(draft.data["subnets"]["app"]["prefix"], "10.0.1.0/24")
        [(steps, kept, other)] = found.facts.differing
        self.assertEqual(
            (steps[1:], kept.where, other.where), (("app", "prefix"), "subnets.csv row 2", "other.tsv row 2")
        )

    def test_what_is_never_routed_is_no_destination_and_even_shares_are_all_counted(self) -> None:
        """Time servers of the link and announcements; three addresses with a hundred connections each, within 3 %."""
        self.write("subnets.csv", "name,network,prefix\napp,net,10.0.1.0/24\n")
        lasts = (5.0, 5.1, 5.2)
        rows = [f"{DAY + n},{DAY + n + lasts[n % 3]},10.0.1.{n % 9},198.51.100.{n % 3},{9000 + n},443,6"
                for n in range(300)]  # fmt: skip
        for to in ("169.254.1.1", "224.0.0.251", "255.255.255.255", "fe80::5"):
            own = "10.0.1.4" if "." in to else "fe80::9"
            rows += [f"{DAY + n},{DAY + n + 1},{own},{to},{7000 + n},5353,17" for n in range(50)]
        head = "start,end,source,target,source_port,target_port,protocol"
        self.write("seen.csv", "\n".join((head, *rows, "")))
        found, draft = self.drafted("subnets.csv", "seen.csv")
        [[name, to]] = draft.data["destinations"].items()
        self.assertEqual((name, to["distinct_addresses"]), ("198-51-100-0-443", 3))
        assert found.seen is not None
        self.assertEqual(found.seen.passed["of addresses that are never routed (link-local, multicast)"], 150)

    def test_one_thing_may_have_several_rows(self) -> None:
        """An address or a prefix in each: all of them, where one file tells them."""
        self.write("net.csv", "network,cidrs\nnet,10.0.0.0/16\nnet,10.1.0.0/16\n")
        self.write("exits.csv", "name,kind,network,public ip\ngate,nat,net,203.0.113.1\ngate,nat,net,203.0.113.2\n")
        self.write("services.csv", "name,prefixes,port\npay,192.0.2.1/32,443\npay,192.0.2.9/32,443\n")
        self.write("subnets.csv", "name,network,prefix\napp,net,10.0.1.0/24\n")
        self.write("others.csv", "name,kind,network,public ip\ngate,nat,net,203.0.113.9\n")
        found, draft = self.drafted("net.csv", "exits.csv", "services.csv", "subnets.csv", "others.csv")
        self.assertEqual(draft.data["networks"]["net"]["prefixes"], ["10.0.0.0/16", "10.1.0.0/16"])
        self.assertEqual(draft.data["exits"]["gate"]["addresses"], ["203.0.113.1", "203.0.113.2"])
        self.assertEqual(draft.data["destinations"]["pay"]["prefixes"], ["192.0.2.1/32", "192.0.2.9/32"])
        [(steps, _, other)] = found.facts.differing
        self.assertEqual((steps, other.where), (("exits", "gate", "addresses"), "others.csv row 2"))

    def test_columns_of_other_names_are_stated(self) -> None:
        self.write("net.csv", "Bezeichnung,Netz,Bereich\napp,net,10.0.1.0/24\n")
        with self.assertRaises(UnusableInput):
            self.drafted("net.csv")
        _, draft = self.drafted("net.csv", name="Bezeichnung", network="Netz", prefix="Bereich")
        self.assertEqual(draft.data["subnets"]["app"]["prefix"], "10.0.1.0/24")

    def test_a_name_for_a_file_that_takes_none_is_counted(self) -> None:
        self.write("net.csv", "name,network,prefix\napp,net,10.0.1.0/24\n")
        self.write("b.json", json.dumps({"ietf-interfaces:interfaces": {"interface": []}}))
        files = [str(self.folder / name) for name in ("net.csv", "b.json")]
        found = read_files(files, {}, named=dict.fromkeys(files, "box"))
        self.assertEqual(
            [*found.facts.unused.items()], [("the name box: only JSON of one machine takes one", files[0])]
        )


class Rates(unittest.TestCase):
    def drawn(self, rows: list[tuple[str, str, Fraction, Fraction]]) -> Draft:
        """Rates of rows of resource, words, quantity and cost."""
        draft = Draft()
        for name in ("gate-1", "gate-2"):
            draft.put("exits", name, "kind", value="translation-gateway", where="")
            draft.put("exits", name, "offer", value="gate", where="")
        billed = [
            Billed(
                who, words, cost, "EUR", words, quantity, "Hours" if "hour" in words else "GB", f"b.csv row {number}"
            )
            for number, (who, words, quantity, cost) in enumerate(rows, 2)
        ]
        put_rates(billed, draft)
        return draft

    @given(st.lists(st.integers(1, 10**6), min_size=1, max_size=6), st.integers(1, 10**5), st.integers(2, 6))
    @example([1, 3], 500, 5)
    @settings(max_examples=60, deadline=None)
    def test_a_rate_explains_every_row_to_the_cent(self, volumes: list[int], digits: int, places: int) -> None:
        """Against the amounts themselves: each is the rate times its quantity, rounded to cents."""
        rate = Fraction(digits, 10**places)
        rows = [
            (f"gate-{n % 2 + 1}", "processed", Fraction(v), Fraction(round(v * rate, 2))) for n, v in enumerate(volumes)
        ]
        found = self.drawn(rows).catalogue["offers"]["gate"]["rates"]["processed_per_gb"]
        for _, _, quantity, cost in rows:
            self.assertLessEqual(abs(Fraction(str(found)) * quantity - cost), Fraction(1, 100))

    def test_steps_come_free_first_and_then_from_dear_to_cheap(self) -> None:
        rows = [("door", "internet out", *map(Fraction, one)) for one in ((500, 20), (120, 0), (1000, 80))]
        draft = self.drawn(rows)
        tiers = [{"up_to_gb": 120, "rate": 0}, {"up_to_gb": 1120, "rate": 0.08}, {"rate": 0.04}]
        self.assertEqual(draft.catalogue["transfer"]["internet_out_per_gb"]["tiers"], tiers)
        self.assertTrue(any("order" in one.why for one in draft.assumed))

    def test_what_cannot_be_told_apart_is_listed(self) -> None:
        rows = [
            ("gate-1", "support plan", Fraction(1), Fraction(9)),
            *(
                (who, "gateway hours", Fraction(730), Fraction(cost))
                for who, cost in (("other", 5), ("gate-1", 73), ("gate-2", 146))
            ),
        ]
        draft = self.drawn(rows)
        self.assertEqual(draft.catalogue["offers"]["gate"]["rates"]["hour"], 0.2)
        self.assertEqual(draft.catalogue["hours_per_month"], 730)
        for words in ("support plan", "which exit other would be", "b.csv row 4 costs 0.1 a unit"):
            self.assertTrue(any(words in one.why for one in draft.assumed), words)

    def test_credits_other_units_and_months_are_no_rate(self) -> None:
        """A credit, a unit that is none, another month: listed; terabytes are a thousand gigabytes."""
        row = Billed("gate-1", "", Fraction(30), "EUR", "processed", Fraction(1000), "GB", "b.csv row 2", "2026-10-01")
        rows = [
            row, replace(row, quantity=Fraction(2), unit="TB", cost=Fraction(60)), replace(row, cost=Fraction(-9)),
            replace(row, unit="requests"), replace(row, begins="2026-09-01", cost=Fraction(99)),
            replace(row, charge="between regions", quantity=Fraction(10), cost=Fraction(1)),
            replace(row, charge="between regions", quantity=Fraction(10), cost=Fraction(4)),
        ]  # fmt: skip
        draft = Draft()
        draft.put("exits", "gate-1", "offer", value="gate", where="")
        put_rates(rows, draft)
        self.assertEqual(draft.catalogue["offers"]["gate"]["rates"], {"processed_per_gb": 0.03})
        self.assertEqual(draft.catalogue["transfer"]["cross_region_per_gb"], 0.4)
        self.assertEqual(draft.catalogue["volume_unit"], "GB")
        for words in ("a credit", "'requests' as a unit", "1 row of earlier billing periods", "costs 0.1 a unit"):
            self.assertTrue(any(words in one.why for one in draft.assumed), words)

    def test_a_bill_with_a_row_for_each_day(self) -> None:
        """Hours are those of all days; costs with more digits tell more of a rate; what is no way out is summed up.

        By hand: 30 days of 24 h at 0.0437, one gateway of two machines; two addresses; machines that are no way out.
        """
        draft = Draft()
        for name in ("gate-1", "gate-2"):
            draft.put("exits", name, "offer", value="gate", where="")
        draft.put("exits", "gate-2", "addresses", value="auto", where="")
        rows = list[Billed]()

        def charged(who: str, what: str, quantity: str, rate: str, day: int) -> None:
            cost, unit = Fraction(quantity) * Fraction(rate), "Hours" if "hour" in what else "GB"
            row = Billed(
                who, "", cost, "EUR", what, Fraction(quantity), unit, f"b.csv row {len(rows) + 2}", "2026-11-01"
            )
            rows.append(replace(row, charged_from=f"2026-11-{day:02}"))

        for day in range(1, 31):
            for who in ("gate-1", "gate-2", "gate-2"):
                charged(who, "gateway hours", "24", "0.0437", day)
            charged("gate-2", "address hours", "48", "0.0051", day)
            charged("gate-1", "processed", f"{day * 7}.3125", "0.041", day)
            for number in range(20):
                charged(f"vm-{number}", f"machine hours of size {number % 15}", "24", "0.1", day)
        put_rates(rows, draft)
        catalogue = draft.catalogue
        self.assertEqual(catalogue["hours_per_month"], 720)
        self.assertEqual(catalogue["offers"]["gate"]["rates"], {"hour": 0.0437, "processed_per_gb": 0.041})
        self.assertEqual(catalogue["addresses"], {"hour": 0.0051})
        self.assertEqual(draft.data["exits"]["gate-2"]["addresses"], 2)
        whys = [one.why for one in draft.assumed]
        self.assertEqual(len(whys), 13)
        self.assertIn(
            "which exit vm-0, vm-15 would be, in b.csv row 7 and 59 more: 144.00 EUR for machine hours of size 0", whys
        )
        self.assertIn("for 3 other things", whys[-1])
        # Ten days are no month.
        part = Draft()
        part.put("exits", "gate-1", "offer", value="gate", where="")
        put_rates([row for row in rows if row.charged_from < "2026-11-11"], part)
        self.assertEqual(part.catalogue["hours_per_month"], 730)
        self.assertTrue(any("for more than 240 hours" in one.why for one in part.assumed))

    def test_a_price_that_no_decimal_is_ends_the_search(self) -> None:
        """Two rows whose spans have one number in common, a third of a cent and a half: no decimal is equal to it."""
        at = Fraction(1, 3)
        rows = [("gate-1", "processed", Fraction(quantity), at * quantity + sign * Fraction(1, 200))
                for quantity, sign in ((3, 1), (7, -1))]  # fmt: skip
        self.assertIn("processed_per_gb", self.drawn(rows).catalogue["offers"]["gate"]["rates"])


class Program(InFolder):
    """The program on the sample's inventory, as the demonstration has it."""

    def setUp(self) -> None:
        super().setUp()
        for name, content in VELLMOUTH.contents().items():
            (self.folder / name).write_bytes(content)
        described = read_estate(self.folder / "estate.yaml")
        (self.folder / "records.csv.gz").write_bytes(day_of_records(described))
        (self.folder / "inventory").mkdir()
        for name, content in inventory_of(evaluate(described)).items():
            (self.folder / "inventory" / name).write_bytes(content)

    def lines(self, name: str, *changes: tuple[str, str]) -> None:
        """Change a file's text."""
        text = (self.folder / name).read_text(encoding="utf-8")
        for old, new in changes:
            self.assertIn(old, text)
            text = text.replace(old, new)
        (self.folder / name).write_text(text, encoding="utf-8")

    def test_newer_files_change_what_was_drafted_and_nothing_by_hand(self) -> None:
        ran = self.program("start", "mine", "--from", "inventory", "records.csv.gz", "names.zone", "bill.csv")
        self.assertEqual(ran.returncode, 0, ran.stderr)
        text = (self.folder / "mine" / "estate.yaml").read_text(encoding="utf-8")
        for line in text.split("\nsubnets:", 1)[1].splitlines():
            if line.startswith("  ") and not line.endswith(":"):
                self.assertIn("   # ", line)
        self.assertIn("prefixes: [203.0.113.66/32, 203.0.113.131/32], names: [tides.feed.example]", text)
        guide = (ROOT / "docs" / "own-estate.md").read_text(encoding="utf-8")
        for line in guide.split("```text\n", 1)[1].split("```", 1)[0].splitlines():
            self.assertIn(f"{line}\n", text)
        self.assertIn(
            "2 flows: 2 arrive and meet every need", self.json("path", "mine/estate.yaml", status=1)["summary"]
        )
        same = self.program("start", "--update", "mine/estate.yaml", "--from", "inventory", "names.zone")
        self.assertEqual((same.returncode, json.loads(same.stdout)), (0, {}), same.stderr)
        self.lines(
            "mine/estate.yaml",
            ("hosts: 12}", "hosts: 14}"),
            ("zone: b, prefix: 10.41.2.0/24", "zone: c, prefix: 10.41.2.0/24"),
        )
        self.lines(
            "inventory/subnets.csv",
            ("10.40.23.0/24", "10.40.22.0/23"),
            ("telemetry-b,fleet,10.41.2.0/24,b,fleet-private\n", ""),
        )
        self.lines(
            "inventory/routes.csv", ("fleet-private,192.0.2.64/27,old-gate,does not exist,static,192.0.2.64/27\n", "")
        )
        self.lines(
            "inventory/hosts.csv", ("crew-6,10.40.23.15,crew\n", "crew-6,10.40.23.15,crew\ncrew-7,10.40.22.15,crew\n")
        )
        more = f"\nprofiles:\n  night: {[2] * 6 + [0] * 12 + [2] * 6}\nwage_per_hour: 60\n"
        flow = "flows:\n  own: {from: crew, to: object-store, per_host_per_s: 1, duration_s: 1, profile: night}\n"
        self.lines("mine/estate.yaml", ("flows:\n", flow))
        with (self.folder / "mine" / "estate.yaml").open("a") as file:
            file.write(more)
        ran = self.program("start", "--update", "mine/estate.yaml", "--from", "inventory", "--out", "p.json")
        self.assertEqual(ran.returncode, 0, ran.stderr)
        patch = json.loads((self.folder / "p.json").read_text())
        routes = {"fleet-private": {"192.0.2.64/27": None}}
        known = {
            "subnets": {"crew-c": {"prefix": "10.40.22.0/23"}},
            "workloads": {"crew": {"hosts": 7}},
            "route_tables": routes,
        }
        self.assertEqual(patch, {**known, "route_tables": routes})
        self.assertIn("kept as you have it: subnets.telemetry-b", ran.stderr)
        self.assertIn("kept as you have it: workloads.timetable.hosts: 14", ran.stderr)
        # What the patch brought is a draft's value, too: the next file may change it again.
        merged_text = self.program("merged", "mine/estate.yaml", "--patch", "p.json").stdout
        self.assertIn("10.40.22.0/23", merged_text)
        same = self.program("start", "--update", "mine/estate.yaml", "--from", "records.csv.gz")
        self.assertNotIn("flows", json.loads(same.stdout))
        lines = gzip.decompress((self.folder / "records.csv.gz").read_bytes()).splitlines(keepends=True)
        (self.folder / "records.csv.gz").write_bytes(gzip.compress(b"".join(lines[: len(lines) // 2])))
        records = self.program("start", "--update", "mine/estate.yaml", "--from", "records.csv.gz")
        flows = json.loads(records.stdout)["flows"]
        self.assertEqual({one["measured"].partition("-")[0] for one in flows.values()}, {"loads"})

    def test_every_file_that_cannot_be_used_is_told_at_once(self) -> None:
        self.write("odd.csv", "a,b\n1,2\n")
        self.write("odd.json", '{"x": 1}')
        self.write("cut.json", '{"ietf-nat:nat": ')
        self.write("subnets.csv", "name,network,prefix\nx,y,10.0.0.1/24\nz,y,no\n")
        ran = self.program("start", "mine", "--from", "odd.csv", "odd.json", "cut.json", "subnets.csv", "none.csv")
        self.assertEqual(ran.returncode, 2)
        for place in ("odd.csv", "odd.json", "cut.json", "subnets.csv:2", "subnets.csv:3", "none.csv"):
            self.assertIn(place, ran.stderr)
        self.assertFalse((self.folder / "mine").exists())

    def test_records_alone_are_enough_to_begin(self) -> None:
        rows = ["start,end,source,target,source_port,target_port,protocol,bytes_out,bytes_in,flags"]
        for n in range(300):
            at, host = DAY + 10 * n, n % 5
            rows.append(f"{at},{at + 2},10.9.1.{host},203.0.113.{n % 4},{30000 + n},443,6,1000,1000,27")
            rows.append(f"{at},{at + 2},198.51.100.5,10.9.2.{host},53,{30000 + n},17,90,50,0")
        rows.append(f"{DAY},{DAY + 1},10.9.1.1,192.0.2.7,4000,8080,6,1,1,27")
        rows.append(f"{DAY},{DAY + 1},192.0.2.9,10.9.1.1,50000,443,6,1,1,27")
        self.write("seen.csv", "\n".join(rows) + "\n")
        ran = self.program("start", "mine", "--from", "seen.csv")
        self.assertEqual(ran.returncode, 0, ran.stderr)
        mine = read_estate(self.folder / "mine" / "estate.yaml").estate
        self.assertEqual([str(one.prefix) for one in mine.subnets.values()], ["10.9.1.0/24", "10.9.2.0/24"])
        self.assertEqual([one.hosts for one in mine.workloads.values()], [5, 5])
        known = {
            name: (list(map(str, one.prefixes)), one.port, one.protocol) for name, one in mine.destinations.items()
        }
        self.assertEqual(known, {
            "203-0-113-0-443": (["203.0.113.0/30"], 443, "tcp"), "198-51-100-5-53": (["198.51.100.5/32"], 53, "udp"),
            "elsewhere": (["192.0.2.0/24"], None, "tcp"),
        })  # fmt: skip
        self.assertIn("opened from outside", ran.stdout)
        self.assertEqual(self.program("path", "mine/estate.yaml").returncode, 0)
